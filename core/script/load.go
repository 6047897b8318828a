package script

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"gentleharbor/core/engine"
	"gentleharbor/core/statement"
)

// Loader sends a script.
type Loader struct {
	Job statement.Job
	// Connect continues on a connection to another database of the same server.
	Connect func(ctx context.Context, database string) (engine.Runner, error)
	// From is the place to begin at: of the items before it, only settings are sent. The zero Place is the start.
	From Place
	// Begins gets each item before it is sent, Said the words that the script prints; nil for none.
	Begins func(*Item)
	Said   func(string)

	Done Progress

	begun bool // From was reached
}

// Progress is what was carried out.
type Progress struct {
	Statements int
	Rows       int64 // that were added, changed or removed
	Made       []Count
	Last       Place // of the last statement that was carried out; zero for none
}

// Count is a number of things of a kind.
type Count struct {
	Kind string
	N    int
}

// StoppedError is where sending ended early.
type StoppedError struct {
	Place
	Unknown bool // whether the server carried out the statement there is not known
	Err     error
}

func (e *StoppedError) Error() string { return e.Place.String() + ": " + e.Err.Error() }

func (e *StoppedError) Unwrap() error { return e.Err }

// Run sends the items of a script, which may be one of several: the first one begins the transaction of all, and the
// last one ends it. Its error is a *StoppedError, an *Error, statement.ErrFailed or ErrOpen.
func (l *Loader) Run(ctx context.Context, r *Reader, first, last bool) error {
	if first {
		if err := l.Job.Start(ctx); err != nil {
			return err
		}
	}
	for {
		item, err := r.Next()
		if errors.Is(err, io.EOF) {
			if !last {
				return nil
			}
			if !l.begun {
				l.Job.Abandon()
				return &Error{l.From, "there is nothing of the script", nil}
			}
			return l.Job.Finish(ctx)
		}
		if err != nil {
			l.Job.Abandon()
			return err
		}
		l.begun = l.begun || l.From.reached(item.Place)
		if err := l.item(ctx, item); err != nil && !l.Job.Continues(err) {
			l.Job.Abandon()
			lost := errors.As(err, new(*engine.LostError))
			return &StoppedError{item.Place, lost, err}
		}
	}
}

// item carries out one item.
func (l *Loader) item(ctx context.Context, item *Item) error {
	if item.Data != nil {
		defer io.Copy(io.Discard, item.Data)
	}
	switch {
	case item.Shows:
		if l.begun && l.Said != nil {
			l.Said(item.Echo)
		}
		return nil
	case item.Database != "":
		if l.Job.Runner.InTransaction() {
			return errors.New("a transaction is open: it would be lost with the connection")
		}
		runner, err := l.Connect(ctx, item.Database)
		if err != nil {
			return fmt.Errorf("no connection to the database %q: %w", item.Database, err)
		}
		l.Job.Runner = runner
		return nil
	case !l.begun && !setting(item.Piece.Words):
		return nil
	}
	if l.Begins != nil && l.begun {
		l.Begins(item)
	}
	err := error(nil)
	if item.Data != nil {
		err = l.Job.Take(ctx, item.Piece, item.Data)
	} else {
		err = l.Job.One(ctx, item.Piece)
	}
	if err == nil && l.begun {
		l.Done.add(item, l.Job.By)
	}
	return err
}

// setting reports whether a statement only sets up the session.
func setting(words []string) bool {
	if len(words) == 0 {
		return false
	}
	switch words[0] {
	case "USE":
		return true
	case "SET":
		return len(words) < 2 || words[1] != "PASSWORD"
	case "SELECT": // as dumps have it: SELECT pg_catalog.set_config('…', '…', false)
		return len(words) <= 6 && slices.Contains(words, "SET_CONFIG")
	}
	return false
}

// add counts what a statement has done.
func (d *Progress) add(item *Item, by *engine.Statements) {
	d.Statements++
	d.Last = item.Place
	for _, e := range statement.Effects(item.Piece, by) {
		if e.Deed == statement.Makes {
			d.count(e.Kind, max(1, len(e.Names)))
		}
	}
}

func (d *Progress) count(kind string, n int) {
	for i := range d.Made {
		if d.Made[i].Kind == kind {
			d.Made[i].N += n
			return
		}
	}
	d.Made = append(d.Made, Count{kind, n})
}
