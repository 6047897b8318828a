package aliascmd

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

func Alias() *base.Command {
	return &base.Command{
		Name: "alias", Args: "VERB", Summary: "one name for the addresses of a service",
		Long: `An alias is a name for one or more addresses, in aliases.toml or in a project's
gharbor.toml. Profiles and wallet entries use it (alias=NAME): when a database moves, you
change one place. GHARBOR_ALIASES names more files, such as one that a team shares.
service:NAME is an alias too: a section of the engine's service file.`,
		Verbs: func() []*base.Command {
			return []*base.Command{aliasAdd(), aliasSet(), aliasHost(), aliasList(), aliasShow(), aliasRename(), aliasRemove(),
				aliasResolve(),
				aliasKnock(), aliasUsed(), aliasCheck()}
		},
	}
}

// foundAlias is the alias of a name, and its chain.
func (c *call) foundAlias(name string) (*profile.Alias, error) {
	if _, err := c.Load(); err != nil {
		return nil, err
	}
	if a := c.Book.Find(name); a != nil {
		return a, nil
	}
	if strings.HasPrefix(name, syntax.ServicePrefix) {
		chain, found := c.Book.Follow(name)
		if found != nil {
			return nil, base.FindingError(base.ExitUsage, nil, found)
		}
		return chain.Links[0], nil
	}
	if c.Broken != nil {
		return nil, c.Broken
	}
	return nil, c.Book.Missing(name)
}

// listedAlias is an alias in `alias list -format json`.
type listedAlias struct {
	Name      string   `json:"name"`
	Engine    string   `json:"engine,omitempty"`
	Addresses []string `json:"addresses,omitempty"`
	SRV       string   `json:"srv,omitempty"`
	Alias     string   `json:"alias,omitempty"`
	Service   string   `json:"service,omitempty"` // or instance, or database
	Note      string   `json:"note,omitempty"`
	File      string   `json:"file"`
	Line      int      `json:"line"`
	Project   bool     `json:"project"` // it stands in a project's file
	Vouched   bool     `json:"vouched"` // a profile of your own may use it
}

func aliasList() *base.Command {
	var form base.Format
	return &base.Command{
		Name: "alias list", Quick: true, Summary: "list the aliases",
		Long:     "The aliases of your own files and of the project. Nothing is looked up or connected to.",
		Examples: []string{"gharbor alias list", "gharbor alias list -format json"},
		Flags:    func(fs *base.FlagSet) { form.Flag(fs) },
		Run: run(func(_ context.Context, c *call) error {
			if _, err := c.Load(); err != nil {
				return err
			}
			all := []listedAlias{}
			for _, a := range c.Book.All() {
				e, _ := a.OwnValue(key.Addresses)
				one := listedAlias{
					Name:      c.Book.ShortName(a),
					Engine:    a.Text(key.Engine),
					Addresses: []string{},
					SRV:       a.Text(key.SRV),
					Alias:     a.Text(key.Alias),
					Service:   firstText(a, "service", "instance", "database"),
					Note:      clean.Line(a.Text(key.Note), 200),
					File:      a.Path(),
					Line:      a.Line,
					Project:   a.InProject(),
					Vouched:   c.Book.Vouched(a),
				}
				for _, item := range e.Value.List() {
					if item != "" {
						one.Addresses = append(one.Addresses, clean.Line(item, 260))
					}
				}
				all = append(all, one)
			}
			if form.JSON() {
				return render.JSON(c.Stdout, map[string]any{"format": 1, "aliases": all})
			}
			return c.aliasTable(all)
		}),
	}
}

// firstText is the first of some keys that an alias sets.
func firstText(a *profile.Alias, keys ...string) string {
	for _, k := range keys {
		if text := a.Text(key.Name(k)); text != "" {
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
	headings := []string{"alias", "engine", "where", "service"}
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
			rows[i] = append(rows[i], "project, not approved alone")
		default:
			rows[i] = append(rows[i], "you")
		}
	}
	return render.Table(c.Stdout, c.NoColour, headings, rows)
}

func aliasShow() *base.Command {
	var form base.Format
	return &base.Command{
		Name: "alias show", Quick: true, Args: "NAME", Summary: "show an alias, and the aliases that it names",
		Long:     "Each key with its file and line. Nothing is looked up or connected to.",
		Examples: []string{"gharbor alias show archive", "gharbor alias show long-ago"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) { form.Flag(fs) },
		Run: run(func(_ context.Context, c *call) error {
			a, err := c.foundAlias(c.Args[0])
			if err != nil {
				return err
			}
			chain, found := c.Book.Follow(c.Args[0])
			links := []*profile.Alias{a}
			if chain != nil {
				links = chain.Links
			}
			if form.JSON() {
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
				if !c.Book.Vouched(link) {
					c.Notice("%s is in a project's file: your own profiles can use it after gharbor vouch alias:%s",
						link.FullName(), link.Name)
				}
			}
			if found != nil {
				return base.FindingError(base.ExitFile, fmt.Errorf("%s (%s)", found.Cause, found.Code), found)
			}
			return nil
		}),
	}
}

func (c *call) aliasRows(links []*profile.Alias) error {
	var rows [][]string
	for _, link := range links {
		for _, e := range link.Entries {
			rows = append(rows, []string{link.FullName(), string(e.Field.Name),
				clean.Line(strings.Join(e.Value.List(), ", "), 200),
				fmt.Sprintf("%s:%d", filepath.Base(link.Path()), e.Line)})
		}
		addresses, _ := link.OwnValue(key.Addresses)
		for _, item := range addresses.Value.List() {
			host, _ := hostname.SplitPort(item)
			if given, ok := c.Book.GivenTo(host, link); ok {
				rows = append(rows, []string{"hosts", given.Name, given.List(), given.At()})
			}
		}
	}
	return render.Table(c.Stdout, c.NoColour, []string{"alias", "key", "value", "origin"}, rows)
}

func (c *call) aliasJSON(links []*profile.Alias) error {
	type value struct {
		Key   string `json:"key"`
		Value any    `json:"value"`
		Line  int    `json:"line"`
	}
	type linkObject struct {
		Name    string  `json:"name"`
		File    string  `json:"file"`
		Line    int     `json:"line"`
		Project bool    `json:"project"`
		Values  []value `json:"values"`
	}
	chain := []linkObject{}
	for _, link := range links {
		one := linkObject{
			Name:    link.FullName(),
			File:    link.Path(),
			Line:    link.Line,
			Project: link.InProject(),
			Values:  []value{},
		}
		for _, e := range link.Entries {
			one.Values = append(one.Values, value{string(e.Field.Name), e.Value.Any(), e.Line})
		}
		chain = append(chain, one)
	}
	return render.JSON(c.Stdout, map[string]any{"format": 1, "alias": links[0].FullName(), "chain": chain})
}
