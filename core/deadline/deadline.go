// Package deadline has deadlines by the wall clock, which also hold where the machine sleeps meanwhile: a context's
// timers stand still then. It stands below all rooms and knows none of them. Start with WithTime.
package deadline

import (
	"context"
	"errors"
	"os"
	"time"

	"gentleharbor/core/defect"
)

// look is how often the wall clock is read: after a sleep, the end is noticed within this time.
const look = 2 * time.Second

// WithTime is a context that ends with cause when the wall clock reaches until, or when the time that was left at the
// call has passed, whichever is first: setting the clock back makes nothing last longer.
func WithTime(ctx context.Context, until time.Time, cause error) (context.Context, context.CancelFunc) {
	return withClock(ctx, until, cause, time.Now, look)
}

func withClock(ctx context.Context, until time.Time, cause error, now func() time.Time,
	every time.Duration) (context.Context, context.CancelFunc) {
	ctx, stop := context.WithDeadlineCause(ctx, until, cause)
	ctx, end := context.WithCancelCause(ctx)
	defect.Go(func() {
		ticker := time.NewTicker(every)
		defer ticker.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
				if Over(until, now()) {
					end(cause)
				}
			}
		}
	})
	return ctx, func() {
		end(context.Canceled)
		stop()
	}
}

// Over reports whether the wall clock's time, now, has reached until.
func Over(until, now time.Time) bool { return !now.Round(0).Before(until.Round(0)) }

// Passed reports whether an error is that of a deadline, or of a context that ended: soon after a connection's
// deadline its context ends too.
func Passed(err error) bool {
	return errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, context.Canceled)
}
