package main

import (
	"net"
	"testing"
)

// leaveSocket makes a socket file that nobody listens on.
func leaveSocket(t *testing.T, path string) {
	t.Helper()
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
	if err != nil {
		t.Fatal(err)
	}
	listener.SetUnlinkOnClose(false)
	listener.Close()
}

// override makes -override flags.
func override(pairs ...string) []string {
	var flags []string
	for _, pair := range pairs {
		flags = append(flags, "-override", pair)
	}
	return flags
}
