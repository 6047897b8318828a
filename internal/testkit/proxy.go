//go:build unix

package testkit

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// Proxy is an HAProxy that passes connections on to a port of this machine. options stand behind the server's address.
func Proxy(t testing.TB, to int, options string) (port int) {
	t.Helper()
	return need(t, "HAProxy", func() (int, error) {
		program, err := exec.LookPath("haproxy")
		if err != nil {
			if program, err = exec.LookPath("/usr/sbin/haproxy"); err != nil {
				return 0, fmt.Errorf("haproxy was not found (Debian's package is haproxy)")
			}
		}
		port := FreePort(t)
		path := filepath.Join(t.TempDir(), "haproxy.cfg")
		settings := fmt.Sprintf("defaults\n  mode tcp\n  timeout connect 2s\n  timeout client 20s\n  timeout server 20s\n"+
			"listen x\n  bind 127.0.0.1:%d\n  server one 127.0.0.1:%d %s\n", port, to, options)
		if err := os.WriteFile(path, []byte(settings), 0o600); err != nil {
			return 0, err
		}
		cmd := exec.Command(program, "-db", "-f", path)
		return port, serving(t, cmd, port)
	})
}
