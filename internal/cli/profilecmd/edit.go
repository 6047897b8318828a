package profilecmd

import (
	"context"
	"errors"
	"fmt"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/history"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/vouch"
	"gentleharbor/internal/cli/base"
)

func Set() *base.Command {
	var to base.Target
	return &base.Command{
		Name: "set", Args: "NAME key=value…", Summary: "change values of a profile; key= removes one",
		Long: `Comments, blank lines and the order of keys stay as they are. A list takes commas:
tags=local,field. The keys:`,
		Keys: base.KeyTable,
		Examples: []string{
			"gharbor set sightings port=5433",
			"gharbor set sightings socket= host=127.0.0.1",
			`gharbor set sightings "expect.version=>= 14" expect.tables=sighting,observer`,
		},
		MinArgs: 2, MaxArgs: -1,
		Flags: to.Flag,
		Run: run(func(ctx context.Context, c *Call) error {
			name, sets, err := c.ReadAssignments(&to, c.KeyValue)
			if err != nil {
				return err
			}
			if err := c.Update(ctx, to, "changed", name,
				func(f *profile.File) (*profile.Edit, error) { return f.Set(name, sets) }); err != nil {
				return err
			}
			if _, alias := sets.Get(key.Alias); alias {
				c.warnAliasProblem(to, name)
			}
			return nil
		}),
	}
}

func Copy() *base.Command {
	var to base.Target
	return &base.Command{
		Name: "copy", Args: "NAME NEW-NAME", Summary: "copy a profile under a new name",
		Long: "The copy has the same keys. What a profile takes from another one (like), its copy takes from there " +
			"too.",
		Examples: []string{"gharbor copy sightings sightings-test"},
		MinArgs:  2, MaxArgs: 2,
		Flags: to.Flag,
		Run: run(func(ctx context.Context, c *Call) error {
			file, err := c.Load()
			if err != nil {
				return err
			}
			p, err := c.FindProfile(file, c.Args[0])
			if err != nil {
				return err
			}
			if err := c.mayCopy(file, p, to); err != nil {
				return err
			}
			sets, err := file.CopyValues(p, to.Project, c.Environment().Home)
			if err != nil {
				return err
			}
			return c.Update(ctx, to, "saved", c.Args[1],
				func(f *profile.File) (*profile.Edit, error) { return f.Add(c.Args[1], sets) })
		}),
	}
}

// mayCopy refuses to copy a project's profile to the user's file where the user did not vouch for it, or where nobody
// would notice a later change of the repository's files.
func (c *Call) mayCopy(file *profile.File, p *profile.Profile, to base.Target) error {
	if to.Project || !p.InProject() {
		return nil
	}
	r := resolve.Resolve(file, p, nil, c.Environment())
	if found := r.WhyNotVouched(); found != nil {
		return base.FindingError(base.ExitFile, fmt.Errorf("%s, and a copy would use the same (%s)",
			found.Cause, found.Code), found)
	}
	if file := repositoryFile(vouch.FindUses(r.ProjectProfile())); file != "" {
		return base.Failure(base.ExitFile,
			fmt.Errorf("the profile %s uses files of the repository (%s). A copy would not notice when they "+
				"change; a profile that is like it does", r.Called, file),
			fmt.Sprintf("gharbor add %s -like %s", c.Args[1], syntax.ProjectPrefix+p.Name))
	}
	return nil
}

// repositoryFile names the first file of the repository among some uses, also a missing one; "" for none.
func repositoryFile(uses vouch.Uses) string {
	for _, use := range uses.List {
		if use.File.State == vouch.Hashed || use.File.State == vouch.Missing {
			return clean.Word(use.File.Path)
		}
	}
	return ""
}

func Rename() *base.Command {
	var to base.Target
	return &base.Command{
		Name: "rename", Args: "NAME NEW-NAME", Summary: "rename a profile",
		Long:     "Profiles that are like it are changed too.",
		Examples: []string{"gharbor rename sightings bird-counts"},
		MinArgs:  2, MaxArgs: 2,
		Flags: to.Flag,
		Run: run(func(ctx context.Context, c *Call) error {
			name, err := to.StripProject(c.Call, c.Args[0])
			if err != nil {
				return err
			}
			if err := c.Update(ctx, to, "renamed", c.Args[1],
				func(f *profile.File) (*profile.Edit, error) { return f.Rename(name, c.Args[1]) }); err != nil {
				return err
			}
			if err := c.moveRotation(name, c.Args[1], to.Project); err != nil {
				return err
			}
			return c.moveHistory(name, c.Args[1], to.Project)
		}),
	}
}

func Remove() *base.Command {
	var yes bool
	var to base.Target
	return &base.Command{
		Name: "remove", Args: "NAME", Summary: "remove a profile",
		Long:     "Asks first, unless -yes is given. The comment directly above the profile is removed too.",
		Examples: []string{"gharbor remove sightings-ro", "gharbor remove sightings-ro -yes"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&yes, "yes", false, "do not ask")
			to.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *Call) error {
			file, err := c.Load()
			if err != nil {
				return err
			}
			name, err := to.StripProject(c.Call, c.Args[0])
			if err != nil {
				return err
			}
			if to.Project && file.ProjectFile() != nil {
				file = file.ProjectFile()
			}
			if file.Lookup(name) == nil {
				return c.Missing(file, name)
			}
			if err := c.noRotation(name, to.Project); err != nil {
				return err
			}
			if yes, err = c.MayRemove(ctx, yes, "profile "+name); err != nil || !yes {
				return err
			}
			if err := c.Update(ctx, to, "removed", name,
				func(f *profile.File) (*profile.Edit, error) { return f.Remove(name) }); err != nil {
				return err
			}
			return c.moveHistory(name, "", to.Project)
		}),
	}
}

// nameIn is a profile's name for other commands.
func nameIn(name string, project bool) string {
	if project {
		return syntax.ProjectPrefix + name
	}
	return name
}

// noRotation refuses to remove a profile with a pending rotation: its new password may be the only one that the
// server takes.
func (c *Call) noRotation(name string, project bool) error {
	places, err := c.Rotations()
	if called := nameIn(name, project); err == nil && places.Has(called) {
		err = base.Failure(base.ExitFailed, errors.New("a rotation of its password has not ended, and the server may have "+
			"the new one already"), "gharbor secret rotate "+called+" -resume")
	}
	return err
}

// moveRotation gives a pending rotation the profile's new name.
func (c *Call) moveRotation(from, to string, project bool) error {
	places, err := c.Rotations()
	if err != nil {
		return err
	}
	moved, err := places.Move(nameIn(from, project), nameIn(to, project))
	if moved {
		c.Say("the rotation of its password that has not ended was renamed too")
	}
	return err
}

// moveHistory gives the history of a profile's sessions the new name, or removes it where that is "".
func (c *Call) moveHistory(from, to string, project bool) error {
	home, err := c.Home()
	if err != nil {
		return err
	}
	f := history.ForProfile(home.Dir, from, project)
	what := "removed"
	var done bool
	if to == "" {
		done, err = f.Remove()
	} else {
		done, err = f.Move(history.ForProfile(home.Dir, to, project))
		what = "renamed too"
	}
	if err != nil {
		return &profile.FileError{Path: f.Path(), What: atomicfile.Plain(err).Error()}
	}
	if done {
		c.Say("the history of its sessions was %s", what)
	}
	return nil
}

// warnAliasProblem notes that a profile's alias leads nowhere yet.
func (c *Call) warnAliasProblem(to base.Target, name string) {
	file, err := c.Load()
	if err != nil || to.Project {
		return
	}
	if p := file.Lookup(name); p != nil {
		if found := resolve.Resolve(file, p, nil, c.Environment()).AliasProblem(); found != nil {
			c.Notice("%s", found.Cause)
		}
	}
}
