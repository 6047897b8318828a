package render

import (
	"bufio"
	"bytes"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// Table writes rows under headings, with two blanks between columns. A column is as wide as its widest cell. On a
// terminal headings are dim, and the table keeps to the terminal's width: a cell that is too long continues below, in
// its column.
func Table(out io.Writer, noColour bool, headings []string, rows [][]string) error {
	t := newGrid(headings, rows)
	if columns := Columns(out); columns > 0 {
		t.shrink(columns, -1)
		t.rows = t.foldRows()
	}
	return t.write(out, paint(Colours(out, noColour)), nil)
}

// table is Table in a report: it keeps to a width also without a terminal, and colour may paint cells without
// changing their text. The column with the number least is narrowed first.
func (r *Report) table(headings []string, rows [][]string, least int,
	colour func(row, column int, cell string) string) error {
	t := newGrid(headings, rows)
	if !r.Full {
		t.shrink(r.width, least)
	}
	return t.write(r.out, r.paint, colour)
}

// grid is a table with the width of each column.
type grid struct {
	headings []string
	rows     [][]string
	widths   []int
}

const gap = 2 // blanks between columns

func newGrid(headings []string, rows [][]string) *grid {
	t := &grid{headings, rows, make([]int, len(headings))}
	for i, h := range headings {
		t.widths[i] = utf8.RuneCountInString(h)
	}
	for _, row := range rows {
		for i, cell := range row {
			t.widths[i] = max(t.widths[i], utf8.RuneCountInString(cell))
		}
	}
	return t
}

// foldRows returns the rows, with text that does not fit its column in lines below.
func (t *grid) foldRows() (lines [][]string) {
	for _, row := range t.rows {
		rest := slices.Clone(row)
		for {
			line, more := make([]string, len(row)), false
			for i, cell := range rest {
				line[i], rest[i] = fold(cell, t.widths[i])
				more = more || rest[i] != ""
			}
			lines = append(lines, line)
			if !more {
				break
			}
		}
	}
	return lines
}

// fold cuts a text at a width, after the last sign where a person would break it; rest is the text after that.
func fold(text string, width int) (line, rest string) {
	letters := []rune(text)
	if len(letters) <= width {
		return text, ""
	}
	at := width
	for i := width; i > width/3; i-- {
		if letters[i] == ' ' || strings.ContainsRune(" ,:/@=.", letters[i-1]) {
			at = i
			break
		}
	}
	return string(letters[:at]), strings.TrimPrefix(string(letters[at:]), " ")
}

// shrink narrows columns until the table fits the page, or all have only a few letters: first the column with the
// number first, -1 for none, then the widest. The first column, which has names, keeps more, and the last, which is
// mostly words, less.
func (t *grid) shrink(width, first int) {
	const least, leastFirst, leastName, lastMore = 8, 12, 24, 4
	total := gap * (len(t.widths) - 1)
	for _, w := range t.widths {
		total += w
	}
	weight := func(column int) int {
		switch column {
		case 0:
			return t.widths[0] - (leastName - least)
		case len(t.widths) - 1:
			return t.widths[column] + lastMore
		}
		return t.widths[column]
	}
	for ; total > width; total-- {
		at := first
		if at < 0 || t.widths[at] <= leastFirst {
			at = 0
			for i := range t.widths {
				if weight(i) > weight(at) {
					at = i
				}
			}
			if t.widths[at] <= least || at == 0 && t.widths[0] <= leastName {
				return
			}
		}
		t.widths[at]--
	}
}

func (t *grid) write(out io.Writer, p paint, colour func(row, column int, cell string) string) error {
	w := bufio.NewWriterSize(out, 64<<10)
	var text []byte
	line := func(number int, row []string, style string) {
		text = text[:0]
		for i, cell := range row {
			n := utf8.RuneCountInString(cell)
			if n > t.widths[i] {
				cell = cut(cell, t.widths[i])
				n = utf8.RuneCountInString(cell)
			}
			if colour != nil && number >= 0 {
				text = append(text, colour(number, i, cell)...)
			} else {
				text = append(text, cell...)
			}
			for ; i < len(row)-1 && n < t.widths[i]+gap; n++ {
				text = append(text, ' ')
			}
		}
		text = bytes.TrimRight(text, " ")
		if style != "" {
			w.WriteString(p.style(style, string(text)))
		} else {
			w.Write(text)
		}
		w.WriteByte('\n')
	}
	line(-1, t.headings, "2")
	for i, row := range t.rows {
		line(i, row, "")
	}
	return w.Flush()
}
