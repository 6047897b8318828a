package check

import (
	"context"
	"errors"
	"time"
)

// budget is the time a test has, or one of several hosts within it. It stands
// still while a person is asked.
type budget struct {
	whole   *budget // what this is a part of; nil for a whole test's
	ctx     context.Context
	cancel  context.CancelCauseFunc
	timer   *time.Timer
	end     time.Time
	paused  time.Time
	pausing time.Duration
}

var errTimeout = errors.New("the time for the test ran out")

// grace lets a dial or a read notice the deadline by itself, as a time-out,
// before the context ends it.
const grace = 20 * time.Millisecond

func newBudget(parent context.Context, d time.Duration) *budget {
	b := &budget{end: time.Now().Add(d)}
	b.ctx, b.cancel = context.WithCancelCause(parent)
	b.timer = time.AfterFunc(d+grace, func() { b.cancel(errTimeout) })
	return b
}

// part is the share of one host of those that are left to try.
func (b *budget) part(left int) *budget {
	p := newBudget(b.ctx, time.Until(b.end)/time.Duration(left))
	p.whole = b
	return p
}

func (b *budget) stop() {
	b.timer.Stop()
	b.cancel(nil)
}

// context bounds one stage. Its deadline is the budget's end as it is now.
func (b *budget) context() context.Context { return bounded{b.ctx, b.end} }

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

// bounded is a context that knows the budget's end as its deadline.
type bounded struct {
	context.Context
	end time.Time
}

func (c bounded) Deadline() (time.Time, bool) { return c.end, true }
