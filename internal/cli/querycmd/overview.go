package querycmd

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/catalogue"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/internal/cli/testcmd"
	"gentleharbor/internal/render"
)

// overview is a database at one look.
type overview struct {
	Format   int                  `json:"format"`
	Profile  string               `json:"profile"`
	Server   *engine.Facts        `json:"server"`
	Size     *json.Number         `json:"size,omitempty"` // in bytes
	Owner    *string              `json:"owner,omitempty"`
	May      []string             `json:"may"`              // on the server and the database
	Tables   int                  `json:"tables,omitempty"` // where the engine says what may be done with each
	MayAt    map[string]int       `json:"may_at,omitempty"` // on how many tables, by the right
	rights   []string             // of MayAt, in the order of the server
	Schemas  []overviewSchema     `json:"schemas"`
	Listed   []map[string]*string `json:"listed,omitempty"` // in place of the schemas, on engines that have none
	listed   []catalogue.Row
	database string
}

// overviewSchema is a schema in an overview.
type overviewSchema struct {
	Schema string       `json:"schema"`
	Tables *json.Number `json:"tables"`
	Rows   *json.Number `json:"rows"` // estimated
	May    string       `json:"may"`
}

// overview shows the database, its schemas and what the login may do.
func (c *call) overview(ctx context.Context, at *browseTarget, o browseOptions) error {
	v := overview{Format: 1, Profile: at.profile.Called, Server: at.server.Facts, MayAt: make(map[string]int)}
	v.database = at.server.Facts.Database
	if v.database != "" {
		if err := c.overviewDatabase(ctx, at, &v, o); err != nil {
			return err
		}
	}
	access, err := c.read(ctx, at, catalogue.Find(engine.KindAccess), "", o)
	if err != nil {
		return err
	}
	listed := catalogue.Find(at.server.By.Catalogue.Listed)
	if listed == nil {
		listed = catalogue.Find(engine.KindSchemas)
	}
	rows, err := c.read(ctx, at, listed, "", o)
	if err != nil {
		return err
	}
	if listed.Word == engine.KindSchemas {
		v.add(access, rows, o.system, at.server.By.Catalogue.Granted)
	} else {
		v.add(access, nil, o.system, true)
		v.list(listed, rows, o.system)
	}
	if o.format == "json" {
		return render.JSON(c.Stdout, v)
	}
	return c.showOverview(at, v, o)
}

func (c *call) overviewDatabase(ctx context.Context, at *browseTarget, v *overview, o browseOptions) error {
	rows, err := c.read(ctx, at, catalogue.Find(engine.KindDatabases), v.database, o)
	if err == nil && len(rows) == 1 {
		v.Owner, v.Size = rows[0].Values[1], number(rows[0].Values[4])
	}
	return err
}

// add takes rights and schemas.
func (v *overview) add(access, schemas []catalogue.Row, system, granted bool) {
	may := make(map[string][]string)
	for _, row := range access {
		what, schema, name, right := row.Text(0), row.Text(1), row.Text(2), row.Text(3)
		if note := row.Text(4); what == "server" && note != "" {
			right += " (" + note + ")"
		}
		switch {
		case what == "server":
			v.May = append(v.May, right)
		case what == "database":
			if name == v.database {
				v.May = append(v.May, right)
			}
		case what == "schema":
			may[schema] = append(may[schema], right)
		case row.System && !system || granted:
		case strings.HasSuffix(what, "table") || strings.HasSuffix(what, "view"):
			v.count(right)
		}
	}
	for _, row := range schemas {
		if row.System && !system {
			continue
		}
		one := overviewSchema{Schema: row.Text(0), Tables: number(row.Values[2]), Rows: number(row.Values[3])}
		one.May = strings.Join(may[one.Schema], "; ")
		v.Schemas = append(v.Schemas, one)
	}
}

// list takes the things that an engine has in place of schemas.
func (v *overview) list(kind *catalogue.Kind, rows []catalogue.Row, system bool) {
	for _, row := range rows {
		if row.System && !system {
			continue
		}
		one := make(map[string]*string)
		for i, c := range kind.Columns {
			one[c.Name] = row.Values[i]
		}
		v.listed, v.Listed = append(v.listed, row), append(v.Listed, one)
	}
}

// count counts the rights on a table.
func (v *overview) count(rights string) {
	v.Tables++
	for _, right := range strings.Split(rights, ", ") {
		right, _, _ = strings.Cut(right, " (")
		if !slices.Contains(v.rights, right) {
			v.rights = append(v.rights, right)
		}
		v.MayAt[right]++
	}
}

// number is a value as JSON has it.
func number(v *string) *json.Number { return (*json.Number)(v) }

// showOverview writes it for people.
func (c *call) showOverview(at *browseTarget, v overview, o browseOptions) error {
	by := at.server.By
	head := render.NewReport(c.Stdout, c.NoColour)
	head.Head(at.profile.Called, testcmd.Headline(at.profile))
	f := v.Server
	line := func(label, text string) {
		if text != "" {
			fmt.Fprintf(c.Stdout, "  %-9s %s\n", label, clean.Visible(text))
		}
	}
	server := strings.TrimSpace(at.profile.Engine().Name + " " + f.Version)
	line("server", server)
	database := v.database
	if v.Size != nil {
		database += ", " + shortSize(v.Size.String())
	}
	if v.Owner != nil {
		database += ", owner " + by.AccountName(*v.Owner)
	}
	line("database", database)
	line("account", f.User)
	line("may", strings.Join(v.May, "; "))
	var counts []string
	slices.SortStableFunc(v.rights, func(a, b string) int { return v.MayAt[b] - v.MayAt[a] })
	for i, right := range v.rights {
		if i+1 < len(v.rights) && v.MayAt[v.rights[i+1]] == v.MayAt[right] {
			counts = append(counts, right)
			continue
		}
		counts = append(counts, fmt.Sprintf("%s on %d", right, v.MayAt[right]))
	}
	if v.Tables > 0 {
		line("tables", fmt.Sprintf("%d: %s", v.Tables, strings.Join(counts, ", ")))
	}
	fmt.Fprintln(c.Stdout)
	if kind := catalogue.Find(by.Catalogue.Listed); kind != nil {
		kind, rows := withValues(kind, v.listed)
		return c.list(at, kind, rows, browseOptions{form: form{format: "table", stacked: o.stacked}})
	}
	layout := c.layout(form{format: "table", stacked: o.stacked}, true)
	columns := []engine.Column{
		{Name: "schema"}, {Name: "tables", Number: true}, {Name: "rows", Number: true}, {Name: "may"},
	}
	var rows [][][]byte
	for _, s := range v.Schemas {
		row := [][]byte{[]byte(by.Name(s.Schema)), nil, nil, nil}
		for i, value := range []*json.Number{s.Tables, s.Rows} {
			if value != nil {
				row[i+1] = []byte(*value)
			}
		}
		if s.May != "" {
			row[3] = []byte(s.May)
		}
		rows = append(rows, row)
	}
	return write(c, layout, columns, rows)
}

// withValues are the columns with a value in some row: an engine may lack what another has.
func withValues(kind *catalogue.Kind, rows []catalogue.Row) (*catalogue.Kind, []catalogue.Row) {
	few, kept := *kind, make([]catalogue.Row, len(rows))
	few.Columns = nil
	for i, column := range kind.Columns {
		if len(rows) > 0 && !slices.ContainsFunc(rows, func(r catalogue.Row) bool { return r.Values[i] != nil }) {
			continue
		}
		few.Columns = append(few.Columns, column)
		for n, row := range rows {
			kept[n].Values = append(kept[n].Values, row.Values[i])
		}
	}
	return &few, kept
}
