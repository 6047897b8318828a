package tunnel

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/route/hop"
)

// How a way is kept.
const (
	aliveEvery  = 15 * time.Second       // between two signs of life
	aliveWithin = 10 * time.Second       // the answer to one
	nudgeWithin = 3 * time.Second        // the answer after a sleep or a change of networks
	doubtAfter  = time.Second            // a new connection that takes longer has the hop asked for a sign of life
	firstPause  = 300 * time.Millisecond // before the second try; each is twice the one before
	longest     = 30 * time.Second
	tryWithin   = 15 * time.Second // one try, through all hops
)

// keepWay waits for the end of the way to the hops and makes it again.
func (t *Tunnel) keepWay(ctx context.Context) {
	for ctx.Err() == nil {
		link, _ := t.current()
		if link != nil {
			why := t.hold(ctx, link)
			if ctx.Err() != nil {
				return
			}
			t.set(Down, nil)
			link.Close()
			t.fail(finding.HopDropped, why)
		}
		t.again(ctx)
	}
}

// hold waits until the way is lost, and returns the reason.
func (t *Tunnel) hold(ctx context.Context, link *hop.Link) string {
	every := link.AliveEvery(aliveEvery)
	timer := time.NewTicker(every)
	defer timer.Stop()
	for {
		within := min(aliveWithin, max(every, time.Second))
		select {
		case <-ctx.Done():
			return ""
		case <-link.Done():
			return fmt.Sprintf("the connection to %s ended: %s", link.Hop, clean.Line(plainCause(link.Cause()), 200))
		case within = <-t.nudge:
		case <-timer.C:
		}
		bound, cancel := context.WithTimeout(ctx, within)
		err := link.Alive(bound)
		cancel()
		if err != nil && ctx.Err() == nil {
			return fmt.Sprintf("%s did not answer within %s", link.Hop, within)
		}
	}
}

func plainCause(err error) string {
	if err == nil {
		return "the other side closed it"
	}
	text := strings.TrimPrefix(err.Error(), "ssh: ")
	if text == "EOF" {
		return "the other side closed it"
	}
	return text
}

// again makes the way again, with longer and longer pauses between tries.
func (t *Tunnel) again(ctx context.Context) {
	pause := firstPause
	lost := time.Now()
	for ctx.Err() == nil {
		bound, cancel := context.WithTimeout(ctx, tryWithin)
		link, found := t.connect(bound)
		cancel()
		if found == nil {
			t.reconnects.Add(1)
			t.set(Up, link)
			t.o.Told(fmt.Sprintf("connected again after %s: %s", time.Since(lost).Round(100*time.Millisecond), link.Hop))
			return
		}
		if ctx.Err() != nil {
			return
		}
		t.failWay(found)
		// Trying again could lock the account.
		if found.Is(finding.HopPasswordRefused) || found.Is(finding.HopTooManyFailures) {
			t.o.Told("the way is not tried again: close the tunnel, and open it with the right password")
			<-ctx.Done()
			return
		}
		timer := time.NewTimer(pause + rand.N(pause/4)) // many tunnels do not come back in one moment
		select {
		case <-ctx.Done():
		case <-timer.C:
		case <-t.nudge:
			pause = firstPause / 2
		}
		timer.Stop()
		pause = min(2*pause, longest)
	}
}

// watch notices when the machine has slept and when its networks have changed: the connection to the hops may be dead
// then, without an error.
func (t *Tunnel) watch(ctx context.Context) {
	const every, slept = 2 * time.Second, 8 * time.Second
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	last, networks := time.Now().Round(0), addresses() // the wall's clock, which goes on in a sleep
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		now, have := time.Now().Round(0), addresses()
		switch gap := now.Sub(last); {
		case gap > slept:
			t.wake(fmt.Sprintf("this machine slept for %s, or its clock was set", gap.Round(time.Second)))
		case !slices.Equal(have, networks):
			t.wake("the networks of this machine have changed")
		}
		last, networks = now, have
	}
}

// wake has the way looked at at once.
func (t *Tunnel) wake(why string) {
	t.o.Told(why + "; checking the hops")
	t.ask(nudgeWithin)
}

// ask makes hold ask the hop for an answer at once. The way is lost where none comes within this time.
func (t *Tunnel) ask(within time.Duration) {
	select {
	case t.nudge <- within:
	default:
	}
}

// askIfSlow asks the hop for an answer where a new connection takes long: the hop may be gone, and the connection can
// still be made when the way is back. stop ends that.
func (t *Tunnel) askIfSlow() (stop func() bool) {
	return time.AfterFunc(doubtAfter, func() { t.ask(aliveWithin) }).Stop
}

// addresses are this machine's, without loopback.
func addresses() []string {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	var texts []string
	for _, a := range all {
		if network, ok := a.(*net.IPNet); ok && !network.IP.IsLoopback() {
			texts = append(texts, a.String())
		}
	}
	slices.Sort(texts)
	return texts
}
