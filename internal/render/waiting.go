package render

import (
	"fmt"
	"io"
	"time"

	"gentleharbor/core/defect"
)

// Waiting shows on a terminal what the program waits for, and how much time is left. It shows nothing where its
// stream is no terminal.
type Waiting struct {
	stop, ended chan struct{} // nil where nothing is shown
}

// NewWaiting starts the display of a wait until a time; Clear ends it.
func NewWaiting(out io.Writer, what string, until time.Time) *Waiting {
	w := &Waiting{}
	if Columns(out) == 0 {
		return w
	}
	w.stop, w.ended = make(chan struct{}), make(chan struct{})
	defect.Go(func() {
		defer close(w.ended)
		for {
			fmt.Fprintf(out, "%s%s, %s left", clearLine, what, formatRemaining(time.Until(until)))
			select {
			case <-w.stop:
				fmt.Fprint(out, clearLine)
				return
			case <-time.After(time.Second):
			}
		}
	})
	return w
}

// Clear ends the display.
func (w *Waiting) Clear() {
	if w.stop != nil {
		close(w.stop)
		<-w.ended
	}
}

// formatRemaining returns a time in minutes and seconds.
func formatRemaining(d time.Duration) string {
	d = max(d, 0).Round(time.Second)
	if d < time.Minute {
		return fmt.Sprintf("%d s", d/time.Second)
	}
	return fmt.Sprintf("%d min %02d s", d/time.Minute, d%time.Minute/time.Second)
}
