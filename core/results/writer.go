// Package results writes the results of statements, row by row as they come: as a table, csv, tsv, json, json-lines,
// or the bare values of one column. It holds no rows back, except the first of a table, which decide the widths.
// Start with NewWriter.
package results

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"

	"gentleharbor/core/engine"
)

// Formats are the words of the formats in which results are written.
var Formats = []string{"table", "csv", "tsv", "json", "json-lines", "bare"}

// Layout says how results are written.
type Layout struct {
	Format  string
	Stacked bool // a table with one value a line
	Base64  bool // bytes are written so, and not as \x…
	Several bool // there are several statements, whose results json and json-lines number

	Terminal bool                // what comes from the server is cleaned; else it is written as it came
	Width    int                 // of the terminal, 0 for none
	Dim      func(string) string // how a table shows what is no value; nil for plain
	Wider    string              // what shows the columns that do not fit, "" for -stacked
}

// ErrOneResult refuses a second result with rows in a format for one.
var ErrOneResult = errors.New("this format can hold one result only; for several: -format json")

// ErrOneColumn refuses a result of several columns in a format for one.
var ErrOneColumn = errors.New("-format bare is for one column")

// Writer writes results. It implements engine.Results; Close ends the text. After an error it writes nothing.
type Writer struct {
	out     io.Writer
	layout  Layout
	form    form
	buffer  []byte
	results int // with rows, begun so far
	columns []engine.Column
	open    bool  // a result with rows is being written
	rows    int64 // of the result that is written
	err     error

	// Noticed gets the server's notices beside a result; nil for none.
	Noticed func(engine.Notice)
	// Ended is called at the end of each result; nil for none.
	Ended func(engine.Outcome)
}

// form is one format. Its methods append to the buffer.
type form interface {
	begin(w *Writer) error
	row(w *Writer, values [][]byte) error
	end(w *Writer) error
	close(w *Writer)
}

// NewWriter writes results in a layout.
func NewWriter(out io.Writer, l Layout) (*Writer, error) {
	w := &Writer{out: out, layout: l}
	switch l.Format {
	case "table":
		w.form = &tableWriter{stacked: l.Stacked}
	case "csv":
		w.form = &separatedValues{separator: ',', field: appendCSV, line: "\r\n"}
	case "tsv":
		w.form = &separatedValues{separator: '\t', field: appendTSV, line: "\n"}
	case "json":
		w.form = &jsonText{}
	case "json-lines":
		w.form = &jsonLines{}
	case "bare":
		w.form = bareWriter{}
	default:
		return nil, fmt.Errorf("no format %q", l.Format)
	}
	return w, nil
}

// enough is how many bytes are collected before a write.
const enough = 64 << 10

// flush writes what was gathered.
func (w *Writer) flush() error {
	if w.err == nil && len(w.buffer) > 0 {
		_, w.err = w.out.Write(w.buffer)
	}
	w.buffer = w.buffer[:0]
	return w.err
}

// Begin begins a result.
func (w *Writer) Begin(columns []engine.Column) error {
	w.columns, w.rows, w.open = uniqueNames(columns), 0, true
	w.results++
	if err := w.form.begin(w); err != nil {
		return err
	}
	return w.err
}

// Row writes a row.
func (w *Writer) Row(values [][]byte) error {
	w.rows++
	if w.layout.Base64 {
		values = w.inBase64(values)
	}
	if err := w.form.row(w, values); err != nil {
		return err
	}
	if len(w.buffer) >= enough {
		return w.flush()
	}
	return w.err
}

// inBase64 is a row with its bytes in base64 (RFC 4648, 4).
func (w *Writer) inBase64(values [][]byte) [][]byte {
	row := slices.Clone(values)
	for i, c := range w.columns {
		digits, ok := bytes.CutPrefix(values[i], []byte(`\x`))
		if !c.Binary || !ok {
			continue
		}
		if decoded, err := hex.AppendDecode(nil, digits); err == nil {
			row[i] = base64.StdEncoding.AppendEncode([]byte{}, decoded)
		}
	}
	return row
}

// End ends a result. Ended reports one without rows.
func (w *Writer) End(done engine.Outcome) error {
	if w.open {
		w.open = false
		if err := w.form.end(w); err != nil {
			return err
		}
	}
	err := w.flush()
	if w.Ended != nil && err == nil {
		w.Ended(done)
	}
	return err
}

// Notice passes a server's notice on.
func (w *Writer) Notice(n engine.Notice) {
	if w.Noticed != nil {
		w.Noticed(n)
	}
}

// Close ends the text.
func (w *Writer) Close() error {
	if w.open { // a statement failed in the middle of its rows
		w.form.end(w)
	}
	w.form.close(w)
	return w.flush()
}

// uniqueNames makes the columns' names differ: the second of a name gets _2.
func uniqueNames(columns []engine.Column) []engine.Column {
	all := slices.Clone(columns)
	taken := make(map[string]bool, len(all))
	for i := range all {
		name := all[i].Name
		for n := 2; taken[all[i].Name]; n++ {
			all[i].Name = name + "_" + strconv.Itoa(n)
		}
		taken[all[i].Name] = true
	}
	return all
}

// separatedValues writes values with a character between them, a row on a line.
type separatedValues struct {
	separator byte
	line      string
	field     func(to, value []byte) []byte
}

func (f *separatedValues) begin(w *Writer) error {
	if w.results > 1 {
		return ErrOneResult
	}
	for i, c := range w.columns {
		if i > 0 {
			w.buffer = append(w.buffer, f.separator)
		}
		w.buffer = f.field(w.buffer, []byte(c.Name))
	}
	w.buffer = append(w.buffer, f.line...)
	return nil
}

func (f *separatedValues) row(w *Writer, values [][]byte) error {
	to := w.buffer
	for i, value := range values {
		if i > 0 {
			to = append(to, f.separator)
		}
		to = f.field(to, value)
	}
	w.buffer = append(to, f.line...)
	return nil
}

func (f *separatedValues) end(*Writer) error { return nil }
func (f *separatedValues) close(*Writer)     {}

// needsQuotes are the bytes that make quotes necessary (RFC 4180, 2.6).
var needsQuotes = [256]bool{'"': true, ',': true, '\r': true, '\n': true}

// appendCSV adds a value by RFC 4180: NULL is nothing, and an empty text is "".
func appendCSV(to, value []byte) []byte {
	if value == nil {
		return to
	}
	if len(value) == 0 {
		return append(to, `""`...)
	}
	for i := range value {
		if needsQuotes[value[i]] {
			return appendQuoted(to, value)
		}
	}
	return append(to, value...)
}

func appendQuoted(to, value []byte) []byte {
	to = append(to, '"')
	for {
		i := bytes.IndexByte(value, '"')
		if i < 0 {
			return append(append(to, value...), '"')
		}
		to = append(append(to, value[:i+1]...), '"')
		value = value[i+1:]
	}
}

// tsvEscapes are the letters behind a backslash for bytes that would end a value.
var tsvEscapes = [256]byte{'\t': 't', '\n': 'n', '\r': 'r', '\\': '\\'}

// appendTSV adds a value: NULL is \N; tabs, line ends and backslashes have a backslash.
func appendTSV(to, value []byte) []byte {
	if value == nil {
		return append(to, `\N`...)
	}
	from := 0
	for i := range value {
		if e := tsvEscapes[value[i]]; e != 0 {
			to = append(append(to, value[from:i]...), '\\', e)
			from = i + 1
		}
	}
	return append(to, value[from:]...)
}

// bareWriter writes the values of one column, one on a line.
type bareWriter struct{}

func (bareWriter) begin(w *Writer) error {
	switch {
	case w.results > 1:
		return ErrOneResult
	case len(w.columns) != 1:
		return ErrOneColumn
	}
	return nil
}

func (bareWriter) row(w *Writer, values [][]byte) error {
	w.buffer = append(append(w.buffer, values[0]...), '\n')
	return nil
}

func (bareWriter) end(*Writer) error { return nil }
func (bareWriter) close(*Writer)     {}
