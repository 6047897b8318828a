package querycmd

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/script"
	"gentleharbor/internal/cli/base"
)

// loadOptions are the flags of load.
type loadOptions struct {
	connectFlags
	table, columns, badRows string
	collection              string
	null                    *string
	form                    string // of data files; "" for what their names say
	from                    script.Place
	fromText                string
	dryRun, yes             bool
	atomic, keepGoing       bool
	outside                 bool
	ofStatement             time.Duration

	guard string // of a session, where it is stricter than the profile's
}

// Load is the command load.
func Load() *base.Command {
	var o loadOptions
	return &base.Command{
		Name:    "load",
		Args:    "PROFILE FILE…",
		Summary: "run script files, or load rows or documents",
		Long: `A script is checked first, then sent statement by statement. An included file is
relative to the file that names it. You are asked before something that exists is
dropped or emptied. Files may be packed with gzip; - is standard input, which is
read once and needs -yes.

With -table the files contain rows: CSV, or TSV as query writes it. The first line
names the columns, unless -columns does. All rows are loaded, or none; with
-keep-going or -bad-rows all but the bad ones. With -collection they contain one
JSON document on each line.`,
		Examples: []string{
			"gharbor load sightings data/tide_reading.sql",
			"gharbor load sightings dump.sql.gz -dry-run",
			"gharbor load sightings november.csv -table sighting",
			"gharbor load sightings counts.csv -table sighting -bad-rows bad.csv",
		},
		MinArgs: 2,
		MaxArgs: 1000,
		Flags:   o.flags,
		Run:     run(func(ctx context.Context, c *call) error { return c.load(ctx, o) }),
	}
}

func (o *loadOptions) flags(fs *base.FlagSet) {
	fs.Section("Rows")
	fs.StringVar(&o.table, "table", "", "load rows into this table: NAME or SCHEMA.NAME")
	fs.StringVar(&o.columns, "columns", "", "the columns, with commas; the file then has no line of names")
	fs.Func("null", `the text that is NULL (default: nothing in CSV, \N in TSV)`, func(text string) error {
		o.null = &text
		return nil
	})
	fs.Choose("written", "csv", "tsv")
	fs.StringVar(&o.form, "written", "", "the form of the rows: csv or tsv (default: by the file's name)")
	fs.StringVar(&o.badRows, "bad-rows", "", "write bad rows to this new file, and go on")
	fs.Section("Documents")
	fs.StringVar(&o.collection, "collection", "", "add documents to this collection: one JSON document on each line")
	fs.Section("Scripts")
	fs.Func("from", "start at FILE:LINE; before that only settings are sent", o.setFrom)
	fs.BoolVar(&o.dryRun, "dry-run", false, "only list what the scripts create, change and drop")
	fs.BoolVar(&o.outside, "outside", false, "allow files outside of the script's folder")
	fs.Section("Both")
	fs.BoolVar(&o.yes, "yes", false, "drop, empty, and do not ask, even if the profile's guard would")
	fs.BoolVar(&o.atomic, "atomic", false, "run everything in one transaction")
	fs.BoolVar(&o.keepGoing, "keep-going", false, "go on after a statement or row fails")
	fs.DurationVar(&o.ofStatement, "statement-timeout", 0, "time limit of each statement, which is then cancelled "+
		"at the server")
	fs.Section("The connection")
	o.connectFlags.flags(fs)
}

// setFrom takes FILE:LINE.
func (o *loadOptions) setFrom(text string) error {
	o.fromText = text
	file, number, found := text, "", false
	if i := strings.LastIndexByte(text, ':'); i > 0 {
		file, number, found = text[:i], text[i+1:], true
	}
	if before, line, more := strings.Cut(file, ":"); more { // FILE:LINE:COLUMN, as places are written
		if _, err := strconv.Atoi(line); err == nil {
			file, number = before, line
		}
	}
	line, err := strconv.Atoi(number)
	if !found || err != nil || line < 1 {
		return errors.New("expected FILE:LINE")
	}
	o.from = script.Place{File: file, Line: line}
	return nil
}

func (c *call) load(ctx context.Context, o loadOptions) error {
	if err := c.loadConflict(o); err != nil {
		return err
	}
	o.writes = true
	p, err := c.profile(c.Args[0], o.connectFlags)
	if err != nil {
		return err
	}
	if p.Text(key.Guard) == "read-only" && !o.dryRun {
		return base.Failure(base.ExitFailed,
			fmt.Errorf("the guard of %s is read-only: nothing was loaded", clean.Word(p.Called)))
	}
	switch {
	case o.table != "":
		return c.loadRows(ctx, p, o)
	case o.collection != "":
		return c.loadDocuments(ctx, p, o)
	}
	return c.loadScripts(ctx, p, o)
}

// loadConflict is the error for flags that exclude each other, nil for none.
func (c *call) loadConflict(o loadOptions) error {
	if err := c.exclusive("atomic", "keep-going", "bad-rows", "from"); err != nil {
		return err
	}
	files := c.Args[1:]
	for i, file := range files {
		if file == "-" && len(files) > 1 {
			return base.Usage("standard input (-) is read alone")
		}
		for _, other := range files[:i] {
			if file == other {
				return base.Usage("%s is given twice", clean.Quote(file))
			}
		}
	}
	switch {
	case o.table != "" && o.collection != "":
		return base.Usage("give -table or -collection, not both")
	case o.table != "" && o.dryRun, o.collection != "" && o.dryRun:
		return base.Usage("-dry-run is for scripts: rows and documents are only added")
	case o.table != "":
		return nil
	}
	for _, name := range []string{"atomic", "keep-going", "from"} {
		if c.Set[name] && o.collection != "" {
			return base.Usage("-%s is not for documents", name)
		}
	}
	for _, name := range []string{"columns", "null", "bad-rows", "written"} {
		if c.Set[name] {
			return base.Usage("-%s is for rows: add -table", name)
		}
	}
	if o.collection != "" {
		return nil
	}
	for _, file := range files {
		if isDocuments(file) {
			return base.Usage("%s is a file of documents: add -collection", clean.Quote(file))
		}
		if form := formOf(file); form != "" {
			return base.Usage("%s is a file of rows: add -table", clean.Quote(file))
		}
	}
	if files[0] == "-" && !o.yes && !o.dryRun {
		return base.Usage("standard input is read once, so you can't be asked: add -yes")
	}
	return nil
}

// formOf is the form of a file's rows, by its name; "" for a script.
func formOf(name string) string {
	name = strings.TrimSuffix(strings.ToLower(name), ".gz")
	for _, form := range []string{"csv", "tsv"} {
		if strings.HasSuffix(name, "."+form) {
			return form
		}
	}
	return ""
}

// openToWrite opens a profile's server, unless that takes no writes.
func (c *call) openToWrite(ctx context.Context, p *resolve.Profile, o loadOptions) (*check.Session, error) {
	opened, err := c.open(ctx, p, o.connectFlags)
	if err != nil {
		return nil, err
	}
	if err := writable(p, opened); err != nil {
		opened.Close()
		return nil, err
	}
	return opened, nil
}

// writable tells that a server takes changes.
func writable(p *resolve.Profile, opened *check.Session) error {
	f := opened.Report.Facts
	if f.Writable != nil && !*f.Writable {
		why := "the server says that nothing can be written"
		if f.ReadOnlyBy != "" {
			why = clean.Visible(f.ReadOnlyBy)
		}
		return base.Failure(base.ExitFailed, fmt.Errorf("%s can't be loaded into: %s", clean.Word(p.Called), why))
	}
	return nil
}

// again is the command that goes on at a place.
func (c *call) again(files []string, o loadOptions, from script.Place) string {
	words := []string{"gharbor load", clean.Shell(c.Args[0])}
	for _, f := range files {
		words = append(words, clean.Shell(f))
	}
	flag := func(name, value string) {
		if c.Set[name] {
			words = append(words, "-"+name+" "+clean.Shell(value))
		}
	}
	flag("table", o.table)
	flag("columns", o.columns)
	if o.null != nil {
		flag("null", *o.null)
	}
	flag("written", o.form)
	flag("database", o.database)
	flag("statement-timeout", o.ofStatement.String())
	flag("timeout", o.timeout.String())
	for _, one := range o.over {
		words = append(words, "-override "+clean.Shell(string(one.Field.Name)+"="+one.Value.Text()))
	}
	for _, name := range []string{"keep-going", "outside", "ignore-expectations", "yes"} {
		if c.Set[name] {
			words = append(words, "-"+name)
		}
	}
	return strings.Join(append(words, "-from "+clean.Shell(fmt.Sprintf("%s:%d", from.File, from.Line))), " ")
}
