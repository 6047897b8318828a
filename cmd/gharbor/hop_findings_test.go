//go:build unix

package main

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// behind is a program whose profile tides leads through a real jump host of this
// machine to a port of it that nothing listens on: its tests are about the hop.
func behind(t *testing.T, gate *testkit.SSHD, hop ...string) *testkit.Program {
	t.Helper()
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Knows(gate.KnownLine(t))
	p.Profiles(fmt.Sprintf("[profile.tides]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"tidekeeper\"\nsecret = \"none\"\ntls = \"off\"\n", testkit.FreePort(t)) + gate.Hop("tides", hop...))
	return p
}

func quoted(key, value string) string { return fmt.Sprintf("%s = %q", key, value) }

// TestHopRefusals: every way in which a real hop and one's own files can say no.
func TestHopRefusals(t *testing.T) {
	t.Parallel()
	gate := testkit.SSHServer(t)
	p := behind(t, gate, quoted("key", gate.Key))
	folder := t.TempDir()
	other := testkit.NewKey(t, "ecdsa", "")
	locked := testkit.NewKey(t, "ed25519", "ebb and flow")
	loose := filepath.Join(folder, "loose")
	data, _ := os.ReadFile(gate.Key)
	os.WriteFile(loose, data, 0o600)
	os.Chmod(loose, 0o644)
	text := filepath.Join(folder, "text")
	os.WriteFile(text, []byte("dunlin\n"), 0o600)
	mail := says(t, "220 mail.saltmarsh.example ESMTP\r\n")
	silent := says(t, "")
	closing := closes(t)
	p.Setenv("SSH_AUTH_SOCK", filepath.Join(folder, "no-agent"))
	runReal(t, p, "tides", []realCase{
		{"refused at the server", nil, "reach", "fail", "reach.refused", "seen from the jump host", "gharbor show tides"},
		{"a name that is known nowhere", override("host=no-such-db.internal.example"), "name", "fail", "name.unknown-there", "looked up there", "host=NAME-OR-ADDRESS"},
		{"nothing listens", override(fmt.Sprintf("hop.1.port=%d", testkit.ClosedPort(t))), "hop 1", "fail", "hop.refused", "connection refused", "hop.1.port=PORT"},
		{"a hop's name", override("hop.1.host=no-such-gate.saltmarsh.example"), "hop 1", "fail", "hop.name-unknown", "", "hop.1.host=HOST"},
		{"a mail server", override("hop.1.port=" + mail), "hop 1", "fail", "hop.not-ssh", "mail or file transfer", "hop.1.port=PORT"},
		{"silence", append(override("hop.1.port="+silent), "-timeout", "1s"), "hop 1", "fail", "hop.silent", "says nothing", "hop.1.port"},
		{"closed at once", override("hop.1.port=" + closing), "hop 1", "fail", "hop.closed", "MaxStartups", "gharbor wait tides"},
		{"no key file", override("hop.1.key=" + folder + "/none"), "hop 1", "fail", "hop.key-missing", folder + "/none", "hop.1.key=PATH"},
		{"a folder as key", override("hop.1.key=" + folder), "hop 1", "fail", "hop.key-unreadable", "not a regular file", "ls -l"},
		{"a loose key", override("hop.1.key=" + loose), "hop 1", "fail", "hop.key-permissions", "0644", "chmod 600"},
		{"a text as key", override("hop.1.key=" + text), "hop 1", "fail", "hop.key-not-private", text, "head -n 1"},
		{"a public key", override("hop.1.key=" + other + ".pub"), "hop 1", "fail", "hop.key-not-private", "only the public key", "ssh-add -l"},
		{"a strange key", override("hop.1.key=" + other), "hop 1", "fail", "hop.key-refused", "offered: key " + other + " (ECDSA SHA256:", "hop.1.key=PATH"},
		{"a locked key that is not wanted", override("hop.1.key=" + locked), "hop 1", "fail", "hop.key-refused", "it takes: publickey", "ssh-copy-id"},
		{"no such secret", override("hop.1.secret=env:NO_SUCH"), "secret", "fail", "secret.missing", "NO_SUCH", "hop.1.secret=ask"},
		{"a hop's variable", override("hop.1.user=${NO_SUCH}"), "profile", "fail", "profile.variable", "hop.1.user", "gharbor show"},
	})
	p.Run("test", "tides", "-override", "hop.2.port=22").Want(2).Has("no hop 2")
}

// TestHopPassphrase: the key is opened when the hop has taken its public part.
func TestHopPassphrase(t *testing.T) {
	t.Parallel()
	gate := testkit.SSHServer(t)
	locked, old := testkit.NewKey(t, "ed25519", "ebb and flow"), testkit.NewKey(t, "ecdsa", "")
	if err := testkit.Keygen("-p", "-m", "PEM", "-P", "", "-N", "ebb and flow", "-f", old); err != nil {
		t.Fatal(err)
	}
	gate.Authorize(t, testkit.Public(t, locked), testkit.Public(t, old))
	p := behind(t, gate, quoted("key", locked))
	p.Setenv("EBB", "ebb and flow")
	runReal(t, p, "tides", []realCase{
		{"right", override("hop.1.key-secret=env:EBB"), "hop 1", "ok", "", "", ""},
		{"right, in the older format", override("hop.1.key-secret=env:EBB", "hop.1.key="+old), "hop 1", "ok", "", "", ""},
		{"wrong", override("hop.1.key-secret=env:KNOT"), "hop 1", "fail", "hop.key-passphrase", "environment variable KNOT", "hop.1.key-secret=ask"},
		{"nobody to ask", nil, "hop 1", "fail", "hop.key-passphrase", "no terminal to ask for it", "ssh-add"},
	})
	other := testkit.SSHServer(t)
	p = behind(t, other, quoted("key", locked))
	p.Setenv("SSH_AUTH_SOCK", testkit.Agent(t, other.Key))
	p.Test("tides").Ends(t, "hop 1", "ok", "") // the agent's key comes after the one that is named
	p.Test("tides", override("hop.1.agent=false")...).Ends(t, "hop 1", "fail", "hop.key-refused")
}

// TestHopHostKeys: what known-hosts files and pins say, and which of them wins.
func TestHopHostKeys(t *testing.T) {
	t.Parallel()
	gate := testkit.SSHServer(t)
	p := behind(t, gate, quoted("key", gate.Key))
	home := filepath.Dir(p.Home)
	known := filepath.Join(home, ".ssh", "known_hosts")
	line := gate.KnownLine(t)
	name, key, _ := strings.Cut(line, " ")
	strange := strings.Join(strings.Fields(testkit.Public(t, testkit.NewKey(t, "ed25519", "")))[:2], " ")
	rsa := strings.Join(strings.Fields(testkit.Public(t, testkit.NewKey(t, "rsa", "")))[:2], " ")
	test := func(what, outcome, code string, lines ...string) testkit.Stage {
		t.Helper()
		t.Log(what)
		p.Knows(lines...)
		return p.Test("tides").Ends(t, "hop 1", outcome, code)
	}
	s := test("nothing known", "fail", "hop.host-key-unknown", "# empty")
	if !strings.Contains(s.Try(), "gharbor hop pin tides") || !strings.Contains(s.SeenText(), known) {
		t.Errorf("%+v", s.Finding)
	}
	s = test("another key", "fail", "hop.host-key-changed", "# one", name+" "+strange)
	if !strings.Contains(s.SeenText(), known+":2 has ED25519") || !strings.Contains(s.Try(), fmt.Sprintf("ssh-keygen -R '%s' -f %s", name, known)) {
		t.Errorf("%+v", s.Finding)
	}
	test("another kind of key", "fail", "hop.host-key-changed", name+" "+rsa)
	test("one of two", "ok", "", name+" "+strange, line)
	test("revoked", "fail", "hop.host-key-revoked", line, "@revoked * "+key)
	test("a pattern", "ok", "", "[127.0.0.*]:"+fmt.Sprint(gate.Port)+",!x "+key)
	test("another port's", "fail", "hop.host-key-unknown", "127.0.0.1 "+key)
	test("a bad line", "warn", "hop.known-hosts", "dunlin knot", line)
	if s := test("nothing but a bad line", "fail", "hop.host-key-unknown", "dunlin knot"); !strings.Contains(s.SeenText(), known+":1 is not") {
		t.Error(s.SeenText())
	}
	p.Knows(line)
	if err := testkit.Keygen("-H", "-f", known); err != nil {
		t.Fatal(err)
	}
	if data, _ := os.ReadFile(known); strings.Contains(string(data), "127.0.0.1") {
		t.Fatal("not hashed")
	}
	p.Test("tides").Ends(t, "hop 1", "ok", "")

	p.Knows("# empty")
	pin := strings.Fields(key)[0] + " " + strings.Fields(key)[1]
	p.Test("tides", override("hop.1.host-key="+pin)...).Ends(t, "hop 1", "ok", "")
	p.Test("tides", override("hop.1.host-key="+strange)...).Ends(t, "hop 1", "fail", "hop.host-key-changed")
	p.Knows(line)
	p.Test("tides", override("hop.1.host-key=SHA256:"+strings.Repeat("A", 43))...).Ends(t, "hop 1", "fail", "hop.host-key-changed") // agreement elsewhere does not outweigh it
	p.Knows(name + " " + strange)
	own := filepath.Join(p.Home, "known_hosts")
	os.WriteFile(own, []byte(line+"\n"), 0o600)
	p.Test("tides").Ends(t, "hop 1", "fail", "hop.host-key-changed")
}

// TestHopCertificates: a host's certificate, and a user's.
func TestHopCertificates(t *testing.T) {
	t.Parallel()
	authority, user := testkit.NewKey(t, "ed25519", ""), testkit.NewKey(t, "rsa", "")
	gate := testkit.SSHServer(t)
	gate.Stop()
	gate.Lines(quoted2("HostCertificate", gate.Path("host_ed25519-cert.pub")), quoted2("TrustedUserCAKeys", authority+".pub"))
	sign := func(valid, principal string) {
		t.Helper()
		gate.Stop()
		if err := testkit.Keygen("-s", authority, "-I", "gate", "-h", "-n", principal, "-V", valid, gate.Path("host_ed25519.pub")); err != nil {
			t.Fatal(err)
		}
		if err := gate.Start(); err != nil {
			t.Fatal(err)
		}
	}
	gate.Authorize(t, "")
	if err := testkit.Keygen("-s", authority, "-I", "keeper", "-n", gate.User, user); err != nil {
		t.Fatal(err)
	}
	sign("-1h:+1h", "127.0.0.1")
	p := behind(t, gate, quoted("key", user))
	trusted := strings.Fields(testkit.Public(t, authority))
	p.Knows("@cert-authority [127.0.0.1]:* " + trusted[0] + " " + trusted[1])
	s := p.Test("tides").Ends(t, "hop 1", "ok", "")
	if !strings.Contains(s.Detail, "@cert-authority") || !strings.Contains(s.Detail, "certificate "+user+"-cert.pub") {
		t.Error(s.Detail)
	}
	sign("-2h:-1h", "127.0.0.1")
	s = p.Test("tides").Ends(t, "hop 1", "fail", "hop.host-certificate")
	if !strings.Contains(s.SeenText(), "expired") {
		t.Error(s.SeenText())
	}
	sign("-1h:+1h", "elsewhere.example")
	p.Test("tides").Ends(t, "hop 1", "fail", "hop.host-certificate")
	sign("-1h:+1h", "127.0.0.1")
	if err := testkit.Keygen("-s", authority, "-I", "keeper", "-n", gate.User, "-V", "-2h:-1h", user); err != nil {
		t.Fatal(err)
	}
	s = p.Test("tides").Ends(t, "hop 1", "fail", "hop.key-refused")
	if !strings.Contains(s.SeenText(), "expired on") || !strings.Contains(strings.Join(s.Finding.Do, "\n"), "have the certificate "+user+"-cert.pub signed again") {
		t.Errorf("%s %s", s.SeenText(), s.Finding.Do)
	}
}

func quoted2(key, value string) string { return fmt.Sprintf("%s %q", key, value) }

// TestHopKinds: every kind of key logs in, by file and by agent.
func TestHopKinds(t *testing.T) {
	t.Parallel()
	gate := testkit.SSHServer(t)
	p := behind(t, gate)
	var public []string
	keys := map[string]string{}
	for _, kind := range []string{"ed25519", "rsa", "ecdsa"} {
		keys[kind] = testkit.NewKey(t, kind, "")
		public = append(public, testkit.Public(t, keys[kind]))
	}
	gate.Authorize(t, public...)
	for kind, key := range keys {
		s := p.Test("tides", override("hop.1.key="+key)...).Ends(t, "hop 1", "ok", "")
		if !strings.Contains(s.Detail, strings.ToUpper(kind)) {
			t.Error(s.Detail)
		}
		q := behind(t, gate)
		q.Setenv("SSH_AUTH_SOCK", testkit.Agent(t, key))
		if s := q.Test("tides").Ends(t, "hop 1", "ok", ""); !strings.Contains(s.Detail, "SSH agent") {
			t.Error(s.Detail)
		}
		q.Test("tides", override("hop.1.key="+key+".pub")...).Ends(t, "hop 1", "ok", "") // the public part chooses among the agent's
		q.Test("tides", override("hop.1.agent=false")...).Ends(t, "hop 1", "fail", "hop.login")
	}
}

// TestHopServerRules: what a hop's own configuration forbids.
func TestHopServerRules(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name  string
		lines []string
		flags []string
		ends  string
		code  string
		seen  string
		try   string
	}{
		{"no forwarding", []string{"AllowTcpForwarding no"}, nil, "fail", "hop.forward-refused", "AllowTcpForwarding", "PermitOpen"},
		{"another address only", []string{"PermitOpen 127.0.0.1:1"}, nil, "fail", "hop.forward-refused", "PermitOpen", "PermitOpen"},
		{"old key exchange", []string{"KexAlgorithms diffie-hellman-group14-sha1"}, nil, "fail", "hop.algorithms", "diffie-hellman-group14-sha1", "hop.1.algorithms=diffie-hellman-group14-sha1"},
		{"old checksums", []string{"Ciphers aes128-ctr", "MACs hmac-sha1"}, nil, "fail", "hop.algorithms", "hmac-sha1", "hop.1.algorithms=hmac-sha1"},
		{"old key exchange, by name", []string{"KexAlgorithms diffie-hellman-group14-sha1"}, override("hop.1.algorithms=diffie-hellman-group14-sha1"), "warn", "hop.old-algorithms", "as the profile allows", "hop.1.algorithms="},
		{"a few ciphers", []string{"Ciphers chacha20-poly1305@openssh.com", "KexAlgorithms curve25519-sha256", "MACs hmac-sha2-512"}, nil, "ok", "", "", ""},
		{"a password", []string{"PasswordAuthentication yes"}, override("hop.1.secret=env:KNOT", "hop.1.key=/dev/null"), "fail", "hop.key-unreadable", "", ""},
		{"one try", []string{"MaxAuthTries 1"}, nil, "fail", "hop.too-many-failures", "offered: ", "hop.1.agent=false"},
		{"two proofs", []string{"AuthenticationMethods publickey,password", "PasswordAuthentication yes"}, override("hop.1.secret=env:KNOT"), "fail", "hop.password-refused", "environment variable KNOT", "hop.1.secret=ask"},
		{"sessions do not count", []string{"MaxSessions 0"}, nil, "ok", "", "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			gate := testkit.SSHServer(t, c.lines...)
			p := behind(t, gate, quoted("key", gate.Key))
			if c.code == "hop.too-many-failures" {
				p = behind(t, gate)
				p.Setenv("SSH_AUTH_SOCK", testkit.Agent(t, testkit.NewKey(t, "ed25519", ""), testkit.NewKey(t, "ecdsa", ""), testkit.NewKey(t, "rsa", "")))
			}
			s := p.Test("tides", c.flags...).Ends(t, "hop 1", c.ends, c.code)
			if !strings.Contains(s.SeenText(), c.seen) || !strings.Contains(s.Try(), c.try) {
				t.Errorf("%+v", s.Finding)
			}
		})
	}
}

// TestHopPasswordRefused: a real server's password login.
func TestHopPasswordRefused(t *testing.T) {
	t.Parallel()
	gate := testkit.SSHServer(t, "PasswordAuthentication yes")
	p := behind(t, gate, quoted("secret", "env:KNOT"))
	s := p.Test("tides").Ends(t, "hop 1", "fail", "hop.password-refused")
	if !strings.Contains(s.SeenText(), "it takes: publickey, password") || !strings.Contains(s.SeenText(), "environment variable KNOT") {
		t.Errorf("%+v", s.Finding)
	}
}

// TestHopBusy: a real server at whose door too many wait.
func TestHopBusy(t *testing.T) {
	t.Parallel()
	gate := testkit.SSHServer(t, "MaxStartups 1:100:1")
	waitFor(t, "a place at the door", func() bool {
		wait, err := net.Dial("tcp", gate.Address())
		if err != nil {
			return false
		}
		t.Cleanup(func() { wait.Close() })
		said := make([]byte, 4)
		wait.Read(said)
		return string(said) == "SSH-" // else the one that looked whether it listens is still there
	})
	p := behind(t, gate, quoted("key", gate.Key))
	s := p.Test("tides").Ends(t, "hop 1", "fail", "hop.closed")
	if !strings.Contains(s.SeenText(), "Exceeded MaxStartups") {
		t.Error(s.SeenText())
	}
}

// TestHopSilentServer: a firewall between the hop and the server, which is a listener
// whose queue is full.
func TestHopSilentServer(t *testing.T) {
	t.Parallel()
	gate := testkit.SSHServer(t)
	p := behind(t, gate, quoted("key", gate.Key))
	s := p.Test("tides", append(override("port="+full(t)), "-timeout", "2s")...).Ends(t, "reach", "fail", "reach.timeout")
	if !strings.Contains(s.Finding.Cause, "127.0.0.1 must be allowed to reach") {
		t.Error(s.Finding.Cause)
	}
}

// TestThreeHops: three real servers in a row, the second by an SSH client
// configuration whose ProxyJump is the first.
func TestThreeHops(t *testing.T) {
	t.Parallel()
	in := testkit.PrivateNetwork(t)
	db, inner := testkit.PrivatePostgreSQL(t, in), testkit.SSHServerIn(t, in)
	outer, middle := testkit.SSHServer(t), testkit.SSHServer(t)
	p := testkit.NewProgram(t)
	p.Setenv("TIDES_PASSWORD", testkit.WardenPassword)
	p.Knows(outer.KnownLine(t), middle.KnownLine(t), inner.KnownLine(t))
	p.Profiles(tidesProfile(db) + "tls-name = \"localhost\"\n[[profile.tides.hop]]\nssh = \"middle\"\n" + inner.Hop("tides", quoted("key", inner.Key)))
	host := func(name string, s *testkit.SSHD, more string) string {
		return fmt.Sprintf("Host %s\n  HostName %s\n  Port %d\n  User %s\n  IdentityFile %s\n%s\n", name, s.Host, s.Port, s.User, s.Key, more)
	}
	p.Write(filepath.Join(filepath.Dir(p.Home), ".ssh", "config"), host("outer", outer, "")+host("mid*", middle, "  ProxyJump outer\n"))
	r := p.Test("tides")
	r.Ends(t, "session", "ok", "")
	for i, s := range []*testkit.SSHD{outer, middle, inner} {
		if stage := r.Stage(fmt.Sprintf("hop %d", i+1)); !strings.Contains(stage.Detail, s.Address()) {
			t.Errorf("%+v", stage)
		}
	}
	p.OK("show", "tides").Has("hop 1", "ProxyJump, ", outer.Address(), "hop.1.ssh", "hop.2.host")
	inner.Stop()
	s := p.Test("tides").Ends(t, "hop 3", "fail", "hop.refused")
	if !strings.HasPrefix(s.Finding.Cause, middle.User+"@"+middle.Address()+" can't reach") {
		t.Error(s.Finding.Cause)
	}
	p.Write(filepath.Join(filepath.Dir(p.Home), ".ssh", "config"), host("middle", middle, "  ProxyCommand nc outer 22\n"))
	s = p.Test("tides").Ends(t, "route", "fail", "hop.config")
	if !strings.Contains(s.SeenText(), ".ssh/config:6") {
		t.Error(s.SeenText())
	}
	p.Write(filepath.Join(filepath.Dir(p.Home), ".ssh", "config"), host("outer", outer, "  UserKnownHostsFile /dev/null\n")+host("middle", middle, "  ProxyJump outer\n"))
	p.Test("tides").Ends(t, "hop 1", "fail", "hop.host-key-unknown")
	p.Write(filepath.Join(filepath.Dir(p.Home), ".ssh", "known_outer"), strings.Replace(outer.KnownLine(t), fmt.Sprintf("[127.0.0.1]:%d", outer.Port), "the-gate", 1)+"\n")
	p.Write(filepath.Join(filepath.Dir(p.Home), ".ssh", "config"), host("outer", outer, "  UserKnownHostsFile /dev/null ~/.ssh/known_outer\n  HostKeyAlias The-Gate\n")+host("middle", middle, "  ProxyJump outer\n"))
	if s := p.Test("tides").Ends(t, "hop 1", "ok", ""); !strings.Contains(s.Detail, "known_outer:1") {
		t.Error(s.Detail)
	}
	p.Write(filepath.Join(filepath.Dir(p.Home), ".ssh", "config"), host("outer", outer, "")+host("middle", middle, "  StrictHostKeyChecking no\n  ProxyJump outer\n"))
	p.Test("tides").Ends(t, "route", "warn", "hop.config-ignored")
}

// says is a port of 127.0.0.1 whose listener says a text to whoever comes.
func says(t *testing.T, text string) string {
	t.Helper()
	return listens(t, func(conn net.Conn) {
		conn.Write([]byte(text))
		conn.Read(make([]byte, 1000))
		conn.Read(make([]byte, 1000))
	})
}

// closes is a port whose listener closes every connection at once.
func closes(t *testing.T) string { t.Helper(); return listens(t, func(net.Conn) {}) }

func listens(t *testing.T, serve func(net.Conn)) string {
	t.Helper()
	return fmt.Sprint(listen(t, serve))
}
