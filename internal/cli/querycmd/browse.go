package querycmd

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/catalogue"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/results"
	"gentleharbor/internal/cli/base"
)

func allKinds() (all []string) {
	for _, k := range catalogue.Kinds {
		all = append(all, string(k.Word))
	}
	return all
}

// browseOptions are the flags of browse.
type browseOptions struct {
	form
	connectFlags
	system      bool
	against     string
	ofStatement time.Duration
}

// Browse is the command browse.
func Browse() *base.Command {
	var o browseOptions
	return &base.Command{
		Name:    "browse",
		Args:    "PROFILE [KIND] [PATTERN]",
		Words:   func(*base.Call) map[string][]string { return map[string][]string{"KIND": allKinds()} },
		Summary: "show what is on a server",
		Long: `Tests the profile, then shows what its login can see: without a KIND the
database, its schemas, and what the login may do. The kinds have the same
columns for every engine:

` + kindLines() + `
A PATTERN is NAME or SCHEMA.NAME, with * for any characters. Sizes are in
bytes, except in a table on a terminal; rows are the server's estimates. browse
changes nothing. With -against the exit code is 1 where something differs.`,
		Examples: []string{
			"gharbor browse sightings",
			"gharbor browse sightings tables 'sight*'",
			"gharbor browse sightings columns sighting -format json",
			"gharbor browse sightings access -against sightings-ro",
		},
		MinArgs: 1,
		MaxArgs: 3,
		Flags:   o.flags,
		Run:     run(func(ctx context.Context, c *call) error { return c.browse(ctx, o) }),
	}
}

func (o *browseOptions) flags(fs *base.FlagSet) {
	fs.BoolVar(&o.system, "system", false, "also what belongs to the server")
	fs.StringVar(&o.against, "against", "", "show the differences to another profile")
	o.form.flags(fs)
	o.connectFlags.flags(fs)
	fs.DurationVar(&o.ofStatement, "statement-timeout", 30*time.Second, "time limit of each question to the server")
}

// kindLines is a line of help for each kind.
func kindLines() string {
	var b strings.Builder
	for _, k := range catalogue.Kinds {
		fmt.Fprintf(&b, "  %-10s %s\n", k.Word, k.Summary)
	}
	return b.String()
}

func (c *call) browse(ctx context.Context, o browseOptions) error {
	kind, err := c.kind(o)
	if err != nil {
		return err
	}
	one, err := c.lookAt(ctx, c.Args[0], kind, o)
	if err != nil {
		return err
	}
	defer one.opened.Close()
	if kind == nil {
		return c.overview(ctx, one, o)
	}
	pattern := ""
	if len(c.Args) == 3 {
		pattern = c.Args[2]
	}
	rows, err := c.findThings(ctx, one, kind, pattern, o)
	if err != nil {
		return err
	}
	if o.against == "" {
		return c.list(one, kind, rows, o)
	}
	other, err := c.lookAt(ctx, o.against, kind, o)
	if err != nil {
		return err
	}
	defer other.opened.Close()
	others, err := c.findThings(ctx, other, kind, pattern, o)
	if err != nil {
		return err
	}
	return c.differences([2]*browseTarget{one, other}, kind, rows, others, o)
}

// kind is the kind of things to show, nil for the overview.
func (c *call) kind(o browseOptions) (*catalogue.Kind, error) {
	if err := o.form.conflict(); err != nil {
		return nil, err
	}
	if len(c.Args) == 1 {
		switch {
		case o.against != "":
			return nil, base.Usage("-against needs a KIND, such as access")
		case o.format != "" && o.format != "table" && o.format != "json":
			return nil, base.Usage("-format: the overview is written as table or json; a KIND takes any format")
		}
		return nil, nil
	}
	kind := catalogue.Find(engine.Kind(c.Args[1]))
	for _, spec := range c.Keys.Engines().All() { // an engine's own words for a kind
		if spec.Statements == nil || spec.Statements.Catalogue == nil {
			continue
		}
		if own, ok := spec.Statements.Catalogue.Words[c.Args[1]]; ok {
			kind = catalogue.Find(own)
		}
	}
	switch {
	case kind == nil:
		return nil, c.noKind(o)
	case o.against != "" && kind.Word == engine.KindActivity:
		return nil, base.Usage("-against: sessions of two servers have nothing in common")
	}
	return kind, nil
}

// noKind is the error for a word that is no kind, and may be a table's name.
func (c *call) noKind(o browseOptions) error {
	p, err := c.profile(c.Args[0], o.connectFlags)
	if err != nil {
		return err
	}
	by := &engine.Statements{Catalogue: &engine.Catalogue{}}
	if spec := p.Engine(); spec != nil && spec.Statements.Catalogue != nil {
		by = spec.Statements
	} else {
		for _, k := range catalogue.Kinds {
			by.Catalogue.Kinds = append(by.Catalogue.Kinds, k.Word)
		}
	}
	words := kindWords(by.Catalogue)
	all := slices.AppendSeq(slices.Clone(words), maps.Keys(by.Catalogue.Words))
	given := c.Args[1]
	if near := nearest.Name(given, all); near != "" {
		return base.Failure(base.ExitUsage, fmt.Errorf("browse has no kind %s; did you mean %q?", clean.Quote(given), near),
			fmt.Sprintf("gharbor browse %s %s", clean.Word(c.Args[0]), near))
	}
	failure := base.Usage("browse has no kind %s; it has %s", clean.Quote(given), strings.Join(words, ", "))
	tables := string(engine.KindTables)
	if !slices.Contains(words, tables) || !syntax.ValidName(given) || strings.ContainsAny(given, "-.") {
		return failure
	}
	name := clean.Word(c.Args[0])
	try := []string{fmt.Sprintf("gharbor browse %s %s %s", name, tables, given)}
	if by.Lexis.SQL() {
		try = append(try, fmt.Sprintf("gharbor query %s 'SELECT * FROM %s'   # its rows", name, given))
	}
	return base.Failure(base.ExitUsage, failure, try...)
}

// kindWords are the words of an engine's kinds.
func kindWords(by *engine.Catalogue) (words []string) {
	for _, k := range catalogue.KindsOf(by) {
		words = append(words, string(k.Word))
	}
	return words
}

// browseTarget is a server that is looked at.
type browseTarget struct {
	profile *resolve.Profile
	opened  *check.Session
	server  catalogue.Server
}

// lookAt opens one of the profiles.
func (c *call) lookAt(ctx context.Context, name string, kind *catalogue.Kind, o browseOptions) (*browseTarget, error) {
	p, err := c.profile(name, o.connectFlags)
	if err != nil {
		return nil, err
	}
	if p.Engine() != nil && p.Engine().Statements.Catalogue == nil {
		return nil, base.Usage("this version can't browse %s", p.Engine().Word)
	}
	if err := hasKind(p, kind); err != nil {
		return nil, err
	}
	opened, err := c.open(ctx, p, o.connectFlags)
	if err != nil {
		return nil, err
	}
	return at(p, opened), nil
}

// hasKind is the error for an engine without things of a kind. kind is nil for the overview, which each engine has.
func hasKind(p *resolve.Profile, kind *catalogue.Kind) error {
	if p.Engine() == nil || kind == nil {
		return nil
	}
	words := kindWords(p.Engine().Statements.Catalogue)
	if slices.Contains(words, string(kind.Word)) {
		return nil
	}
	return base.Usage("%s has no %s to browse; it has %s", p.Engine().Word, kind.Word, strings.Join(words, ", "))
}

// at makes a target of an open connection.
func at(p *resolve.Profile, opened *check.Session) *browseTarget {
	return &browseTarget{p, opened, catalogue.Server{
		Runner: opened.Runner,
		By:     p.Engine().Statements,
		Facts:  opened.Report.Facts,
	}}
}

// read reads a kind of things.
func (c *call) read(
	ctx context.Context, at *browseTarget, kind *catalogue.Kind, one string, o browseOptions,
) ([]catalogue.Row, error) {
	if o.ofStatement > 0 {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, o.ofStatement)
		defer stop()
	}
	list, err := at.server.Read(ctx, kind, one)
	var refused *engine.StatementError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return nil, base.Failure(base.ExitFailed,
			fmt.Errorf("the %s could not be read within %s (-statement-timeout)", kind.Word, o.ofStatement))
	case ctx.Err() != nil:
		return nil, base.Failure(base.ExitInterrupted, nil)
	case errors.As(err, &refused):
		return nil, base.Failure(base.ExitFailed,
			fmt.Errorf("this login may not read the %s: %s", kind.Word, clean.Visible(refused.Error())))
	case err != nil:
		return nil, base.Failure(base.ExitServer, err)
	}
	if list.Less != nil {
		said := clean.Visible(list.Less.Error())
		c.Notice("this login sees only a part of the %s: the server says: %s", kind.Word, said)
	}
	return list.Rows, nil
}

// findThings returns the things of a kind that fit the pattern.
func (c *call) findThings(
	ctx context.Context, at *browseTarget, kind *catalogue.Kind, text string, o browseOptions,
) ([]catalogue.Row, error) {
	by := at.server.By
	pattern := catalogue.NewPattern(text, kind, by)
	name, exact := pattern.Exact()
	one := ""
	switch {
	case kind.Asked:
		one = text
	case kind.OfTable && exact:
		one = name
	}
	rows, err := c.read(ctx, at, kind, one, o)
	if err != nil {
		return nil, err
	}
	if kind.Asked {
		return rows, nil
	}
	if chosen := pattern.Choose(kind, rows, o.system); len(chosen) > 0 || !exact {
		return chosen, nil
	}
	all, tables := rows, kind
	if kind.OfTable { // there may be a table without any, or one of another spelling
		if tables = catalogue.Find(engine.KindTables); tables == kind {
			return nil, nil
		}
		if all, err = c.read(ctx, at, tables, "", o); err != nil {
			return nil, err
		}
		if found := pattern.Choose(tables, all, true); len(found) > 0 {
			spelled := *found[0].Values[tables.Pattern]
			if spelled == name {
				return nil, nil
			}
			if rows, err = c.read(ctx, at, kind, spelled, o); err != nil {
				return nil, err
			}
			return pattern.Choose(kind, rows, o.system), nil
		}
	}
	return nil, c.missing(at, kind.One, text, pattern.Missing(tables, all, by))
}

// missing is the error for a thing that does not exist, with similar names.
func (c *call) missing(at *browseTarget, what, name string, m catalogue.Missing) error {
	text := fmt.Sprintf("%s sees no %s %s", clean.Word(at.profile.Called), what, clean.Quote(name))
	if len(m.Schemas) > 0 {
		text += "; there is one of that name in " + clean.Visible(strings.Join(m.Schemas, ", "))
	} else if len(m.Near) > 0 {
		text += "; near: " + clean.Visible(strings.Join(m.Near, ", "))
	}
	return base.Failure(base.ExitFailed, errors.New(text))
}

// list writes rows of a kind.
func (c *call) list(at *browseTarget, kind *catalogue.Kind, rows []catalogue.Row, o browseOptions) error {
	layout := c.layout(o.form, true)
	columns := make([]engine.Column, len(kind.Columns))
	for i, k := range kind.Columns {
		columns[i] = engine.Column{
			Name:   k.Name,
			Number: k.Is == catalogue.Number || k.Is == catalogue.Size,
			Truth:  k.Is == catalogue.Truth,
		}
	}
	cells := make([][][]byte, len(rows))
	for n, row := range rows {
		cells[n] = make([][]byte, len(columns))
		for i, k := range kind.Columns {
			cells[n][i] = cell(row.Values[i], k.Is, at.server.By, layout.Format)
		}
	}
	if err := write(c, layout, columns, cells); err != nil {
		return err
	}
	if layout.Terminal && len(rows) == 0 {
		c.Notice("no %s", kind.Word)
	}
	return nil
}

// write writes one result.
func write(c *call, layout results.Layout, columns []engine.Column, rows [][][]byte) error {
	writer, err := results.NewWriter(c.Stdout, layout)
	if err != nil {
		return err
	}
	err = writer.Begin(columns)
	for _, row := range rows {
		if err == nil {
			err = writer.Row(row)
		}
	}
	if err == nil {
		err = writer.End(engine.Outcome{Rows: int64(len(rows)), Changed: -1})
	}
	if closeErr := writer.Close(); err == nil {
		err = closeErr
	}
	if errors.Is(err, results.ErrOneColumn) {
		return base.Usage("%w", err)
	}
	return err
}

// cell is a value in a format's form: names are quoted as in a statement, except in JSON, and a table shows sizes for
// people.
func cell(v *string, is catalogue.ColumnKind, by *engine.Statements, format string) []byte {
	if v == nil {
		return nil
	}
	text := *v
	json := strings.HasPrefix(format, "json")
	switch {
	case is == catalogue.Name && !json:
		text = by.Name(text)
	case is == catalogue.Account && !json:
		text = by.AccountName(text)
	case is == catalogue.Size && format == "table":
		text = shortSize(text)
	case is == catalogue.Truth && !json:
		text = map[string]string{"true": "yes", "false": "no"}[text]
	}
	return []byte(text)
}

// shortSize is a number of bytes for a person.
func shortSize(text string) string {
	var n float64
	if _, err := fmt.Sscan(text, &n); err != nil {
		return text
	}
	return clean.Size(n)
}

// differences prints how two servers differ.
func (c *call) differences(two [2]*browseTarget, kind *catalogue.Kind, a, b []catalogue.Row, o browseOptions) error {
	all := catalogue.Compare(kind, a, b)
	layout := c.layout(o.form, true)
	var columns []engine.Column
	for _, k := range kind.Columns[:kind.Key] {
		columns = append(columns, engine.Column{Name: k.Name})
	}
	columns = append(columns, engine.Column{Name: "differs"})
	for _, at := range two {
		columns = append(columns, engine.Column{Name: at.profile.Called})
	}
	cells := make([][][]byte, len(all))
	for n, d := range all {
		var row [][]byte
		for i, name := range d.Key {
			if name == "" {
				row = append(row, nil)
				continue
			}
			row = append(row, cell(&name, kind.Columns[i].Is, two[0].server.By, layout.Format))
		}
		differs := d.Column
		if differs == "" {
			differs = "is there"
			yes, no := "yes", "no"
			if d.A == nil {
				d.A, d.B = &no, &yes
			} else {
				d.A, d.B = &yes, &no
			}
		}
		row = append(row, []byte(differs), cell(d.A, catalogue.Text, nil, ""), cell(d.B, catalogue.Text, nil, ""))
		cells[n] = row
	}
	if len(all) == 0 && layout.Format == "table" {
		c.Notice("no difference in the %s", kind.Word)
		return nil
	}
	if err := write(c, layout, columns, cells); err != nil {
		return err
	}
	if len(all) > 0 {
		return base.Failure(base.ExitFailed, nil)
	}
	return nil
}
