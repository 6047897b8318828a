package tunnel

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	cryptossh "golang.org/x/crypto/ssh"

	"gentleharbor/core/address"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
	"gentleharbor/internal/testkit"
	"gentleharbor/standin/ssh"
)

// world is a tunnel through a simulated hop to a server of the test's own.
type world struct {
	t      *testing.T
	tunnel *Tunnel
	gate   *ssh.Server
	config ssh.Config
	local  net.Addr
	ended  chan error
	cancel context.CancelFunc
	told   chan string
}

func newWorld(t *testing.T, serve func(net.Conn), change func(*Options)) *world {
	t.Helper()
	server, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	testkit.Serve(t, server, serve)
	home := t.TempDir()
	key, err := ssh.NewKey(filepath.Join(home, "gate"))
	if err != nil {
		t.Fatal(err)
	}
	w := &world{t: t, ended: make(chan error, 1), told: make(chan string, 1000)}
	w.config = ssh.Config{Accounts: map[string]ssh.Account{"keeper": {Keys: []cryptossh.PublicKey{key}}}, Hosts: map[string]string{"tide-db.internal.example:5432": server.Addr().String()}}
	if w.gate, err = ssh.Start(w.config); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.gate.Close() })
	w.config.HostKey, w.config.Address = w.gate.HostKey, fmt.Sprintf("127.0.0.1:%d", w.gate.Port())
	os.MkdirAll(filepath.Join(home, ".ssh"), 0o700)
	os.WriteFile(filepath.Join(home, ".ssh", "known_hosts"), []byte(w.gate.KnownLine()+"\n"), 0o600)
	file, err := profile.Parse(keys, "profiles.toml", fmt.Appendf(nil, "[profile.tides]\nengine = \"postgresql\"\nhost = \"tide-db.internal.example\"\n[[profile.tides.hop]]\nhost = \"127.0.0.1\"\nport = %d\nuser = \"keeper\"\nkey = %q\n", w.gate.Port(), filepath.Join(home, "gate")))
	if err != nil {
		t.Fatal(err)
	}
	p := resolve.Resolve(file, file.Lookup("tides"), nil, resolve.Environment{Home: home})
	hops, _, found := hop.Places{Home: home, System: home}.Plan(p)
	if found != nil {
		t.Fatal(found.Cause)
	}
	servers, _ := route.Network{}.Candidates(t.Context(), p)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	o := Options{Profile: "tides", Hops: hops, Servers: endpoints(servers), Dialer: &hop.Dialer{Network: route.System(), Finder: &secret.Finder{}, Profile: "tides", Secrets: &hop.SecretCache{}}, Listener: listener,
		Told: func(text string) { w.told <- text }}
	if change != nil {
		change(&o)
	}
	w.tunnel, w.local = New(o), o.Listener.Addr()
	ctx, cancel := context.WithCancel(context.Background())
	w.cancel = cancel
	if found := w.tunnel.Connect(ctx); found != nil {
		t.Fatal(found.Cause)
	}
	go func() { w.ended <- w.tunnel.Run(ctx) }()
	t.Cleanup(cancel)
	return w
}

// localConn is a program's connection to the local address.
type localConn interface {
	net.Conn
	CloseWrite() error
	SetReadBuffer(int) error
}

func (w *world) dial() localConn {
	w.t.Helper()
	conn, err := net.Dial(w.local.Network(), w.local.String())
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(60 * time.Second))
	return conn.(localConn)
}

// restart ends the hop with all its connections, and starts it again after a while.
func (w *world) restart(down time.Duration) {
	w.t.Helper()
	w.gate.Close()
	time.Sleep(down)
	var err error
	for range 50 {
		if w.gate, err = ssh.Start(w.config); err == nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	w.t.Fatal(err)
}

func echo(conn net.Conn) { io.Copy(conn, conn) }

// TestManyAtOnce: 500 connections at once, each with bytes of its own both ways.
func TestManyAtOnce(t *testing.T) {
	w := newWorld(t, echo, nil)
	var group sync.WaitGroup
	failures := make(chan error, 500)
	for range 500 {
		conn := w.dial()
		group.Go(func() {
			defer conn.Close()
			sent := make([]byte, 20_000)
			rand.Read(sent)
			go func() {
				conn.Write(sent)
				conn.CloseWrite()
			}()
			got, err := io.ReadAll(conn)
			if err != nil || !bytes.Equal(got, sent) {
				failures <- fmt.Errorf("%d bytes came back: %v", len(got), err)
			}
		})
	}
	group.Wait()
	close(failures)
	for err := range failures {
		t.Error(err)
	}
	s := w.tunnel.Status()
	if s.Connections < 500 || s.Sent < 500*20_000 || s.Received < 500*20_000 { // more where somebody looks for servers on this machine
		t.Errorf("%+v", s)
	}
}

// TestHalfClose: the end of what one side says is passed on, and the other may still
// answer.
func TestHalfClose(t *testing.T) {
	t.Parallel()
	w := newWorld(t, func(conn net.Conn) {
		all, _ := io.ReadAll(conn)
		fmt.Fprintf(conn, "%d bytes", len(all))
	}, nil)
	conn := w.dial()
	conn.Write(make([]byte, 100_000))
	conn.CloseWrite()
	if got, err := io.ReadAll(conn); string(got) != "100000 bytes" {
		t.Errorf("%q %v", got, err)
	}
}

// TestSlowReader: who does not read makes nobody's memory grow.
func TestSlowReader(t *testing.T) {
	written := make(chan int, 1)
	w := newWorld(t, func(conn net.Conn) {
		conn.SetWriteDeadline(time.Now().Add(2 * time.Second))
		total := 0
		for {
			n, err := conn.Write(make([]byte, 64<<10))
			if total += n; err != nil {
				written <- total
				return
			}
		}
	}, nil)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	w.dial().SetReadBuffer(4096)
	total := <-written // the server could write no more
	runtime.GC()
	runtime.ReadMemStats(&after)
	if grown := int64(after.HeapInuse) - int64(before.HeapInuse); grown > 12<<20 { // the hop is in this process too
		t.Errorf("the memory grew by %d KiB", grown>>10)
	}
	t.Logf("%d KiB were taken from the server", total>>10)
}

// TestRestart: the hop is restarted in mid-transfer. What was open ends, the address
// stays, and a new connection waits until the way is back.
func TestRestart(t *testing.T) {
	t.Parallel()
	w := newWorld(t, func(conn net.Conn) {
		for {
			if _, err := conn.Write(make([]byte, 32<<10)); err != nil {
				return
			}
		}
	}, nil)
	old := w.dial()
	io.ReadFull(old, make([]byte, 1<<20))
	back := make(chan bool)
	go func() { defer close(back); w.restart(700 * time.Millisecond) }()
	if _, err := io.Copy(io.Discard, old); err != nil && !errors.Is(err, net.ErrClosed) && !strings.Contains(err.Error(), "reset") {
		t.Errorf("the open connection: %v", err)
	}
	fresh := w.dial() // while the hop is down
	if _, err := io.ReadFull(fresh, make([]byte, 1<<20)); err != nil {
		t.Errorf("a new connection: %v", err)
	}
	<-back
	s := w.tunnel.Status()
	if s.Reconnects != 1 || s.State != Up || s.LastError == nil || s.LastError.Text == "" {
		t.Errorf("%+v", s)
	}
}

// TestPatience: with the hop down for good, a new connection is closed in the end.
func TestPatience(t *testing.T) {
	t.Parallel()
	own, err := net.Listen("unix", filepath.Join(t.TempDir(), "tides")) // no other test's program looks at a socket
	if err != nil {
		t.Fatal(err)
	}
	w := newWorld(t, echo, func(o *Options) { o.Patience, o.Listener = 300*time.Millisecond, own })
	w.gate.Close()
	start := time.Now()
	if n, _ := w.dial().Read(make([]byte, 1)); n != 0 {
		t.Error("it serves without a hop")
	}
	if took := time.Since(start); took > 20*time.Second {
		t.Errorf("it took %s", took)
	}
	if s := w.tunnel.Status(); s.Refused != 1 || s.Connections != 1 || s.State != Down {
		t.Errorf("%+v", s)
	}
}

// TestWake: after a sleep, a hop that does not answer any more is found out.
func TestWake(t *testing.T) {
	t.Parallel()
	w := newWorld(t, echo, nil)
	w.config.Fault = ssh.Mute
	w.restart(0)
	for w.tunnel.Status().Reconnects == 0 {
		time.Sleep(20 * time.Millisecond)
	}
	w.tunnel.wake("this machine slept for 1h0m0s")
	deadline := time.After(30 * time.Second)
	for {
		select {
		case text := <-w.told:
			if strings.Contains(text, "did not answer within") {
				return
			}
		case <-deadline:
			t.Fatalf("%+v", w.tunnel.Status())
		}
	}
}

// TestSilentHop: a connection that meets a hop which has just gone silent goes over the next way, and does not wait for
// the next sign of life.
func TestSilentHop(t *testing.T) {
	t.Parallel()
	w := newWorld(t, echo, nil)
	w.config.Fault = ssh.Mute
	w.restart(0)
	for w.tunnel.Status().Reconnects == 0 {
		time.Sleep(20 * time.Millisecond)
	}
	conn := w.dial()
	conn.Write([]byte("ebb"))
	answer := make([]byte, 3)
	if _, err := io.ReadFull(conn, answer); err != nil || string(answer) != "ebb" {
		t.Errorf("%q %v, %+v", answer, err, w.tunnel.Status())
	}
}

// TestEnds: a tunnel ends by its lifetime and when nobody uses it, and lets go.
func TestEnds(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		change func(*Options)
		want   error
	}{
		"lifetime": {func(o *Options) { o.Lifetime = 300 * time.Millisecond }, ErrLifetime},
		"idle":     {func(o *Options) { o.Idle = 300 * time.Millisecond }, ErrIdle},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t, echo, c.change)
			if err := <-w.ended; !errors.Is(err, c.want) {
				t.Errorf("%v", err)
			}
			if conn, err := net.Dial("tcp", w.local.String()); err == nil { // another server may have the port by now
				conn.SetDeadline(time.Now().Add(time.Second))
				conn.Write([]byte("tide"))
				if back, _ := io.ReadAll(io.LimitReader(conn, 4)); string(back) == "tide" {
					t.Error("it still listens")
				}
				conn.Close()
			}
		})
	}
	t.Run("used", func(t *testing.T) {
		t.Parallel()
		w := newWorld(t, echo, func(o *Options) { o.Idle = 300 * time.Millisecond })
		w.dial()
		select {
		case err := <-w.ended:
			t.Errorf("it ended while somebody was connected: %v", err)
		case <-time.After(time.Second):
		}
	})
}

// TestPorts: a profile keeps its port, another profile has another one, and a port
// that is taken is passed over for once.
func TestPorts(t *testing.T) {
	t.Parallel()
	p := Ports{Path: filepath.Join(t.TempDir(), "ports.json")}
	listen := func(name string) (net.Listener, int) {
		t.Helper()
		l, usual, err := p.Listen(context.Background(), name)
		if err != nil {
			t.Fatal(err)
		}
		return l, usual
	}
	first, _ := listen("tides")
	at := first.Addr().String()
	second, usual := listen("tides")
	if usual == 0 || second.Addr().String() == at {
		t.Errorf("usual %d, %s", usual, second.Addr())
	}
	other, _ := listen("ringing")
	if other.Addr().String() == at {
		t.Error("two profiles, one port")
	}
	first.Close()
	second.Close()
	other.Close()
	again, usual := listen("tides")
	defer again.Close()
	if again.Addr().String() != at || usual != 0 {
		t.Errorf("%s, then %s", at, again.Addr())
	}
}

// TestHolder: who has a port, and where a forward leads.
func TestHolder(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if h, ok := HolderOf(l.Addr().(*net.TCPAddr).Port); runtime.GOOS == "linux" && (!ok || h.PID != os.Getpid()) {
		t.Errorf("%+v %v", h, ok)
	}
	for line, want := range map[string]string{
		"ssh -N -L 5433:tide-db:5432 keeper@gate":                    "tide-db:5432 through keeper@gate",
		"/usr/bin/ssh -fNL 127.0.0.1:5433:tide-db:5432 -p 2222 gate": "tide-db:5432 through gate",
		"ssh -p 22 -i key gate -L5433:tide-db:5432":                  "tide-db:5432 through gate",
		"ssh gate": "",
		"docker-proxy -proto tcp -host-ip 0.0.0.0 -host-port 5433 -container-ip 172.17.0.2 -container-port 1": "a container at 172.17.0.2:1",
		"postgres -p 5433": "",
	} {
		if got := leads(strings.Fields(line), 5433); got != want {
			t.Errorf("%s: %q, want %q", line, got, want)
		}
	}
}

func endpoints(servers []address.Candidate) (all []engine.Endpoint) {
	for _, s := range servers {
		all = append(all, engine.Endpoint{Host: s.Host, Port: s.Port, Socket: s.Socket})
	}
	return all
}

// sealed is a connection with TLS on it: it gives a record at a time, and tells what waits below.
type sealed struct {
	net.Conn
	records []string
	waiting int // bytes below, beside those of whole records
}

func (s *sealed) NetConn() net.Conn { return s }

func (s *sealed) Buffered() int {
	if len(s.records) == 0 {
		return s.waiting
	}
	return 2 * tlsWhole
}

func (s *sealed) Read(p []byte) (int, error) {
	if len(s.records) == 0 {
		return 0, io.EOF
	}
	n := copy(p, s.records[0])
	s.records = s.records[1:]
	return n, nil
}

// writes counts what is written at a time.
type writes struct {
	net.Conn
	sizes []int
}

func (w *writes) Write(p []byte) (int, error) {
	w.sizes = append(w.sizes, len(p))
	return len(p), nil
}

func (w *writes) Close() error { return nil }

// TestPassRecords: records that have come already are written together, and nothing is waited for.
func TestPassRecords(t *testing.T) {
	var count atomic.Int64
	to := &writes{}
	if err := pass(to, &sealed{records: slices.Repeat([]string{strings.Repeat("x", 8000)}, 5), waiting: 2*tlsWhole - 1}, &count); err != nil {
		t.Fatal(err)
	}
	if count.Load() != 40000 || len(to.sizes) > 2 || to.sizes[0] != 24000 {
		t.Errorf("%d bytes in %v", count.Load(), to.sizes)
	}
	if another(to) {
		t.Error("a connection without TLS has records")
	}
}

// TestTroubleStays: why the way is down is not covered by what waits for it, and a trouble that a person must end is
// waited for by nobody.
func TestTroubleStays(t *testing.T) {
	tunnel := New(Options{Profile: "tides", Servers: []engine.Endpoint{{Host: "h", Port: 1}}, Hops: []*hop.Hop{{}}, Listener: nobody{}, Patience: 10 * time.Second})
	tunnel.set(Down, nil)
	tunnel.failWay(finding.New(finding.HopHostKeyChanged, "another key"))
	start := time.Now()
	if _, err := tunnel.dial(t.Context()); err == nil || time.Since(start) > 5*time.Second {
		t.Errorf("%v after %s", err, time.Since(start))
	}
	tunnel.fail("", "a connection waited")
	if last := tunnel.Status().LastError; last.Code != finding.HopHostKeyChanged || last.Finding == nil {
		t.Errorf("%+v", last)
	}
	tunnel.failWay(finding.New(finding.HopRefused, "nothing listens"))
	if tunnel.lastingFailure() != nil {
		t.Error("what may pass is not waited for")
	}
	tunnel.set(Up, &hop.Link{})
	if last := tunnel.Status().LastError; last.Code != finding.HopRefused || tunnel.lastingFailure() != nil {
		t.Errorf("once it is up: %+v", last)
	}
}

// nobody is a listener to which nobody comes.
type nobody struct{ net.Listener }

func (nobody) Addr() net.Addr { return &net.TCPAddr{} }
