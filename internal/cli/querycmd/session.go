package querycmd

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/history"
	"gentleharbor/core/lineedit"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/statement"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// sessionOptions are the flags of session.
type sessionOptions struct {
	connectFlags
	readOnly    bool
	noHistory   bool
	vi          bool
	ofStatement time.Duration
}

// Session is the command session.
func Session() *base.Command {
	var o sessionOptions
	return &base.Command{
		Name: "session", Args: "PROFILE", Signals: true,
		Summary: "type statements, and see the results",
		Long: `Tests the profile, then reads statements on the same connection. A statement may
have many lines and runs once you type its end (;). Ctrl-C drops what is typed, or
cancels what runs. Words that begin with / are for the session: /help lists them.
Tab completes names. The history of the profile keeps the statements, except those
with a password.`,
		Examples: []string{"gharbor session sightings", "gharbor session sightings -read-only"},
		MinArgs:  1,
		MaxArgs:  1,
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&o.readOnly, "read-only", false, "allow no changes")
			fs.BoolVar(&o.noHistory, "no-history", false, "neither read nor write the history")
			fs.BoolVar(&o.vi, "vi", false, "the keys of vi")
			fs.DurationVar(&o.ofStatement, "statement-timeout", 0, "time limit of each statement, which is then "+
				"cancelled at the server")
			fs.Section("The connection")
			o.connectFlags.flags(fs)
		},
		Run: run(func(ctx context.Context, c *call) error { return c.session(ctx, o) }),
	}
}

// session is an interactive session.
type session struct {
	*call
	options sessionOptions
	name    string // of the profile, as it was typed
	profile *resolve.Profile
	opened  *check.Session
	by      *engine.Statements
	editor  lineedit.Editor
	typed   *statement.LineReader
	job     *statement.Job
	second  *browseTarget // the connection for the catalogue, nil before it is needed
	known   *serverNames  // what completion knows, nil before it is needed

	set     sessionSettings
	first   profile.SessionSettings // has the statements to run at each start
	values  statement.Values
	guard   string         // of the profile, or what /guard made of it
	sink    *outputFile    // of /out, nil for the terminal
	more    *restRows      // the rows that are left of the last result, nil for none
	runs    []ranStatement // the statements of this session
	past    *sessionHistory
	lost    bool   // there is no connection
	reached string // the database that /use chose, "" for the profile's

	interrupts chan os.Signal
}

// sessionSettings can be changed during the session.
type sessionSettings struct {
	form
	clock bool
	rows  int64 // of a result that are shown at once
}

// ranStatement is a statement of the session.
type ranStatement struct {
	text string
	at   time.Time
	took time.Duration
	end  string // "" where it ended well

	secret bool // it has a password
}

func (c *call) session(ctx context.Context, o sessionOptions) error {
	if !render.IsTerminal(c.Stdin) { // as query does: a script in a pipe
		if c.Interrupts != nil {
			var stop context.CancelFunc
			ctx, stop = c.Interrupts(ctx)
			defer stop()
		}
		return c.query(ctx, queryOptions{connectFlags: o.connectFlags, readOnly: o.readOnly, ofStatement: o.ofStatement})
	}
	s := &session{
		call: c, options: o, name: c.Args[0], values: make(statement.Values),
		set:        sessionSettings{clock: true, rows: 200},
		interrupts: make(chan os.Signal, 1),
	}
	file, err := c.Load()
	if err != nil {
		return err
	}
	if err := s.applySettings(file); err != nil {
		return err
	}
	defer s.signals()()
	if err := s.start(ctx); err != nil {
		return err
	}
	defer s.close()
	term, _ := c.Lookup("TERM")
	s.editor = lineedit.New(lineedit.Settings{
		In:       render.FileOf(c.Stdin),
		Out:      render.FileOf(c.Stdout),
		Vi:       s.options.vi,
		History:  s.past.texts,
		Complete: s.complete,
	}, term)
	return s.loop(ctx)
}

// applySettings applies the user's [session] settings.
func (s *session) applySettings(file *profile.File) error {
	own := file.Settings.Session
	if own.Format != "" {
		if err := s.set.form.set(own.Format); err != nil {
			return &profile.FileError{Path: file.Path, What: "session: format: " + err.Error()}
		}
	}
	if own.Clock != nil {
		s.set.clock = *own.Clock
	}
	if own.Stacked != nil {
		s.set.stacked = *own.Stacked
	}
	if own.Rows > 0 {
		s.set.rows = int64(own.Rows)
	}
	if s.set.stacked {
		s.set.format = ""
	}
	if !s.Set["vi"] {
		s.options.vi = own.Keys == "vi"
	}
	s.first = own
	return nil
}

// signals lets the session handle Ctrl-C. Other signals restore the terminal and end the program.
func (s *session) signals() (stop func()) {
	signal.Notify(s.interrupts, os.Interrupt)
	restore := render.Restorer(s.Stdin)
	ends := make(chan os.Signal, 1)
	signal.Notify(ends, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	done := make(chan struct{})
	defect.Go(func() {
		select {
		case <-ends:
			restore()
			s.Exit(base.ExitInterrupted)
		case <-done:
		}
	})
	return func() {
		signal.Stop(s.interrupts)
		signal.Stop(ends)
		close(done)
	}
}

// start tests the profile, and keeps the connection.
func (s *session) start(ctx context.Context) error {
	p, err := s.call.profile(s.name, s.options.connectFlags)
	if err != nil {
		return err
	}
	s.profile = p
	if err := s.connect(ctx); err != nil {
		return err
	}
	if s.past == nil {
		s.past = &sessionHistory{}
	}
	if !s.options.noHistory {
		home, err := s.Home()
		if err != nil {
			return err
		}
		s.past = &sessionHistory{file: history.ForProfile(home.Dir, p.Profile.Name, p.Profile.InProject())}
		if err := s.past.read(); err != nil {
			s.Notice("the history can't be read: %s", clean.Line(err.Error(), 200))
		}
	}
	s.welcome()
	return nil
}

// connect opens the connection.
func (s *session) connect(ctx context.Context) error {
	o := s.options.connectFlags
	o.warned = func(f *finding.Finding) {
		text := render.NewReport(s.Stderr, s.NoColour)
		s.Say("warning: %s", f.Code)
		text.Finding(2, f)
	}
	opened, err := s.interruptible(ctx, func(ctx context.Context) (*check.Session, error) {
		return s.open(ctx, s.profile, o)
	})
	if err != nil {
		return err
	}
	s.opened, s.lost = opened, false
	s.by = s.profile.Engine().Statements
	s.guard = stricter(s.guard, s.profile.Text(key.Guard))
	s.typed = &statement.LineReader{Lexis: s.by.Lexis}
	s.job = &statement.Job{Runner: opened.Runner, By: s.by, Timeout: s.options.ofStatement}
	if len(s.values) > 0 {
		s.job.Values = s.values
	}
	if err := s.job.Prepare(ctx, s.readOnly()); err != nil {
		opened.Close()
		return base.Failure(base.ExitFailed, err)
	}
	return s.begin(ctx)
}

// begin runs the first statements of the user's [session].
func (s *session) begin(ctx context.Context) error {
	for _, text := range slices.Concat(s.first.First, s.first.FirstOf[s.profile.Engine().Word]) {
		p, err := one(text+s.ending(text), s.by)
		if err == nil {
			err = s.send(ctx, p, &firstRows{}, func() {})
		}
		if err != nil {
			s.opened.Close()
			return base.Failure(base.ExitFailed, fmt.Errorf("a statement of [session] first failed: %s", clean.Line(text, 100)))
		}
	}
	return nil
}

// stricter is the stricter of two guards.
func stricter(a, b string) string {
	if rank(a) > rank(b) {
		return a
	}
	return b
}

// readOnly reports whether the session changes nothing.
func (s *session) readOnly() bool { return s.options.readOnly || s.guard == "read-only" }

// welcome prints the account, the server and the encryption in two lines.
func (s *session) welcome() {
	s.Say("%s", s.opened.Report.Summary())
	f := s.opened.Report.Facts
	what := strings.TrimSpace(s.profile.Engine().Name + " " + f.Version)
	if s.readOnly() || f.Writable != nil && !*f.Writable {
		what += ", read-only"
	}
	s.Say("%s; /help lists the words, /leave or Ctrl-D leaves", clean.Visible(what))
	switch {
	case s.guard == "ask":
		s.Say("guard: statements that destroy are asked about first")
	case s.guard == "read-only":
		s.Say("guard: nothing can be changed")
	}
}

// close ends the connections.
func (s *session) close() {
	if s.opened != nil {
		s.opened.Close()
	}
	if s.second != nil {
		s.second.opened.Close()
	}
	if s.sink != nil {
		s.sink.close(s)
	}
}

// bold makes a prompt stand out, on a terminal with colours.
func (s *session) bold(prompt string) string {
	if term, _ := s.Lookup("TERM"); term == "dumb" || !render.Colours(s.Stdout, s.NoColour) {
		return prompt
	}
	return "\x1b[1m" + prompt + "\x1b[0m"
}

// errLeave ends the session.
var errLeave = errors.New("the session is left")

// loop reads and does what is typed.
func (s *session) loop(ctx context.Context) error {
	for {
		line, err := s.editor.Read(s.bold(s.prompt()))
		switch {
		case errors.Is(err, lineedit.ErrDropped):
			s.typed.Drop()
			continue
		case errors.Is(err, io.EOF):
			if err := s.leave(); errors.Is(err, errLeave) {
				return nil
			} else if err != nil {
				s.tell(err)
			}
			continue
		case err != nil:
			return base.Failure(base.ExitFailed, fmt.Errorf("the terminal can't be read: %w", err))
		}
		for part := range strings.SplitSeq(line, "\n") { // a paste has many lines
			err := s.line(ctx, strings.TrimRight(part, "\r"))
			if errors.Is(err, errLeave) {
				return nil
			}
			if err != nil {
				s.tell(err)
				break
			}
		}
	}
}

// line does what one line asks for.
func (s *session) line(ctx context.Context, line string) error {
	word := strings.TrimSpace(line)
	switch {
	case s.lost:
		return s.again(ctx, word)
	case s.typed.Empty() && slices.Contains([]string{"exit", "quit", "exit;", "quit;"}, strings.ToLower(word)):
		return s.leave()
	case s.typed.Empty() && strings.HasPrefix(word, "/") && !strings.HasPrefix(word, "/*") && !s.endsBlock(word):
		return s.word(ctx, word)
	case s.typed.Empty() && word == "":
		return nil
	case s.typed.Empty() && word == "help":
		return errors.New("the session's own words begin with /, and /help lists them")
	case s.typed.Empty() && strings.HasPrefix(word, `\`):
		return errors.New(`a line with a \ is for another client; /help lists the session's own words`)
	case word == "":
		s.Say("the statement goes on: type its end (%s) to run it, or Ctrl-C to drop it", s.end())
	case strings.HasPrefix(word, "/"):
		if _, err := find(strings.Fields(word)[0][1:]); err == nil {
			s.Say("this is a part of the statement; to drop that: Ctrl-C")
		}
	}
	s.typed.Add(line)
	for {
		p, _, err := s.typed.Next()
		var wrong *statement.SyntaxError
		if errors.As(err, &wrong) {
			return fmt.Errorf("this can't be read: %s", wrong.What)
		}
		if err != nil || p == nil {
			return err
		}
		if err := s.run(ctx, p); err != nil {
			s.typed.Drop() // what was pasted behind it is not run
			return err
		}
	}
}

// endsBlock reports whether a / ends a block of code: the engine has blocks, and one is being typed.
func (s *session) endsBlock(word string) bool {
	return word == "/" && s.by.Lexis.Blocks && !s.typed.Empty()
}

// end is what ends a statement.
func (s *session) end() string {
	if s.by.Rules != nil {
		return s.by.Rules.End
	}
	if s.by.Lexis.Blocks {
		return "; or, of a block, / alone on a line"
	}
	return ";"
}

// leave ends the session. With a transaction open it asks.
func (s *session) leave() error {
	if !s.lost && s.opened.Runner.InTransaction() {
		sure, err := s.confirm("a transaction is open, and leaving rolls it back. Leave?")
		if err != nil || !sure {
			return errors.New("the session goes on")
		}
		s.job.Abandon()
		s.Say("the transaction was rolled back")
	}
	return errLeave
}

// confirm asks in the session's own editor, which may hold what was typed ahead.
func (s *session) confirm(question string) (bool, error) {
	answer, err := s.editor.Read(question + " [y/N]: ")
	if err != nil {
		return false, err
	}
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes", nil
}

// tell prints an error. The session goes on.
func (s *session) tell(err error) {
	if errors.Is(err, errQuiet) {
		return
	}
	var failure *base.ExitError
	if errors.As(err, &failure) {
		if failure.Err != nil {
			s.Say("%s", clean.Visible(failure.Err.Error()))
		}
		return
	}
	var file *profile.FileError
	if errors.As(err, &file) {
		s.Say("%s", clean.Visible(file.Error()))
		return
	}
	s.Say("%s", clean.Visible(err.Error()))
}

// interruptible runs something that Ctrl-C ends, without ending the session.
func (s *session) interruptible(
	ctx context.Context, do func(context.Context) (*check.Session, error),
) (*check.Session, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer s.stopOn(stop)()
	return do(ctx)
}

// stopOn calls stop at Ctrl-C, until the function that it returns is called.
func (s *session) stopOn(stop func()) (end func()) {
	select {
	case <-s.interrupts: // of before
	default:
	}
	over := make(chan struct{})
	defect.Go(func() {
		select {
		case <-s.interrupts:
			stop()
		case <-over:
		}
	})
	return func() { close(over) }
}

// again connects again, where the connection is lost.
func (s *session) again(ctx context.Context, word string) error {
	if word == "exit" || word == "quit" || word == "/leave" {
		return errLeave
	}
	if word != "" {
		return errors.New("there is no connection: Enter connects again; no statement is repeated")
	}
	if s.opened != nil {
		s.opened.Close()
	}
	if s.second != nil {
		s.second.opened.Close()
		s.second, s.known = nil, nil
	}
	if err := s.connect(ctx); err != nil {
		return err
	}
	s.Say("connected again: %s", s.opened.Report.Summary())
	return nil
}
