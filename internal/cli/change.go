package cli

import (
	"context"
	"errors"
	"fmt"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/schema"
	"strings"
)

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
