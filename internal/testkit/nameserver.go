//go:build unix

package testkit

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"testing"

	"gentleharbor/standin/dns"
)

var nameServers atomic.Int32

// NameServer starts a simulated name server and makes it the one that the program asks:
// the program is run with a resolv.conf(5) of its own, which takes root and Linux.
func (p *Program) NameServer(t testing.TB, server *dns.Server) {
	t.Helper()
	p.Prefix = need(t, "name server of its own (a mount namespace)", func() ([]string, error) {
		if runtime.GOOS != "linux" || os.Getuid() != 0 {
			return nil, errors.New("it takes root on Linux")
		}
		address := fmt.Sprintf("127.53.%d.%d", os.Getpid()%250+1, nameServers.Add(1))
		if err := server.Start(address + ":53"); err != nil {
			return nil, err
		}
		t.Cleanup(server.Close)
		path := filepath.Join(t.TempDir(), "resolv.conf")
		if err := os.WriteFile(path, []byte("nameserver "+address+"\noptions timeout:2 attempts:1\n"), 0o644); err != nil {
			return nil, err
		}
		prefix := []string{"unshare", "--mount", "sh", "-c", `mount --bind "$0" /etc/resolv.conf && exec "$@"`, path}
		if out, err := exec.Command(prefix[0], append(prefix[1:], "true")...).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%w: %s", err, out)
		}
		return prefix, nil
	})
}
