package statement

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"gentleharbor/core/engine"
)

// Job runs the statements of a script, one after the other on one connection.
type Job struct {
	Runner engine.Runner
	By     *engine.Statements
	To     engine.Results

	Values    Values
	Exact     bool          // documents keep the types of their values
	Timeout   time.Duration // of each statement; 0 for none
	KeepGoing bool          // after a statement that failed
	Atomic    bool          // all of them are one transaction

	// Ran gets each statement that the server carried out, Failed each that it refused; nil for none.
	Ran    func(p *Piece, took time.Duration)
	Failed func(*Failure)

	failures int
	fatal    bool // the server has ended the session

	onlyReads bool
}

// ErrFailed says that a statement of a job failed; Failed got it.
var ErrFailed = errors.New("a statement failed")

// ErrOpen says that a script ended within a transaction, which was rolled back.
var ErrOpen = errors.New("the script ended inside its own transaction, which was rolled back")

// Run runs the statements. Its error is ErrFailed, ErrOpen, a *SyntaxError, a *StopError, or what To said.
func (j *Job) Run(ctx context.Context, script *Splitter) (n int, err error) {
	if err := j.Start(ctx); err != nil {
		return 0, err
	}
	for {
		p, err := script.Next()
		if errors.Is(err, io.EOF) {
			return n, j.Finish(ctx)
		}
		if err == nil && !p.Empty() {
			if err = j.One(ctx, p); err == nil {
				n++
			}
		}
		if err != nil && !j.Continues(err) {
			j.rollback()
			return n, err
		}
	}
}

// Start begins: with the transaction of all, where there is one.
func (j *Job) Start(ctx context.Context) error {
	if !j.Atomic {
		return nil
	}
	return j.runInternal(ctx, "BEGIN")
}

// One runs one statement. Its error is ErrFailed, a *SyntaxError, a *StopError, or what To said.
func (j *Job) One(ctx context.Context, p *Piece) error {
	s, err := Fill(p, j.Values, j.By, make(map[string]bool))
	if err != nil {
		return err
	}
	s.Exact = j.Exact
	return j.carryOut(ctx, p, s.Text, func(ctx context.Context) error { return j.Runner.Run(ctx, s, j.To) })
}

// Take runs one statement with the data that it takes.
func (j *Job) Take(ctx context.Context, p *Piece, data io.Reader) error {
	taker, ok := j.Runner.(engine.DataReceiver)
	if !ok {
		return &StopError{Piece: p, What: "this engine takes no data after a statement"}
	}
	text := string(p.Text)
	return j.carryOut(ctx, p, text, func(ctx context.Context) error { return taker.Take(ctx, text, data, j.To) })
}

// Fatal reports whether the server has ended the session.
func (j *Job) Fatal() bool { return j.fatal }

// Continues reports whether a job goes on after an error of One or Take.
func (j *Job) Continues(err error) bool { return j.KeepGoing && errors.Is(err, ErrFailed) && !j.fatal }

// Finish ends: with the transaction of all, where there is one. Its error is ErrFailed where a statement failed,
// and ErrOpen where the script has left a transaction open.
func (j *Job) Finish(ctx context.Context) error {
	switch {
	case j.Atomic:
		if err := j.runInternal(ctx, "COMMIT"); err != nil {
			return err
		}
	case j.Runner.InTransaction():
		j.rollback()
		return ErrOpen
	}
	if j.failures > 0 {
		return ErrFailed
	}
	return nil
}

// Abandon ends the job, and rolls an open transaction back.
func (j *Job) Abandon() { j.rollback() }

// carryOut runs one statement.
func (j *Job) carryOut(ctx context.Context, p *Piece, sent string, run func(context.Context) error) error {
	switch {
	case !j.onlyReads:
	case j.By.Rules != nil && !j.By.Rules.Reads(p.Words):
		return &StopError{Piece: p, What: "the session is read-only, and this command may change something"}
	case j.By.Rules == nil && !j.By.Reads.Has(p.Words[0]):
		what := "the session is read-only: only " + strings.Join(j.By.Reads.All(), ", ") + " are run"
		return &StopError{Piece: p, What: what}
	}
	if j.Timeout > 0 {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeoutCause(ctx, j.Timeout, errTimeout)
		defer stop()
	}
	start := time.Now()
	err := run(ctx)
	var said *engine.StatementError
	switch {
	case err == nil && j.Atomic && !j.Runner.InTransaction():
		return &StopError{Piece: p, What: "this statement ended the transaction: it and the statements before it stay"}
	case err == nil:
		if j.Ran != nil {
			j.Ran(p, time.Since(start))
		}
		return nil
	case ctx.Err() == nil && errors.As(err, &said):
		j.failures++
		j.fatal = said.Fatal
		if j.Failed != nil {
			j.Failed(NewFailure(p, sent, said, HasSecret(p.Words, j.By)))
		}
		return ErrFailed
	case ctx.Err() != nil && errors.Is(err, engine.ErrNotCancelled):
		return &StopError{p, "the statement could not be cancelled; it may still be running at the server", err}
	case context.Cause(ctx) == errTimeout: // whatever the engine made of it
		return &StopError{p, fmt.Sprintf("the statement was cancelled at the server after %s", j.Timeout), err}
	case ctx.Err() != nil:
		return &StopError{p, "the statement was cancelled at the server", err}
	case errors.As(err, new(*engine.LostError)):
		return &StopError{p, "the connection ended; it is not known whether the server ran this statement", err}
	}
	return err
}

var errTimeout = errors.New("the statement's time is over")

// StopError says that a job stopped at a statement which the server did not refuse.
type StopError struct {
	Piece *Piece
	What  string
	Err   error // may be nil
}

func (e *StopError) Error() string { return e.What }

func (e *StopError) Unwrap() error { return e.Err }

// rollback ends an open transaction. Where the connection is gone, its failure does not matter.
func (j *Job) rollback() {
	if j.Runner.InTransaction() {
		ctx, stop := context.WithTimeout(context.Background(), time.Second)
		defer stop()
		text := "ROLLBACK"
		if j.By.Rules != nil {
			text = j.By.Rules.Rollback
		}
		j.runInternal(ctx, text)
	}
}

// runInternal runs a statement of our own, without output.
func (j *Job) runInternal(ctx context.Context, text string) error {
	return j.Runner.Run(ctx, engine.Statement{Text: text}, discard{})
}

// discard takes results that nobody wants.
type discard struct{}

func (discard) Begin([]engine.Column) error { return nil }
func (discard) Row([][]byte) error          { return nil }
func (discard) End(engine.Outcome) error    { return nil }
func (discard) Notice(engine.Notice)        {}

// Prepare makes a session read-only. Where the engine can't, One refuses statements that are not known to only read.
func (j *Job) Prepare(ctx context.Context, readOnly bool) error {
	if !readOnly {
		return nil
	}
	if j.By.ReadOnly == "" {
		j.onlyReads = true
		return nil
	}
	return j.runInternal(ctx, j.By.ReadOnly)
}
