package render

import (
	"bufio"
	"io"
	"strings"
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
	w := bufio.NewWriter(out)
	line := func(row []string, style string) {
		var b strings.Builder
		for i, cell := range row {
			b.WriteString(cell)
			if i < len(row)-1 {
				b.WriteString(strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell)+2))
			}
		}
		text := strings.TrimRight(b.String(), " ")
		if style != "" {
			text = p.style(style, text)
		}
		w.WriteString(text)
		w.WriteByte('\n')
	}
	line(headings, "2")
	for _, row := range rows {
		line(row, "")
	}
	return w.Flush()
}
