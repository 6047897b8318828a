//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine/redis/resp"
	"gentleharbor/internal/testkit"
)

// TestRedisCluster: a key at another server of a cluster is asked for there where the profile lists that server.
func TestRedisCluster(t *testing.T) {
	t.Parallel()
	a, b := testkit.RedisServer(t, "--cluster-enabled", "yes"), testkit.RedisServer(t, "--cluster-enabled", "yes")
	a.Do(t, []string{"CLUSTER", "ADDSLOTSRANGE", "0", "8191"})
	b.Do(t, []string{"CLUSTER", "ADDSLOTSRANGE", "8192", "16383"})
	a.Do(t, []string{"CLUSTER", "MEET", "127.0.0.1", fmt.Sprint(b.Port)})
	for range 200 {
		if strings.Contains(a.Do(t, []string{"CLUSTER", "INFO"}), "cluster_state:ok") && strings.Contains(b.Do(t, []string{"CLUSTER", "INFO"}), "cluster_state:ok") {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	p := testkit.NewProgram(t)
	p.Profiles(fmt.Sprintf("[profile.one]\nengine = \"redis\"\nhost = \"127.0.0.1\"\nport = %d\n\n[profile.both]\nengine = \"redis\"\nhosts = [\"127.0.0.1:%d\", \"127.0.0.1:%d\"]\n", a.Port, a.Port, b.Port))
	p.OK("test", "one").Has("in a cluster")
	p.Run("test", "one", "-override", "database=1").Want(1).Has("database.missing", "only database 0")
	var other string // a key that is at the second server
	for i := range 100 {
		key := fmt.Sprintf("station:%d", i)
		if r := p.Run("query", "one", "SET "+key+" x"); r.Code != 0 {
			r.Has("MOVED", "is not among the profile's hosts: nothing was sent there")
			other = key
			break
		}
	}
	p.OK("query", "both", "SET "+other+" y")
	p.OK("query", "both", "-format", "bare", "GET "+other).Has("y")
}

// TestRedisModes: a sentinel, and a server that is busy with a script, are told for what they are.
func TestRedisModes(t *testing.T) {
	t.Parallel()
	r := testkit.RedisServer(t, "--busy-reply-threshold", "100")
	p := testkit.NewProgram(t)
	port := testkit.FreePort(t)
	settings := filepath.Join(t.TempDir(), "sentinel.conf")
	text := fmt.Sprintf("port %d\nbind 127.0.0.1\nsentinel monitor counts 127.0.0.1 %d 1\n", port, r.Port)
	if err := os.WriteFile(settings, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("redis-server", settings, "--sentinel")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	base := "[profile.%s]\nengine = \"redis\"\nhost = \"127.0.0.1\"\nport = %d\n"
	p.Profiles(fmt.Sprintf(base, "watch", port) + fmt.Sprintf(base, "busy", r.Port))
	p.OK("wait", "busy", "-within", "10s")
	for range 100 {
		if p.Run("test", "watch").Stdout != "" && !strings.Contains(p.Run("test", "watch").Stdout, "reach.refused") {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	p.Run("test", "watch").Want(1).Has("speak.sentinel", `"counts" is at "127.0.0.1"`, fmt.Sprintf("port %q", fmt.Sprint(r.Port)))

	p.OK("add", "told", "-engine", "redis", "-sentinel", fmt.Sprintf("counts@127.0.0.1:%d", port), "-secret", "none", "-tls", "off")
	p.OK("test", "told").Has(fmt.Sprintf("direct to 127.0.0.1:%d, by the sentinel", r.Port))
	p.Run("test", "told", "-override", "secret=env:HOME").Want(1).Has("profile.conflict", "tls=verified")
	p.Run("test", "told", "-override", fmt.Sprintf("sentinel=tides@127.0.0.1:%d", port)).Want(1).Has("sentinel.unknown", `"tides"`)
	p.Run("test", "told", "-override", fmt.Sprintf("sentinel=counts@127.0.0.1:%d", r.Port)).Want(1).Has("sentinel.unreachable", "no sentinel")
	p.Run("test", "told", "-override", "sentinel=counts@127.0.0.1:1").Want(1).Has("sentinel.unreachable", "connection refused")
	p.Run("test", "told", "-override", "sentinel=counts").Want(2).Has("NAME@HOST:PORT")

	const endless = "EVAL 'while true do end' 0"
	p.Run("query", "busy", endless, "-statement-timeout", "500ms").Want(1).Has("cancelled at the server")
	conn := dialSocket(t, r.Socket)
	if _, err := conn.Write(resp.Append(nil, "EVAL", "while true do end", "0")); err != nil {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	p.Run("test", "busy").Want(1).Has("speak.busy", "SCRIPT KILL")
	p.Run("query", "busy", "SCRIPT KILL").Want(5)
}
