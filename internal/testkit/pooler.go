//go:build unix

package testkit

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// Pooler is a PgBouncer in front of a PostgreSQL server. databases are the lines of its section [databases], users
// those of its file of users, more the settings besides.
func Pooler(t testing.TB, databases, users, more string) (port int) {
	t.Helper()
	return need(t, "PgBouncer", func() (int, error) {
		program, err := exec.LookPath("pgbouncer")
		if err != nil {
			if program, err = exec.LookPath("/usr/sbin/pgbouncer"); err != nil {
				return 0, fmt.Errorf("pgbouncer was not found (Debian's package is pgbouncer)")
			}
		}
		cred, err := credential("postgres")
		if err != nil {
			return 0, err
		}
		folder := t.TempDir()
		for above := folder; above != os.TempDir() && above != "/"; above = filepath.Dir(above) {
			os.Chmod(above, 0o755)
		}
		port := FreePort(t)
		write := func(name, text string) error {
			path := filepath.Join(folder, name)
			if err := os.WriteFile(path, []byte(text), 0o600); err != nil || cred == nil {
				return err
			}
			return os.Chown(path, int(cred.Uid), int(cred.Gid))
		}
		settings := fmt.Sprintf("[databases]\n%s\n[pgbouncer]\nlisten_addr = 127.0.0.1\nlisten_port = %d\n"+
			"auth_type = scram-sha-256\nauth_file = %s/users\nunix_socket_dir =\n%s\n", databases, port, folder, more)
		if err := write("users", users); err != nil {
			return 0, err
		}
		if err := write("settings.ini", settings); err != nil {
			return 0, err
		}
		cmd := exec.Command(program, filepath.Join(folder, "settings.ini"))
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: cred}
		return port, serving(t, cmd, port)
	})
}

// serving starts a server that ends with the test, and waits until it listens at its port of this machine.
func serving(t testing.TB, cmd *exec.Cmd, port int) (err error) {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	dieWithParent(cmd.SysProcAttr)
	if err := cmd.Start(); err != nil {
		return err
	}
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
	})
	for range 200 {
		var conn net.Conn
		if conn, err = net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			return conn.Close()
		}
		time.Sleep(50 * time.Millisecond)
	}
	return err
}
