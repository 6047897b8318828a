package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"gentleharbor/core/finding"
)

// CancelWait is how long a server may take to end a statement that was cancelled.
const CancelWait = 5 * time.Second

// Cancellable runs something on a connection. When ctx ends, it calls cancel, and waits for the server's answer;
// where cancel fails, it does not wait. cancel is nil where run itself cancels. The error is that of ctx then, joined
// with those of cancel and of run.
func Cancellable(ctx context.Context, raw net.Conn, cancel func() error, run func() error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	cancelled := make(chan error, 1)
	stop := context.AfterFunc(ctx, func() {
		var err error
		if cancel != nil {
			err = cancel()
		}
		wait := CancelWait
		if err != nil { // nothing will come
			err = fmt.Errorf("%w: %w", ErrNotCancelled, err)
			wait = 0
		}
		raw.SetReadDeadline(time.Now().Add(wait))
		cancelled <- err
	})
	err := run()
	if stop() {
		return err
	}
	cancelErr := <-cancelled
	raw.SetReadDeadline(time.Time{})
	return errors.Join(context.Cause(ctx), cancelErr, err)
}

// AtServer is the time since a statement was sent, without the time on the network.
func (f *Facts) AtServer(sent time.Time) time.Duration {
	took := time.Since(sent)
	if f.RoundTrip != nil {
		took -= time.Duration(*f.RoundTrip * float64(time.Millisecond))
	}
	return max(took, time.Microsecond)
}

// Second makes another connection to the same address, to cancel what runs on this one.
func (t *Target) Second(ctx context.Context) (net.Conn, error) {
	if t.Redial == nil {
		return nil, errors.New("a second connection is not possible")
	}
	return t.Redial(ctx)
}

// LogIn runs the stages of a new conversation up to the login. The finding says why one failed; nil for none. A
// server that is busy with a script still lets in the login that is to end the script.
func LogIn(ctx context.Context, c Conversation) *finding.Finding {
	for _, step := range []func(context.Context) finding.Result{
		c.Speak,
		func(ctx context.Context) finding.Result { _, result := c.Encrypt(ctx); return result },
		c.Login,
	} {
		result := step(ctx)
		if result.Outcome == finding.Fail && !result.Finding.Is(finding.SpeakBusy) {
			return result.Finding
		}
	}
	return nil
}

// LogInAgain logs in by another connection to the same address, to cancel what runs on this one.
func LogInAgain[C Conversation](ctx context.Context, t *Target, begin func(net.Conn, Target) C) (again C, err error) {
	conn, err := t.Second(ctx)
	if err != nil {
		return again, err
	}
	c := begin(conn, *t)
	if found := LogIn(ctx, c); found != nil {
		c.Close()
		return again, errors.New(found.Cause)
	}
	return c, nil
}
