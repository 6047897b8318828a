package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"gentleharbor/core/defect"
)

// Progress shows on a terminal how far a run of many is, and what runs now. It is for stderr, and shows nothing where
// that is no terminal. The bar is our own: the library for it needs an HTTP client, which would slow down each start
// of the program.
type Progress struct {
	mu     sync.Mutex
	out    io.Writer
	total  int
	room   int // columns for the names
	flying []string
	done   int
	stop   chan struct{} // nil where nothing is shown
	ended  chan struct{}
}

// Bounds of the display.
const (
	barWidth = 24                     // columns of the bar alone; the count and the names take the rest
	showFrom = 500 * time.Millisecond // a shorter run needs no display
	redraw   = 120 * time.Millisecond
)

// NewProgress starts a display of total steps; Clear ends it.
func NewProgress(out io.Writer, total int) *Progress {
	p := &Progress{}
	width := Columns(out)
	if width == 0 {
		return p
	}
	const count = 20 // columns for "| (1000/1000) " and the bar's ends
	p.room = max(width-barWidth-count, 8)
	p.out, p.total = out, total
	p.stop, p.ended = make(chan struct{}), make(chan struct{})
	defect.Go(p.draw)
	return p
}

// draw shows the state until Clear.
func (p *Progress) draw() {
	defer close(p.ended)
	wait := showFrom
	for {
		select {
		case <-p.stop:
			fmt.Fprint(p.out, clearLine)
			return
		case <-time.After(wait):
			wait = redraw
			p.mu.Lock()
			done, names := p.done, strings.Join(p.flying, ", ")
			p.mu.Unlock()
			if runes := []rune(names); len(runes) > p.room {
				names = string(runes[:p.room-1]) + "…"
			}
			fmt.Fprint(p.out, clearLine+line(done, p.total, names))
		}
	}
}

// clearLine goes to the start of the line and clears it (ECMA-48, EL).
const clearLine = "\r\x1b[K"

// line is the display: the bar, the count, and the names.
func line(done, total int, names string) string {
	full := barWidth * done / max(total, 1)
	return fmt.Sprintf("|%s%s| (%d/%d) %s", strings.Repeat("~", full), strings.Repeat(" ", barWidth-full), done, total,
		names)
}

// Begin notes that a step is in flight.
func (p *Progress) Begin(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.flying = append(p.flying, name)
}

// End notes that a step is done.
func (p *Progress) End(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if i := slices.Index(p.flying, name); i >= 0 {
		p.flying = slices.Delete(p.flying, i, i+1)
	}
	p.done++
}

// Set sets the number of finished steps, and the words for that.
func (p *Progress) Set(done int, words string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.done, p.flying = done, []string{words}
}

// Bytes writes a size with a unit that fits.
func Bytes(n int64) string {
	const kilo, mega, giga = 1 << 10, 1 << 20, 1 << 30
	switch {
	case n >= giga:
		return fmt.Sprintf("%.1f GiB", float64(n)/giga)
	case n >= mega:
		return fmt.Sprintf("%d MiB", n/mega)
	}
	return fmt.Sprintf("%d KiB", n/kilo)
}

// Clear takes the display away.
func (p *Progress) Clear() {
	if p.stop != nil {
		close(p.stop)
		<-p.ended
		p.stop = nil
	}
}
