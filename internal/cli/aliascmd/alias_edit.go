package aliascmd

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"gentleharbor/core/alias"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/internal/cli/base"
)

// aliasTarget says which file an edit of an alias changes: the project's with -project, or where only the project has
// the name.
type aliasTarget struct {
	project bool
	new     bool // the alias is to be made: one of the name elsewhere is in nobody's way
}

func (t *aliasTarget) flag(fs *base.FlagSet) {
	fs.BoolVar(&t.project, "project", false, "in the project's gharbor.toml rather than in your own aliases.toml")
}

// stripProject removes "project:" from a name and notes it. It refuses an alias of another of the user's files.
func (t *aliasTarget) stripProject(c *call, name string) (string, error) {
	if _, err := c.Load(); err != nil {
		return "", err
	}
	if strings.HasPrefix(name, syntax.ServicePrefix) {
		return "", base.Usage("that is a section of a service file; change it there")
	}
	if own, ok := strings.CutPrefix(name, syntax.ProjectPrefix); ok {
		t.project = true
		return own, nil
	}
	a := c.Book.Find(name)
	switch {
	case t.project || a == nil || t.new:
	case a.InProject():
		t.project = true
	case a.File() != c.Book.Files[0]:
		return "", base.Usage("the alias %s is in %s (named by %s); change it there", name, a.Path(),
			alias.Variable)
	}
	return name, nil
}

// updateAliases edits the user's aliases or the project's file and prints what it did.
func (c *call) updateAliases(ctx context.Context, t aliasTarget, done, name string,
	edit func(*profile.File) (*profile.Edit, error)) error {
	return c.Change(ctx, t.project, "alias", done, name, edit)
}

// warnUnresolved notes that a new or changed alias leads nowhere yet: what it names may be in another file, or be
// added next.
func (c *call) warnUnresolved(to aliasTarget, name string) {
	if to.project {
		name = syntax.ProjectPrefix + name
	}
	if _, err := c.Load(); err != nil {
		return
	}
	if _, found := c.Book.Follow(name); found != nil {
		c.Notice("%s", found.Cause)
	}
}

// writeAlias reads an alias' name and the words key=value after it, makes the edit, and notes where the alias leads
// nowhere yet.
func (c *call) writeAlias(ctx context.Context, to *aliasTarget, done string,
	edit func(f *profile.File, name string, sets []schema.Override) (*profile.Edit, error)) (name string, err error) {
	if name, err = to.stripProject(c, c.Args[0]); err != nil {
		return "", err
	}
	sets, err := c.Settings(to.project, c.aliasKeyValue)
	if err != nil {
		return "", err
	}
	err = c.updateAliases(ctx, *to, done, name,
		func(f *profile.File) (*profile.Edit, error) { return edit(f, name, sets) })
	if err == nil {
		c.warnUnresolved(*to, name)
	}
	return name, err
}

// aliasKeyValue reads an alias' key=value; an empty value unsets the key.
func (c *call) aliasKeyValue(s string) (schema.Override, error) {
	k, text, ok := strings.Cut(s, "=")
	field := c.Keys.AliasField(key.Name(k))
	switch {
	case !ok:
		return schema.Override{}, errors.New("expected key=value, such as addresses=archive-a.saltmarsh.example:1521")
	case field == nil:
		return schema.Override{}, c.unknownAliasKey(k)
	case text == "":
		return schema.Override{Field: field, Unset: true}, nil
	}
	value, err := field.ParseValue(text)
	return schema.Override{Field: field, Value: value}, err
}

// unknownAliasKey is the error for an unknown key, with the nearest one. It does not repeat the key.
func (c *call) unknownAliasKey(k string) error {
	text := c.Keys.UnknownAliasKey(k)
	if quoted := "unknown key " + clean.Quote(k); strings.HasPrefix(text, quoted) {
		text = "no key of that name" + strings.TrimPrefix(text, quoted)
	}
	return errors.New(text)
}

func aliasAdd() *base.Command {
	to := aliasTarget{new: true}
	return &base.Command{
		Name: "alias add", Args: "NAME key=value…", Summary: "define an alias",
		Long: `Lists take commas: addresses=db-a.example:1521,db-b.example:1521. The keys:`,
		Keys: base.AliasKeyTable,
		Examples: []string{
			"gharbor alias add skein engine={{listener}} " +
				"addresses=archive-a.saltmarsh.example,archive-b.saltmarsh.example service=SKEIN",
			"gharbor alias add counts engine={{engine}} srv=_{{engine}}._tcp.saltmarsh.example database=sightings",
			"gharbor alias add old-skein alias=skein",
		},
		MinArgs: 2, MaxArgs: -1,
		Flags: to.flag,
		Run: run(func(ctx context.Context, c *call) error {
			name, err := c.writeAlias(ctx, &to, "saved", (*profile.File).AddAlias)
			if err != nil {
				return err
			}
			if to.project {
				c.Say("  try: gharbor vouch alias:%s   # before a profile of your own may use it", name)
				return nil
			}
			c.Say("  try: gharbor alias knock %s", name)
			return nil
		}),
	}
}

func aliasSet() *base.Command {
	var to aliasTarget
	return &base.Command{
		Name: "alias set", Args: "NAME key=value…", Summary: "change values of an alias; key= removes one",
		Long: `All profiles and wallet entries that use the alias follow. The rest of the file stays as
it is. The keys:`,
		Keys: base.AliasKeyTable,
		Examples: []string{"gharbor alias set archive addresses=archive-c.saltmarsh.example:1521",
			"gharbor alias set archive pick=fastest connect-timeout=3s", "gharbor alias set archive note="},
		MinArgs: 2, MaxArgs: -1,
		Flags: to.flag,
		Run: run(func(ctx context.Context, c *call) error {
			_, err := c.writeAlias(ctx, &to, "changed", (*profile.File).SetAlias)
			return err
		}),
	}
}

func aliasRename() *base.Command {
	var to aliasTarget
	return &base.Command{
		Name: "alias rename", Args: "NAME NEW-NAME", Summary: "rename an alias",
		Long: `Aliases and profiles that use it are changed too. Until that is done, the old name stays
as an alias of the new one, so that nothing breaks in between.`,
		Examples: []string{"gharbor alias rename archive old-counts"},
		MinArgs:  2, MaxArgs: 2,
		Flags: to.flag,
		Run: run(func(ctx context.Context, c *call) error {
			name, err := to.stripProject(c, c.Args[0])
			if err != nil {
				return err
			}
			return c.renameAlias(ctx, to, name, c.Args[1])
		}),
	}
}

// renameAlias renames in the file of aliases, then in that of the profiles. A crash
// between the two leaves both names.
func (c *call) renameAlias(ctx context.Context, to aliasTarget, from, name string) error {
	quiet := func(edit func(*profile.File) (*profile.Edit, error)) error {
		h, err := c.Home()
		if err == nil {
			err = h.UpdateAliases(ctx, edit)
		}
		return err
	}
	profiles, err := c.Load()
	if err != nil {
		return err
	}
	_, follow := profiles.FollowAlias(from, name)
	if to.project || !follow {
		stay := c.profilesNaming(to, from, profiles)
		if err := c.updateAliases(ctx, to, "renamed", name,
			func(f *profile.File) (*profile.Edit, error) { return f.RenameAlias(from, name) }); err != nil {
			return err
		}
		for _, profile := range stay {
			c.Say("  try: gharbor set %s alias=project:%s   # it names the old one", profile, name)
		}
		return c.boundTo(ctx, from, name)
	}
	if err := quiet(func(f *profile.File) (*profile.Edit, error) { return f.RenameAlias(from, name) }); err != nil {
		return err
	}
	both := []schema.Override{{Field: c.Keys.AliasField(key.Alias), Value: schema.TextValue(name)}}
	if err := quiet(func(f *profile.File) (*profile.Edit, error) { return f.AddAlias(from, both) }); err != nil {
		return err
	}
	h, err := c.Home()
	if err != nil {
		return err
	}
	if err := h.Update(ctx, func(f *profile.File) (*profile.Edit, error) {
		e, _ := f.FollowAlias(from, name)
		return e, nil
	}); err != nil {
		return err
	}
	if err := c.updateAliases(ctx, to, "renamed", name,
		func(f *profile.File) (*profile.Edit, error) { return f.RemoveAlias(from) }); err != nil {
		return err
	}
	return c.boundTo(ctx, from, name)
}

// profilesNaming are the user's own profiles that name an alias of the project's: a rename in the project's file does
// not change them.
func (c *call) profilesNaming(to aliasTarget, from string, profiles *profile.File) (names []string) {
	if !to.project {
		return nil
	}
	a := c.Book.Project.AliasNamed(from)
	for _, p := range profiles.Profiles {
		if word := p.Text(key.Alias); word != "" && a != nil && c.Book.Find(word) == a {
			names = append(names, p.Name)
		}
	}
	return names
}

// boundTo notes which entries of the wallet are bound to a removed name, where the wallet can be read without a
// question.
func (c *call) boundTo(ctx context.Context, from, name string) error {
	entries, _, err := c.entriesOf(ctx, from)
	if err != nil {
		return err
	}
	for _, e := range entries {
		c.Say("  try: gharbor wallet bind %s alias:%s   # it is bound to alias:%s", e, name, from)
	}
	return nil
}

func aliasRemove() *base.Command {
	var to aliasTarget
	var yes bool
	return &base.Command{
		Name: "alias remove", Args: "NAME", Summary: "remove an alias",
		Long:     "Refused while a profile or another alias uses it. Asks first, unless -yes is given.",
		Examples: []string{"gharbor alias remove long-ago -yes"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&yes, "yes", false, "do not ask")
			to.flag(fs)
		},
		Run: run(func(ctx context.Context, c *call) error {
			name, err := to.stripProject(c, c.Args[0])
			if err != nil {
				return err
			}
			word := name
			if to.project {
				word = syntax.ProjectPrefix + name
			}
			a, err := c.foundAlias(word)
			if err != nil {
				return err
			}
			profiles, err := c.Load()
			if err != nil {
				return err
			}
			if users := c.Book.Users(a, profiles, profiles.ProjectFile()); len(users) > 0 {
				return base.Failure(base.ExitUsage,
					fmt.Errorf("the alias %s is used by %s", name, strings.Join(users[:min(len(users), 5)], ", ")),
					"gharbor alias used "+name)
			}
			if yes, err = c.MayRemove(ctx, yes, "alias "+name); err != nil || !yes {
				return err
			}
			return c.updateAliases(ctx, to, "removed", name,
				func(f *profile.File) (*profile.Edit, error) { return f.RemoveAlias(name) })
		}),
	}
}
