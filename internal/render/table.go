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
	line := func(row []string, style string) {
		text = text[:0]
		for i, cell := range row {
			text = append(text, cell...)
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
	line(headings, "2")
	for _, row := range rows {
		line(row, "")
	}
	return w.Flush()
}
