package querycmd

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/bulk"
	"gentleharbor/core/catalogue"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/script"
	"gentleharbor/core/statement"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
)

// rowLoad loads files of rows into a table.
type rowLoad struct {
	*call
	options loadOptions
	opened  *check.Session
	by      *engine.Statements
	schema  string
	table   string
	columns []catalogue.Row // of the table
	show    *progress
	bad     *badRows
	total   int64 // rows that are in
	started time.Time
}

// loadRows takes files of rows into a table.
func (c *call) loadRows(ctx context.Context, p *resolve.Profile, o loadOptions) error {
	if p.Engine() != nil && (p.Engine().Statements.Catalogue == nil || !p.Engine().Statements.Lexis.SQL()) {
		return base.Usage("this version can't load rows on %s", p.Engine().Word)
	}
	for _, file := range c.Args[1:] {
		if formOf(file) == "" && o.form == "" {
			return base.Usage("%s: csv or tsv? add -written", clean.Quote(file))
		}
	}
	if o.form != "" && o.form != "csv" && o.form != "tsv" {
		return base.Usage("-written: expected csv or tsv")
	}
	for _, file := range c.Args[1:] {
		if _, err := os.Stat(c.path(file)); err != nil && file != "-" {
			return base.Failure(base.ExitFile,
				fmt.Errorf("%s cannot be read: %w", clean.Visible(file), atomicfile.Plain(err)))
		}
	}
	opened, err := c.openToWrite(ctx, p, o)
	if err != nil {
		return err
	}
	defer opened.Close()
	f := &rowLoad{call: c, options: o, opened: opened, by: p.Engine().Statements, started: time.Now()}
	if err := f.find(ctx, p); err != nil {
		return err
	}
	if o.badRows != "" || o.keepGoing {
		if f.bad, err = newBadRows(c.path(o.badRows), o.badRows); err != nil {
			return base.Failure(base.ExitFile, err)
		}
	}
	return f.send(ctx)
}

// find finds the table and its columns.
func (f *rowLoad) find(ctx context.Context, p *resolve.Profile) error {
	here := at(p, f.opened)
	rows, err := f.findThings(ctx, here, catalogue.Find(engine.KindColumns), f.options.table, browseOptions{})
	if err != nil {
		return err
	}
	return f.choose(ctx, here, rows)
}

// choose takes, for a name without a schema, the table that the server would use.
func (f *rowLoad) choose(ctx context.Context, at *browseTarget, rows []catalogue.Row) error {
	if len(rows) == 0 {
		return base.Failure(base.ExitFailed,
			fmt.Errorf("%s has no columns that this login can see", clean.Quote(f.options.table)))
	}
	path, err := at.server.Path(ctx)
	if err != nil {
		return base.Failure(base.ExitServer, err)
	}
	var schemas []string
	for _, row := range rows {
		if s := row.Text(0); !slices.Contains(schemas, s) {
			schemas = append(schemas, s)
		}
	}
	f.schema = schemas[0]
	for _, s := range slices.Backward(path) {
		if slices.Contains(schemas, s) {
			f.schema = s
		}
	}
	if len(schemas) > 1 && !slices.Contains(path, f.schema) {
		return base.Usage("-table: %s is in several schemas, %s; name one: SCHEMA.NAME", clean.Quote(f.options.table),
			clean.Visible(strings.Join(schemas, ", ")))
	}
	for _, row := range rows {
		if row.Text(0) == f.schema && (f.table == "" || row.Text(1) == f.table) {
			f.table = row.Text(1)
			f.columns = append(f.columns, row)
		}
	}
	return nil
}

// send sends the files.
func (f *rowLoad) send(ctx context.Context) error {
	var bytes int64
	files := f.Args[1:]
	for _, file := range files {
		if info, err := os.Stat(f.path(file)); err == nil {
			bytes += info.Size()
		}
	}
	f.show = f.progress(bytes, "rows")
	defer f.show.end()
	for i, file := range files {
		if err := f.one(ctx, file); err != nil {
			f.show.clear()
			f.bad.close()
			return f.reportStop(ctx, files[i:], file, err)
		}
	}
	f.show.clear()
	kept := f.bad.close()
	f.Say("loaded: %s into %s; %s", wording.Count(int(f.total), "row", "rows"), clean.Visible(f.typedTable()),
		shortTime(time.Since(f.started)))
	if f.bad == nil || f.bad.n == 0 {
		return nil
	}
	where := ""
	if f.options.badRows != "" && kept == nil {
		where = ", kept in " + clean.Visible(f.options.badRows)
	}
	f.Say("not loaded: %s%s", wording.Count(f.bad.n, "row", "rows"), where)
	return base.Failure(base.ExitFailed, kept)
}

func (f *rowLoad) typedTable() string {
	return typedName(statement.Name{Schema: f.schema, Name: f.table}, f.by)
}

// source opens a file of rows, and counts the bytes read.
func (f *rowLoad) source(file string) (*bulk.Source, *atomic.Int64, func(), error) {
	in, shut := f.Stdin, func() {}
	if file != "-" {
		opened, err := os.Open(f.path(file))
		if err != nil {
			return nil, nil, nil, err
		}
		in, shut = opened, func() { opened.Close() }
	}
	read := new(atomic.Int64)
	text, err := script.Text(script.CountBytes(in, read))
	if err != nil {
		shut()
		return nil, nil, nil, err
	}
	form := f.options.form
	if form == "" {
		form = formOf(file)
	}
	return bulk.NewSource(text, bulk.Form{Tabs: form == "tsv", Null: f.options.null}), read, shut, nil
}

// one sends one file.
func (f *rowLoad) one(ctx context.Context, file string) error {
	source, read, shut, err := f.source(file)
	if err != nil {
		return base.Failure(base.ExitFile, fmt.Errorf("%s %w", clean.Visible(file), atomicfile.Plain(err)))
	}
	defer shut()
	f.show.at(file)
	f.show.reads(read.Load)
	sender, err := f.sender(file, source)
	if err != nil {
		return err
	}
	if limit := f.options.ofStatement; limit > 0 {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, limit)
		defer stop()
	}
	before := f.show.count.Load()
	sender.Counted = func(n int64) { f.show.count.Store(before + n) }
	err = sender.Send(ctx, source)
	f.total += sender.SentRows()
	f.show.endFile(read.Load())
	return err
}

// sender makes the sender for a file's rows. The first line names the columns, unless a flag does.
func (f *rowLoad) sender(file string, source *bulk.Source) (*bulk.Sender, error) {
	s := &bulk.Sender{
		Runner:  f.opened.Runner,
		By:      f.by,
		Schema:  f.schema,
		Name:    f.table,
		Noticed: f.tellNotice,
		From:    f.options.from.Line,
	}
	if f.options.from.File != "" && f.options.from.File != file {
		return nil, base.Usage("-from: %s is not the file that is loaded first", clean.Quote(f.options.from.File))
	}
	f.options.from = script.Place{}
	var names []string
	line := 1
	if f.options.columns != "" {
		names = strings.Split(f.options.columns, ",")
	} else {
		row, err := source.Next()
		if errors.Is(err, io.EOF) {
			err := fmt.Errorf("%s: there is no line with the columns' names", clean.Visible(file))
			return nil, base.Failure(base.ExitFile, err)
		}
		if err != nil {
			return nil, base.Failure(base.ExitFile, fmt.Errorf("%s:1: %s", clean.Visible(file), clean.Visible(err.Error())))
		}
		line = row.Line
		for _, v := range row.Values {
			names = append(names, string(v))
		}
		f.bad.header(row.Raw)
	}
	for i, name := range names {
		column, err := f.column(strings.TrimSpace(name))
		if err != nil {
			if f.options.columns != "" {
				return nil, base.Usage("-columns: %w", err)
			}
			return nil, base.Failure(base.ExitFile, fmt.Errorf("%s:%d: %w", clean.Visible(file), line, err))
		}
		if slices.ContainsFunc(s.Columns, func(o bulk.Column) bool { return o.Name == column.Name }) {
			return nil, base.Failure(base.ExitFile, fmt.Errorf(
				"%s:%d: the column %s is named twice", clean.Visible(file), line,
				clean.Quote(names[i])))
		}
		s.Columns = append(s.Columns, column)
	}
	if f.bad != nil {
		s.Bad = func(line int, raw []byte, why error) error {
			f.show.clear()
			return f.badRow(file, line, raw, why)
		}
	}
	return s, nil
}

// column is the table's column of a name.
func (f *rowLoad) column(name string) (bulk.Column, error) {
	var names []string
	for _, same := range []func(string) bool{
		func(s string) bool { return s == name },
		func(s string) bool { return strings.EqualFold(s, name) },
	} {
		for _, row := range f.columns {
			if same(row.Text(2)) {
				return bulk.Column{Name: row.Text(2), Bytes: f.by.Bytes != nil && f.by.Bytes(row.Text(3))}, nil
			}
		}
	}
	for _, row := range f.columns {
		names = append(names, row.Text(2))
	}
	what := fmt.Sprintf("%s has no column %s", clean.Visible(f.typedTable()), clean.Quote(name))
	for _, sign := range []string{";", "\t", "|"} {
		if strings.Contains(name, sign) {
			return bulk.Column{}, fmt.Errorf("%s (are the values separated by %q? CSV has commas, TSV tabs)",
				what, sign)
		}
	}
	if near := nearest.Name(name, names); near != "" {
		what += "; did you mean " + clean.Quote(near) + "?"
	} else {
		what += "; it has " + clean.Visible(strings.Join(names, ", "))
	}
	return bulk.Column{}, errors.New(what)
}

// reportStop reports where the load stopped, and what was loaded.
func (f *rowLoad) reportStop(ctx context.Context, files []string, file string, err error) error {
	var refused *bulk.RefusedError
	code := base.ExitFailed
	at := clean.Visible(file)
	lost := errors.As(err, new(*engine.LostError))
	switch {
	case ctx.Err() != nil:
		code = base.ExitInterrupted
		f.Say("%s: cancelled at the server", at)
	case errors.Is(err, context.DeadlineExceeded):
		f.Say("%s: cancelled at the server after %s (-statement-timeout)", at, f.options.ofStatement)
	case errors.As(err, &refused):
		if line := f.line(file, refused); line > 0 {
			at = fmt.Sprintf("%s:%d", at, line)
		}
		f.Say("%s: %s", at, clean.Visible(reason(refused.Err)))
	case errors.As(err, new(*base.ExitError)):
		return err
	default:
		f.Say("%s: %s", at, clean.Visible(err.Error()))
	}
	switch {
	case lost:
		before := wording.Count(int(f.total), "row", "rows")
		f.Say("stopped: it is not known whether the last rows were loaded; look first. Loaded before: %s", before)
	case f.bad != nil:
		f.Say("stopped: %s were loaded", wording.Count(int(f.total), "row", "rows"))
	case f.total > 0:
		before := wording.Count(int(f.total), "row", "rows")
		f.Say("stopped: nothing of this file was loaded; %s of the files before were", before)
	default:
		f.Say("stopped: nothing was loaded")
	}
	if refused != nil && f.bad == nil {
		f.Say("  try: gharbor load %s %s -table %s -bad-rows bad.csv   # loads all others", clean.Shell(f.Args[0]),
			clean.Shell(strings.Join(files[:1], " ")), clean.Shell(f.options.table))
	}
	return base.Failure(code, nil)
}

// line is the line of a file that a server refused. Where the server gives a row's number, the rows are counted
// again.
func (f *rowLoad) line(file string, refused *bulk.RefusedError) int {
	if refused.Line > 0 || refused.Row == 0 || file == "-" {
		return refused.Line
	}
	source, _, shut, err := f.source(file)
	if err != nil {
		return 0
	}
	defer shut()
	if f.options.columns == "" {
		source.Next()
	}
	for n := 1; ; n++ {
		row, err := source.Next()
		if err != nil {
			return 0
		}
		if n == refused.Row {
			return row.Line
		}
	}
}

// reason is why a row was not loaded, with the column where the server names it.
func reason(err error) string {
	var said *engine.StatementError
	if errors.As(err, &said) && said.Column != "" {
		return "column " + said.Column + ": " + said.Error()
	}
	return err.Error()
}

// badRow reports a row that was not loaded, and writes it to the file for such rows.
func (f *rowLoad) badRow(file string, line int, raw []byte, why error) error {
	const most = 20
	if f.bad.n < most {
		f.Say("%s:%d: %s", clean.Visible(file), line, clean.Visible(reason(why)))
	} else if f.bad.n == most {
		f.Say("more rows are not shown")
	}
	return f.bad.keep(raw)
}

// badRows is the file of rows that could not be loaded, nil for none.
type badRows struct {
	n     int
	file  *os.File // nil where they are not kept
	first []byte   // the line with the columns' names
}

// newBadRows makes the file, which must not exist; shown is its name for people.
func newBadRows(path, shown string) (*badRows, error) {
	if shown == "" {
		return &badRows{}, nil
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		return nil, fmt.Errorf("%s exists; -bad-rows needs a new file", clean.Visible(shown))
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be written: %w", clean.Visible(shown), atomicfile.Plain(err))
	}
	return &badRows{file: file}, nil
}

func (b *badRows) header(raw []byte) {
	if b != nil && b.file != nil && b.first == nil {
		b.first = slices.Clone(raw)
		b.file.Write(raw)
	}
}

func (b *badRows) keep(raw []byte) error {
	b.n++
	if b.file == nil {
		return nil
	}
	_, err := b.file.Write(raw)
	if err == nil && !strings.HasSuffix(string(raw), "\n") {
		_, err = b.file.WriteString("\n")
	}
	return err
}

// close ends the file. Without a bad row no file is left.
func (b *badRows) close() error {
	if b == nil || b.file == nil {
		return nil
	}
	err := b.file.Close()
	if b.n == 0 {
		os.Remove(b.file.Name())
	}
	return err
}
