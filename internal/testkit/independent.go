package testkit

import (
	"fmt"
	"net"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// IndependentSQL is the port of a server that speaks MySQL's protocol and is none of the servers that the code was
// written for. It has one database and one account.
func IndependentSQL(t testing.TB, database, user, password string) int {
	t.Helper()
	return independent(t, "sqlserver", func(address string) []string { return []string{address, database, user, password} })
}

// IndependentDocuments is the port of a server that speaks MongoDB's protocol.
func IndependentDocuments(t testing.TB) int {
	t.Helper()
	folder := t.TempDir()
	return independent(t, "documents", func(address string) []string { return []string{address, folder} })
}

// independent starts a program that scripts/fetch-servers has built from internal/testkit/servers.
func independent(t testing.TB, name string, args func(address string) []string) int {
	t.Helper()
	return need(t, name, func() (int, error) {
		cache, err := serverCache()
		if err != nil {
			return 0, err
		}
		port := FreePort(t)
		address := fmt.Sprintf("127.0.0.1:%d", port)
		cmd := exec.Command(filepath.Join(cache, "independent", name), args(address)...)
		cmd.SysProcAttr = &syscall.SysProcAttr{}
		dieWithParent(cmd.SysProcAttr)
		if err := cmd.Start(); err != nil {
			return 0, fmt.Errorf("it is not in the cache (scripts/fetch-servers): %w", err)
		}
		t.Cleanup(func() {
			cmd.Process.Kill()
			cmd.Wait()
		})
		for range 200 {
			if conn, err := net.Dial("tcp", address); err == nil {
				conn.Close()
				return port, nil
			}
			time.Sleep(50 * time.Millisecond)
		}
		return 0, fmt.Errorf("%s does not answer at %s", name, address)
	})
}
