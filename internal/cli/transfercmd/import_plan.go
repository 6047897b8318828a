package transfercmd

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/intake"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/vouch"
	"gentleharbor/internal/cli/base"
)

// PlannedImport is what the import will do with a connection.
type PlannedImport struct {
	intake.Connection
	Settings []schema.Override
	replace  bool
	skip     string // why nothing becomes of it
	notes    []string
}

// plan chooses names, and where passwords are kept.
func (c *Call) plan(found []intake.Connection, o importOptions) ([]*PlannedImport, error) {
	file, err := c.Load()
	if err != nil {
		return nil, err
	}
	var plans []*PlannedImport
	taken := make(map[string]bool)
	for _, f := range found {
		if o.name != "" {
			f.Name = o.name
		}
		one := &PlannedImport{Connection: f, Settings: slices.Clone(f.Sets)}
		for n := 2; taken[one.Name]; n++ {
			one.Name = fmt.Sprintf("%.60s-%d", f.Name, n)
		}
		taken[one.Name] = true
		if old := file.Lookup(one.Name); old != nil && !old.InProject() {
			one.replace = true
			if !o.replace {
				one.skip = fmt.Sprintf("a profile of that name is at line %d of your file; to replace it: -replace",
					old.Line)
			}
		}
		if err := one.PlacePassword(c.Keys, o.into); err != nil {
			return nil, err
		}
		note := "imported from " + f.Origin
		one.Settings = append(one.Settings, schema.Override{
			Field: c.Keys.Field(key.Note),
			Value: schema.TextValue(clean.Line(note, 200)),
		})
		if f.Trouble != "" && o.into != "" {
			one.notes = append(one.notes, "its password can't be copied: "+clean.Line(f.Trouble, 200))
		}
		if len(f.Other) > 0 {
			one.notes = append(one.notes,
				"left out (a profile has no key for it): "+clean.Line(strings.Join(f.Other, ", "), 200))
		}
		one.notes = append(one.notes, f.Notes...)
		plans = append(plans, one)
	}
	return plans, nil
}

// PlacePassword decides the source of a connection's password.
func (one *PlannedImport) PlacePassword(keys *schema.Schema, into string) error {
	at := slices.IndexFunc(one.Settings, func(s schema.Override) bool { return s.Field.Name == "secret" })
	switch {
	case !one.Password.Present():
	case into == "wallet":
		if at >= 0 {
			one.Settings = slices.Delete(one.Settings, at, at+1)
		}
		one.Settings = append(one.Settings, schema.Override{
			Field: keys.Field(key.Secret),
			Value: schema.TextValue("wallet:" + one.Name),
		})
	case at >= 0:
	case strings.HasPrefix(one.Origin, "a connection URL"):
		return base.Usage("the URL has a password in it: add -into wallet to save it there")
	default:
		one.notes = append(one.notes, "its password is not saved; to save it: -into wallet")
	}
	return nil
}

// showPlans says what is, or would be, added.
func (c *Call) showPlans(plans []*PlannedImport, o importOptions) {
	for _, one := range plans {
		head := "new"
		switch {
		case one.skip != "":
			head = "left alone"
		case one.replace:
			head = "replaced"
		}
		fmt.Fprintf(c.Stdout, "%s  %s, from %s\n", one.Name, head, clean.Line(one.Origin, 300))
		if one.skip != "" {
			fmt.Fprintf(c.Stdout, "    %s\n", one.skip)
			continue
		}
		for _, s := range one.Settings {
			if s.Field.Name != "note" {
				fmt.Fprintf(c.Stdout, "    %-9s %s\n", s.Field.Name, wholeValue(s.Value))
			}
		}
		for _, note := range one.notes {
			fmt.Fprintf(c.Stdout, "    %s\n", note)
		}
	}
}

// wholeValue is a value with an absolute path, in a command line's form.
func wholeValue(v schema.Value) string {
	if words := v.List(); len(words) > 1 {
		return clean.Words(words)
	}
	return clean.Word(v.Text())
}

// noteRepositoryFiles notes which files of a repository the imported profiles would name: in the user's own profiles
// nobody notices a change of these files.
func (c *Call) noteRepositoryFiles(plans []*PlannedImport, path string) {
	root := repositoryOf(path)
	if path == "" || root == "" {
		return
	}
	repo, home := vouch.NewRepository(root), c.Environment().Home
	for _, one := range plans {
		for _, s := range one.Settings {
			whole := s.Field.AbsolutePath(s.Value.Text(), "", home)
			if kind, file, ok := strings.Cut(whole, ":"); s.Field.Source && ok && kind != "env" {
				whole, _, _ = strings.Cut(file, "#")
			}
			if (s.Field.Path && !s.Field.Address || s.Field.Source) && filepath.IsAbs(whole) {
				if inside, ok := repo.Inside(whole); ok {
					one.notes = append(one.notes,
						fmt.Sprintf("%s is a file of the repository (%s): nobody notices when it changes",
							s.Field.Name, clean.Word(inside)))
				}
			}
		}
	}
}

// mayRead asks before it reads a file outside of a repository that the repository names: a link in a clone can lead
// to any file of the user's.
func (c *Call) mayRead(ctx context.Context, path string, yes bool) error {
	root := repositoryOf(path)
	if root == "" || yes {
		return nil
	}
	file, _, _ := vouch.NewRepository(root).Look(path)
	if file.State != vouch.Outside {
		return nil
	}
	if !c.Interactive() {
		return base.Failure(base.ExitUsage,
			fmt.Errorf("%s in a repository leads outside of it, to %s, and was not read; to read it: -yes",
				clean.Word(path), clean.Word(file.Real)))
	}
	sure, err := c.Confirm(ctx,
		fmt.Sprintf("%s in a repository leads outside of it, to %s: read it?", clean.Word(path), clean.Word(file.Real)),
		false)
	if err == nil && !sure {
		err = &base.ExitError{Code: base.ExitUsage, Err: errors.New("nothing was read")}
	}
	return err
}
