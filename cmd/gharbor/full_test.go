//go:build unix

package main

import (
	"fmt"
	"net"
	"syscall"
	"testing"
)

// full is a port of 127.0.0.1 whose listener takes nobody any more: to whoever
// dials, it is silent.
func full(t *testing.T) string {
	t.Helper()
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { syscall.Close(fd) })
	if err := syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Listen(fd, 0); err != nil {
		t.Fatal(err)
	}
	name, _ := syscall.Getsockname(fd)
	port := fmt.Sprint(name.(*syscall.SockaddrInet4).Port)
	for range 4 { // the first fills the queue
		conn, err := net.DialTimeout("tcp", "127.0.0.1:"+port, 300_000_000)
		if err == nil {
			t.Cleanup(func() { conn.Close() })
		}
	}
	return port
}

// outerAddress is an address of this machine that is not written as its own.
func outerAddress(t *testing.T) string {
	t.Helper()
	all, _ := net.InterfaceAddrs()
	for _, a := range all {
		if network, ok := a.(*net.IPNet); ok && !network.IP.IsLoopback() && network.IP.To4() != nil {
			return network.IP.String()
		}
	}
	t.Skip("this machine has no address but its loopback's")
	return ""
}
