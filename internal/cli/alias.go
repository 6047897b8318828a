package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/alias"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/internal/render"
)

func aliasCommand() *command {
	return &command{
		name: "alias", args: "VERB", summary: "one name for where a service lives, for every engine",
		long: `An alias stands in aliases.toml, or in a project's gharbor.toml, and lists addresses.
Profiles and wallet entries name it (alias=NAME): moving a database is one edit.
GHARBOR_ALIASES names further files, such as one that a team shares. A section of
PostgreSQL's service file is the alias service:NAME.`,
		verbs: func() []*command {
			return []*command{aliasAdd(), aliasSet(), aliasList(), aliasShow(), aliasRename(), aliasRemove(), aliasResolve(), aliasKnock(), aliasUsed(), aliasCheck()}
		},
	}
}

// aliasTarget says which file an edit of an alias goes to: the project's where that
// was asked for, or where only the project has the name.
type aliasTarget struct{ project bool }

func (t *aliasTarget) flag(fs *flag.FlagSet) {
	fs.BoolVar(&t.project, "project", false, "in the project's gharbor.toml rather than in your own aliases.toml")
}

// of takes "project:" off a name and notes what it says. An alias of another file of
// yours is not edited here.
func (t *aliasTarget) of(c *call, name string) (string, error) {
	if _, err := c.load(); err != nil {
		return "", err
	}
	if strings.HasPrefix(name, profile.ServicePrefix) {
		return "", usage("that is a section of PostgreSQL's service file, which is not changed here")
	}
	if own, ok := strings.CutPrefix(name, profile.ProjectPrefix); ok {
		t.project = true
		return own, nil
	}
	a := c.book.Find(name)
	switch {
	case t.project || a == nil:
	case a.InProject():
		t.project = true
	case a.File() != c.book.Files[0]:
		return "", usage("the alias %s stands in %s, which %s names; it is changed there by hand", name, a.Path(), alias.Variable)
	}
	return name, nil
}

// updateAliases edits the user's aliases or the project's file and says what was done.
func (c *call) updateAliases(ctx context.Context, t aliasTarget, done, name string, edit func(*profile.File) (*profile.Edit, error)) error {
	h, err := c.home()
	if err != nil {
		return err
	}
	path := h.AliasesPath()
	if t.project {
		place, _ := c.projectPlace()
		path = place.Path
		err = h.UpdateProject(ctx, place, edit)
	} else {
		err = h.UpdateAliases(ctx, edit)
	}
	if err != nil {
		return err
	}
	c.loaded = nil
	c.Say("%s: alias %s in %s", done, name, path)
	return nil
}

// aliasSets reads the words key=value behind an alias' name.
func (c *call) aliasSets(to aliasTarget) (sets assignments, err error) {
	for _, arg := range c.args[1:] {
		one, err := aliasKeyValue(arg)
		if err != nil {
			return nil, usage("%w", err)
		}
		sets = append(sets, one)
	}
	if !to.project { // in a project's file a relative path is the repository's
		sets.wholePaths(c.environment().Home)
	}
	return sets, nil
}

// aliasKeyValue reads an alias' key=value; an empty value unsets the key.
func aliasKeyValue(s string) (profile.Override, error) {
	key, text, ok := strings.Cut(s, "=")
	field := profile.AliasField(key)
	switch {
	case !ok:
		return profile.Override{}, errors.New("expected key=value, such as addresses=archive-a.saltmarsh.example:1521")
	case field == nil:
		return profile.Override{}, unknownAliasKey(key)
	case text == "":
		return profile.Override{Field: field, Unset: true}, nil
	}
	value, err := field.ParseValue(text)
	return profile.Override{Field: field, Value: value}, err
}

// unknownAliasKey says what a key was probably meant to be, without repeating it.
func unknownAliasKey(key string) error {
	text := profile.UnknownAliasKey(key)
	if quoted := "unknown key " + clean.Quoted(key); strings.HasPrefix(text, quoted) {
		text = "there is no such key" + strings.TrimPrefix(text, quoted)
	}
	return errors.New(text)
}

// aliasKeyTable lists an alias' keys for help.
func aliasKeyTable() string {
	var b strings.Builder
	for _, f := range profile.AliasFields() {
		fmt.Fprintf(&b, "  %-15s  %s\n", f.Name, f.Summary)
	}
	return strings.TrimRight(b.String(), "\n")
}

func aliasAdd() *command {
	var to aliasTarget
	return &command{
		name: "alias add", args: "NAME key=value…", summary: "define an alias",
		long: `Lists take commas: addresses=db-a.example:1521,db-b.example:1521. The keys:

` + aliasKeyTable(),
		examples: []string{
			"gharbor alias add skein engine=oracle addresses=archive-a.saltmarsh.example:1521,archive-b.saltmarsh.example:1521 service=SKEIN",
			"gharbor alias add counts engine=postgresql srv=_postgresql._tcp.saltmarsh.example database=sightings",
			"gharbor alias add old-skein alias=skein",
		},
		least: 2, most: -1,
		flags: to.flag,
		run: func(ctx context.Context, c *call) error {
			name, err := to.of(c, c.args[0])
			if err != nil {
				return err
			}
			sets, err := c.aliasSets(to)
			if err != nil {
				return err
			}
			if err := c.updateAliases(ctx, to, "kept", name, func(f *profile.File) (*profile.Edit, error) { return f.AddAlias(name, sets) }); err != nil {
				return err
			}
			c.Say("  try: gharbor alias knock %s", name)
			return nil
		},
	}
}

func aliasSet() *command {
	var to aliasTarget
	return &command{
		name: "alias set", args: "NAME key=value…", summary: "change keys of an alias; key= takes one away",
		long: `Every profile and wallet entry that names the alias follows. Only the bytes of the keys
that change are touched. The keys:

` + aliasKeyTable(),
		examples: []string{"gharbor alias set skein addresses=archive-c.saltmarsh.example:1521", "gharbor alias set skein pick=fastest connect-timeout=3s", "gharbor alias set skein note="},
		least:    2, most: -1,
		flags: to.flag,
		run: func(ctx context.Context, c *call) error {
			name, err := to.of(c, c.args[0])
			if err != nil {
				return err
			}
			sets, err := c.aliasSets(to)
			if err != nil {
				return err
			}
			return c.updateAliases(ctx, to, "changed", name, func(f *profile.File) (*profile.Edit, error) { return f.SetAlias(name, sets) })
		},
	}
}

// foundAlias is the alias that a name means, and the chain that it begins.
func (c *call) foundAlias(name string) (*profile.Alias, error) {
	if _, err := c.load(); err != nil {
		return nil, err
	}
	if a := c.book.Find(name); a != nil {
		return a, nil
	}
	if strings.HasPrefix(name, profile.ServicePrefix) {
		chain, found := c.book.Follow(name)
		if found != nil {
			return nil, &exitError{code: exitUsage, err: errors.New(found.Cause), try: found.Try}
		}
		return chain.Links[0], nil
	}
	if c.broken != nil {
		return nil, c.broken
	}
	return nil, c.book.Missing(name)
}

// listedAlias is an alias in `alias list -format json`.
type listedAlias struct {
	Name      string   `json:"name"`
	Engine    string   `json:"engine"`
	Addresses []string `json:"addresses"`
	SRV       string   `json:"srv,omitempty"`
	Alias     string   `json:"alias,omitempty"`
	Service   string   `json:"service,omitempty"` // or instance, or database
	Note      string   `json:"note,omitempty"`
	File      string   `json:"file"`
	Line      int      `json:"line"`
	Project   bool     `json:"project"` // it stands in a project's file
	Vouched   bool     `json:"vouched"` // a profile of your own may use it
}

func aliasList() *command {
	var form format
	return &command{
		name: "alias list", quick: true, summary: "the aliases there are",
		long:     "Those of your own files, and of the project's. Nothing is looked up or dialled.",
		examples: []string{"gharbor alias list", "gharbor alias list -format json"},
		flags:    func(fs *flag.FlagSet) { form.flag(fs) },
		run: func(_ context.Context, c *call) error {
			if _, err := c.load(); err != nil {
				return err
			}
			all := []listedAlias{}
			for _, a := range c.book.All() {
				e, _ := a.Own("addresses")
				one := listedAlias{Name: c.book.Called(a), Engine: a.Text("engine"), Addresses: []string{}, SRV: a.Text("srv"), Alias: a.Text("alias"),
					Service: firstText(a, "service", "instance", "database"), Note: clean.Line(a.Text("note"), 200), File: a.Path(), Line: a.Line, Project: a.InProject(), Vouched: c.book.Judge(a) == nil}
				for _, item := range e.Value.List() {
					if item != "" {
						one.Addresses = append(one.Addresses, clean.Line(item, 260))
					}
				}
				all = append(all, one)
			}
			if form.json() {
				return render.JSON(c.Stdout, map[string]any{"format": 1, "aliases": all})
			}
			return c.aliasTable(all)
		},
	}
}

// firstText is the first of some keys that an alias sets.
func firstText(a *profile.Alias, keys ...string) string {
	for _, key := range keys {
		if text := a.Text(key); text != "" {
			return clean.Line(text, 100)
		}
	}
	return ""
}

func (c *call) aliasTable(all []listedAlias) error {
	if len(all) == 0 {
		c.Say("no aliases yet")
		c.Say("  try: gharbor alias add NAME engine=ENGINE addresses=HOST:PORT")
		return nil
	}
	headings := []string{"alias", "engine", "lives at", "service"}
	project := slices.ContainsFunc(all, func(a listedAlias) bool { return a.Project })
	if project {
		headings = append(headings, "from")
	}
	rows := make([][]string, len(all))
	for i, a := range all {
		at := strings.Join(a.Addresses, " ")
		switch {
		case a.Alias != "":
			at = "alias " + a.Alias
		case a.SRV != "":
			at = "SRV " + a.SRV
		case len(a.Addresses) > 1:
			at = fmt.Sprintf("%s and %d more", a.Addresses[0], len(a.Addresses)-1)
		}
		rows[i] = []string{a.Name, a.Engine, at, a.Service}
		switch {
		case !project:
		case a.Project && a.Vouched:
			rows[i] = append(rows[i], "project")
		case a.Project:
			rows[i] = append(rows[i], "project, not vouched alone")
		default:
			rows[i] = append(rows[i], "you")
		}
	}
	return render.Table(c.Stdout, c.noColour, headings, rows)
}

func aliasShow() *command {
	var form format
	return &command{
		name: "alias show", quick: true, args: "NAME", summary: "what an alias says, and those that it names in turn",
		long:     "Each key with the file and line that says it. Nothing is looked up or dialled.",
		examples: []string{"gharbor alias show skein", "gharbor alias show service:sightings"},
		least:    1, most: 1,
		flags: func(fs *flag.FlagSet) { form.flag(fs) },
		run: func(_ context.Context, c *call) error {
			a, err := c.foundAlias(c.args[0])
			if err != nil {
				return err
			}
			chain, found := c.book.Follow(c.args[0])
			links := []*profile.Alias{a}
			if chain != nil {
				links = chain.Links
			}
			if form.json() {
				err = c.aliasJSON(links)
			} else {
				err = c.aliasRows(links)
			}
			if err != nil {
				return err
			}
			if chain != nil {
				for _, word := range chain.Ignored {
					c.Notice("not used here: %s", clean.Line(word, 100))
				}
			}
			for _, link := range links {
				if c.book.Judge(link) != nil {
					c.Notice("%s stands in a project's file: a profile of your own may not use it before gharbor vouch alias:%s", link.Called(), link.Name)
				}
			}
			if found != nil {
				return &exitError{code: exitFile, err: fmt.Errorf("%s (%s)", found.Cause, found.Code), try: found.Try}
			}
			return nil
		},
	}
}

func (c *call) aliasRows(links []*profile.Alias) error {
	var rows [][]string
	for _, link := range links {
		for _, e := range link.Entries {
			rows = append(rows, []string{link.Called(), e.Field.Name, clean.Line(strings.Join(e.Value.List(), ", "), 200), fmt.Sprintf("%s:%d", filepath.Base(link.Path()), e.Line)})
		}
		addresses, _ := link.Own("addresses")
		for _, item := range addresses.Value.List() {
			host, _ := profile.SplitHostPort(item)
			if given, ok := c.book.GivenTo(host, link); ok {
				rows = append(rows, []string{"hosts", given.Name, givenText(given), fmt.Sprintf("%s:%d", filepath.Base(given.File), given.Line)})
			}
		}
	}
	return render.Table(c.Stdout, c.noColour, []string{"alias", "key", "value", "origin"}, rows)
}

func givenText(h profile.GivenHost) string {
	texts := make([]string, len(h.Addresses))
	for i, a := range h.Addresses {
		texts[i] = a.String()
	}
	return strings.Join(texts, ", ")
}

func (c *call) aliasJSON(links []*profile.Alias) error {
	type value struct {
		Key   string `json:"key"`
		Value any    `json:"value"`
		Line  int    `json:"line"`
	}
	type shown struct {
		Name    string  `json:"name"`
		File    string  `json:"file"`
		Line    int     `json:"line"`
		Project bool    `json:"project"`
		Values  []value `json:"values"`
	}
	chain := []shown{}
	for _, link := range links {
		one := shown{Name: link.Called(), File: link.Path(), Line: link.Line, Project: link.InProject(), Values: []value{}}
		for _, e := range link.Entries {
			one.Values = append(one.Values, value{e.Field.Name, e.Value.Any(), e.Line})
		}
		chain = append(chain, one)
	}
	return render.JSON(c.Stdout, map[string]any{"format": 1, "alias": links[0].Called(), "chain": chain})
}

func aliasRename() *command {
	var to aliasTarget
	return &command{
		name: "alias rename", args: "NAME NEW-NAME", summary: "give an alias another name",
		long: `Aliases and profiles that name it follow. Of an alias of your own, the old name stays
as an alias of the new one until your profiles have been changed: nothing breaks between.`,
		examples: []string{"gharbor alias rename skein archive-service"},
		least:    2, most: 2,
		flags: to.flag,
		run: func(ctx context.Context, c *call) error {
			name, err := to.of(c, c.args[0])
			if err != nil {
				return err
			}
			return c.renameAlias(ctx, to, name, c.args[1])
		},
	}
}

// renameAlias renames in the file of aliases, then in that of the profiles. A crash
// between the two leaves both names.
func (c *call) renameAlias(ctx context.Context, to aliasTarget, from, name string) error {
	quiet := func(edit func(*profile.File) (*profile.Edit, error)) error {
		h, err := c.home()
		if err == nil {
			err = h.UpdateAliases(ctx, edit)
		}
		return err
	}
	profiles, err := c.load()
	if err != nil {
		return err
	}
	_, follow := profiles.FollowAlias(from, name)
	if to.project || !follow {
		if err := c.updateAliases(ctx, to, "renamed", name, func(f *profile.File) (*profile.Edit, error) { return f.RenameAlias(from, name) }); err != nil {
			return err
		}
		return c.boundTo(ctx, from, name)
	}
	if err := quiet(func(f *profile.File) (*profile.Edit, error) { return f.RenameAlias(from, name) }); err != nil {
		return err
	}
	both := []profile.Override{{Field: profile.AliasField("alias"), Value: profile.TextValue(name)}}
	if err := quiet(func(f *profile.File) (*profile.Edit, error) { return f.AddAlias(from, both) }); err != nil {
		return err
	}
	h, err := c.home()
	if err != nil {
		return err
	}
	if err := h.Update(ctx, func(f *profile.File) (*profile.Edit, error) {
		e, _ := f.FollowAlias(from, name)
		return e, nil
	}); err != nil {
		return err
	}
	if err := c.updateAliases(ctx, to, "renamed", name, func(f *profile.File) (*profile.Edit, error) { return f.RemoveAlias(from) }); err != nil {
		return err
	}
	return c.boundTo(ctx, from, name)
}

// boundTo says which entries of the wallet are bound to a name that is gone, where the
// wallet can be read without asking.
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

func aliasRemove() *command {
	var to aliasTarget
	var yes bool
	return &command{
		name: "alias remove", args: "NAME", summary: "take an alias out of its file",
		long:     "Refused while a profile or another alias names it. Asks first, unless -yes.",
		examples: []string{"gharbor alias remove old-skein -yes"},
		least:    1, most: 1,
		flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&yes, "yes", false, "do not ask")
			to.flag(fs)
		},
		run: func(ctx context.Context, c *call) error {
			name, err := to.of(c, c.args[0])
			if err != nil {
				return err
			}
			word := name
			if to.project {
				word = profile.ProjectPrefix + name
			}
			a, err := c.foundAlias(word)
			if err != nil {
				return err
			}
			profiles, err := c.load()
			if err != nil {
				return err
			}
			if users := c.book.Users(a, profiles, profiles.Attached()); len(users) > 0 {
				return &exitError{code: exitUsage, err: fmt.Errorf("the alias %s is named by %s", name, strings.Join(users[:min(len(users), 5)], ", ")), try: []string{"gharbor alias used " + name}}
			}
			if !yes {
				if !c.Interactive() {
					return &exitError{code: exitUsage, err: errors.New("there is no terminal to ask on; -yes removes without asking"), try: []string{"gharbor alias remove " + name + " -yes"}}
				}
				if yes, err = c.Confirm(ctx, fmt.Sprintf("remove the alias %s?", name), false); err != nil {
					return err
				}
				if !yes {
					c.Say("nothing was changed")
					return nil
				}
			}
			return c.updateAliases(ctx, to, "removed", name, func(f *profile.File) (*profile.Edit, error) { return f.RemoveAlias(name) })
		},
	}
}
