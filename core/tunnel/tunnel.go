// Package tunnel keeps a local address open that leads to a server through a profile's hops. It keeps the connection
// to the hops alive: it asks the hop for an answer now and then, and when the machine has slept or its network has
// changed, and connects again when the connection has ended. The local address stays the same. It stands behind
// core/route/hop, and prints nothing.
//
// A connection takes at most 2 MiB of memory, a channel's window, however slow its reader is, and two buffers of 32
// KiB, or 256 KiB while it is busy. There are at most maxConnections.
package tunnel

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/deadline"
	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/route/hop"
)

// maxConnections bounds the connections at one time: with every reader stalled they
// hold 2 GiB, and a database server allows fewer.
const maxConnections = 1000

// patience is how long a new connection waits while the hops can't be reached.
const patience = 20 * time.Second

// Options are what a tunnel is.
type Options struct {
	Profile  string
	Hops     []*hop.Hop
	Servers  []engine.Endpoint // in the order in which they are tried
	Dialer   *hop.Dialer
	Listener net.Listener

	// Login logs in for programs that connect; nil for a tunnel that passes on each byte.
	Login *Login

	Lifetime time.Duration // 0 for as long as it is wanted
	Idle     time.Duration // without any connection; 0 for any
	Patience time.Duration // 0 for 20 s

	// Told gets a sentence for each event. It may be nil.
	Told func(text string)
}

// State is how the way to the hops is.
type State string

// The states.
const (
	Connecting State = "connecting" // for the first time
	Up         State = "up"
	Down       State = "down" // and being made again
	Ended      State = "ended"
)

// problem is something that went wrong.
type problem struct {
	At      time.Time        `json:"at"`
	Code    finding.Code     `json:"code,omitempty"` // of a finding
	Text    string           `json:"text"`
	Finding *finding.Finding `json:"finding,omitempty"` // whole, where a session was refused
}

// Status is a tunnel's status. Bytes are counted in both directions, as seen from here.
type Status struct {
	Profile     string     `json:"profile"`
	PID         int        `json:"pid"`
	Home        string     `json:"home"` // the folder of the profile's own files
	Local       string     `json:"local"`
	Server      string     `json:"server"`
	Through     []string   `json:"through"`
	State       State      `json:"state"`
	Since       time.Time  `json:"since"`
	StateSince  time.Time  `json:"state_since"`
	Until       *time.Time `json:"until,omitempty"`
	IdleAfter   string     `json:"idle_after,omitempty"`
	Background  bool       `json:"background"`
	Open        int        `json:"open"`
	Connections int64      `json:"connections"`
	Refused     int64      `json:"refused"`                 // that came to nothing
	Strangers   int64      `json:"strangers"`               // of them, those of others than this user's programs
	Login       bool       `json:"login"`                   // for whoever connects
	ReadOnly    bool       `json:"read_only"`               // the sessions that it gives are
	Password    string     `json:"password_file,omitempty"` // that programs must send
	Sent        int64      `json:"sent_bytes"`
	Received    int64      `json:"received_bytes"`
	Reconnects  int64      `json:"reconnects"`
	LastError   *problem   `json:"last_error,omitempty"`
}

// Tunnel is one that runs.
type Tunnel struct {
	o     Options
	since time.Time

	mu         sync.Mutex
	state      State
	stateSince time.Time
	link       *hop.Link
	changed    chan struct{} // closed when state changes
	last       *problem
	trouble    *problem // of the way, while it is down; it is not covered by what waits for the way

	open, connections, refused, strangers, sent, received, reconnects atomic.Int64
	// when the last connection began or ended, in nanoseconds since the start: a clock that is set does not move it
	activity atomic.Int64
	nudge    chan time.Duration // see ask
	conns    sync.Map           // of connections' ends: what is closed when the tunnel ends
	sessions sessions           // that were handed to programs
}

// New makes a tunnel; Connect, then Run, make it work.
func New(o Options) *Tunnel {
	if o.Patience == 0 {
		o.Patience = patience
	}
	if o.Told == nil {
		o.Told = func(string) {}
	}
	now := time.Now()
	t := &Tunnel{
		o:          o,
		since:      now,
		state:      Connecting,
		stateSince: now,
		changed:    make(chan struct{}),
		nudge:      make(chan time.Duration, 1),
	}
	return t
}

// noteUse notes that a connection begins or ends.
func (t *Tunnel) noteUse() { t.activity.Store(int64(time.Since(t.since))) }

// idle is the time since a connection began or ended.
func (t *Tunnel) idle() time.Duration { return time.Since(t.since) - time.Duration(t.activity.Load()) }

// Connect connects to the hops for the first time. The finding says why it failed.
func (t *Tunnel) Connect(ctx context.Context) *finding.Finding {
	link, found := t.connect(ctx)
	if found != nil {
		return found
	}
	t.set(Up, link)
	return nil
}

func (t *Tunnel) connect(ctx context.Context) (*hop.Link, *finding.Finding) {
	var link *hop.Link
	for _, h := range t.o.Hops {
		next, result := t.o.Dialer.Connect(ctx, link, h)
		if next == nil {
			link.Close()
			return nil, result.Finding
		}
		link = next
	}
	return link, nil
}

// ErrLifetime and ErrIdle are the ends by -lifetime and -idle.
var (
	ErrLifetime = errors.New("its lifetime is over")
	ErrIdle     = errors.New("nobody used it")
)

// Run serves connections until ctx ends, or the tunnel's own time is over. It
// closes the listener and every connection.
func (t *Tunnel) Run(ctx context.Context) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var running defect.Group
	if len(t.o.Hops) > 0 {
		running.Go(func() { t.keepWay(ctx) })
		running.Go(func() { t.watch(ctx) })
	}
	running.Go(func() { t.limits(ctx, cancel) })
	stop := context.AfterFunc(ctx, func() { t.o.Listener.Close() })
	defer stop()
	var pause time.Duration
	for {
		conn, err := t.o.Listener.Accept()
		switch {
		case ctx.Err() != nil:
			if err == nil {
				conn.Close()
			}
			t.end()
			running.Wait()
			return context.Cause(ctx)
		case errors.Is(err, net.ErrClosed):
			cancel(err)
		case err != nil: // too many open files: they become fewer
			pause = min(max(2*pause, 5*time.Millisecond), time.Second)
			t.fail("", "a connection could not be accepted: "+clean.Line(err.Error(), 200))
			time.Sleep(pause)
		case t.open.Load() >= maxConnections:
			conn.Close()
			t.connections.Add(1)
			t.refused.Add(1)
			t.fail("", fmt.Sprintf("%d connections are open, the maximum", maxConnections))
		default:
			pause = 0
			t.open.Add(1)
			t.connections.Add(1)
			defect.Go(func() { t.serve(ctx, conn) })
		}
	}
}

// end closes what is left.
func (t *Tunnel) end() {
	t.conns.Range(func(conn, _ any) bool {
		conn.(io.Closer).Close()
		return true
	})
	t.mu.Lock()
	link := t.link
	t.mu.Unlock()
	t.set(Ended, nil)
	link.Close()
}

// limits ends the tunnel when its time is over, or nobody has used it for long.
func (t *Tunnel) limits(ctx context.Context, end context.CancelCauseFunc) {
	var lifetime <-chan struct{}
	if t.o.Lifetime > 0 {
		over, stop := deadline.WithTime(ctx, t.since.Add(t.o.Lifetime), ErrLifetime)
		defer stop()
		lifetime = over.Done()
	}
	var look <-chan time.Time
	if t.o.Idle > 0 {
		ticker := time.NewTicker(max(t.o.Idle/20, 10*time.Millisecond))
		defer ticker.Stop()
		look = ticker.C
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-lifetime:
			end(ErrLifetime)
		case <-look:
			if t.open.Load() == 0 && t.idle() >= t.o.Idle {
				end(ErrIdle)
			}
		}
	}
}

// set changes the state.
func (t *Tunnel) set(s State, link *hop.Link) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.link = link
	if link != nil {
		t.trouble = nil
	}
	if t.state != s {
		t.state, t.stateSince = s, time.Now()
	}
	close(t.changed)
	t.changed = make(chan struct{})
}

// current is the way to the hops, nil while there is none, and a channel that is closed when that changes.
func (t *Tunnel) current() (*hop.Link, <-chan struct{}) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.link, t.changed
}

// fail notes an error, and reports it unless it is the same as the last one.
func (t *Tunnel) fail(code finding.Code, text string) {
	t.note(problem{Code: code, Text: text}, false)
}

// failFor is fail with a finding.
func (t *Tunnel) failFor(f *finding.Finding) {
	t.note(problem{Code: f.Code, Text: f.Cause, Finding: f}, false)
}

// failWay is failFor for the way to the hops: the finding is kept until the way is back.
func (t *Tunnel) failWay(f *finding.Finding) {
	t.note(problem{Code: f.Code, Text: f.Cause, Finding: f}, true)
}

// lastingFailure is why the way is down and can't come back without a person; nil where it may.
func (t *Tunnel) lastingFailure() *finding.Finding {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.trouble == nil || t.trouble.Code.MayPass() {
		return nil
	}
	return t.trouble.Finding
}

func (t *Tunnel) note(h problem, ofWay bool) {
	h.At = time.Now()
	t.mu.Lock()
	if ofWay {
		t.trouble = &h
	}
	news := t.last == nil || t.last.Text != h.Text || h.At.Sub(t.last.At) > time.Minute
	t.last = &h
	t.mu.Unlock()
	if news {
		t.o.Told(h.Text)
	}
}

// Status is how the tunnel is now.
func (t *Tunnel) Status() Status {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := Status{
		Profile:     t.o.Profile,
		Local:       Address(t.o.Listener),
		Server:      t.o.Servers[0].String(),
		State:       t.state,
		Since:       t.since,
		StateSince:  t.stateSince,
		Open:        int(t.open.Load()),
		Connections: t.connections.Load(),
		Refused:     t.refused.Load(),
		Strangers:   t.strangers.Load(),
		Login:       t.o.Login != nil,
		Through:     []string{},
		Sent:        t.sent.Load(),
		Received:    t.received.Load(),
		Reconnects:  t.reconnects.Load(),
	}
	if l := t.o.Login; l != nil {
		s.ReadOnly, s.Password = l.ReadOnly, l.PasswordFile
	}
	for _, h := range t.o.Hops {
		s.Through = append(s.Through, h.String())
	}
	if t.o.Lifetime > 0 {
		until := t.since.Add(t.o.Lifetime)
		s.Until = &until
	}
	if t.o.Idle > 0 {
		s.IdleAfter = t.o.Idle.String()
	}
	if t.last != nil {
		last := *t.last
		s.LastError = &last
	}
	if t.trouble != nil {
		trouble := *t.trouble
		s.LastError = &trouble
	}
	return s
}

// Address is where a listener listens, as a person writes it.
func Address(l net.Listener) string { return l.Addr().String() }
