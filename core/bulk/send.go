package bulk

import (
	"context"
	"errors"
	"fmt"
	"io"

	"gentleharbor/core/engine"
)

// Sender sends rows into the columns of a table.
type Sender struct {
	Runner  engine.Runner
	By      *engine.Statements
	Schema  string   // of the table, "" for none
	Name    string   // of the table, as the server keeps it
	Columns []Column // in the order of the file's values

	// Bad gets each row that can't be loaded, and the reason. Where Bad is nil, the first such row ends the load, and
	// no row is kept.
	Bad func(line int, raw []byte, why error) error
	// From is the first line of the file to send.
	From int
	// Counted gets the number of rows sent so far; nil for none.
	Counted func(int64)
	// Noticed gets the server's notices; nil for none.
	Noticed func(engine.Notice)

	sent    int64
	prepare string // the statement for a full batch
}

// Column is one of the table's.
type Column struct {
	Name  string
	Bytes bool // its values are bytes, which \x… writes
}

// SentRows is how many rows the server has taken, with those of an open transaction.
func (s *Sender) SentRows() int64 { return s.sent }

// RefusedError is a row that ended all.
type RefusedError struct {
	Line int // in the file, from 1; 0 where the server did not say which
	Row  int // among the rows that were sent, from 1; 0 likewise
	Err  error
}

func (e *RefusedError) Error() string { return e.Err.Error() }

func (e *RefusedError) Unwrap() error { return e.Err }

// Send sends all rows. Without Bad they are one transaction.
func (s *Sender) Send(ctx context.Context, from *Source) error {
	taker, takes := s.Runner.(engine.DataReceiver)
	switch {
	case takes && s.By.Bulk != nil && s.Bad == nil:
		return s.stream(ctx, taker, from)
	case s.Bad == nil:
		return s.atOnce(ctx, from)
	}
	return s.batches(ctx, from)
}

// bulkText is the statement that takes rows as data.
func (s *Sender) bulkText() string {
	return s.By.Bulk(s.table(), s.names())
}

// table is the table as it must be typed.
func (s *Sender) table() string {
	if s.Schema == "" {
		return s.By.Quote(s.Name)
	}
	return s.By.Quote(s.Schema) + "." + s.By.Quote(s.Name)
}

func (s *Sender) names() []string {
	names := make([]string, len(s.Columns))
	for i, c := range s.Columns {
		names[i] = s.By.Quote(c.Name)
	}
	return names
}

// stream sends all rows as the data of one statement.
func (s *Sender) stream(ctx context.Context, to engine.DataReceiver, from *Source) error {
	rows := &encodedRows{sender: s, from: from}
	err := to.Take(ctx, s.bulkText(), rows, s)
	if err == nil {
		return nil
	}
	s.sent = 0
	var refused *engine.StatementError
	switch {
	case rows.bad != nil:
		return &RefusedError{rows.bad.Line, 0, rows.bad}
	case rows.err != nil:
		return rows.err
	case ctx.Err() == nil && errors.As(err, &refused):
		return &RefusedError{0, refused.DataLine, err}
	}
	return err
}

// encodedRows is rows as a server takes them.
type encodedRows struct {
	sender *Sender
	from   *Source
	buffer []byte
	pos    int
	bad    *RowError
	err    error
	ended  bool
}

// enough is how many bytes are sent at once.
const enough = 64 << 10

func (e *encodedRows) Read(p []byte) (int, error) {
	for e.pos == len(e.buffer) {
		if e.ended {
			return 0, io.EOF
		}
		e.buffer, e.pos = e.buffer[:0], 0
		for len(e.buffer) < enough && !e.ended {
			row, err := e.sender.next(e.from)
			switch {
			case errors.Is(err, io.EOF):
				e.ended = true
			case errors.As(err, &e.bad):
				return 0, err
			case err != nil:
				e.err = err
				return 0, err
			default:
				e.buffer = e.sender.appendRow(e.buffer, row.Values)
				e.sender.count(1)
			}
		}
	}
	n := copy(p, e.buffer[e.pos:])
	e.pos += n
	return n, nil
}

// next is the next row that is to be sent.
func (s *Sender) next(from *Source) (Row, error) {
	for {
		row, err := from.Next()
		if err == nil && row.Line < s.From {
			continue
		}
		if err == nil {
			err = s.fits(row)
		}
		return row, err
	}
}

// count counts rows that were sent.
func (s *Sender) count(n int) {
	s.sent += int64(n)
	if s.Counted != nil {
		s.Counted(s.sent)
	}
}

// fits checks that a row has the right number of values. Its error is a *RowError.
func (s *Sender) fits(row Row) error {
	if len(row.Values) != len(s.Columns) {
		return &RowError{row.Line, row.Raw, fmt.Sprintf("%d values where %d are expected", len(row.Values), len(s.Columns))}
	}
	return nil
}

// appendRow adds a row in the engine's format for data.
func (s *Sender) appendRow(to []byte, values [][]byte) []byte {
	for i := range s.Columns {
		if i > 0 {
			to = append(to, '\t')
		}
		to = appendValue(to, values[i])
	}
	return append(to, '\n')
}

// escapes are the letters behind a backslash for bytes that would end a value.
var escapes = [256]byte{'\\': '\\', '\t': 't', '\n': 'n', '\r': 'r'}

func appendValue(to, v []byte) []byte {
	if v == nil {
		return append(to, `\N`...)
	}
	from := 0
	for i, c := range v {
		if e := escapes[c]; e != 0 {
			to = append(append(to, v[from:i]...), '\\', e)
			from = i + 1
		}
	}
	return append(to, v[from:]...)
}

// Begin, Row, End and Notice receive a statement's results.
func (s *Sender) Begin([]engine.Column) error { return nil }

// Row is of no interest.
func (s *Sender) Row([][]byte) error { return nil }

// End is of no interest.
func (s *Sender) End(engine.Outcome) error { return nil }

// Notice hands on what the server says.
func (s *Sender) Notice(n engine.Notice) {
	if s.Noticed != nil {
		s.Noticed(n)
	}
}
