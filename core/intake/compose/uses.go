package compose

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/vouch"
)

// Word stands in a record for a compose file.
const Word = "compose"

// Uses are what compose files of the repository at root would use, with all their profiles: the files, the variables
// of this machine, and the servers to which our profiles would connect. It replaces no variable and reads no file
// outside of the repository: each value is shown as written, which is the same in each clone.
func Uses(ctx context.Context, keys *schema.Schema, files []string, root string) vouch.Uses {
	project, l, err := load(ctx, Request{Schema: keys, Files: files, Active: []string{"*"}, Root: root, templates: true})
	if outside := new(OutsideError); errors.As(err, &outside) {
		return vouch.Uses{
			Profile: Word,
			Trouble: fmt.Sprintf("it uses %s, which is outside of the repository and can't be shown for approval",
				clean.Word(outside.Path)),
		}
	}
	if err != nil {
		return vouch.Uses{Profile: Word, Trouble: err.Error()}
	}
	repo := vouch.NewRepository(root)
	var list []vouch.Use
	trouble := ""
	for _, path := range append(slices.Sorted(maps.Keys(l.read)), l.named...) {
		if strings.Contains(path, "$") {
			list = append(list, vouch.Use{Key: "file", Words: []string{path}, File: vouch.File{State: vouch.Unsettled}})
			continue
		}
		file, data, why := repo.Look(path)
		if why != "" && trouble == "" {
			trouble = why
		}
		if was, ok := l.read[path]; ok && file.State == vouch.Hashed && string(was) != string(data) {
			trouble = fmt.Sprintf("%s is being changed", path)
		}
		if file.State == vouch.Hashed {
			l.read[path] = data
		}
		use := vouch.Use{Key: "file", File: file}
		if inside, ok := atomicfile.Inside(root, path); ok {
			use.Words = []string{"./" + filepath.ToSlash(inside)}
		}
		list = append(list, use)
	}
	for _, name := range slices.Sorted(maps.Keys(l.missed)) {
		list = append(list, vouch.Use{Key: "variable of this machine", Words: []string{name}})
	}
	for _, name := range project.serviceNames() {
		if s, ok := l.server(project, project.Services[name]); ok {
			list = append(list, s.Making.uses(name)...)
			for _, set := range s.Connection(keys, "").Sets {
				text := strings.ReplaceAll(set.Value.Text(), "$$", "$") // as the file has it
				list = append(list, vouch.Use{Key: "service " + string(name+string(" "+set.Field.Name)), Words: []string{text}})
			}
		}
	}
	uses := vouch.New(Word, list)
	uses.Files = l.read
	if trouble != "" {
		uses.Trouble = trouble
	}
	return uses
}

// uses are what a service's container would get from this machine.
func (m ContainerSpec) uses(service string) (list []vouch.Use) {
	add := func(what string, words ...string) {
		list = append(list, vouch.Use{Key: "service " + service + " " + what, Words: words})
	}
	if m.Image != "" {
		add("image", m.Image)
	}
	for _, p := range m.Ports {
		add("port", cmp.Or(p.Host, "every address"), p.Published, strconv.Itoa(p.Target))
	}
	for _, mount := range m.Mounts {
		add("mount", mount.Source, mount.Target)
	}
	return list
}
