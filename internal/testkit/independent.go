//go:build unix

package testkit

import (
	"fmt"
	"net"
	"os/exec"
	"path/filepath"
	"testing"
)

// IndependentSQL is the port of a server that speaks MySQL's protocol and is none of the servers that the code was
// written for. It has one database and one account.
func IndependentSQL(t testing.TB, database, user, password string) int {
	t.Helper()
	return independent(t, "sqlserver", func(address string) []string {
		return []string{address, database, user, password}
	})
}

// IndependentDocuments is the port of a server that speaks MongoDB's protocol.
func IndependentDocuments(t testing.TB) int {
	t.Helper()
	folder := t.TempDir()
	return independent(t, "documents", func(address string) []string { return []string{address, folder} })
}

// IndependentSignIn is the port of an OAuth 2.0 server with the device flow, over TLS by the files of a certificate and
// its key. Its issuer is https://HOST:PORT.
func IndependentSignIn(t testing.TB, host, cert, key string) int {
	t.Helper()
	return independent(t, "signin", func(address string) []string {
		_, port, _ := net.SplitHostPort(address)
		return []string{address, "https://" + net.JoinHostPort(host, port), cert, key}
	})
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
		cmd := exec.Command(filepath.Join(cache, "independent", name), args(fmt.Sprintf("127.0.0.1:%d", port))...)
		if err := serving(t, cmd, port); err != nil {
			return 0, fmt.Errorf("it is not in the cache (scripts/fetch-servers): %w", err)
		}
		return port, nil
	})
}
