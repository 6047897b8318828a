package mysql

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"gentleharbor/core/engine"
)

// maxWarnings bounds the warnings of one statement: servers keep some 64.
const maxWarnings = 100

// Run runs a statement: without values by COM_QUERY, with values as a prepared one (MySQL documentation, "Command
// Phase").
func (c *conversation) Run(ctx context.Context, s engine.Statement, to engine.Results) error {
	if c.wire == nil {
		c.wire = newWire(c.replay.Conn)
	}
	return engine.Cancellable(ctx, c.raw, c.cancel, func() error { return c.run(s, to) })
}

// run is Run without its end.
func (c *conversation) run(s engine.Statement, to engine.Results) error {
	a := &answerReader{conversation: c, to: to, sent: time.Now()}
	c.took = 0
	var err error
	if s.Arguments == nil {
		err = c.wire.command(comQuery, []byte(s.Text))
	} else if a.binary, err = true, c.execute(s); errors.As(err, new(*engine.StatementError)) {
		return err
	}
	if err != nil {
		if said := c.wire.refusal(); said != nil {
			return said
		}
		return &engine.LostError{Err: err}
	}
	for more := true; more; {
		if more, err = a.result(); err != nil {
			return err
		}
	}
	if a.failed != nil {
		return a.failed
	}
	return c.warn(a.warnings, to)
}

// The commands (MySQL documentation, "Command Phase").
const (
	comQuery   = 0x03
	comPrepare = 0x16
	comExecute = 0x17
	comClose   = 0x19
)

// answerReader reads the answer to one statement.
type answerReader struct {
	*conversation
	to       engine.Results
	sent     time.Time
	binary   bool  // rows are in the binary form
	failed   error // what the Results said: the rest is thrown away
	warnings int
	columns  []column
	row      [][]byte
	scratch  []byte
}

// packet reads the next packet. A packet with an error of the server's is returned as an error.
func (a *answerReader) packet() ([]byte, error) {
	p, err := a.wire.packet()
	if err != nil {
		return nil, &engine.LostError{Err: err}
	}
	if a.took == 0 {
		a.took = a.facts.AtServer(a.sent)
	}
	if p[0] == isErr {
		return nil, readError(p)
	}
	return p, nil
}

// result reads one result. It reports whether there is another.
func (a *answerReader) result() (more bool, err error) {
	p, err := a.packet()
	if err != nil {
		return false, err
	}
	switch p[0] {
	case isOK:
		return a.end(p, engine.Outcome{})
	case isFile:
		if err := a.wire.send(nil); err != nil {
			return false, &engine.LostError{Err: err}
		}
		if _, err := a.packet(); errors.As(err, new(*engine.LostError)) {
			return false, err
		}
		return false, errFileRefused
	}
	count := packetReader{rest: p}
	n := count.number()
	if count.err != nil || n > maxColumns {
		return false, &engine.LostError{Err: errUnreadable}
	}
	if a.columns, err = a.readColumns(int(n)); err != nil {
		return false, err
	}
	described := make([]engine.Column, len(a.columns))
	for i, c := range a.columns {
		described[i] = c.Column
	}
	a.give(func() error { return a.to.Begin(described) })
	return a.rows()
}

// give calls the receiver, unless it failed before.
func (a *answerReader) give(hand func() error) {
	if a.failed == nil {
		if a.failed = hand(); a.failed != nil {
			a.cancel()
		}
	}
}

// readColumns reads the columns' descriptions.
func (a *answerReader) readColumns(n int) ([]column, error) {
	all := make([]column, n)
	for i := range all {
		p, err := a.packet()
		if err != nil {
			return nil, err
		}
		if all[i], err = readColumn(p); err != nil {
			return nil, &engine.LostError{Err: err}
		}
	}
	if n > 0 && !a.deprecatesEOF() {
		if _, err := a.packet(); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// rows reads rows to their end.
func (a *answerReader) rows() (more bool, err error) {
	a.row = make([][]byte, len(a.columns))
	var n int64
	for {
		p, err := a.packet()
		if err != nil {
			return false, err
		}
		if p[0] == isEnd && len(p) < pieceSize && (len(p) < 9 || a.deprecatesEOF()) {
			return a.end(p, engine.Outcome{Rows: n})
		}
		n++
		if a.failed != nil {
			continue
		}
		if err := a.values(p); err != nil {
			return false, &engine.LostError{Err: err}
		}
		a.give(func() error { return a.to.Row(a.row) })
	}
}

// values reads the values of a row.
func (a *answerReader) values(p []byte) error {
	a.scratch = a.scratch[:0]
	if a.binary {
		return a.binaryRow(p)
	}
	r := packetReader{rest: p}
	for i := range a.row {
		value := r.value()
		if value != nil && a.columns[i].Binary {
			value = a.hex(value)
		}
		a.row[i] = value
	}
	return r.err
}

// hex is bytes as a text: \x and two digits each.
func (a *answerReader) hex(value []byte) []byte {
	from := len(a.scratch)
	a.scratch = hex.AppendEncode(append(a.scratch, `\x`...), value)
	return a.scratch[from:len(a.scratch):len(a.scratch)]
}

// end reads how a result ended, and gives that to the receiver.
func (a *answerReader) end(p []byte, done engine.Outcome) (more bool, err error) {
	e, err := readEnd(p, a.deprecatesEOF())
	if err != nil {
		return false, &engine.LostError{Err: err}
	}
	a.status, a.warnings = e.status, e.warnings
	done.Changed, done.Warnings = -1, e.warnings
	if p[0] == isOK {
		done.Changed = e.changed
	}
	a.give(func() error { return a.to.End(done) })
	return e.status&statusMoreResults != 0, nil
}

// deprecatesEOF reports whether rows end with an OK packet.
func (c *conversation) deprecatesEOF() bool {
	return c.hello.loginCaps(c.facts.TLS != "none")&capDeprecateEOF != 0
}

// warn asks for a statement's warnings.
func (c *conversation) warn(n int, to engine.Results) error {
	if n == 0 {
		return nil
	}
	took, status := c.took, c.status
	var all rowBuffer
	a := &answerReader{conversation: c, to: &all, sent: time.Now()}
	if err := c.wire.command(comQuery, fmt.Appendf(nil, "SHOW WARNINGS LIMIT %d", maxWarnings)); err != nil {
		return &engine.LostError{Err: err}
	}
	for more := true; more; {
		var err error
		if more, err = a.result(); err != nil {
			return err
		}
	}
	c.took, c.status = took, status
	for _, row := range all {
		if len(row) == 3 {
			to.Notice(engine.Notice{Severity: strings.ToUpper(row[0]), Code: row[1], Message: row[2]})
		}
	}
	return nil
}

// rowBuffer keeps the rows of a short result.
type rowBuffer [][]string

func (g *rowBuffer) Begin([]engine.Column) error { return nil }
func (g *rowBuffer) End(engine.Outcome) error    { return nil }
func (g *rowBuffer) Notice(engine.Notice)        {}
func (g *rowBuffer) Row(values [][]byte) error {
	row := make([]string, len(values))
	for i, v := range values {
		row[i] = string(v)
	}
	*g = append(*g, row)
	return nil
}

// InTransaction reports whether a transaction is open.
func (c *conversation) InTransaction() bool { return c.status&statusInTransaction != 0 }

// Took is the time of the last statement at the server.
func (c *conversation) Took() time.Duration { return c.took }

// cancel logs in a second time to have the server end the statement that runs.
func (c *conversation) cancel() error {
	ctx, stop := context.WithTimeout(context.Background(), engine.CancelWait)
	defer stop()
	other, err := engine.LogInAgain(ctx, &c.to, begin(c.word))
	if err != nil {
		return err
	}
	defer other.Close()
	return other.exec(ctx, fmt.Sprintf("KILL QUERY %d", c.facts.ConnectionID))
}
