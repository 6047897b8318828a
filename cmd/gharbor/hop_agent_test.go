//go:build linux

package main

import (
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	cryptossh "golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"gentleharbor/internal/testkit"
)

// doubtful is an agent whose owner does not answer while asking is true.
type doubtful struct {
	agent.Agent
	asking *atomic.Bool
}

func (d doubtful) Sign(key cryptossh.PublicKey, data []byte) (*cryptossh.Signature, error) {
	for d.asking.Load() {
		time.Sleep(10 * time.Millisecond)
	}
	return d.Agent.Sign(key, data)
}

// withAgent has a jump host's key in an agent alone.
func withAgent(t *testing.T, p *testkit.Program, gate *testkit.SSHD) *atomic.Bool {
	t.Helper()
	data, err := os.ReadFile(gate.Key)
	if err != nil {
		t.Fatal(err)
	}
	key, err := cryptossh.ParseRawPrivateKey(data)
	if err != nil {
		t.Fatal(err)
	}
	keyring, asking := agent.NewKeyring(), new(atomic.Bool)
	if err := keyring.Add(agent.AddedKey{PrivateKey: key}); err != nil {
		t.Fatal(err)
	}
	folder, err := os.MkdirTemp("", "gharbor-agent-")
	if err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(folder, "agent")
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		asking.Store(false)
		l.Close()
		os.RemoveAll(folder)
	})
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go agent.ServeAgent(doubtful{keyring, asking}, conn)
		}
	}()
	p.Setenv("SSH_AUTH_SOCK", socket)
	p.OK("set", "tides", "hop.1.key="+gate.Key+".pub")
	return asking
}

// TestAgentThatWaits: an agent whose owner does not answer ends with the command's time, and a tunnel's process with the
// tunnel.
func TestAgentThatWaits(t *testing.T) {
	t.Parallel()
	p, gate, _ := tides(t)
	asking := withAgent(t, p, gate)
	p.OK("test", "tides")
	asking.Store(true)
	for _, words := range [][]string{{"test", "tides", "-timeout", "2s"}, {"tunnel", "open", "tides", "-background", "-timeout", "2s"}, {"with", "tides", "-check", "--", "true"}} {
		start := time.Now()
		if r := p.Run(words...); r.Code == 0 || time.Since(start) > 20*time.Second || !strings.Contains(r.Stdout+r.Stderr, "the SSH agent did not sign in time") {
			t.Errorf("%v ended with %d after %s:\n%s%s", words, r.Code, time.Since(start), r.Stdout, r.Stderr)
		}
	}
	asking.Store(false)
	p.OK("tunnel", "open", "tides", "-background")
	asking.Store(true)
	gate.Stop()
	if err := gate.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "the agent to be named", func() bool {
		return strings.Contains(p.OK("tunnel", "show", "tides").Stdout, "the SSH agent did not sign in time")
	})
	asking.Store(false)
	waitFor(t, "the way to be there again", func() bool { return strings.Contains(p.OK("tunnel", "show", "tides").Stdout, "up for") })
	asking.Store(true)
	gate.Stop()
	if err := gate.Start(); err != nil {
		t.Fatal(err)
	}
	shown := p.OK("tunnel", "show", "tides").Stdout
	_, rest, _ := strings.Cut(shown, "process ")
	pid, err := strconv.Atoi(strings.TrimSuffix(strings.Fields(rest)[0], ","))
	if err != nil {
		t.Fatalf("%v in\n%s", err, shown)
	}
	p.OK("tunnel", "close", "tides")
	waitFor(t, "its process to end", func() bool { return syscall.Kill(pid, 0) != nil })
}

// TestWithTellsTheWay: a program that fails because of the way has seen a closed connection alone; with says why.
func TestWithTellsTheWay(t *testing.T) {
	t.Parallel()
	p, _, server := tides(t, "AllowTcpForwarding no")
	p.Run("with", "tides", "--", server.Client(), "-XAtc", "SELECT 1").Want(2).Has("on the way to the server: ", "forbidden", "try: gharbor test tides")
	good, _, server := tides(t)
	good.Run("with", "tides", "--", server.Client(), "-XAtc", "SELECT no_such").Want(1).HasNot("on the way")
}
