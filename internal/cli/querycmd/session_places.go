package querycmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/history"
	"gentleharbor/core/results"
	"gentleharbor/core/statement"
)

// secondConnection is used for look-ups beside the statements: the first one may be in a transaction, or busy.
func (s *session) secondConnection(ctx context.Context) (*browseTarget, error) {
	if s.by.Catalogue == nil {
		return nil, fmt.Errorf("this version can't browse %s", s.profile.Engine().Word)
	}
	if s.second != nil {
		return s.second, nil
	}
	o := s.options.connectFlags
	o.warned = func(*finding.Finding) {} // it was shown at the start
	opened, err := s.interruptible(ctx, func(ctx context.Context) (*check.Session, error) {
		return s.open(ctx, s.profile, o)
	})
	if err != nil {
		return nil, err
	}
	s.second = at(s.profile, opened)
	return s.second, nil
}

// browseWord runs the command browse on the second connection.
func (s *session) browseWord(ctx context.Context, args []string) error {
	c := *s.call.Call
	c.Args = append([]string{s.name}, args...)
	if len(args) > 2 {
		return needs("browse")
	}
	one := &call{&c}
	o := browseOptions{form: s.set.form, connectFlags: s.options.connectFlags}
	if len(args) == 0 && o.format != "json" {
		o.format = ""
	}
	kind, err := one.kind(o)
	if err != nil {
		return err
	}
	if err := hasKind(s.profile, kind); err != nil {
		return err
	}
	second, err := s.secondConnection(ctx)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer s.stopOn(stop)()
	if kind == nil {
		return one.overview(ctx, second, o)
	}
	pattern := ""
	if len(args) == 2 {
		pattern = args[1]
	}
	rows, err := one.findThings(ctx, second, kind, pattern, o)
	if err != nil {
		return s.drop(err)
	}
	return one.list(second, kind, rows, o)
}

// drop ends a lost second connection: the next look-up opens another.
func (s *session) drop(err error) error {
	if errors.As(err, new(*engine.LostError)) && s.second != nil {
		s.second.opened.Close()
		s.second = nil
	}
	return err
}

// useWord goes on in another database.
func (s *session) useWord(ctx context.Context, args []string) error {
	if len(args) != 1 {
		return needs("use")
	}
	o := s.options.connectFlags
	o.database = args[0]
	return s.move(ctx, s.name, o, args[0])
}

// profileWord goes on with another profile.
func (s *session) profileWord(ctx context.Context, args []string) error {
	if len(args) != 1 {
		return needs("profile")
	}
	return s.move(ctx, args[0], connectFlags{timeout: s.options.timeout}, "")
}

// move goes on at another place. Where that can't be reached, the session stays at its present one.
func (s *session) move(ctx context.Context, name string, o connectFlags, database string) error {
	if s.opened.Runner.InTransaction() {
		sure, err := s.confirm("a transaction is open, and a new connection rolls it back. Go on?")
		if err != nil || !sure {
			return errors.New("the session stays where it is")
		}
	}
	p, err := s.call.profile(name, o)
	if err != nil {
		return err
	}
	before := *s
	s.options.connectFlags, s.profile, s.name, s.reached = o, p, name, database
	if p.Called != before.profile.Called {
		s.guard = ""
	}
	if err := s.connect(ctx); err != nil {
		interrupts := s.interrupts
		*s = before
		s.interrupts = interrupts
		return err
	}
	before.opened.Close()
	if before.second != nil {
		before.second.opened.Close()
	}
	s.second, s.known, s.more = nil, nil, nil
	if p.Called != before.profile.Called && !s.options.noHistory {
		if home, err := s.Home(); err == nil {
			s.past.file = history.ForProfile(home.Dir, p.Profile.Name, p.Profile.InProject())
		}
	}
	s.Say("a new connection: %s", s.opened.Report.Summary())
	return nil
}

// database notes that a statement changed the database, such as USE.
func (s *session) database(p *statement.Piece) {
	name := ""
	switch {
	case s.by.Rules != nil && s.by.Rules.Database != nil:
		name = s.by.Rules.Database(p.Words)
	case s.by.Rules == nil && len(p.Words) >= 2 && p.Words[0] == "USE":
		name = strings.Trim(strings.TrimSpace(string(p.Text[len("USE"):])), "`\"")
	}
	if name == "" {
		return
	}
	s.reached, s.known = name, nil
	if s.second != nil {
		s.second.opened.Close()
		s.second = nil
	}
	s.options.database = name
	if moved, err := s.call.profile(s.name, s.options.connectFlags); err == nil {
		s.profile = moved
	}
}

// loadWord runs the statements of a file on the connection of the session.
func (s *session) loadWord(ctx context.Context, args []string) error {
	if len(args) != 1 {
		return needs("load")
	}
	if s.readOnly() {
		return errors.New("the session is read-only: nothing was loaded")
	}
	file, err := os.Open(s.path(args[0]))
	if err != nil {
		return fmt.Errorf("%s: %w", clean.Line(args[0], 200), atomicfile.Plain(err))
	}
	file.Close()
	o := loadOptions{connectFlags: s.options.connectFlags, ofStatement: s.options.ofStatement, guard: s.guard}
	plan, err := s.scan(args, s.by, o)
	if err != nil {
		return err
	}
	l := &scriptLoad{call: s.call, options: o, profile: s.profile, opened: s.opened, plan: plan, started: time.Now()}
	if err := l.askAgreement(ctx); err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer s.stopOn(stop)()
	err = l.send(ctx, args)
	s.opened, s.job.Runner = l.opened, l.opened.Runner
	return err
}

// outputFile is the file that results go to.
type outputFile struct {
	path   string
	writer *results.Writer
	finish func(well bool) error
}

func (k *outputFile) close(s *session) {
	err := k.writer.Close()
	if finishErr := k.finish(err == nil); err == nil {
		err = finishErr
	}
	if err != nil {
		s.tell(err)
	}
	s.sink = nil
}

// outWord sends results into a file, or back to the terminal.
func (s *session) outWord(_ context.Context, args []string) error {
	if len(args) != 1 {
		return needs("out")
	}
	before := s.sink
	if before != nil {
		before.close(s)
		s.Say("%s is complete", before.path)
	}
	if args[0] == "-" {
		if before == nil {
			return errors.New("the results go to this terminal already")
		}
		return nil
	}
	path := s.path(args[0])
	if _, err := os.Lstat(path); err == nil {
		return fmt.Errorf("%s is there already; take another name", clean.Line(path, 200))
	}
	out, finish, err := s.output(queryOptions{out: args[0]})
	if err != nil {
		return err
	}
	layout := s.layout(s.set.form, false)
	layout.Several = true
	writer, err := results.NewWriter(out, layout)
	if err != nil {
		return err
	}
	s.sink = &outputFile{path: clean.Line(args[0], 200), writer: writer, finish: finish}
	s.Say("results go to %s as %s; /out - ends the file", s.sink.path, layout.Format)
	return nil
}
