package render

import (
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
)

// Progress shows on a terminal how far a run of many is, and what is in
// flight. It is made for stderr: where that is no terminal it shows nothing.
type Progress struct {
	mu     sync.Mutex
	bar    *progressbar.ProgressBar
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
	width := Width(out)
	if width == 0 {
		return p
	}
	const count = 20 // columns for "| (1000/1000) " and the bar's ends
	p.room = max(width-barWidth-count, 8)
	p.bar = progressbar.NewOptions(total, progressbar.OptionSetWriter(out), progressbar.OptionSetWidth(barWidth), progressbar.OptionShowCount(),
		progressbar.OptionSetPredictTime(false), progressbar.OptionSetElapsedTime(false), progressbar.OptionClearOnFinish(),
		progressbar.OptionShowDescriptionAtLineEnd(), progressbar.OptionSetTheme(progressbar.Theme{Saucer: "~", SaucerHead: "~", SaucerPadding: " ", BarStart: "|", BarEnd: "|"}))
	p.stop, p.ended = make(chan struct{}), make(chan struct{})
	go p.draw()
	return p
}

// draw shows the state until Clear.
func (p *Progress) draw() {
	defer close(p.ended)
	wait := showFrom
	for {
		select {
		case <-p.stop:
			p.bar.Clear()
			return
		case <-time.After(wait):
			wait = redraw
			p.mu.Lock()
			done, names := p.done, strings.Join(p.flying, ", ")
			p.mu.Unlock()
			if runes := []rune(names); len(runes) > p.room {
				names = string(runes[:p.room-1]) + "…"
			}
			p.bar.Describe(names)
			p.bar.Set(done)
		}
	}
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

// Clear takes the display away.
func (p *Progress) Clear() {
	if p.stop != nil {
		close(p.stop)
		<-p.ended
		p.stop = nil
	}
}
