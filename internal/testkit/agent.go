//go:build unix

package testkit

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Agent runs an SSH agent that holds the keys of these files, and returns the path
// of its socket.
func Agent(t testing.TB, keys ...string) string {
	t.Helper()
	ring := agent.NewKeyring()
	for _, path := range keys {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		key, err := ssh.ParseRawPrivateKey(data)
		if err == nil {
			err = ring.Add(agent.AddedKey{PrivateKey: key, Comment: path})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	folder, err := os.MkdirTemp("", "gha-") // a socket's path is short
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	socket := filepath.Join(folder, "agent")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	Serve(t, listener, func(conn net.Conn) { agent.ServeAgent(ring, conn) })
	return socket
}
