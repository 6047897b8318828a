package querycmd

import (
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/internal/render"
)

// progress shows the progress of a load: on a terminal in one line, each second; else in the log, each ten seconds.
type progress struct {
	call    *call
	total   int64 // bytes of all files; 0 where it is not known
	before  int64 // of the files that are done
	started time.Time
	count   atomic.Int64 // of statements or rows
	unit    string
	width   int // of the terminal, 0 for none
	stop    chan struct{}

	mu   sync.Mutex
	read func() int64
	file string
	seen bool // a line is shown
}

// progress starts to show the progress of a load; clear ends that.
func (l *scriptLoad) progress(total int64) *progress { return l.call.progress(total, "statements") }

func (c *call) progress(total int64, unit string) *progress {
	p := &progress{call: c, total: total, unit: unit, started: time.Now(), stop: make(chan struct{})}
	p.width = render.Columns(c.Stderr)
	defect.Go(p.tick)
	return p
}

// tick shows the state until clear.
func (p *progress) tick() {
	every := time.Second
	if p.width == 0 {
		every = 10 * time.Second
	}
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		select {
		case <-p.stop:
			return
		case <-ticker.C:
			p.show()
		}
	}
}

// show shows the state.
func (p *progress) show() {
	p.mu.Lock()
	defer p.mu.Unlock()
	text := p.text(time.Since(p.started))
	if p.width == 0 {
		p.call.Log.Info("loading", "state", text)
		return
	}
	if runes := []rune(text); len(runes) >= p.width {
		text = string(runes[:p.width-1])
	}
	p.seen = true
	fmt.Fprintf(p.call.Stderr, "\r\x1b[K%s", text)
}

// text is the state in words.
func (p *progress) text(took time.Duration) string {
	read := p.before
	if p.read != nil {
		read += p.read()
	}
	size := func(n int64) string { return clean.Size(float64(n)) }
	text := clean.Line(p.file, 40) + "  " + size(read)
	if p.total > 0 {
		text += fmt.Sprintf(" of %s (%d %%)", size(p.total), min(100, read*100/p.total))
	}
	seconds := took.Seconds()
	text += fmt.Sprintf("  %.0f %s a second", float64(p.count.Load())/seconds, p.unit)
	if rate := float64(read) / seconds; p.total > 0 && rate > 0 && read < p.total {
		left := time.Duration(float64(p.total-read) / rate * float64(time.Second))
		text += fmt.Sprintf("  %s left", left.Round(time.Second))
	}
	return text
}

// at says which file is read.
func (p *progress) at(file string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.file = file
}

// reads notes how many bytes of a file were read so far.
func (p *progress) reads(bytes func() int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.read = bytes
}

// endFile says that a file is done.
func (p *progress) endFile(bytes int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.read = nil
	p.before += bytes
}

// clear removes the line, to make room for a message. The next tick shows it again.
func (p *progress) clear() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.seen {
		fmt.Fprint(p.call.Stderr, "\r\x1b[K")
		p.seen = false
	}
}

// end ends the display.
func (p *progress) end() {
	p.clear()
	close(p.stop)
}
