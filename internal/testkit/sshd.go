//go:build unix

package testkit

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// SSHD is a throw-away real OpenSSH server, which lets in the account that the
// tests run as.
type SSHD struct {
	Folder string
	Host   string // 127.0.0.1, or its address on a private network
	Port   int
	User   string
	Key    string // a private key file that logs in

	lines []string // of its configuration, besides the usual ones
	cmd   *exec.Cmd
	in    *Namespace
}

// Keygen runs ssh-keygen, which asks nothing.
func Keygen(args ...string) error {
	out, err := exec.Command("ssh-keygen", append([]string{"-q"}, args...)...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("ssh-keygen %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}

// NewKey makes a private key file, and its public part beside it.
func NewKey(t testing.TB, kind, passphrase string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "key-"+kind)
	if err := Keygen("-t", kind, "-N", passphrase, "-f", path, "-C", "keeper"); err != nil {
		t.Fatal(err)
	}
	return path
}

// SSHServer starts an OpenSSH server with these lines in its configuration. The
// first value of a keyword counts, so they go before the usual ones.
func SSHServer(t testing.TB, lines ...string) *SSHD {
	t.Helper()
	return SSHServerIn(t, nil, lines...)
}

// StartSSHServer is SSHServer outside of a test; StopAll ends it.
func StartSSHServer(lines ...string) (*SSHD, error) {
	s, err := newSSHD(nil, lines)
	if err != nil {
		return nil, err
	}
	onExit(func() {
		s.Stop()
		os.RemoveAll(s.Folder)
	})
	return s, s.Start()
}

// SSHServerIn is SSHServer on a private network, where in is not nil.
func SSHServerIn(t testing.TB, in *Namespace, lines ...string) *SSHD {
	t.Helper()
	return need(t, "OpenSSH", func() (*SSHD, error) {
		s, err := newSSHD(in, lines)
		if err != nil {
			return nil, err
		}
		t.Cleanup(func() {
			s.Stop()
			os.RemoveAll(s.Folder)
		})
		return s, s.Start()
	})
}

func newSSHD(in *Namespace, lines []string) (*SSHD, error) {
	if _, err := sshdProgram(); err != nil {
		return nil, err
	}
	account, err := user.Current()
	if err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp("", "gharbor-sshd-")
	if err != nil {
		return nil, err
	}
	s := &SSHD{
		Folder: folder,
		Host:   "127.0.0.1",
		User:   account.Username,
		Key:    filepath.Join(folder, "login"),
		lines:  lines,
		in:     in,
	}
	if in != nil {
		s.Host = in.Address
	}
	if os.Getuid() == 0 {
		os.MkdirAll("/run/sshd", 0o755) // what its packages make when they start it
	}
	for name, kind := range map[string]string{"login": "ed25519", "host_ed25519": "ed25519"} {
		if err := Keygen("-t", kind, "-N", "", "-f", filepath.Join(folder, name), "-C", "keeper"); err != nil {
			return nil, err
		}
	}
	public, err := os.ReadFile(s.Key + ".pub")
	if err != nil {
		return nil, err
	}
	if s.Port, err = freePort(); err != nil {
		return nil, err
	}
	return s, os.WriteFile(filepath.Join(folder, "authorized_keys"), public, 0o600)
}

func sshdProgram() (string, error) {
	for _, path := range []string{"/usr/sbin/sshd", "/usr/local/sbin/sshd"} {
		if _, err := os.Stat(path); err == nil {
			return path, nil
		}
	}
	return "", errors.New("sshd was not found (Debian's package is openssh-server)")
}

// Path is a file in the server's folder.
func (s *SSHD) Path(name string) string { return filepath.Join(s.Folder, name) }

// Authorize lets keys in: lines as authorized_keys has them.
func (s *SSHD) Authorize(t testing.TB, lines ...string) {
	t.Helper()
	if err := os.WriteFile(s.Path("authorized_keys"), []byte(strings.Join(lines, "\n")+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
}

// Public is the public part of a key file.
func Public(t testing.TB, key string) string {
	t.Helper()
	data, err := os.ReadFile(key + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(data))
}

// Start starts the server and waits until it listens.
func (s *SSHD) Start() error {
	program, err := sshdProgram()
	if err != nil {
		return err
	}
	config := strings.Join(s.lines, "\n") + fmt.Sprintf(`
Port %d
ListenAddress %s
HostKey %s
PidFile none
UsePAM no
StrictModes no
PasswordAuthentication no
KbdInteractiveAuthentication no
PermitRootLogin yes
AuthorizedKeysFile %s
`, s.Port, s.Host, s.Path("host_ed25519"), s.Path("authorized_keys"))
	if !strings.Contains(config, "MaxStartups") { // the last of these counts
		config += "MaxStartups 200\n"
	}
	if err := os.WriteFile(s.Path("sshd_config"), []byte(config), 0o600); err != nil {
		return err
	}
	log, err := os.OpenFile(s.Path("log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	s.cmd = exec.Command(program, "-D", "-e", "-f", s.Path("sshd_config"))
	s.cmd.Stdout, s.cmd.Stderr = log, log
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	dieWithParent(s.cmd.SysProcAttr)
	if err := s.in.do(s.cmd.Start); err != nil {
		return err
	}
	ended := make(chan struct{})
	go func(cmd *exec.Cmd) {
		cmd.Wait()
		close(ended)
	}(s.cmd)
	if err := s.listens(ended); err != nil {
		said, _ := os.ReadFile(s.Path("log"))
		return fmt.Errorf("the SSH server does not listen: %w\n%s", err, said)
	}
	return nil
}

// sshdStart is how long a server may take to listen: beside many others on a busy machine, some
// seconds.
const sshdStart = 30 * time.Second

// listens waits until the server listens, or has ended.
func (s *SSHD) listens(ended <-chan struct{}) error {
	deadline := time.Now().Add(sshdStart)
	for {
		conn, err := net.DialTimeout("tcp", s.Address(), time.Second)
		if err == nil {
			return conn.Close()
		}
		if time.Now().After(deadline) {
			return err
		}
		select {
		case <-ended:
			return err
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Address is where it listens.
func (s *SSHD) Address() string { return fmt.Sprintf("%s:%d", s.Host, s.Port) }

// Stop ends the server and every connection of it.
func (s *SSHD) Stop() {
	if s.cmd == nil || s.cmd.Process == nil {
		return
	}
	// a client that comes back at once is not let in meanwhile
	syscall.Kill(s.cmd.Process.Pid, syscall.SIGSTOP)
	exec.Command("pkill", "-KILL", "-P", fmt.Sprint(s.cmd.Process.Pid)).Run() // its sessions have groups of their own
	syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL)
	for range 100 { // the port is free once it is gone
		if syscall.Kill(s.cmd.Process.Pid, 0) != nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	s.cmd = nil
}

// Fresh gives the server a new host key, as a machine that took its place has.
func (s *SSHD) Fresh(t testing.TB) {
	t.Helper()
	s.Stop()
	os.Remove(s.Path("host_ed25519"))
	if err := Keygen("-t", "ed25519", "-N", "", "-f", s.Path("host_ed25519")); err != nil {
		t.Fatal(err)
	}
	if err := s.Start(); err != nil {
		t.Fatal(err)
	}
}

// KnownLine is the line by which a known-hosts file knows the server.
func (s *SSHD) KnownLine(t testing.TB) string {
	t.Helper()
	line, err := s.ReadKnownLine()
	if err != nil {
		t.Fatal(err)
	}
	return line
}

// ReadKnownLine is KnownLine for use outside of a test.
func (s *SSHD) ReadKnownLine() (string, error) {
	data, err := os.ReadFile(s.Path("host_ed25519") + ".pub")
	words := strings.Fields(string(data))
	if err != nil || len(words) < 2 {
		return "", fmt.Errorf("no host key: %w", err)
	}
	return fmt.Sprintf("[%s]:%d %s %s", s.Host, s.Port, words[0], words[1]), nil
}

// Hop is the server as a hop of a profile.
func (s *SSHD) Hop(profile string, more ...string) string {
	text := fmt.Sprintf("\n[[profile.%s.hop]]\nhost = %q\nport = %d\nuser = %q\n", profile, s.Host, s.Port, s.User)
	for _, line := range more {
		text += line + "\n"
	}
	return text
}

// Knows writes the user's known-hosts file.
func (p *Program) Knows(lines ...string) {
	p.t.Helper()
	folder := filepath.Join(filepath.Dir(p.Home), ".ssh")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		p.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "known_hosts"), []byte(strings.Join(lines, "\n")+"\n"),
		0o600); err != nil {
		p.t.Fatal(err)
	}
}

// Lines puts lines before those of the server's configuration; they hold from the
// next start on.
func (s *SSHD) Lines(lines ...string) { s.lines = append(lines, s.lines...) }
