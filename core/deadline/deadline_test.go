package deadline

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync/atomic"
	"testing"
	"time"
)

var errOver = errors.New("over")

// TestSleep: a wall's clock that is past the end ends it, though the timer has an hour left.
func TestSleep(t *testing.T) {
	until := time.Now().Add(time.Hour)
	var slept atomic.Bool
	now := func() time.Time {
		if slept.Load() {
			return until
		}
		return until.Add(-time.Hour)
	}
	ctx, stop := withClock(t.Context(), until, errOver, now, time.Millisecond)
	defer stop()
	select {
	case <-ctx.Done():
		t.Fatal("it ends before its time")
	case <-time.After(50 * time.Millisecond):
	}
	slept.Store(true)
	<-ctx.Done()
	if cause := context.Cause(ctx); cause != errOver {
		t.Error(cause)
	}
}

// TestSetBack: a wall's clock that is set back makes it last no longer.
func TestSetBack(t *testing.T) {
	now := func() time.Time { return time.Now().Add(-time.Hour) }
	ctx, stop := withClock(t.Context(), time.Now().Add(20*time.Millisecond), errOver, now, time.Millisecond)
	defer stop()
	<-ctx.Done()
	if cause := context.Cause(ctx); cause != errOver {
		t.Error(cause)
	}
}

// TestStop: who stops it early is no cause of its end.
func TestStop(t *testing.T) {
	ctx, stop := WithTime(t.Context(), time.Now().Add(time.Hour), errOver)
	stop()
	<-ctx.Done()
	if cause := context.Cause(ctx); cause != context.Canceled {
		t.Error(cause)
	}
	if past, stop := WithTime(t.Context(), time.Now().Add(-time.Second), errOver); past.Err() == nil {
		t.Error("a time that is over does not end it at once")
	} else {
		stop()
	}
	if Over(time.Now().Add(time.Minute), time.Now()) || !Over(time.Now(), time.Now()) {
		t.Error("Over is wrong")
	}
}

// TestPassed: deadlines of connections and ends of contexts, wrapped too, and nothing else.
func TestPassed(t *testing.T) {
	for err, want := range map[error]bool{
		fmt.Errorf("read: %w", os.ErrDeadlineExceeded): true,
		context.DeadlineExceeded:                       true,
		fmt.Errorf("ask: %w", context.Canceled):        true,
		io.EOF:                                         false,
		nil:                                            false,
	} {
		if Passed(err) != want {
			t.Errorf("%v: %v", err, !want)
		}
	}
}
