package querycmd

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/results"
	"gentleharbor/core/statement"
	"gentleharbor/internal/cli/base"
)

// queryOptions are the flags of query.
type queryOptions struct {
	file, out string
	base64    bool
	exact     bool
	form
	rows   int64
	values statement.Values
	asked  []string // names whose values are asked for
	connectFlags
	readOnly    bool
	yes         bool
	atomic      bool
	keepGoing   bool
	ofStatement time.Duration
}

// Query is the command query.
func Query() *base.Command {
	var o queryOptions
	return &base.Command{
		Name: "query", Machine: true,
		Args:    "PROFILE [STATEMENT]",
		Summary: "run statements, and show the results",
		Long: `Tests the profile, then runs the statements on the same connection: from the
argument, from -file, or from standard input. Each statement commits alone; the
first one that fails stops the run.

-let NAME=VALUE gives {NAME} in a statement a value. It is sent beside the
statement and never becomes a part of it; {identifier NAME} is a name, in the
server's quotes. If the profile has a guard, you are asked before statements that
drop, truncate, or change rows without a condition.`,
		Examples: []string{
			"gharbor query sightings 'select place, count(*) from sighting group by 1'",
			"gharbor query sightings -let bird=dunlin 'select * from sighting where species = {bird}'",
			"gharbor query sightings -file report.sql -format csv -out report.csv",
			"echo 'select 1' | gharbor query sightings -format json",
		},
		MinArgs: 1,
		MaxArgs: 2,
		Flags:   o.flags,
		Run:     run(func(ctx context.Context, c *call) error { return c.query(ctx, o) }),
	}
}

func (o *queryOptions) flags(fs *base.FlagSet) {
	fs.Section("The statements")
	fs.StringVar(&o.file, "file", "", "run the statements of a file")
	fs.Func("let", "a value for {NAME}: NAME=VALUE, or only NAME to type it unseen", o.let)
	fs.Func("let-file", "the value of {NAME} is in a file: NAME=FILE", o.letFile)
	fs.BoolVar(&o.readOnly, "read-only", false, "allow no changes")
	fs.BoolVar(&o.yes, "yes", false, "do not ask, even if the profile's guard would")
	fs.BoolVar(&o.atomic, "atomic", false, "run all statements in one transaction")
	fs.BoolVar(&o.keepGoing, "keep-going", false, "go on after a statement fails")
	fs.DurationVar(&o.ofStatement, "statement-timeout", 0, "time limit of each statement, which is then cancelled "+
		"at the server")
	fs.Section("The output")
	o.form.flags(fs)
	fs.Choose("bytes", "hex", "base64")
	fs.Func("bytes", "how bytes are written: hex (default) or base64", o.setBytes)
	fs.BoolVar(&o.exact, "canonical", false, "write documents as canonical Extended JSON, which keeps each type")
	fs.Int64Var(&o.rows, "rows", 0, "at most this many rows of each result; 0 for all")
	fs.StringVar(&o.out, "out", "", "write to a file (complete, or not at all)")
	fs.Section("The connection")
	o.connectFlags.flags(fs)
}

// setBytes takes how bytes are written.
func (o *queryOptions) setBytes(word string) error {
	if word != "hex" && word != "base64" {
		return errors.New("expected hex or base64")
	}
	o.base64 = word == "base64"
	return nil
}

// let takes a value from the command line.
func (o *queryOptions) let(s string) error {
	name, value, given := strings.Cut(s, "=")
	if !syntax.ValidName(name) {
		return errors.New("expected NAME=VALUE: " + syntax.NameRule)
	}
	if o.values == nil {
		o.values = make(statement.Values)
	}
	if _, twice := o.values[name]; twice {
		return errors.New("given twice")
	}
	o.values[name] = &value
	if !given {
		o.asked = append(o.asked, name)
	}
	return nil
}

// letFile takes a value from a file, unchanged.
func (o *queryOptions) letFile(s string) error {
	name, path, given := strings.Cut(s, "=")
	if !given {
		return errors.New("expected NAME=FILE")
	}
	const most = 64 << 20
	data, err := atomicfile.Read(path, most)
	if err != nil {
		return errors.New("the file cannot be read: " + atomicfile.Plain(err).Error())
	}
	return o.let(name + "=" + string(data))
}

// conflict is the error for flags that exclude each other, nil for none.
func (c *call) conflict(o queryOptions) error {
	if err := c.exclusive("atomic", "keep-going"); err != nil {
		return err
	}
	if err := o.form.conflict(); err != nil {
		return err
	}
	switch {
	case len(c.Args) == 2 && o.file != "":
		return base.Usage("give a statement or -file, not both")
	case o.rows < 0:
		return base.Usage("-rows: expected 0 or more")
	}
	return nil
}

func (c *call) query(ctx context.Context, o queryOptions) error {
	if err := c.conflict(o); err != nil {
		return err
	}
	for _, name := range o.asked {
		value, err := c.Secret(ctx, "the value of {"+name+"}")
		if err != nil {
			return base.Usage("-let %[1]s: there is no terminal to ask on; give -let %[1]s=VALUE or -let-file "+
				"%[1]s=FILE",
				name)
		}
		text := value.Disclose()
		o.values[name] = &text
	}
	p, err := c.profile(c.Args[0], o.connectFlags)
	if err != nil {
		return err
	}
	s, err := c.statements(ctx, p, o)
	if err != nil {
		return err
	}
	if err := c.askAgreement(ctx, p, s, o); err != nil {
		return err
	}
	opened, err := c.open(ctx, p, o.connectFlags)
	if err != nil {
		return err
	}
	defer opened.Close()
	return c.carryOut(ctx, p, opened, s, o)
}

// carryOut runs the script, and writes its results.
func (c *call) carryOut(
	ctx context.Context, p *resolve.Profile, opened *check.Session, s *statements, o queryOptions,
) error {
	out, finish, err := c.output(o)
	if err != nil {
		return err
	}
	layout := c.layout(o.form, o.out == "")
	layout.Several = s.statements > 1
	layout.Base64 = o.base64
	writer, err := results.NewWriter(out, layout)
	if err != nil {
		return err
	}
	shown := &resultWriter{
		call:     c,
		script:   s,
		writer:   writer,
		terminal: layout.Terminal,
		most:     o.rows,
		runner:   opened.Runner,
	}
	job := statement.Job{
		Runner:    opened.Runner,
		By:        p.Engine().Statements,
		To:        shown,
		Values:    o.values,
		Exact:     o.exact,
		Timeout:   o.ofStatement,
		KeepGoing: o.keepGoing,
		Atomic:    o.atomic,
		Ran:       shown.printOutcome,
		Failed:    shown.reportFailure,
	}
	if err := job.Prepare(ctx, o.readOnly || p.Text(key.Guard) == "read-only"); err != nil {
		return base.Failure(base.ExitFailed, err)
	}
	_, err = job.Run(ctx, s.again())
	if closeErr := writer.Close(); err == nil {
		err = closeErr
	}
	finishErr := finish(err == nil || o.keepGoing && errors.Is(err, statement.ErrFailed))
	var stopped *statement.StopError
	switch {
	case err == nil:
		return finishErr
	case errors.Is(err, statement.ErrFailed):
		return base.Failure(base.ExitFailed, nil)
	case errors.Is(err, results.ErrOneColumn), errors.Is(err, results.ErrOneResult):
		return base.Usage("%w", err)
	case errors.As(err, &stopped):
		c.Say("%s: %s", s.place(stopped.Piece.Line, stopped.Piece.Column), stopped.What)
		if ctx.Err() != nil {
			return base.Failure(base.ExitInterrupted, nil)
		}
		return base.Failure(base.ExitFailed, nil)
	}
	if unwritten := (*fs.PathError)(nil); errors.As(err, &unwritten) {
		err = &profile.FileError{Path: o.out, What: "cannot be written: " + atomicfile.Plain(err).Error()}
	}
	return base.Failure(base.ExitFailed, err)
}

// output is where results are written. finish ends it: a file is written whole or not at all.
func (c *call) output(o queryOptions) (out io.Writer, finish func(well bool) error, err error) {
	if o.out == "" {
		return c.Stdout, func(bool) error { return nil }, nil
	}
	path := c.path(o.out)
	wrong := func(err error) error {
		return &profile.FileError{Path: path, What: "cannot be written: " + atomicfile.Plain(err).Error()}
	}
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() { // a pipe, or a device
		file, err := os.OpenFile(path, os.O_WRONLY, 0)
		if err != nil {
			return nil, nil, wrong(err)
		}
		return file, func(bool) error { return file.Close() }, nil
	}
	file, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".part-*")
	if err != nil {
		return nil, nil, wrong(err)
	}
	return file, func(well bool) error {
		err := file.Close()
		if err == nil && well {
			err = os.Rename(file.Name(), path)
		}
		if err != nil || !well {
			os.Remove(file.Name())
		}
		if err != nil {
			return wrong(err)
		}
		return nil
	}, nil
}

// askAgreement asks the questions of the profile's guard, before anything is sent.
func (c *call) askAgreement(ctx context.Context, p *resolve.Profile, s *statements, o queryOptions) error {
	if p.Text(key.Guard) != "ask" || len(s.risks) == 0 || o.yes {
		return nil
	}
	for _, r := range s.risks {
		c.Say("%s: %s: the profile's guard asks first", s.place(r.line, r.column), r.why)
	}
	return c.confirm(ctx, "run them on "+clean.Word(p.Called)+"?", "to run them: -yes")
}
