package route

import (
	"context"
	"errors"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/finding"
	"gentleharbor/core/owner"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
)

func TestUnreached(t *testing.T) {
	host := address.Candidate{Host: "tide-db.internal.example", Port: 5432}
	socket := address.Candidate{Socket: "/nowhere/.s.PGSQL.5432", Folder: "/nowhere"}
	timeout := &net.OpError{Op: "dial", Err: os.ErrDeadlineExceeded}
	for _, c := range []struct {
		at   address.Candidate
		errs []error
		want string
	}{
		{host, []error{syscall.ECONNREFUSED}, "reach.refused"},
		{host, []error{timeout}, "reach.timeout"},
		{host, []error{timeout, syscall.ECONNREFUSED, timeout}, "reach.refused"},
		{host, []error{syscall.ENETUNREACH}, "reach.unreachable"},
		{host, []error{syscall.EHOSTUNREACH}, "reach.unreachable"},
		{host, []error{errors.New("a cable was cut")}, "reach.failed"},
		{host, []error{&net.OpError{Op: "dial", Err: syscall.EMFILE}}, "reach.too-many-files"},
		{socket, []error{&net.OpError{Op: "dial", Err: syscall.ENFILE}}, "reach.too-many-files"},
		{socket, []error{fs.ErrNotExist}, "reach.socket-missing"},
		{socket, []error{fs.ErrPermission}, "reach.socket-permission"},
		{socket, []error{syscall.EPROTOTYPE}, "reach.not-a-socket"},
		{socket, []error{errors.New("odd")}, "reach.failed"},
	} {
		var tried []Attempt
		for _, err := range c.errs {
			tried = append(tried, Attempt{Address: "192.0.2.1:5432", Err: err})
		}
		found := ExplainUnreached("tides", c.at, tried)
		if c.want == "reach.unreachable" {
			tried[0].TurnedBack = true
			if back := ExplainUnreached("tides", c.at, tried); back.Code != "reach.turned-back" {
				t.Errorf("%v with a route: %s", c.errs, back.Code)
			}
		}
		if string(found.Code) != c.want {
			t.Errorf("%v: %s, want %s", c.errs, found.Code, c.want)
		}
		if len(found.Seen) != len(tried) {
			t.Errorf("%v: seen %q", c.errs, found.Seen)
		}
		if _, ok := finding.PageOf(found.Code); !ok {
			t.Errorf("%s has no page", found.Code)
		}
	}
}

// TestReset: a connection that is reset before the dial ends was accepted all the same.
func TestReset(t *testing.T) {
	dial := func(err error) func(context.Context, string, string) (net.Conn, error) {
		return dialAccepted(func(context.Context, string, string) (net.Conn, error) {
			return nil, &net.OpError{Op: "dial", Err: err}
		})
	}
	conn, err := dial(syscall.ECONNRESET)(t.Context(), "tcp", "192.0.2.1:5432")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Read(make([]byte, 1)); !errors.Is(err, syscall.ECONNRESET) || conn.RemoteAddr().String() != "192.0.2.1:5432" {
		t.Errorf("%v %v", err, conn.RemoteAddr())
	}
	if _, err := dial(syscall.ECONNREFUSED)(t.Context(), "tcp", "192.0.2.1:5432"); !errors.Is(err, syscall.ECONNREFUSED) {
		t.Error(err)
	}
}

func TestNames(t *testing.T) {
	ctx := context.Background()
	answer := func(addrs []netip.Addr, err error) Network {
		return Network{Resolve: func(context.Context, string) ([]netip.Addr, error) { return addrs, err }}
	}
	at := address.Candidate{Host: "tide-db.internal.example", Port: 5432}
	_, result := answer(nil, &net.DNSError{Err: "i/o timeout", IsTimeout: true}).Names(ctx, "tides", at)
	if result.Finding == nil || result.Finding.Code != "name.timeout" {
		t.Errorf("time-out: %+v", result.Finding)
	}
	_, result = answer(nil, &net.DNSError{Err: "no such host\x1b[2J", Server: "192.0.2.53:53", IsNotFound: true}).Names(ctx, "tides", at)
	if result.Finding == nil || result.Finding.Code != "name.unknown" || strings.Contains(result.Finding.Seen[0], "\x1b") {
		t.Errorf("unknown: %+v", result.Finding)
	}
	for want, others := range map[string]func(context.Context, string) ([]netip.Addr, bool){
		"host=192.0.2.9": func(context.Context, string) ([]netip.Addr, bool) {
			return []netip.Addr{netip.MustParseAddr("192.0.2.9")}, true
		},
		"do not know it":     func(context.Context, string) ([]netip.Addr, bool) { return nil, true },
		"could not be asked": func(context.Context, string) ([]netip.Addr, bool) { return nil, false },
	} {
		n := answer(nil, &net.DNSError{Err: "no such host", IsNotFound: true})
		n.Others = others
		_, result := n.Names(ctx, "tides", at)
		if text := strings.Join(append(result.Finding.Seen, result.Finding.Try...), "\n"); !strings.Contains(text, want) {
			t.Errorf("no %q in %s", want, text)
		}
		rented := at
		rented.Cloud = &address.CloudAddress{}
		if _, result := n.Names(ctx, "tides", rented); strings.Contains(strings.Join(result.Finding.Try, "\n"), "host=") {
			t.Errorf("host= is tried where a service says the address: %s", result.Finding.Try)
		}
	}
	many := make([]netip.Addr, 100)
	for i := range many {
		many[i] = netip.AddrFrom4([4]byte{192, 0, 2, byte(i)})
	}
	if addrs, _ := answer(many, nil).Names(ctx, "tides", at); len(addrs) != 16 {
		t.Errorf("%d addresses of a name with 100", len(addrs))
	}
	if addrs, result := (Network{}).Names(ctx, "tides", address.Candidate{Host: "::1"}); len(addrs) != 1 || result.Outcome != finding.OK {
		t.Error("a literal address was looked up")
	}
}

// TestReachMixed: the first address refuses, the second serves.
func TestReachMixed(t *testing.T) {
	n := Network{Dial: func(_ context.Context, _, address string) (net.Conn, error) {
		if strings.HasPrefix(address, "[::1]") {
			return nil, &net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}
		}
		ours, theirs := net.Pipe()
		theirs.Close()
		return ours, nil
	}}
	addrs := []netip.Addr{netip.MustParseAddr("::1"), netip.MustParseAddr("127.0.0.1")}
	reached, tried := n.Reach(context.Background(), address.Candidate{Host: "localhost", Port: 5432}, addrs)
	if reached == nil {
		t.Fatal(tried)
	}
	if !reached.FellBack() || reached.Address != "127.0.0.1:5432" {
		t.Errorf("mixed %v at %s", reached.FellBack(), reached.Address)
	}
	found := reached.MixedFinding("sightings", address.Candidate{Host: "localhost"})
	if found.Code != "name.mixed" || found.Try[0] != "gharbor set sightings host=127.0.0.1" {
		t.Errorf("%+v", found)
	}
	found = reached.MixedFinding("sightings", address.Candidate{Host: "localhost", Source: "the SRV record"})
	if found.Code != "name.mixed" || len(found.Try) > 0 {
		t.Errorf("%+v", found)
	}
}

// TestReachShares: an address that swallows packets leaves time for the next.
func TestReachShares(t *testing.T) {
	n := Network{Dial: func(ctx context.Context, _, address string) (net.Conn, error) {
		if strings.HasPrefix(address, "192.0.2.1:") {
			<-ctx.Done()
			return nil, ctx.Err()
		}
		ours, theirs := net.Pipe()
		theirs.Close()
		return ours, nil
	}}
	ctx, cancel := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer cancel()
	reached, tried := n.Reach(ctx, address.Candidate{Host: "x.example", Port: 1}, []netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2")})
	if reached == nil {
		t.Fatalf("not reached: %v", tried)
	}
}

func TestCandidates(t *testing.T) {
	folder := t.TempDir()
	for _, c := range []struct {
		text string
		want []address.Candidate
	}{
		{`host = "::1"`, []address.Candidate{{Host: "::1", Port: 5432}}},
		{`hosts = ["a.example", "b.example:1", "[::1]:2", "::1"]` + "\nport = 6", []address.Candidate{{Host: "a.example", Port: 6}, {Host: "b.example", Port: 1}, {Host: "::1", Port: 2}, {Host: "::1", Port: 6}}},
		{`socket = "` + folder + `"`, []address.Candidate{{Socket: filepath.Join(folder, ".s.PGSQL.5432"), Folder: folder, Port: 5432}}},
		{`socket = "` + folder + `"` + "\nport = 5433", []address.Candidate{{Socket: filepath.Join(folder, ".s.PGSQL.5433"), Folder: folder, Port: 5433}}},
		{`socket = "` + folder + `/.s.PGSQL.7"`, []address.Candidate{{Socket: filepath.Join(folder, ".s.PGSQL.7"), Folder: folder, Port: 7}}},
		{`socket = "/no/such/folder"`, []address.Candidate{{Socket: "/no/such/folder/.s.PGSQL.5432", Folder: "/no/such/folder", Port: 5432}}},
	} {
		f, err := profile.Parse(keys, "profiles.toml", []byte("[profile.tides]\nengine = \"postgresql\"\n"+c.text))
		if err != nil {
			t.Fatal(err)
		}
		got, found := Network{}.Candidates(t.Context(), resolve.Resolve(f, f.Lookup("tides"), nil, resolve.Environment{}))
		if found != nil || len(got) != len(c.want) {
			t.Fatalf("%s: %v %v", c.text, got, found)
		}
		for i := range got {
			if got[i] != c.want[i] {
				t.Errorf("%s: %+v, want %+v", c.text, got[i], c.want[i])
			}
		}
	}
}

func TestPeerChecked(t *testing.T) {
	folder := t.TempDir()
	listener, err := net.Listen("unix", filepath.Join(folder, "s"))
	if err != nil {
		t.Skip(err)
	}
	defer listener.Close()
	conn, err := net.Dial("unix", filepath.Join(folder, "s"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if _, ok := owner.OfPeer(conn.(*net.UnixConn)); ok && !PeerChecked(conn, folder) {
		t.Error("this very process is not trusted")
	}
	ours, theirs := net.Pipe()
	defer ours.Close()
	defer theirs.Close()
	if PeerChecked(ours, folder) {
		t.Error("what is no socket was checked")
	}
}

// TestReached: the first address that accepts is taken, and the others are told.
func TestReached(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	port := listener.Addr().(*net.TCPAddr).Port
	n := System()
	reached, tried := n.Reach(t.Context(), address.Candidate{Host: "localhost", Port: port}, []netip.Addr{netip.MustParseAddr("127.0.0.1")})
	if reached == nil {
		t.Fatalf("%+v", tried)
	}
	reached.Conn.Close()
	if reached.Network != "tcp" || reached.Address != listener.Addr().String() {
		t.Errorf("%+v", reached)
	}
	if reached, tried := n.Reach(t.Context(), address.Candidate{Socket: filepath.Join(t.TempDir(), "none")}, nil); reached != nil || len(tried) != 1 {
		t.Errorf("%+v %+v", reached, tried)
	}
}

// TestSystem: the machine's own network has all its parts.
func TestSystem(t *testing.T) {
	n := System()
	if n.Resolve == nil || n.Dial == nil || n.Services == nil {
		t.Error("the system's network lacks a part")
	}
	if addrs, err := n.Resolve(t.Context(), "localhost"); err != nil || len(addrs) == 0 {
		t.Errorf("%v %v", addrs, err)
	}
}
