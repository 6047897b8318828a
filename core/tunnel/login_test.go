package tunnel

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
)

// lines is a front for a protocol of lines: "user database [stream]" opens, "cancel SESSION SECRET" cancels.
var lines = &engine.Front{
	Receive: func(conn net.Conn) (*engine.SessionRequest, error) {
		line, err := bufio.NewReaderSize(conn, 16).ReadString('\n')
		words := strings.Fields(line)
		switch {
		case err != nil:
			return nil, err
		case len(words) == 3 && words[0] == "cancel":
			var key engine.CancelKey
			fmt.Sscan(words[1], &key.Session)
			fmt.Sscan(words[2], &key.Secret)
			return &engine.SessionRequest{Cancel: &key}, nil
		case len(words) < 2:
			return nil, errors.New("no request\x1b[2J")
		}
		return &engine.SessionRequest{User: words[0], Database: words[1], Replication: len(words) > 2}, nil
	},
	Refuse: func(conn net.Conn, _ *engine.SessionRequest, found *finding.Finding) error {
		_, err := fmt.Fprintf(conn, "refused: %s\n", found.Code)
		return err
	},
}

// session is a conversation of that protocol.
type session struct {
	engine.Conversation
	conn      net.Conn
	closed    *atomic.Int32
	cancelled *atomic.Int32
}

func (s *session) HandOver(to net.Conn, key engine.CancelKey) (net.Conn, error) {
	_, err := fmt.Fprintf(to, "welcome %d %d\n", key.Session, key.Secret)
	return s.conn, err
}

func (s *session) CancelSession(context.Context) error {
	s.cancelled.Add(1)
	return nil
}

// broken is a session whose server has gone before it is handed over.
type broken struct{ *session }

func (broken) HandOver(net.Conn, engine.CancelKey) (net.Conn, error) { return nil, io.ErrUnexpectedEOF }

// TestLoginNotHandedOver: a program whose session ended before it got it is told so in its protocol.
func TestLoginNotHandedOver(t *testing.T) {
	var closed atomic.Int32
	w := newWorld(t, func(conn net.Conn) { io.Copy(conn, conn) }, func(o *Options) {
		o.Login = &Login{Front: lines, User: "warden", Database: "tides", OwnerOf: func(net.Conn) route.Owner { return route.OwnerSelf },
			LogIn: func(ctx context.Context, _ *engine.SessionRequest, _ engine.GreetFunc, through *hop.Link) (engine.Conversation, *finding.Finding) {
				conn, err := through.DialRaw(ctx, "tcp", "tide-db.internal.example:5432")
				if err != nil {
					return nil, finding.New(finding.ReachFailed, "%s", err.Error())
				}
				return broken{&session{conn: conn, closed: &closed}}, nil
			}}
	})
	conn, err := net.Dial("tcp", w.local.String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(time.Minute))
	io.WriteString(conn, "warden tides\n")
	if got, _ := bufio.NewReader(conn).ReadString('\n'); got != "refused: login.broken-off\n" {
		t.Errorf("the program gets %q", got)
	}
	waitUntil(t, func() bool { return closed.Load() == 1 && w.tunnel.Status().LastError != nil })
	if s := w.tunnel.Status(); s.Refused != 1 || s.LastError == nil || s.LastError.Code != finding.LoginBrokenOff {
		t.Errorf("%+v %+v", s, s.LastError)
	}
}

func (s *session) Close() {
	s.closed.Add(1)
	s.conn.Close()
}

// TestLogin: who connects gets a session, or a refusal in the protocol's own form; a key that is right cancels.
func TestLogin(t *testing.T) {
	var closed, cancelled atomic.Int32
	var owner atomic.Int32
	owner.Store(int32(route.OwnerSelf))
	w := newWorld(t, func(conn net.Conn) { io.Copy(conn, conn) }, func(o *Options) {
		o.Login = &Login{Front: lines, User: "warden", Database: "tides", OwnerOf: func(net.Conn) route.Owner { return route.Owner(owner.Load()) },
			LogIn: func(ctx context.Context, _ *engine.SessionRequest, _ engine.GreetFunc, through *hop.Link) (engine.Conversation, *finding.Finding) {
				conn, err := through.DialRaw(ctx, "tcp", "tide-db.internal.example:5432")
				if err != nil {
					return nil, finding.New(finding.ReachFailed, "%s", err.Error())
				}
				return &session{conn: conn, closed: &closed, cancelled: &cancelled}, nil
			}}
	})
	say := func(text string) (string, net.Conn) {
		conn, err := net.Dial("tcp", w.local.String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { conn.Close() })
		conn.SetDeadline(time.Now().Add(10 * time.Second))
		io.WriteString(conn, text)
		got, _ := bufio.NewReader(conn).ReadString('\n')
		return got, conn
	}
	if found := w.tunnel.Try(t.Context()); found != nil || closed.Load() != 1 {
		t.Fatalf("%+v", found)
	}
	welcome, conn := say("warden tides\n")
	var key engine.CancelKey
	if _, err := fmt.Sscanf(welcome, "welcome %d %d", &key.Session, &key.Secret); err != nil {
		t.Fatalf("%q", welcome)
	}
	io.WriteString(conn, "echo\n")
	if back, _ := bufio.NewReader(conn).ReadString('\n'); back != "echo\n" {
		t.Errorf("%q came back", back)
	}
	for sent, want := range map[string]string{"curator tides\n": "refused: login.other-user\n", "warden sea\n": "refused: login.other-database\n",
		"warden tides stream\n": "refused: login.replication\n", "knot\n": ""} {
		if got, _ := say(sent); got != want {
			t.Errorf("%q: %q", sent, got)
		}
	}
	say(fmt.Sprintf("cancel %d %d\n", key.Session, key.Secret+1))
	if cancelled.Load() != 0 {
		t.Error("a wrong key cancels")
	}
	say(fmt.Sprintf("cancel %d %d\n", key.Session, key.Secret))
	if cancelled.Load() != 1 {
		t.Error("a right key does not cancel")
	}
	conn.Close()
	waitUntil(t, func() bool { return closed.Load() == 2 })
	say(fmt.Sprintf("cancel %d %d\n", key.Session, key.Secret))
	if cancelled.Load() != 1 {
		t.Error("the key of a session that has ended cancels")
	}
	owner.Store(int32(route.OwnerUnknown))
	if got, _ := say("warden tides\n"); got != "" || w.tunnel.Status().Strangers != 0 {
		t.Errorf("a process that nobody knows gets %q, and counts as another user's: %+v", got, w.tunnel.Status())
	}
	owner.Store(int32(route.OwnerOther))
	if got, _ := say("warden tides\n"); got != "" {
		t.Errorf("another user's process gets %q", got)
	}
	s := w.tunnel.Status()
	if !s.Login || s.Refused != 6 || s.Strangers != 1 || s.LastError == nil || !strings.Contains(s.LastError.Text, "another user") {
		t.Errorf("%+v %+v", s, s.LastError)
	}
}

// TestLoginAnyDatabase: what is allowed is handed on.
func TestLoginAnyDatabase(t *testing.T) {
	tunnel := New(Options{Profile: "tides", Login: &Login{User: "", Database: "tides", AnyDatabase: true, Replication: true}})
	if found := tunnel.checkRequest(&engine.SessionRequest{User: "anybody", Database: "sea", Replication: true}); found != nil {
		t.Errorf("%+v", found)
	}
}

// TestLoginWithoutAWay: a program waits for the hops, and then hears why it waits no longer.
func TestLoginWithoutAWay(t *testing.T) {
	tunnel := New(Options{Profile: "tides", Hops: []*hop.Hop{{}}, Patience: 20 * time.Millisecond, Login: &Login{Front: lines}})
	conv, found := (&caller{Tunnel: tunnel, request: &engine.SessionRequest{}}).session(t.Context())
	if conv != nil || !found.Is(finding.HopDropped) || found.Try[0] != "gharbor tunnel show tides" {
		t.Errorf("%+v", found)
	}
}

// TestLoginByPassword: where the system does not tell whose a connection is, the password of the address counts.
func TestLoginByPassword(t *testing.T) {
	broken := errors.New("broken")
	tunnel := New(Options{Profile: "tides", Login: &Login{Password: secret.NewValue("ebb"), PasswordFile: "/run/a password"}})
	for name, c := range map[string]struct {
		err       error
		code      finding.Code
		try       string
		strangers int64
	}{
		"right":  {},
		"wrong":  {engine.ErrNotProved, finding.LoginLocalPassword, "cat '/run/a password'", 1},
		"broken": {broken, finding.LoginBrokenOff, "", 0},
	} {
		before := tunnel.strangers.Load()
		var asked string
		prove := func(_ net.Conn, password string) error { asked = password; return c.err }
		found := (&caller{Tunnel: tunnel, request: &engine.SessionRequest{Prove: prove}}).checkCaller()
		switch {
		case asked != "ebb", tunnel.strangers.Load()-before != c.strangers, (found == nil) != (c.err == nil):
			t.Errorf("%s: asked for %q, %+v", name, asked, found)
		case found != nil && (found.Code != c.code || c.try != "" && found.Try[0] != c.try):
			t.Errorf("%s: %+v", name, found)
		}
	}
}

// TestLoginOfAGreetedProgram: a program that was greeted by one server is not handed to another.
func TestLoginOfAGreetedProgram(t *testing.T) {
	var tries, greeted int
	var unreached atomic.Bool
	w := newWorld(t, func(conn net.Conn) { io.Copy(conn, conn) }, func(o *Options) {
		o.Patience = 300 * time.Millisecond
		o.Login = &Login{Front: &engine.Front{Refuse: lines.Refuse}, OwnerOf: func(net.Conn) route.Owner { return route.OwnerSelf },
			LogIn: func(_ context.Context, o *engine.SessionRequest, greet engine.GreetFunc, _ *hop.Link) (engine.Conversation, *finding.Finding) {
				tries++
				if greet != nil && !unreached.Load() {
					greeted++
					if found := greet(greeter{}); found != nil {
						return nil, found
					}
				}
				return nil, finding.New(finding.HopDropped, "gone")
			}}
	})
	call := func() string {
		conn, err := net.Dial("tcp", w.local.String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(10 * time.Second))
		got, _ := bufio.NewReader(conn).ReadString('\n')
		return got
	}
	if got := call(); got != "refused: hop.dropped\n" || tries != 1 || greeted != 1 {
		t.Errorf("%q after %d tries, greeted %d times", got, tries, greeted)
	}
	for range 200 { // it is noted behind the answer
		if w.tunnel.Status().LastError != nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if f := w.tunnel.Status().LastError; f == nil || f.Finding == nil || f.Finding.Code != finding.HopDropped {
		t.Errorf("%+v", f)
	}
	unreached.Store(true)
	time.AfterFunc(100*time.Millisecond, func() {
		link, _ := w.tunnel.current()
		w.tunnel.set(Up, link)
	})
	if call(); tries != 3 {
		t.Errorf("%d tries for one that was not greeted, and a way that was made again once", tries-1)
	}
}

// greeter is a conversation whose server speaks first.
type greeter struct{ engine.Conversation }

func (greeter) Greet(net.Conn, bool) (*engine.SessionRequest, error) {
	return &engine.SessionRequest{}, nil
}

// waitUntil waits for what other goroutines do.
func waitUntil(t *testing.T, ok func() bool) {
	t.Helper()
	for range 500 {
		if ok() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Error("it did not happen within 5 s")
}
