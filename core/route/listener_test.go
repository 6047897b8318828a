package route

import (
	"bufio"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"
	"time"
)

// TestLoopbackChecked: who serves a loopback port is known by the connection itself; an address elsewhere is not
// checked.
func TestLoopbackChecked(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("only Linux tells whose a connection is")
	}
	for _, address := range []string{"127.0.0.1:0", "[::1]:0"} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			t.Log(err)
			continue
		}
		defer l.Close()
		accepted := make(chan net.Conn, 1)
		go func() {
			conn, _ := l.Accept()
			accepted <- conn
		}()
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		server := <-accepted
		defer server.Close()
		if !LoopbackChecked(conn) {
			t.Errorf("%s: a process of this user is not known", address)
		}
		if OwnerOf(server) != OwnerSelf {
			t.Errorf("%s: a program of this user is not known", address)
		}
		conn.Close()
		if owner := OwnerOf(server); owner != OwnerUnknown {
			t.Errorf("%s: a connection that its program has closed is somebody's: %d", address, owner)
		}
	}
	one, other := net.Pipe()
	defer other.Close()
	if LoopbackChecked(one) || OwnerOf(one) != OwnerUnknown {
		t.Error("a pipe is a checked loopback")
	}
}

// TestOwnerOfAnother: the account is that of the process, and a connection that nobody has accepted belongs to nobody.
func TestOwnerOfAnother(t *testing.T) {
	if runtime.GOOS != "linux" || os.Getuid() != 0 {
		t.Skip("only root can serve as somebody else")
	}
	for account, want := range map[string]bool{"nobody": false, "root": true} {
		conn := servedBy(t, account)
		if got := LoopbackChecked(conn); got != want {
			t.Errorf("a port of %s is checked: %v", account, got)
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	conn, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if LoopbackChecked(conn) {
		t.Error("a connection that nobody has accepted is checked")
	}
	if _, err := askKernel(netip.MustParseAddrPort("127.0.0.1:1"), netip.MustParseAddrPort("127.0.0.1:2")); err == nil {
		t.Error("a connection that is not there has an owner")
	}
}

// servedBy is a connection to a program that another account runs.
func servedBy(t *testing.T, account string) net.Conn {
	t.Helper()
	const program = `use IO::Socket::INET; $| = 1; $s = IO::Socket::INET->new(Listen => 1, LocalAddr => "127.0.0.1"); ` +
		`print $s->sockport, "\n"; $c = $s->accept; print $c "in\n"; sleep 20`
	cmd := exec.Command("su", account, "-s", "/bin/sh", "-c", "exec perl -e '"+program+"'")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	port, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Skip("no such program here: ", err)
	}
	conn, err := net.Dial("tcp", "127.0.0.1:"+strings.TrimSpace(port))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	if _, err := bufio.NewReader(conn).ReadString('\n'); err != nil {
		t.Fatal(err)
	}
	return conn
}
