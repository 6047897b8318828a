//go:build unix

package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"gentleharbor/core/tunnel"
	"gentleharbor/internal/testkit"
	"gentleharbor/standin/ssh"
)

// opened opens a tunnel in the background and returns its status.
func opened(t *testing.T, p *testkit.Program, flags ...string) tunnel.Status {
	t.Helper()
	p.OK(append([]string{"tunnel", "open", "tides", "-background"}, flags...)...)
	t.Cleanup(func() { p.Run("tunnel", "close", "-all") })
	return status(t, p)
}

func status(t *testing.T, p *testkit.Program) tunnel.Status {
	t.Helper()
	var all struct{ Tunnel tunnel.Status }
	r := p.OK("tunnel", "show", "tides", "-format", "json")
	if err := json.Unmarshal([]byte(r.Stdout), &all); err != nil {
		t.Fatal(err)
	}
	return all.Tunnel
}

// ask logs in to PostgreSQL at an address and asks who one is.
func ask(address string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 40*time.Second)
	defer cancel()
	host, port, _ := strings.Cut(address, ":")
	conn, err := pgconn.Connect(ctx, fmt.Sprintf("host=%s port=%s user=tidekeeper dbname=tides sslmode=require password='%s'", host, port, strings.ReplaceAll(testkit.WardenPassword, `\`, `\\`)))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	result := conn.ExecParams(ctx, "SELECT current_user", nil, nil, nil, nil).Read()
	if result.Err != nil || string(result.Rows[0][0]) != "tidekeeper" {
		return fmt.Errorf("%v %v", result.Err, result.Rows)
	}
	return nil
}

// bulk asks PostgreSQL for half a gibibyte, and says when the first of it has come.
func bulk(address string, started chan<- bool) error {
	ctx, cancel := context.WithTimeout(context.Background(), 40*time.Second)
	defer cancel()
	host, port, _ := strings.Cut(address, ":")
	conn, err := pgconn.Connect(ctx, fmt.Sprintf("host=%s port=%s user=tidekeeper dbname=tides sslmode=require password='%s'", host, port, strings.ReplaceAll(testkit.WardenPassword, `\`, `\\`)))
	if err != nil {
		close(started)
		return err
	}
	defer conn.Close(ctx)
	rows := conn.ExecParams(ctx, "SELECT repeat('ebb and flow ', 5000) FROM generate_series(1, 8000)", nil, nil, nil, nil)
	for n := 0; rows.NextRow(); n++ {
		if n == 20 {
			close(started)
		}
	}
	_, err = rows.Close()
	return err
}

// ownPort gives a profile's tunnel a port that no other test takes: those of other tests' profiles of the same name are
// looked for at the same places.
func ownPort(t *testing.T, p *testkit.Program, profile string) {
	t.Helper()
	port, err := tunnel.Free("127.0.0.1", 20_000+os.Getpid()%900)
	if err != nil {
		t.Fatal(err)
	}
	text := fmt.Sprintf(`{"format": 1, "ports": {%q: %d}}`, profile, port)
	p.Write(filepath.Join(p.Home, "tunnel-ports.json"), text)
}

// TestTunnel: a local address that leads to a private server, keeps its port, and
// heals itself when the hop is restarted.
func TestTunnel(t *testing.T) {
	t.Parallel()
	p, gate, _ := tides(t)
	p.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	os.Chmod(p.Getenv("XDG_RUNTIME_DIR"), 0o700)
	ownPort(t, p, "tides")
	r := p.OK("tunnel", "open", "tides", "-background")
	r.Has("open: 127.0.0.1:", "through "+gate.User+"@", "url   postgresql://tidekeeper@localhost:", "hostaddr=127.0.0.1", "gharbor with tides")
	t.Cleanup(func() { p.Run("tunnel", "close", "-all") })
	s := status(t, p)
	if err := ask(s.Local); err != nil {
		t.Fatal(err)
	}
	if s = status(t, p); s.State != tunnel.Up || s.Connections == 0 || s.Sent == 0 || s.Received == 0 || !s.Background {
		t.Errorf("%+v", s)
	}
	p.OK("tunnel", "list").Has("tides", "up", s.Local)
	p.Run("tunnel", "open", "tides").Want(5).Has("open already, at "+s.Local, "gharbor tunnel close tides")
	p.Run("tunnel", "show", "tide").Want(2).Has(`did you mean "tides"`)

	broken := make(chan error, 1)
	started := make(chan bool)
	go func() { broken <- bulk(s.Local, started) }() // ends with the hop, in mid-transfer
	<-started
	gate.Stop()
	select {
	case err := <-broken:
		if err == nil {
			t.Error("a transfer went on without a hop")
		}
	case <-time.After(20 * time.Second):
		t.Error("a transfer hangs after its hop has gone")
	}
	waitFor(t, "the tunnel to notice", func() bool { return status(t, p).State == tunnel.Down })
	p.OK("tunnel", "show", "tides").Has("down for", "last trouble")
	waiting := make(chan error, 1)
	go func() { waiting <- ask(s.Local) }() // a new connection waits for the way
	time.Sleep(300 * time.Millisecond)
	if err := gate.Start(); err != nil {
		t.Fatal(err)
	}
	if err := <-waiting; err != nil {
		t.Errorf("the connection that waited: %v", err)
	}
	if s = status(t, p); s.Reconnects == 0 || s.LastError == nil || s.State != tunnel.Up {
		t.Errorf("%+v", s)
	}
	gate.Fresh(t) // another machine in the hop's place
	waitFor(t, "the tunnel to see the other key", func() bool {
		s := status(t, p)
		return s.State == tunnel.Down && s.LastError != nil && s.LastError.Code == "hop.host-key-changed"
	})
	p.OK("tunnel", "close", "tides").Has("closed: tides at " + s.Local)
	p.Knows(gate.KnownLine(t))
	if err := ask(s.Local); err == nil {
		t.Error("it is closed and serves")
	}
	p.OK("tunnel", "list").Has("no tunnel is open")
	if again := opened(t, p); again.Local != s.Local {
		t.Errorf("the address was %s and is %s", s.Local, again.Local)
	}
}

// TestWithTunnel: a program gets a plain address that leads through the hops.
func TestWithTunnel(t *testing.T) {
	t.Parallel()
	p, _, _ := tides(t)
	p.OK("with", "tides", "--", "sh", "-c", "echo $PGHOST $PGHOSTADDR $PGSSLMODE; psql -Atc 'SELECT current_user, ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()'").
		Has("localhost 127.0.0.1 verify-full", "tidekeeper|t")
}

func waitFor(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for range 400 {
		if ok() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("waited 20 s for %s", what)
}

// TestTunnelOptions: where it listens, for how long, and what is refused.
func TestTunnelOptions(t *testing.T) {
	t.Parallel()
	p, _ := simulatedTides(t, ssh.Config{})
	p.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	os.Chmod(p.Getenv("XDG_RUNTIME_DIR"), 0o700)
	t.Cleanup(func() { p.Run("tunnel", "close", "-all") })
	p.Run("tunnel", "open", "tides", "-local", "0.0.0.0:5433").Want(2).Has("others on the network", "-open-to-network")
	p.Run("tunnel", "open", "tides", "-local", "5433", "-socket", "x").Want(2).Has("give -local or -socket")
	p.Run("tunnel", "open", "tides", "-local", "tide").Want(2).Has("expected HOST:PORT")
	p.Run("tunnel", "close").Want(2).Has("which tunnel?")
	p.OK("copy", "tides", "flat")
	p.OK("hop", "remove", "flat", "1", "-yes")
	p.Run("tunnel", "open", "flat").Want(2).Has("has no hops")

	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	r := p.Run("tunnel", "open", "tides", "-local", taken.Addr().String()).Want(5)
	r.Has("is taken by ", fmt.Sprintf("(process %d)", os.Getpid()), "gharbor tunnel open tides -local 127.0.0.1:")
	port := fmt.Sprint(testkit.FreePort(t))
	p.OK("tunnel", "open", "tides", "-background", "-local", port).Has("open: 127.0.0.1:" + port)
	p.OK("copy", "tides", "second")
	p.Run("tunnel", "open", "second", "-local", port).Want(5).Has("the tunnel of the profile tides to tide-db.internal.example:5432", "gharbor tunnel close tides")
	p.OK("export", "tides", "-as", "url").Has("@127.0.0.1:" + port + "/")
	p.OK("tunnel", "close", "tides")
	p.OK("export", "tides", "-as", "url").Has("@tide-db.internal.example:5432/", "gharbor tunnel open tides")

	folder := filepath.Join(filepath.Dir(p.Home), "run")
	p.OK("tunnel", "open", "tides", "-background", "-socket", folder+"/").Has(folder+"/.s.PGSQL.5432", "host="+folder)
	if info, err := os.Stat(folder + "/.s.PGSQL.5432"); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	p.OK("add", "bysocket", "-engine", "postgresql", "-socket", folder, "-user", "warden", "-database", "sightings", "-secret", "env:DUNLIN", "-tls", "off")
	p.Test("bysocket").Ends(t, "session", "ok", "")
	p.OK("tunnel", "close", "-all")
	if _, err := os.Stat(folder + "/.s.PGSQL.5432"); err == nil {
		t.Error("the socket is left behind")
	}
	p.OK("tunnel", "open", "tides", "-background", "-idle", "3s") // a busy machine takes a while to open it
	waitFor(t, "the idle tunnel to end", func() bool { return strings.Contains(p.OK("tunnel", "list").Stderr, "no tunnel") })
	p.OK("tunnel", "open", "tides", "-background", "-lifetime", "3s")
	waitFor(t, "the tunnel's lifetime", func() bool { return strings.Contains(p.OK("tunnel", "list").Stderr, "no tunnel") })
	p.OK("set", "tides", "hop.1.user=stranger")
	p.Run("tunnel", "open", "tides", "-background").Want(5).Has("hop.key-refused", "offered: key")
	p.OK("tunnel", "list").Has("no tunnel is open")
}

// TestTunnelOfSSH: a port that is itself a forward of the system's SSH client.
func TestTunnelOfSSH(t *testing.T) {
	t.Parallel()
	gate := testkit.SSHServer(t)
	p := behind(t, gate, quoted("key", gate.Key))
	port := fmt.Sprint(testkit.FreePort(t))
	known := filepath.Join(filepath.Dir(p.Home), ".ssh", "known_hosts")
	client := exec.Command("ssh", "-F", "none", "-N", "-o", "UserKnownHostsFile="+known, "-i", gate.Key, "-p", fmt.Sprint(gate.Port), "-L", port+":tide-db.internal.example:5432", gate.User+"@127.0.0.1")
	if err := client.Start(); err != nil {
		t.Skip(err)
	}
	defer func() {
		client.Process.Kill()
		client.Wait()
	}()
	waitFor(t, "the SSH client", func() bool {
		conn, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	p.Run("tunnel", "open", "tides", "-local", port).Want(5).Has("is taken by ssh (process ", "leads to tide-db.internal.example:5432 through "+gate.User+"@127.0.0.1")
}
