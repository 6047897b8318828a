package base

import (
	"errors"
	"slices"
	"strings"

	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/internal/cli/wording"
)

// Selection has the flags that choose among the profiles.
type Selection struct {
	resolve.Selection
	all bool // only where all was asked for by name
}

// Flags registers -tag and -engine, and -all for a command that needs names or a flag.
func (s *Selection) Flags(fs *FlagSet, all bool) {
	fs.Func("tag", "only profiles with this tag", func(text string) error {
		if text == "" {
			return errors.New("expected a tag")
		}
		s.Tag = text
		return nil
	})
	fs.Func("engine", "only profiles of this engine", func(text string) error {
		_, err := fs.Keys.Field(key.Engine).ParseValue(text)
		s.Engine = text
		if err != nil {
			return errors.New(strings.TrimPrefix(err.Error(), "engine: "))
		}
		return nil
	})
	if all {
		fs.BoolVar(&s.all, "all", false, "all profiles")
	}
}

// Narrow is the selection without -all, where -tag or -engine is given beside it.
func (s Selection) Narrow() Selection {
	if s.Tag != "" || s.Engine != "" {
		s.all = false
	}
	return s
}

// Used reports whether any of the flags was given.
func (s *Selection) Used() bool { return s.all || s.Tag != "" || s.Engine != "" }

// Choose returns the profiles of the names or the flags, in their order. None is an error: a check of nothing would
// look like success.
func (c *Call) Choose(s Selection, over Overrides) ([]*resolve.Profile, error) {
	switch {
	case len(c.Args) > 0 && s.Used():
		return nil, Usage("give names, or -all, -tag or -engine, not both")
	case s.all && (s.Tag != "" || s.Engine != ""):
		return nil, Usage("give -all, or -tag or -engine, not both")
	case len(c.Args) == 0 && !s.Used():
		return nil, noProfileError([]string{"gharbor list"}, "no profile was named: give names, or -tag, -engine or -all")
	}
	file, err := c.Load()
	if err != nil {
		return nil, err
	}
	if err := over.check(file); err != nil {
		return nil, err
	}
	var chosen []*resolve.Profile
	if len(c.Args) > 0 {
		chosen, err = c.chooseNamed(file, over)
	} else {
		chosen, err = c.chooseFitting(file, s, over)
	}
	if err != nil {
		return nil, err
	}
	for _, r := range chosen {
		if misfit := over.fits(r); misfit != nil {
			return nil, misfit
		}
	}
	return chosen, nil
}

// chooseNamed returns the profiles that the arguments name, each once.
func (c *Call) chooseNamed(file *profile.File, over Overrides) (chosen []*resolve.Profile, err error) {
	env := c.Environment()
	for i, name := range c.Args {
		p, err := c.FindProfile(file, name)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(c.Args[:i], name) {
			chosen = append(chosen, resolve.Resolve(file, p, over, env))
		}
	}
	return chosen, nil
}

// chooseFitting returns the profiles that fit a selection. It leaves out a project's profile that nobody vouched for,
// with a notice.
func (c *Call) chooseFitting(file *profile.File, s Selection, over Overrides) ([]*resolve.Profile, error) {
	selected := s.Choose(file, over, c.Environment())
	if n := selected.NotVouched; n > 0 {
		c.Notice("%d %s of the project left out: not approved yet. gharbor vouch shows what they use", n,
			wording.Plural(n, "profile", "profiles"))
	}
	if len(selected.Profiles) == 0 {
		return nil, noMatchError(s, len(file.All()), selected.Tags)
	}
	return selected.Profiles, nil
}

// noMatchError is the error for a selection without a profile. tags are those that there are.
func noMatchError(s Selection, profiles int, tags []string) error {
	try := []string{"gharbor list"}
	switch near := nearest.Name(s.Tag, tags); {
	case profiles == 0:
		return noProfileError([]string{"gharbor nearby", "gharbor add NAME"}, "there are no profiles yet")
	case s.Tag == "" || slices.Contains(tags, s.Tag):
		return noProfileError(try, "none of the %d profiles matches", profiles)
	case near != "":
		return noProfileError(try, "-tag: no profile has that tag; did you mean %q?", near)
	}
	return noProfileError(try, "-tag: no profile has that tag")
}
