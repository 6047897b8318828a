package render

import (
	"bufio"
	"bytes"
	"io"
	"unicode/utf8"
)

// Table writes rows under headings, two blanks between columns. Columns are as
// wide as their widest cell, but for the last, which ends the line. Headings
// are dim on a terminal.
func Table(out io.Writer, noColour bool, headings []string, rows [][]string) error {
	return table(out, noColour, headings, rows, nil)
}

// table is Table with cells that colour may paint; it must not change what
// they say.
func table(out io.Writer, noColour bool, headings []string, rows [][]string,
	colour func(row, column int, cell string) string) error {
	p := paint(Colours(out, noColour))
	widths := make([]int, len(headings))
	for i, h := range headings {
		widths[i] = utf8.RuneCountInString(h)
	}
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	w := bufio.NewWriterSize(out, 64<<10)
	var text []byte
	line := func(number int, row []string, style string) {
		text = text[:0]
		for i, cell := range row {
			if colour != nil && number >= 0 {
				text = append(text, colour(number, i, cell)...)
			} else {
				text = append(text, cell...)
			}
			for n := utf8.RuneCountInString(cell); i < len(row)-1 && n < widths[i]+2; n++ {
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
	line(-1, headings, "2")
	for i, row := range rows {
		line(i, row, "")
	}
	return w.Flush()
}
