//go:build unix

package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	cryptossh "golang.org/x/crypto/ssh"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/postgresql"
	"gentleharbor/standin/ssh"
)

// simulatedTides is a program whose profile tides leads through a simulated jump host
// to a simulated server.
func simulatedTides(t *testing.T, config ssh.Config, hop ...string) (*testkit.Program, *ssh.Server) {
	t.Helper()
	server, err := postgresql.Start(birds())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	folder := t.TempDir()
	key, err := ssh.NewKey(filepath.Join(folder, "gate"))
	if err != nil {
		t.Fatal(err)
	}
	if config.Accounts == nil {
		config.Accounts = map[string]ssh.Account{"keeper": {Keys: []cryptossh.PublicKey{key}}}
	}
	config.Hosts = map[string]string{"tide-db.internal.example:5432": fmt.Sprintf("127.0.0.1:%d", server.Port())}
	gate, err := ssh.Start(config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(gate.Close)
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Setenv("DUNLIN", "dunlin")
	p.Knows(gate.KnownLine())
	p.Profiles(fmt.Sprintf("[profile.tides]\nengine = \"postgresql\"\nhost = \"tide-db.internal.example\"\nport = 5432\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"env:DUNLIN\"\ntls = \"off\"\n\n[[profile.tides.hop]]\nhost = \"127.0.0.1\"\nport = %d\nuser = \"keeper\"\nkey = %q\n%s\n",
		gate.Port(), filepath.Join(folder, "gate"), strings.Join(hop, "\n")))
	return p, gate
}

// TestHopFaults: what no real server shows at will.
func TestHopFaults(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		fault     ssh.Fault
		at, code  string
		seen, not string
	}{
		{ssh.Endless, "hop 1", "", "", ""},
		{ssh.HangOpen, "reach", "reach.timeout", "", ""},
		{ssh.Drop, "reach", "hop.dropped", "", ""},
		{ssh.Escape, "reach", "reach.failed", "no", "\x1b"},
	} {
		t.Run(string(c.fault), func(t *testing.T) {
			t.Parallel()
			p, _ := simulatedTides(t, ssh.Config{Fault: c.fault})
			r := p.Test("tides", "-timeout", "2s")
			s := r.Stage(c.at)
			if s.Finding == nil || c.code != "" && s.Finding.Code != c.code || !strings.Contains(s.SeenText()+s.Finding.Cause, c.seen) {
				t.Errorf("%+v %+v", s, s.Finding)
			}
			if text := p.Run("test", "tides", "-timeout", "2s").Stdout; c.not != "" && strings.Contains(text, c.not) {
				t.Errorf("a control character: %q", text)
			}
		})
	}
	for text, code := range map[string]string{"Connection refused": "reach.refused", "Connection timed out": "reach.timeout", "No route to host": "reach.unreachable", "odd": "reach.failed"} {
		p, _ := simulatedTides(t, ssh.Config{Refusals: map[string]string{"tide-db.internal.example:5432": text}})
		p.Test("tides").Ends(t, "reach", "fail", code)
	}
	// the same of a hop behind the hop
	for text, code := range map[string]string{"Connection refused": "hop.refused", "Connection timed out": "hop.timeout", "No route to host": "hop.unreachable", "odd": "hop.failed", "Name or service not known": "hop.name-unknown"} {
		p, _ := simulatedTides(t, ssh.Config{Refusals: map[string]string{"sluice.internal.example:22": text}}, "[[profile.tides.hop]]\nhost = \"sluice.internal.example\"\nuser = \"keeper\"")
		s := p.Test("tides").Ends(t, "hop 2", "fail", code)
		if !strings.HasPrefix(s.Finding.Cause, "keeper@127.0.0.1") || !strings.Contains(s.Finding.Cause, "can't reach the next jump host") {
			t.Error(s.Finding.Cause)
		}
	}
}

// TestHopGreetings: first bytes that are odd, and whole ones that come one by one.
func TestHopGreetings(t *testing.T) {
	t.Parallel()
	p, gate := simulatedTides(t, ssh.Config{})
	for text, want := range map[string][2]string{
		"SSH-1.5-old\r\n": {"hop.not-ssh", "only SSH version 1"}, "SSH-2.0-" + strings.Repeat("a", 5000): {"hop.failed", "overflow"},
		"SSH-2.0-x\r\n\xff\xff\xff\xff\x01aaaaaaaaaaaaaaaa": {"hop.failed", "too large"}, "HTTP/1.1 400 Bad Request\r\n\r\n": {"hop.not-ssh", "HTTP server"},
	} {
		s := p.Test("tides", append(override("hop.1.port="+says(t, text)), "-timeout", "3s")...).Ends(t, "hop 1", "fail", want[0])
		if !strings.Contains(s.Finding.Cause+s.SeenText(), want[1]) {
			t.Errorf("%.20q: %+v", text, s.Finding)
		}
	}
	slow := listens(t, func(conn net.Conn) {
		far, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", gate.Port()))
		if err != nil {
			return
		}
		defer far.Close()
		go io.Copy(far, conn)
		one := make([]byte, 1)
		for range 30 { // the greeting, byte by byte
			if _, err := far.Read(one); err != nil {
				return
			}
			conn.Write(one)
			time.Sleep(10 * time.Millisecond)
		}
		io.Copy(conn, far)
	})
	words := strings.Fields(gate.KnownLine())
	p.Knows("[127.0.0.1]:" + slow + " " + words[1] + " " + words[2])
	p.Test("tides", override("hop.1.port="+slow)...).Ends(t, "session", "ok", "")
}

// TestHopPasswords: by password and by questions, from a source and on a terminal.
func TestHopPasswords(t *testing.T) {
	t.Parallel()
	p, _ := simulatedTides(t, ssh.Config{Accounts: map[string]ssh.Account{"keeper": {Password: "knot"}}}, `secret = "env:KNOT"`)
	if s := p.Test("tides").Ends(t, "hop 1", "ok", ""); !strings.Contains(s.Detail, "by password, from: environment variable KNOT") {
		t.Error(s.Detail)
	}
	p, _ = simulatedTides(t, ssh.Config{Accounts: map[string]ssh.Account{"keeper": {Questions: []string{"Password: "}, Answers: []string{"knot"}}}}, `secret = "env:KNOT"`)
	p.Test("tides").Ends(t, "hop 1", "ok", "")
	p, _ = simulatedTides(t, ssh.Config{Accounts: map[string]ssh.Account{"keeper": {Questions: []string{"Password: ", "Verification code: "}, Answers: []string{"knot", "42"}}}}, `secret = "env:KNOT"`)
	s := p.Test("tides").Ends(t, "hop 1", "fail", "hop.questions")
	if !strings.Contains(s.SeenText(), "Verification code:") {
		t.Error(s.SeenText())
	}
}

// TestWalletHops: a hop's password and a key's passphrase from the wallet, each bound
// to its own.
func TestWalletHops(t *testing.T) {
	t.Parallel()
	p, gate := simulatedTides(t, ssh.Config{Accounts: map[string]ssh.Account{"keeper": {Password: "knot"}}}, `secret = "wallet:gate"`)
	w := withWallet(t, p)
	word := fmt.Sprintf("hop:keeper@127.0.0.1:%d", gate.Port())
	w.put("gate", "knot", "-bind", "key:/home/w/.ssh/gate").Want(0)
	w.ok("unlock", "-lifetime", "2m")
	s := p.Test("tides").Ends(t, "secret", "fail", "secret.bound-elsewhere")
	if !strings.Contains(s.Finding.Cause, "it is for the key") || !strings.Contains(s.Try(), word) {
		t.Errorf("%+v", s.Finding)
	}
	w.ok("bind", "gate", word)
	p.Test("tides").Ends(t, "hop 1", "ok", "")
	p.OK("set", "tides", "hop.1.secret=wallet") // found by what it is bound to
	if s := p.Test("tides").Ends(t, "hop 1", "ok", ""); !strings.Contains(s.Detail, "entry gate") {
		t.Error(s.Detail)
	}
	p.Test("tides", override("secret=wallet:gate")...).Ends(t, "secret", "fail", "secret.bound-elsewhere") // never to a database
}

// TestHopPin: the fingerprint is shown, and kept after a yes or a comparison.
func TestHopPin(t *testing.T) {
	t.Parallel()
	p, gate := simulatedTides(t, ssh.Config{})
	print := cryptossh.FingerprintSHA256(gate.HostKey.PublicKey())
	p.OK("hop", "pin", "tides").Has("hop 1: keeper@127.0.0.1", print, "known by")
	p.Knows("# empty")
	p.Run("hop", "pin", "tides").Want(2).Has(print, "no terminal", "-fingerprint "+print)
	p.Run("hop", "pin", "tides", "-fingerprint", "SHA256:"+strings.Repeat("A", 43)).Want(5).Has("nothing was saved")
	if _, err := os.Stat(filepath.Join(p.Home, "known_hosts")); err == nil {
		t.Error("something was kept")
	}
	p.OK("hop", "pin", "tides", "-fingerprint", print).Has("saved: the host key")
	p.Test("tides").Ends(t, "session", "ok", "")
	other, _ := ssh.Start(ssh.Config{})
	defer other.Close()
	words := strings.Fields(other.KnownLine())
	p.Knows(strings.Fields(gate.KnownLine())[0] + " " + words[1] + " " + words[2])
	p.Run("hop", "pin", "tides", "-fingerprint", print).Want(5).Has("hop.host-key-changed")
	p.Run("hop", "pin", "nosuch").Want(2)
	p.OK("copy", "tides", "flat")
	p.OK("hop", "remove", "flat", "1", "-yes")
	p.Run("hop", "pin", "flat").Want(2).Has("has no hops", "gharbor hop add flat")
	p.Run("hop", "add", "flat", "password=knot").Want(2).Has("profiles hold no passwords").HasNot("knot")
	p.Run("hop", "add", "flat", "user=keeper").Want(2).Has("it needs host, ssh or proxy")
	p.Run("hop", "add", "flat", "host=a", "host=b").Want(2).Has("given twice")
	p.OK("hop", "add", "flat", "host=gate.example", "algorithms=ssh-rsa")
	p.Run("audit").Has("audit.old-algorithms", "gharbor set flat hop.1.algorithms=")
	p.OK("list").Has("tide-db.internal.example:5432 (1 hop)")
}

// TestHopVouch: a project's hops do nothing before they are vouched for.
func TestHopVouch(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, gate := simulatedTides(t, ssh.Config{})
	text := p.ReadProfiles()
	p.Profiles("")
	root := project(t, p, text)
	p.Test("tides").Ends(t, "profile", "fail", "profile.not-vouched")
	if n := gate.Connections(); n != 0 {
		t.Errorf("%d connections before vouching", n)
	}
	p.Run("vouch", "tides").Has("hop 1 host", "hop 1 agent", "the keys of your SSH agent are offered")
	vouchFor(t, p, "tides")
	p.Test("tides").Ends(t, "session", "ok", "")
	p.Write(filepath.Join(root, "gharbor.toml"), strings.Replace(text, `user = "keeper"`, `user = "other"`, 1))
	p.Test("tides").Ends(t, "profile", "fail", "profile.not-vouched")
}
