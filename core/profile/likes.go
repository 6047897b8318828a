package profile

import (
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// maxLikes bounds a chain of profiles that are like one another: a longer one is a mistake, and would be walked once
// for each profile of it.
const maxLikes = 16

func (f *File) checkLikes() error {
	state := make(map[*Profile]int) // 1 on the path being walked, 2 known to be right
	below := make(map[*Profile]int) // how many profiles follow one that is known to be right
	for _, start := range f.Profiles {
		if _, ok := start.OwnValue(key.Like); !ok {
			continue
		}
		path := []*Profile{}
		p := start
		for p != nil && state[p] != 2 {
			state[p] = 1
			path = append(path, p)
			like, ok := p.OwnValue(key.Like)
			if !ok {
				p = nil
				continue
			}
			if strings.HasPrefix(like.Value.Text(), syntax.ProjectPrefix) {
				if f.Project {
					return &FileError{f.Path, like.Line,
						fmt.Sprintf("profile %q: like: in a project's file, name a profile of the same file, "+
							"without %q", p.Name,
							syntax.ProjectPrefix)}
				}
				p = nil // looked for when it is resolved: the project's file is another one
				continue
			}
			next := f.byName[like.Value.Text()]
			if next == nil {
				near := ""
				if n := nearest.Name(like.Value.Text(), f.Names()); n != "" {
					near = fmt.Sprintf("; did you mean %q?", n)
				}
				return &FileError{f.Path, like.Line,
					fmt.Sprintf("profile %q: like: no profile %s in this file%s",
						p.Name, clean.Quote(like.Value.Text()), near)}
			}
			if len(path)+below[next] > maxLikes {
				return &FileError{f.Path, like.Line,
					fmt.Sprintf("profile %q: like: a chain of more than %d profiles", p.Name, maxLikes)}
			}
			if state[next] == 1 {
				return &FileError{f.Path, like.Line, fmt.Sprintf(
					"profile %q: like: a circle, %s", p.Name, circle(path, next))}
			}
			p = next
		}
		for i, one := range path {
			state[one], below[one] = 2, len(path)-i+below[p]
		}
	}
	return nil
}

func circle(path []*Profile, back *Profile) string {
	var names []string
	for _, p := range path[slices.Index(path, back):] {
		names = append(names, p.Name)
	}
	return strings.Join(append(names, back.Name), " → ")
}

// Chain is p and the profiles that it is like, one after the other. An override of `like` changes the chain.
func (f *File) Chain(p *Profile, overrides []schema.Override) []*Profile {
	chain := append(make([]*Profile, 0, 2), p)
	like := p.Text(key.Like)
	for _, o := range overrides {
		if o.Field.Name == "like" {
			like = o.Value.Text()
		}
	}
	for next := f.like(p, like); next != nil && len(chain) <= 2*(maxLikes+1); next = f.like(next, next.Text(key.Like)) {
		chain = append(chain, next)
	}
	return chain
}

// like is the profile that p's like names: one of the same file, or one of the attached project's with "project:"
// before it.
func (f *File) like(p *Profile, name string) *Profile {
	if own, ok := strings.CutPrefix(name, syntax.ProjectPrefix); ok {
		if p.in.Project || f.project == nil {
			return nil
		}
		return f.project.byName[own]
	}
	return p.in.byName[name]
}
