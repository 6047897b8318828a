package tunnel

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
)

// Login is how a tunnel logs in for programs that connect.
type Login struct {
	Front *engine.Front

	// OwnerOf finds out which user's process connected; only this user's get a session. Where it is nil, a program
	// must send Password, which this user can read in PasswordFile.
	OwnerOf      func(local net.Conn) route.Owner
	Password     secret.Value
	PasswordFile string

	// User and Database are the profile's. A program that names another user is refused; with "" any user may be
	// named. AnyDatabase allows another database, Replication a stream of changes, and LocalFiles files of this
	// machine.
	User, Database string
	AnyDatabase    bool
	Replication    bool
	LocalFiles     bool
	ReadOnly       bool // sessions are: LogIn sees to it

	// LogIn logs in at the server, for a program's request: o, or what greet reads. through is the way to the last
	// hop, nil without hops.
	LogIn func(ctx context.Context, o *engine.SessionRequest, greet engine.GreetFunc,
		through *hop.Link) (engine.Conversation, *finding.Finding)
}

// openWithin is how long a program may take to send its request.
const openWithin = 10 * time.Second

// endedWithin is how long after the end of a session the end of its way is noticed.
const endedWithin = 50 * time.Millisecond

// refusal is why a program got no session.
type refusal struct{ found *finding.Finding }

func (r *refusal) Error() string { return r.found.Cause }

var (
	errStranger = errors.New("a process of another user connected, and was refused")
	errNoOwner  = errors.New("a connection was closed before the system could say whose it was")
)

// noteFailure notes why a connection failed.
func (t *Tunnel) noteFailure(err error) {
	var r *refusal
	if errors.As(err, &r) {
		t.failFor(r.found)
		return
	}
	t.fail("", err.Error())
}

// caller is a program that has connected.
type caller struct {
	*Tunnel
	local   net.Conn
	request *engine.SessionRequest // what it wants; nil before it has said so
}

// logIn gives a program a session at the server.
func (t *Tunnel) logIn(ctx context.Context, local net.Conn) (remote net.Conn, end func(), err error) {
	l := t.o.Login
	if l.OwnerOf != nil {
		switch l.OwnerOf(local) {
		case route.OwnerSelf:
		case route.OwnerOther:
			t.strangers.Add(1)
			return nil, nil, errStranger
		default:
			return nil, nil, errNoOwner
		}
	}
	stop := context.AfterFunc(ctx, func() { local.Close() }) // a program that is asked nothing waits
	defer stop()
	local.SetDeadline(time.Now().Add(openWithin))
	c := &caller{Tunnel: t, local: local}
	var found *finding.Finding
	if l.Front.Receive != nil {
		if c.request, err = l.Front.Receive(local); err != nil {
			return nil, nil, noRequest(err)
		}
		if c.request.Cancel != nil {
			return nil, nil, t.sessions.cancel(ctx, *c.request.Cancel)
		}
		found = c.checkCaller()
	}
	var conv engine.Conversation
	if found == nil {
		conv, found = c.session(ctx)
	}
	if found != nil {
		return nil, nil, c.refuse(found)
	}
	key := t.sessions.add(conv)
	end = func() {
		t.sessions.remove(key)
		conv.Close()
	}
	local.SetWriteDeadline(time.Now().Add(openWithin))
	remote, err = conv.(engine.SessionGiver).HandOver(local, key)
	if err != nil {
		end()
		found := finding.New(finding.LoginBrokenOff, "the login worked, then the session could not be handed over").
			Saw("%s", clean.Line(err.Error(), 200)).
			Suggest("gharbor test %s", t.o.Profile)
		return nil, nil, c.refuse(found)
	}
	local.SetDeadline(time.Time{})
	remote.SetDeadline(time.Time{})
	return remote, end, nil
}

func noRequest(err error) error {
	return fmt.Errorf("a program opened a connection that is no session: %s", clean.Line(err.Error(), 200))
}

// refuse tells a program, in its protocol, why it gets no session.
func (c *caller) refuse(found *finding.Finding) error {
	c.local.SetWriteDeadline(time.Now().Add(openWithin))
	c.o.Login.Front.Refuse(c.local, c.request, found)
	return &refusal{found}
}

// greet is the engine.GreetFunc for a protocol in which the server speaks first.
func (c *caller) greet(conv engine.Conversation) *finding.Finding {
	c.local.SetDeadline(time.Now().Add(openWithin))
	o, err := conv.(engine.Greeter).Greet(c.local, c.o.Login.LocalFiles)
	if err != nil {
		return finding.New(finding.LoginBrokenOff, "%s", noRequest(err))
	}
	c.request = o
	return c.checkCaller()
}

// checkCaller returns why a program gets no session, nil where it gets one.
func (c *caller) checkCaller() *finding.Finding {
	if l := c.o.Login; l.OwnerOf == nil {
		err := c.request.Prove(c.local, l.Password.Disclose())
		switch {
		case errors.Is(err, engine.ErrNotProved):
			c.strangers.Add(1)
			return finding.New(finding.LoginLocalPassword, "%s", err).
				Suggest("cat %s", clean.Shell(l.PasswordFile))
		case err != nil:
			return finding.New(finding.LoginBrokenOff, "%s", noRequest(err))
		}
	}
	return c.checkRequest(c.request)
}

// session logs in for what a program asks.
func (c *caller) session(ctx context.Context) (engine.Conversation, *finding.Finding) {
	ctx, cancel := context.WithTimeout(ctx, c.o.Patience)
	defer cancel()
	var greet engine.GreetFunc
	if c.o.Login.Front.Receive == nil {
		greet = c.greet
	}
	for {
		var link *hop.Link
		var changed <-chan struct{}
		if len(c.o.Hops) > 0 {
			var err error
			if link, changed, err = c.waitForWay(ctx); err != nil {
				return nil, err.(*refusal).found
			}
		}
		stop := c.askIfSlow()
		conv, found := c.o.Login.LogIn(ctx, c.request, greet, link)
		stop()
		greeted := greet != nil && c.request != nil // with what one server said
		if found == nil || link == nil || greeted || !link.Lasts() {
			return conv, found
		}
		var soon <-chan time.Time
		if !found.Is(finding.HopDropped) { // what it looks like, where the way ends in the middle of a login
			soon = time.After(endedWithin)
		}
		select { // the way ended under it: the next one may do
		case <-changed:
		case <-link.Done():
			<-changed
		case <-soon:
			return nil, found
		case <-ctx.Done():
			return nil, found
		}
	}
}

// Try logs in once and ends the session, to test whether a program could.
func (t *Tunnel) Try(ctx context.Context) *finding.Finding {
	link, _ := t.current()
	conv, found := t.o.Login.LogIn(ctx, &engine.SessionRequest{}, nil, link)
	if found == nil {
		conv.Close()
	}
	return found
}

// checkRequest judges what a program asks for.
func (t *Tunnel) checkRequest(o *engine.SessionRequest) *finding.Finding {
	l, name := t.o.Login, t.o.Profile
	switch {
	case l.User != "" && o.User != "" && o.User != l.User:
		return finding.New(finding.LoginOtherUser, "this address logs in as %s, and as nobody else", clean.Quote(l.User)).
			Saw("the program asks for the user %s", clean.Quote(o.User)).
			Suggest("gharbor show %s", name)
	case o.Database != "" && o.Database != l.Database && !l.AnyDatabase:
		return finding.New(finding.LoginOtherDatabase, "this address leads to the database %s, and to no other",
			clean.Quote(l.Database)).
			Saw("the program asks for %s", clean.Quote(o.Database)).
			Suggest("gharbor tunnel open %s -login -any-database", name)
	case o.Replication && !l.Replication:
		return finding.New(finding.LoginReplication, "this address gives no stream of changes").
			Suggest("gharbor tunnel open %s -login -replication", name)
	}
	return nil
}

// sessions are those that programs have, by their cancel keys.
type sessions struct {
	mu  sync.Mutex
	all map[engine.CancelKey]engine.Conversation
}

// add keeps a session under a random cancel key.
func (s *sessions) add(conv engine.Conversation) engine.CancelKey {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all == nil {
		s.all = make(map[engine.CancelKey]engine.Conversation)
	}
	for {
		var p [8]byte
		rand.Read(p[:])
		key := engine.CancelKey{Session: binary.BigEndian.Uint32(p[:]) >> 1, Secret: binary.BigEndian.Uint32(p[4:])}
		if _, taken := s.all[key]; !taken {
			s.all[key] = conv
			return key
		}
	}
}

func (s *sessions) remove(key engine.CancelKey) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.all, key)
}

// cancel ends the statement of a session. It does nothing for an unknown key, as a server does.
func (s *sessions) cancel(ctx context.Context, key engine.CancelKey) error {
	s.mu.Lock()
	conv := s.all[key]
	s.mu.Unlock()
	if conv == nil {
		return nil
	}
	one, ok := conv.(engine.Canceller)
	if !ok {
		return nil
	}
	if err := one.CancelSession(ctx); err != nil {
		return fmt.Errorf("a statement could not be cancelled: %s", clean.Line(err.Error(), 200))
	}
	return nil
}
