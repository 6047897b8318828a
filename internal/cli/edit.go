package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

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

// target says which file an edit of a profile goes to: the project's where that
// was asked for, or where only the project has the name.
type target struct{ project bool }

func (t *target) flag(fs *flagSet) {
	fs.BoolVar(&t.project, "project", false, "in the project's gharbor.toml rather than in your own file")
}

// of takes "project:" off a name and notes what it says.
func (t *target) of(c *call, name string) (string, error) {
	if own, ok := strings.CutPrefix(name, schema.ProjectPrefix); ok {
		t.project = true
		return own, nil
	}
	if t.project {
		return name, nil
	}
	file, err := c.load()
	if err != nil {
		return "", err
	}
	p := file.Lookup(name)
	t.project = p != nil && p.InProject()
	return name, nil
}

// update edits the user's or the project's file of profiles and says what was done.
func (c *call) update(ctx context.Context, t target, done, name string,
	edit func(*profile.File) (*profile.Edit, error)) error {
	if err := c.change(ctx, t.project, "profile", done, name, edit); err != nil {
		return err
	}
	if t.project {
		c.Say("  try: gharbor vouch %s   # a project's profile does nothing before", name)
	}
	return nil
}

// change edits the file that has profiles, or aliases, the user's or the project's.
func (c *call) change(ctx context.Context, project bool, kind, done, name string,
	edit func(*profile.File) (*profile.Edit, error)) error {
	path, err := c.write(ctx, project, kind, edit)
	if err != nil {
		return err
	}
	c.Say("%s: %s %s in %s", done, kind, name, clean.Visible(path))
	return nil
}

// write makes an edit and says nothing; path is the file that was changed.
func (c *call) write(ctx context.Context, project bool, kind string,
	edit func(*profile.File) (*profile.Edit, error)) (path string, err error) {
	h, err := c.home()
	if err != nil {
		return "", err
	}
	path = h.ProfilesPath()
	update := h.Update
	if kind == "alias" {
		path, update = h.AliasesPath(), h.UpdateAliases
	}
	if project {
		place, _ := c.projectPlace()
		path = place.Path
		update = func(ctx context.Context, edit func(*profile.File) (*profile.Edit, error)) error {
			return h.UpdateProject(ctx, place, edit)
		}
	}
	if err := update(ctx, edit); err != nil {
		return "", err
	}
	c.loaded = nil
	return path, nil
}

// mayRemove asks whether something is to be removed, unless -yes said so.
func (c *call) mayRemove(ctx context.Context, yes bool, what, command string) (bool, error) {
	if yes {
		return true, nil
	}
	if !c.Interactive() {
		return false, &exitError{
			code: exitUsage,
			err:  errors.New("there is no terminal to ask on; -yes removes without asking"),
			try:  []string{command + " -yes"},
		}
	}
	yes, err := c.Confirm(ctx, fmt.Sprintf("remove the %s?", what), false)
	if err == nil && !yes {
		c.Say("nothing was changed")
	}
	return yes, err
}
