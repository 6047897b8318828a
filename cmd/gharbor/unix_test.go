//go:build unix

package main

import (
	"fmt"
	"net"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// fullQueue is the port of a listener that accepts nothing and whose queue of
// waiting connections is full: the system then drops what else comes.
func fullQueue(t *testing.T) int {
	t.Helper()
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { unix.Close(fd) })
	if err := unix.Bind(fd, &unix.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}); err != nil {
		t.Fatal(err)
	}
	if err := unix.Listen(fd, 0); err != nil {
		t.Fatal(err)
	}
	name, err := unix.Getsockname(fd)
	if err != nil {
		t.Fatal(err)
	}
	port := name.(*unix.SockaddrInet4).Port
	for range 8 {
		conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), 200*time.Millisecond)
		if err != nil {
			return port
		}
		t.Cleanup(func() { conn.Close() })
	}
	t.Skip("this system's queue does not fill")
	return 0
}

// TestReachTimeout: a listener whose queue is full swallows what comes.
func TestReachTimeout(t *testing.T) {
	t.Parallel()
	p := at(t, fullQueue(t))
	r := p.Run("test", "sightings", "-format", "json", "-timeout", "700ms").Want(1)
	r.Report().Ends(t, "reach", "fail", "reach.timeout")
	if r.Took > 3*time.Second {
		t.Errorf("it took %s", r.Took)
	}
}
