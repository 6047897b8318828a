package check

import (
	"context"
	"errors"
	"time"
)

// budget is the time for a test, or for one of several hosts of it. It stops while a person is asked.
type budget struct {
	whole   *budget         // what this is a part of; nil for a whole test's
	run     context.Context // of the whole run, which the end of this budget does not cancel
	ctx     context.Context
	cancel  context.CancelCauseFunc
	timer   *time.Timer
	end     time.Time
	paused  time.Time
	pausing time.Duration
}

var errTimeout = errors.New("the time for the test ran out")

// grace lets a dial or a read see its deadline first, and end as a time-out, before the context ends it.
const grace = 20 * time.Millisecond

func newBudget(parent context.Context, d time.Duration) *budget {
	b := &budget{run: parent, end: time.Now().Add(d)}
	b.ctx, b.cancel = context.WithCancelCause(parent)
	b.timer = time.AfterFunc(d+grace, func() { b.cancel(errTimeout) })
	return b
}

// part is the share of one host; left is how many hosts are left to try.
func (b *budget) part(left int) *budget {
	p := newBudget(b.ctx, time.Until(b.end)/time.Duration(left))
	p.whole, p.run = b, b.run
	return p
}

func (b *budget) stop() {
	b.timer.Stop()
	b.cancel(nil)
}

// context bounds one stage. Its deadline is the budget's end as it is now.
func (b *budget) context() context.Context { return budgetContext{b.ctx, b.end} }

func (b *budget) pause() {
	if b.whole != nil {
		b.whole.pause()
	}
	b.timer.Stop()
	b.paused = time.Now()
}

func (b *budget) resume() {
	if b.whole != nil {
		b.whole.resume()
	}
	d := time.Since(b.paused)
	b.pausing += d
	b.end = b.end.Add(d)
	b.timer.Reset(time.Until(b.end) + grace)
}

func (b *budget) pausedFor() time.Duration { return b.pausing }

// budgetContext is a context that knows the budget's end as its deadline.
type budgetContext struct {
	context.Context
	end time.Time
}

func (c budgetContext) Deadline() (time.Time, bool) { return c.end, true }
