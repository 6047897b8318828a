package base

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/syntax"
)

// Target says which file an edit of a profile changes: the project's with -project, or where only the project has the
// name.
type Target struct{ Project bool }

func (t *Target) Flag(fs *FlagSet) {
	fs.BoolVar(&t.Project, "project", false, "in the project's gharbor.toml rather than in your own file")
}

// StripProject removes "project:" from a name and notes it.
func (t *Target) StripProject(c *Call, name string) (string, error) {
	if own, ok := strings.CutPrefix(name, syntax.ProjectPrefix); ok {
		t.Project = true
		return own, nil
	}
	if t.Project {
		return name, nil
	}
	file, err := c.Load()
	if err != nil {
		return "", err
	}
	p := file.Lookup(name)
	t.Project = p != nil && p.InProject()
	return name, nil
}

// Update edits the user's or the project's file of profiles and prints what it did.
func (c *Call) Update(ctx context.Context, t Target, done, name string,
	edit func(*profile.File) (*profile.Edit, error)) error {
	if err := c.Change(ctx, t.Project, "profile", done, name, edit); err != nil {
		return err
	}
	if t.Project {
		c.Say("  try: gharbor vouch %s   # a project's profile does nothing before", name)
	}
	return nil
}

// Change edits the file that has profiles, or aliases, the user's or the project's.
func (c *Call) Change(ctx context.Context, project bool, kind, done, name string,
	edit func(*profile.File) (*profile.Edit, error)) error {
	path, err := c.Write(ctx, project, kind, edit)
	if err != nil {
		return err
	}
	c.Say("%s: %s %s in %s", done, kind, name, clean.Visible(path))
	return nil
}

// Write makes an edit and prints nothing; path is the file that it changed.
func (c *Call) Write(ctx context.Context, project bool, kind string,
	edit func(*profile.File) (*profile.Edit, error)) (path string, err error) {
	h, err := c.Home()
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
	c.Loaded = nil
	return path, nil
}

// MayRemove asks whether to remove something, unless -yes was given.
func (c *Call) MayRemove(ctx context.Context, yes bool, what string) (bool, error) {
	if yes {
		return true, nil
	}
	if !c.Interactive() {
		return false, Failure(ExitUsage,
			errors.New("there is no terminal to ask on; -yes removes without asking"),
			c.CommandWith("yes", "true"))
	}
	yes, err := c.Confirm(ctx, fmt.Sprintf("remove %s?", what), false)
	if err == nil && !yes {
		c.Say("nothing was changed")
	}
	return yes, err
}
