package bulk

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"io"
	"slices"
	"strings"

	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
)

// batch is rows that are sent at once.
type batch struct {
	rows []batchRow
	err  error // what ended it; io.EOF after the last row
}

// batchRow is a row of a batch.
type batchRow struct {
	line   int
	raw    []byte
	values []*string
}

// Bounds of a batch: rows, bytes, and values, of which a prepared statement takes 65,535.
const (
	maxRows   = 1000
	maxBytes  = 4 << 20
	maxValues = 65_000
)

// rowsAtOnce is how many rows a batch has.
func (s *Sender) rowsAtOnce() int {
	if s.By.RowsAtOnce > 0 {
		return s.By.RowsAtOnce
	}
	return max(1, min(maxRows, maxValues/len(s.Columns)))
}

// fill reads the rows of the next batch. Rows that can't be read go to Bad.
func (s *Sender) fill(from *Source) (b batch) {
	var bytes []byte // of all values, one behind the other
	var lengths []int
	const null = -1
	for len(b.rows) < s.rowsAtOnce() && len(bytes) < maxBytes {
		row, err := s.next(from)
		var wrong *RowError
		if errors.As(err, &wrong) {
			if s.Bad == nil {
				b.err = &RefusedError{wrong.Line, 0, wrong}
				break
			}
			if b.err = s.Bad(wrong.Line, wrong.Raw, wrong); b.err != nil {
				break
			}
			continue
		}
		if err != nil {
			b.err = err
			break
		}
		k := batchRow{line: row.Line}
		if s.Bad != nil {
			k.raw = slices.Clone(row.Raw)
		}
		b.rows = append(b.rows, k)
		for i, c := range s.Columns {
			v := row.Values[i]
			if v == nil {
				lengths = append(lengths, null)
				continue
			}
			before := len(bytes)
			bytes = appendBytes(bytes, v, c.Bytes)
			lengths = append(lengths, len(bytes)-before)
		}
	}
	text := string(bytes)
	texts := make([]string, len(lengths))
	values := make([]*string, len(lengths))
	for i, n := range lengths {
		if n != null {
			texts[i], text = text[:n], text[n:]
			values[i] = &texts[i]
		}
	}
	for i := range b.rows {
		b.rows[i].values, values = values[:len(s.Columns)], values[len(s.Columns):]
	}
	return b
}

// appendBytes adds a value. For a column of bytes, it adds the bytes that \x… writes.
func appendBytes(to, v []byte, isBytes bool) []byte {
	if digits, ok := bytes.CutPrefix(v, []byte(`\x`)); ok && isBytes {
		if decoded, err := hex.AppendDecode(to, digits); err == nil {
			return decoded
		}
	}
	return append(to, v...)
}

// readAhead reads the next batch while one is sent. The caller must call stop.
func (s *Sender) readAhead(from *Source) (next func() batch, stop func()) {
	batches, done := make(chan batch), make(chan struct{})
	var reading defect.Group
	reading.Go(func() {
		defer close(batches)
		for {
			b := s.fill(from)
			select {
			case batches <- b:
			case <-done:
				return
			}
			if b.err != nil {
				return
			}
		}
	})
	next = func() batch {
		b, more := <-batches
		if !more { // its goroutine has a defect, which stop tells
			b.err = io.ErrUnexpectedEOF
		}
		return b
	}
	stop = func() {
		close(done)
		reading.Wait()
	}
	return next, stop
}

// atOnce sends all rows in batches, in one transaction.
func (s *Sender) atOnce(ctx context.Context, from *Source) error {
	if err := s.say(ctx, "BEGIN"); err != nil {
		return err
	}
	next, stop := s.readAhead(from)
	defer stop()
	for {
		b := next()
		err := s.put(ctx, b.rows)
		var refused *engine.StatementError
		if errors.As(err, &refused) && ctx.Err() == nil {
			err = &RefusedError{s.lineOf(b.rows, refused), 0, err}
		}
		if err == nil {
			err = b.err
		}
		if errors.Is(err, io.EOF) {
			return s.say(ctx, "COMMIT")
		}
		if err != nil {
			s.sent = 0
			if s.Runner.InTransaction() {
				s.say(context.WithoutCancel(ctx), "ROLLBACK")
			}
			return err
		}
	}
}

// lineOf is the line of the row that a server refused, 0 where it does not say which.
func (s *Sender) lineOf(rows []batchRow, refused *engine.StatementError) int {
	if n := refused.DataLine; n > 0 && n <= len(rows) {
		return rows[n-1].line
	}
	if len(rows) == 1 {
		return rows[0].line
	}
	return 0
}

// batches sends rows in batches that commit alone. Rows that the server refuses go to Bad.
func (s *Sender) batches(ctx context.Context, from *Source) error {
	for {
		b := s.fill(from)
		if err := s.sendSplit(ctx, b.rows); err != nil {
			return err
		}
		if errors.Is(b.err, io.EOF) {
			return nil
		}
		if b.err != nil {
			return b.err
		}
	}
}

// sendSplit sends rows, and finds those that the server refuses: by the row that it names, else by sending halves.
func (s *Sender) sendSplit(ctx context.Context, rows []batchRow) error {
	for len(rows) > 0 {
		err := s.put(ctx, rows)
		var refused *engine.StatementError
		if err == nil || ctx.Err() != nil || !errors.As(err, &refused) || refused.Fatal {
			return err
		}
		n := refused.DataLine
		switch {
		case len(rows) == 1:
			n = 1
		case n < 1 || n > len(rows):
			if err := s.sendSplit(ctx, rows[:len(rows)/2]); err != nil {
				return err
			}
			rows = rows[len(rows)/2:]
			continue
		case n > 1:
			if err := s.sendSplit(ctx, rows[:n-1]); err != nil {
				return err
			}
			rows = rows[n-1:]
			continue
		}
		if err := s.Bad(rows[0].line, rows[0].raw, err); err != nil {
			return err
		}
		rows = rows[1:]
	}
	return nil
}

// put sends rows in one statement.
func (s *Sender) put(ctx context.Context, rows []batchRow) error {
	if len(rows) == 0 {
		return nil
	}
	var err error
	taker, takes := s.Runner.(engine.DataReceiver)
	if takes && s.By.Bulk != nil {
		var data []byte
		for _, row := range rows {
			for i, v := range row.values {
				if i > 0 {
					data = append(data, '\t')
				}
				if v == nil {
					data = appendValue(data, nil)
				} else {
					data = appendValue(data, append([]byte{}, *v...))
				}
			}
			data = append(data, '\n')
		}
		err = taker.Take(ctx, s.bulkText(), bytes.NewReader(data), s)
	} else {
		err = s.Runner.Run(ctx, s.insert(rows), s)
	}
	if err == nil {
		s.count(len(rows))
	}
	return err
}

// insert is the statement that inserts rows.
func (s *Sender) insert(rows []batchRow) engine.Statement {
	text := s.prepare
	if len(rows) != s.rowsAtOnce() || text == "" {
		text = s.insertText(len(rows))
		if len(rows) == s.rowsAtOnce() {
			s.prepare = text
		}
	}
	st := engine.Statement{Text: text, Arguments: make([]*string, 0, len(rows)*len(s.Columns))}
	for _, row := range rows {
		st.Arguments = append(st.Arguments, row.values...)
	}
	return st
}

func (s *Sender) insertText(rows int) string {
	var b strings.Builder
	b.WriteString("INSERT INTO " + s.table() + " (" + strings.Join(s.names(), ", ") + ") VALUES ")
	n := 0
	for i := range rows {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteByte('(')
		for j := range s.Columns {
			if j > 0 {
				b.WriteByte(',')
			}
			n++
			b.WriteString(s.By.Parameter(n))
		}
		b.WriteByte(')')
	}
	return b.String()
}

// say sends a statement of our own.
func (s *Sender) say(ctx context.Context, text string) error {
	return s.Runner.Run(ctx, engine.Statement{Text: text}, s)
}
