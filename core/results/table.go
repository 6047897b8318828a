package results

import (
	"bytes"
	"cmp"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/width"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
)

// tableWriter writes a header and rows in columns, with two blanks between them; or, stacked, one value on a line.
type tableWriter struct {
	stacked bool
	held    [][][]byte // rows that the widths are made of
	since   time.Time
	widths  []int // nil before they are known
	shown   int   // how many columns fit
}

// The rows that decide the widths: those that come first, or within a moment.
const (
	widthRows   = 1000
	widthMoment = 200 * time.Millisecond
	widthBytes  = 4 << 20 // and no more of them than this
)

// widest bounds a column's width where there are others.
const widest = 60

func (t *tableWriter) begin(w *Writer) error {
	if w.results > 1 {
		w.buffer = append(w.buffer, '\n')
	}
	t.held, t.widths, t.since = nil, nil, time.Now()
	return nil
}

func (t *tableWriter) row(w *Writer, values [][]byte) error {
	if t.stacked {
		t.stack(w, values)
		return nil
	}
	if t.widths != nil {
		t.line(w, values)
		return nil
	}
	t.held = append(t.held, cloneRow(values))
	if len(t.held) >= widthRows || time.Since(t.since) > widthMoment || sizeOf(t.held) > widthBytes {
		t.release(w)
	}
	return nil
}

func (t *tableWriter) end(w *Writer) error {
	if !t.stacked && t.widths == nil {
		t.release(w)
	}
	if hidden := len(w.columns) - t.shown; !t.stacked && hidden > 0 {
		w.buffer = fmt.Appendf(w.buffer, "and %d more %s: %s\n", hidden, plural(hidden, "column", "columns"),
			cmp.Or(w.layout.Wider, "-stacked"))
	}
	return nil
}

func (t *tableWriter) close(*Writer) {}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

func cloneRow(values [][]byte) [][]byte {
	row := make([][]byte, len(values))
	for i, v := range values {
		if v != nil {
			row[i] = append(make([]byte, 0, len(v)), v...)
		}
	}
	return row
}

// sizeOf estimates the memory of rows: that of the last one times their number.
func sizeOf(rows [][][]byte) int {
	n := 0
	for _, v := range rows[len(rows)-1] {
		n += len(v) + 24
	}
	return n * len(rows)
}

// release calculates the widths, and writes the header and the rows that were held back.
func (t *tableWriter) release(w *Writer) {
	t.widths = make([]int, len(w.columns))
	for i, c := range w.columns {
		t.widths[i] = columns(t.cell(w, []byte(c.Name)))
	}
	for _, row := range t.held {
		for i, v := range row {
			t.widths[i] = max(t.widths[i], columns(t.cell(w, v)))
		}
	}
	t.shown = len(t.widths)
	if w.layout.Width > 0 {
		total := 0
		for i := range t.widths {
			if len(t.widths) > 1 {
				t.widths[i] = min(t.widths[i], widest)
			}
			if total += t.widths[i]; total > w.layout.Width && i > 0 {
				t.shown = i
				break
			}
			total += 2
		}
	}
	var header [][]byte
	for _, c := range w.columns {
		header = append(header, []byte(c.Name))
	}
	t.line(w, header)
	for _, row := range t.held {
		t.line(w, row)
	}
	t.held = nil
}

// null is how NULL is shown.
const null = "null"

// cell is a value for a column: one line, and for a terminal without control characters.
func (t *tableWriter) cell(w *Writer, value []byte) string {
	if value == nil {
		return null
	}
	text := string(value)
	if bytes.ContainsAny(value, "\r\n\t") {
		text = lineEnds.Replace(text)
	}
	if w.layout.Terminal {
		return clean.Visible(text)
	}
	return text
}

// lineEnds replaces characters that end a line or a column by their escapes.
var lineEnds = strings.NewReplacer("\r", `\r`, "\n", `\n`, "\t", `\t`)

func (t *tableWriter) line(w *Writer, values [][]byte) {
	for i, value := range values[:t.shown] {
		if i > 0 {
			w.buffer = append(w.buffer, "  "...)
		}
		text := t.cell(w, value)
		if w.layout.Width > 0 && columns(text) > t.widths[i] {
			text = cut(text, t.widths[i])
		}
		pad := max(0, t.widths[i]-columns(text))
		if value == nil && w.layout.Dim != nil {
			text = w.layout.Dim(text)
		}
		switch {
		case w.columns[i].Number:
			w.buffer = appendBlanks(w.buffer, pad)
			w.buffer = append(w.buffer, text...)
		case i == t.shown-1: // nothing stands behind the last one
			w.buffer = append(w.buffer, text...)
		default:
			w.buffer = append(w.buffer, text...)
			w.buffer = appendBlanks(w.buffer, pad)
		}
	}
	w.buffer = append(w.buffer, '\n')
}

// stack writes a row with one value a line.
func (t *tableWriter) stack(w *Writer, values [][]byte) {
	if w.rows > 1 {
		w.buffer = append(w.buffer, '\n')
	}
	names := 0
	for _, c := range w.columns {
		names = max(names, columns(t.cell(w, []byte(c.Name))))
	}
	for i, value := range values {
		name, text := t.cell(w, []byte(w.columns[i].Name)), t.cell(w, value)
		if value == nil && w.layout.Dim != nil {
			text = w.layout.Dim(text)
		}
		w.buffer = append(w.buffer, name...)
		w.buffer = appendBlanks(w.buffer, names-columns(name)+2)
		w.buffer = append(append(w.buffer, text...), '\n')
	}
}

func appendBlanks(to []byte, n int) []byte {
	for range n {
		to = append(to, ' ')
	}
	return to
}

// columns is how wide a text is on a terminal (Unicode Standard Annex 11).
func columns(text string) int {
	n := 0
	for _, r := range text {
		n++
		if r < utf8.RuneSelf {
			continue
		}
		if k := width.LookupRune(r).Kind(); k == width.EastAsianWide || k == width.EastAsianFullwidth {
			n++
		}
	}
	return n
}

// cut shortens a text to so many columns, with … at its end.
func cut(text string, most int) string {
	n := 0
	for i, r := range text {
		wide := columns(string(r))
		if n+wide > most-1 {
			return text[:i] + "…"
		}
		n += wide
	}
	return text
}

var _ engine.Results = (*Writer)(nil)
