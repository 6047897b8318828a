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

	"gentleharbor/core/engine/redis/resp"
)

// Redis is a throw-away real server: its default user has no password where the settings give it none.
type Redis struct {
	Folder string
	Socket string
	Port   int // without TLS; 0 for a server that speaks TLS alone
	cmd    *exec.Cmd

	Certificates
}

// RedisServer starts a server with settings, as its command line takes them.
func RedisServer(t testing.TB, settings ...string) *Redis {
	t.Helper()
	r := need(t, "Redis", func() (r *Redis, err error) {
		for range 3 { // a member of a cluster takes a second port, 10,000 above, which may be anybody's
			if r, err = StartRedis(t.TempDir(), settings...); err == nil {
				return r, nil
			}
		}
		return nil, err
	})
	t.Cleanup(r.Stop)
	return r
}

// SecureRedis starts a server whose only port speaks TLS, with a certificate for localhost.
func SecureRedis(t testing.TB, settings ...string) (r *Redis, port int) {
	t.Helper()
	r = need(t, "Redis", func() (*Redis, error) {
		var err error
		if port, err = freePort(); err != nil {
			return nil, err
		}
		folder := t.TempDir()
		path := func(name string) string { return filepath.Join(folder, name) }
		write := func(name, text string) error { return os.WriteFile(path(name), []byte(text), 0o600) }
		certificates, err := newCertificates(write, path)
		if err != nil {
			return nil, err
		}
		r, err := StartRedis(t.TempDir(), append([]string{"--port", "0", "--tls-port", fmt.Sprint(port),
			"--tls-cert-file", path("server.pem"),
			"--tls-key-file", path("server.key"), "--tls-ca-cert-file", path("authority.pem")}, settings...)...)
		if err == nil {
			r.Certificates, r.Port = certificates, 0
		}
		return r, err
	})
	t.Cleanup(r.Stop)
	return r, port
}

// StartRedis starts a server with its files in a folder.
func StartRedis(folder string, settings ...string) (*Redis, error) {
	program, err := exec.LookPath("redis-server")
	if err != nil {
		return nil, fmt.Errorf("redis-server was not found (Debian's package is redis-server): %w", err)
	}
	r := &Redis{Folder: folder}
	r.Socket = filepath.Join(r.Folder, "redis.sock")
	if r.Port, err = freePort(); err != nil {
		return nil, err
	}
	args := append([]string{
		"--port", fmt.Sprint(r.Port), "--bind", "127.0.0.1", "--unixsocket", r.Socket, "--dir", r.Folder,
	}, settings...)
	r.cmd = exec.Command(program, args...)
	r.cmd.SysProcAttr = &syscall.SysProcAttr{}
	dieWithParent(r.cmd.SysProcAttr)
	log, err := os.Create(filepath.Join(r.Folder, "log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	r.cmd.Stdout, r.cmd.Stderr = log, log
	if err := r.cmd.Start(); err != nil {
		return nil, err
	}
	for range 200 {
		conn, err := net.Dial("unix", r.Socket)
		if err == nil {
			return r, conn.Close()
		}
		time.Sleep(20 * time.Millisecond)
	}
	text, _ := os.ReadFile(log.Name())
	r.Stop()
	return nil, fmt.Errorf("the server does not answer:\n%s", text)
}

// Stop ends the server.
func (r *Redis) Stop() {
	r.cmd.Process.Kill()
	r.cmd.Wait()
}

// Do sends commands over the socket, and fails the test where one is refused. The last answer comes back.
func (r *Redis) Do(t testing.TB, commands ...[]string) string {
	t.Helper()
	conn, err := net.Dial("unix", r.Socket)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	in, last := resp.NewReader(conn, 1<<20), ""
	for _, words := range commands {
		if _, err := conn.Write(resp.Append(nil, words...)); err != nil {
			t.Fatal(err)
		}
		reply, err := in.Read()
		if err != nil || reply.IsError() {
			t.Fatalf("%q: %v, %v", words, reply, err)
		}
		last = reply.String()
	}
	return last
}
