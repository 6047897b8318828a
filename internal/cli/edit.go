package cli

import (
	"context"
	"fmt"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/vouch"
)

func setCommand() *command {
	var to target
	return &command{
		name: "set", args: "NAME key=value…", summary: "change keys of a profile; key= takes one away",
		long: `Only the bytes of the keys that change are touched: comments, blank lines and the
order of keys stay. Lists take commas: tags=local,field. The keys:`,
		keys: keyTable,
		examples: []string{
			"gharbor set sightings port=5433",
			"gharbor set sightings socket= host=127.0.0.1",
			`gharbor set sightings "expect.version=>= 14" expect.tables=sighting,observer`,
		},
		minArgs: 2, maxArgs: -1,
		flags: to.flag,
		run: func(ctx context.Context, c *call) error {
			name, sets, err := c.assigned(&to, c.keyValue)
			if err != nil {
				return err
			}
			if err := c.update(ctx, to, "changed", name,
				func(f *profile.File) (*profile.Edit, error) { return f.Set(name, sets) }); err != nil {
				return err
			}
			if _, alias := sets.get("alias"); alias {
				c.astray(to, name)
			}
			return nil
		},
	}
}

func copyCommand() *command {
	var to target
	return &command{
		name: "copy", args: "NAME NEW-NAME", summary: "a new profile with another's own keys",
		long: "The copy has what the profile sets itself; what it takes from the profile it is like, the copy takes " +
			"from there too.",
		examples: []string{"gharbor copy sightings sightings-test", "gharbor set sightings-test database=sightings_test"},
		minArgs:  2, maxArgs: 2,
		flags: to.flag,
		run: func(ctx context.Context, c *call) error {
			file, err := c.load()
			if err != nil {
				return err
			}
			p, err := c.lookup(file, c.args[0])
			if err != nil {
				return err
			}
			if err := c.mayCopy(file, p, to); err != nil {
				return err
			}
			sets, err := file.Copied(p, to.project, c.environment().Home)
			if err != nil {
				return err
			}
			return c.update(ctx, to, "kept", c.args[1],
				func(f *profile.File) (*profile.Edit, error) { return f.Add(c.args[1], sets) })
		},
	}
}

// mayCopy refuses to make what a project's profile uses the user's own, where nobody has said yes
// to it, or where a later change of the repository's files would go unnoticed.
func (c *call) mayCopy(file *profile.File, p *profile.Profile, to target) error {
	if to.project || !p.InProject() {
		return nil
	}
	r := resolve.Of(file, p, nil, c.environment())
	if found := r.WhyNotVouched(); found != nil {
		return &exitError{
			code: exitFile,
			err:  fmt.Errorf("%s: a copy would use the same (%s)", found.Cause, found.Code),
			try:  found.Try,
		}
	}
	if file := repositoryFile(vouch.Of(r.Sealed())); file != "" {
		return &exitError{
			code: exitFile,
			err: fmt.Errorf("the profile %s uses files of the repository (%s): in a copy nobody would notice when they "+
				"change; a profile that is like it does", r.Called, file),
			try: []string{fmt.Sprintf("gharbor add %s -like %s", c.args[1], schema.ProjectPrefix+p.Name)},
		}
	}
	return nil
}

// repositoryFile names the first file of the repository among some uses, also one that is not
// there yet; "" for none.
func repositoryFile(uses vouch.Uses) string {
	for _, use := range uses.List {
		if use.File.State == vouch.Hashed || use.File.State == vouch.Missing {
			return clean.Word(use.File.Path)
		}
	}
	return ""
}

func renameCommand() *command {
	var to target
	return &command{
		name: "rename", args: "NAME NEW-NAME", summary: "give a profile another name",
		long:     "Profiles that are like it follow.",
		examples: []string{"gharbor rename sightings bird-counts"},
		minArgs:  2, maxArgs: 2,
		flags: to.flag,
		run: func(ctx context.Context, c *call) error {
			name, err := to.of(c, c.args[0])
			if err != nil {
				return err
			}
			return c.update(ctx, to, "renamed", c.args[1],
				func(f *profile.File) (*profile.Edit, error) { return f.Rename(name, c.args[1]) })
		},
	}
}

func removeCommand() *command {
	var yes bool
	var to target
	return &command{
		name: "remove", args: "NAME", summary: "take a profile out of the file",
		long:     "Asks first, unless -yes. The comment directly above the profile goes with it.",
		examples: []string{"gharbor remove sightings-test", "gharbor remove sightings-test -yes"},
		minArgs:  1, maxArgs: 1,
		flags: func(fs *flagSet) {
			fs.BoolVar(&yes, "yes", false, "do not ask")
			to.flag(fs)
		},
		run: func(ctx context.Context, c *call) error {
			file, err := c.load()
			if err != nil {
				return err
			}
			name, err := to.of(c, c.args[0])
			if err != nil {
				return err
			}
			if to.project && file.Attached() != nil {
				file = file.Attached()
			}
			if file.Lookup(name) == nil {
				return c.missing(file, name)
			}
			if yes, err = c.mayRemove(ctx, yes, "profile "+name, "gharbor remove "+name); err != nil || !yes {
				return err
			}
			return c.update(ctx, to, "removed", name, func(f *profile.File) (*profile.Edit, error) { return f.Remove(name) })
		},
	}
}

// astray says where the alias that a profile was given comes to nothing yet.
func (c *call) astray(to target, name string) {
	file, err := c.load()
	if err != nil || to.project {
		return
	}
	if p := file.Lookup(name); p != nil {
		if found := resolve.Of(file, p, nil, c.environment()).AliasProblem(); found != nil {
			c.Notice("%s", found.Cause)
		}
	}
}
