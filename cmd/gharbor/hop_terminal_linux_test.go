package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/tunnel"
	"gentleharbor/internal/testkit"
	"gentleharbor/standin/ssh"
)

// TestCanaryHops: a hop's password and a key's passphrase, through every command that
// goes through hops, right and wrong: no byte of them is left anywhere.
func TestCanaryHops(t *testing.T) {
	t.Parallel()
	p, _ := simulatedTides(t, ssh.Config{Accounts: map[string]ssh.Account{"keeper": {Password: canary}}, Banner: "members only"}, `secret = "file:hop-secret"`, `agent = false`)
	p.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	os.Chmod(p.Getenv("XDG_RUNTIME_DIR"), 0o700)
	t.Cleanup(func() { p.Run("tunnel", "close", "-all") })
	file := filepath.Join(p.Home, "hop-secret")
	p.Write(file, canary+"\n")
	locked := testkit.NewKey(t, "ed25519", canary)
	p.Test("tides").Ends(t, "hop 1", "ok", "")
	for _, args := range [][]string{
		{"test", "tides"}, {"test", "tides", "-format", "json"}, {"test", "tides", "-override", "hop.1.user=stranger"}, {"test", "tides", "-override", "hop.1.key=" + locked},
		{"test", "tides", "-override", "hop.1.key=" + locked, "-override", "hop.1.key-secret=file:" + file}, {"test", "-all"}, {"show", "tides"}, {"show", "tides", "-format", "json"}, {"list", "-format", "json"},
		{"hop", "pin", "tides"}, {"hop", "add", "tides", "password=" + canary}, {"hop", "add", "tides", "secret=" + canary}, {"hop", "add", "tides", "host=" + canary}, {"hop", "remove", "tides", canary},
		{"set", "tides", "hop.1.secret=" + canary}, {"set", "tides", "hop.1." + canary + "=x"}, {"tunnel", "open", "tides", "-background"}, {"tunnel", "list"}, {"tunnel", "show", "tides", "-format", "json"},
		{"export", "tides", "-as", "url"}, {"tunnel", "open", "tides", "-local", canary}, {"tunnel", "show", canary}, {"with", "tides", "--", "true"}, {"audit"}, {"tunnel", "close", "tides"}, {"tunnel", "close", canary},
		{"tunnel", "open", "tides", "-background", "-override", "hop.1.user=stranger"},
	} {
		words := slices.Clone(args)
		if at := slices.Index(words, "--"); at >= 0 {
			words = slices.Insert(words, at, "-verbose")
		} else {
			words = append(words, "-verbose")
		}
		r := p.Run(words...)
		where := "gharbor " + strings.Join(args[:min(2, len(args))], " ")
		testkit.NoSecret(t, where+" on stdout", r.Stdout, canary)
		testkit.NoSecret(t, where+" on stderr", r.Stderr, canary)
		if strings.Contains(r.Stderr, "panic") || r.Code == 70 {
			t.Errorf("%s: a defect\n%s", where, r.Stderr)
		}
		if args[0] == "tunnel" && args[1] == "list" { // while the tunnel is in the background
			pid := status(t, p).PID
			for _, name := range []string{"cmdline", "environ"} {
				if data, err := os.ReadFile(fmt.Sprintf("/proc/%d/%s", pid, name)); err == nil {
					testkit.NoSecret(t, name+" of the tunnel", string(data), canary)
				}
			}
		}
	}
	testkit.NoSecretIn(t, filepath.Dir(p.Home), []string{file}, canary)
	testkit.NoSecretIn(t, p.Getenv("XDG_RUNTIME_DIR"), nil, canary)
}

// TestHopTerminal: what a hop needs is asked for once, on the terminal, also for a
// tunnel in the background, which then heals itself without anybody.
func TestHopTerminal(t *testing.T) {
	t.Parallel()
	gate := testkit.SSHServer(t)
	locked := testkit.NewKey(t, "ed25519", "ebb and flow")
	gate.Authorize(t, testkit.Public(t, locked))
	p := behind(t, gate, quoted("key", locked))
	p.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	os.Chmod(p.Getenv("XDG_RUNTIME_DIR"), 0o700)
	t.Cleanup(func() { p.Run("tunnel", "close", "-all") })
	p.OnTerminal("test", "tides").Expect("passphrase of the key " + locked + " (not shown)").Type("ebb and flow\n").Expect("reach.refused").Ends(1)
	p.OnTerminal("tunnel", "open", "tides", "-background").Expect("passphrase of the key").Type("ebb and flow\n").Expect("close it: gharbor tunnel close tides").Ends(0)
	if s := status(t, p); s.State != tunnel.Up {
		t.Fatalf("%+v", s)
	}
	gate.Stop()
	waitFor(t, "the tunnel to notice", func() bool { return status(t, p).State == tunnel.Down })
	if err := gate.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "the tunnel to be back", func() bool { return status(t, p).State == tunnel.Up })
	p.OK("tunnel", "close", "tides")
	p.OnTerminal("tunnel", "open", "tides", "-background").Expect("passphrase of the key").Type("knot\n").Expect("hop.key-passphrase").Ends(5)
	p.OnTerminal("tunnel", "open", "tides").Expect("passphrase of the key").Type("ebb and flow\n").Expect("close it: Ctrl-C").Type("\x03").Expect("closed: 127.0.0.1:").Ends(0)
	// many at once: asked for before the first dial
	p.OK("set", "tides", "hop.1.key-secret=ask")
	p.OK("copy", "tides", "ebb")
	p.OnTerminal("test", "tides", "ebb").Expect("passphrase of the key").Type("ebb and flow\n").Expect("reach.refused").Ends(1)
}
