package render

import (
	"io"
	"time"

	"golang.org/x/term"

	"gentleharbor/core/clean"
)

// MarkedTable is Table for values from a server. It shows those for which mark is true in bold, or with a * after
// them where there are no colours.
func MarkedTable(
	out io.Writer, noColour bool, headings []string, rows [][]string, mark func(row, column int) bool,
) error {
	p := paint(Colours(out, noColour))
	shown := make([][]string, len(rows))
	for i, row := range rows {
		shown[i] = make([]string, len(row))
		for j, value := range row {
			shown[i][j] = clean.Line(value, 200)
			if mark(i, j) && !bool(p) {
				shown[i][j] += " *"
			}
		}
	}
	t := newGrid(headings, shown)
	if columns := Columns(out); columns > 0 {
		t.shrink(columns, -1)
	}
	return t.write(out, p, func(row, column int, cell string) string {
		if mark(row, column) {
			return p.style("1;33", cell)
		}
		return cell
	})
}

// Key waits for a key on a terminal, at most so long, and takes it. It is false without a terminal.
func Key(in io.Reader, most time.Duration) bool {
	file := FileOf(in)
	if file == nil {
		time.Sleep(most)
		return false
	}
	state, err := term.MakeRaw(int(file.Fd()))
	if err != nil {
		return true
	}
	defer term.Restore(int(file.Fd()), state)
	return pressed(file, most)
}
