package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"gentleharbor/core/profile"
)

func setCommand() *command {
	return &command{
		name: "set", args: "NAME key=value…", summary: "change keys of a profile; key= takes one away",
		long: `Only the bytes of the keys that change are touched: comments, blank lines and the
order of keys stay. Lists take commas: tags=local,field. The keys:

` + strings.TrimRight(keyTable(), "\n"),
		examples: []string{
			"gharbor set sightings port=5433",
			"gharbor set sightings socket= host=127.0.0.1",
			`gharbor set sightings "expect.version=>= 14" expect.tables=sighting,observer`,
		},
		least: 2, most: -1,
		run: func(ctx context.Context, c *call) error {
			var sets assignments
			for _, arg := range c.args[1:] {
				one, err := keyValue(arg)
				if err != nil {
					return usage("%w", err)
				}
				sets = append(sets, one)
			}
			sets.wholePaths(c.environment().Home)
			return c.update(ctx, "changed", c.args[0], func(f *profile.File) (*profile.Edit, error) { return f.Set(c.args[0], sets) })
		},
	}
}

func copyCommand() *command {
	return &command{
		name: "copy", args: "NAME NEW-NAME", summary: "a new profile with another's own keys",
		long:     "The copy has what the profile sets itself; what it takes from the profile it is like, the copy takes from there too.",
		examples: []string{"gharbor copy sightings sightings-test", "gharbor set sightings-test database=sightings_test"},
		least:    2, most: 2,
		run: func(ctx context.Context, c *call) error {
			return c.update(ctx, "kept", c.args[1], func(f *profile.File) (*profile.Edit, error) { return f.Copy(c.args[0], c.args[1]) })
		},
	}
}

func renameCommand() *command {
	return &command{
		name: "rename", args: "NAME NEW-NAME", summary: "give a profile another name",
		long:     "Profiles that are like it follow.",
		examples: []string{"gharbor rename sightings bird-counts"},
		least:    2, most: 2,
		run: func(ctx context.Context, c *call) error {
			return c.update(ctx, "renamed", c.args[1], func(f *profile.File) (*profile.Edit, error) { return f.Rename(c.args[0], c.args[1]) })
		},
	}
}

func removeCommand() *command {
	var yes bool
	return &command{
		name: "remove", args: "NAME", summary: "take a profile out of the file",
		long:     "Asks first, unless -yes. The comment directly above the profile goes with it.",
		examples: []string{"gharbor remove sightings-test", "gharbor remove sightings-test -yes"},
		least:    1, most: 1,
		flags: func(fs *flag.FlagSet) { fs.BoolVar(&yes, "yes", false, "do not ask") },
		run: func(ctx context.Context, c *call) error {
			file, err := c.load()
			if err != nil {
				return err
			}
			name := c.args[0]
			if file.Lookup(name) == nil {
				return file.Missing(name)
			}
			if !yes {
				if !c.Interactive() {
					return &exitError{code: exitUsage, err: errors.New("there is no terminal to ask on; -yes removes without asking"), try: []string{"gharbor remove " + name + " -yes"}}
				}
				if yes, err = c.Confirm(ctx, fmt.Sprintf("remove the profile %s?", name), false); err != nil {
					return err
				}
				if !yes {
					c.Say("nothing was changed")
					return nil
				}
			}
			return c.update(ctx, "removed", name, func(f *profile.File) (*profile.Edit, error) { return f.Remove(name) })
		},
	}
}

// update edits the user's file and says what was done.
func (c *call) update(ctx context.Context, done, name string, edit func(*profile.File) (*profile.Edit, error)) error {
	h, err := c.home()
	if err != nil {
		return err
	}
	if err := h.Update(ctx, edit); err != nil {
		return err
	}
	c.loaded = nil
	c.Say("%s: profile %s in %s", done, name, h.ProfilesPath())
	return nil
}
