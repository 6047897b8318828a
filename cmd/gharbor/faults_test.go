package main

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/tlsrule"
	"gentleharbor/internal/testkit"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/postgresql"
)

// birds is a simulated server's usual configuration.
func birds() postgresql.Config {
	return postgresql.Config{Databases: []string{"postgres", "sightings"}, Tables: []string{"sighting"}, Roles: map[string]postgresql.Role{
		"warden": {Password: "dunlin"}, "oldhand": {Password: "dunlin", Method: "md5"}, "plain": {Password: "dunlin", Method: "password"}, "open": {Method: "trust"}}}
}

// standin starts a simulated server and a program whose profile "sightings"
// leads to it.
func standin(t *testing.T, c postgresql.Config) (*testkit.Program, *postgresql.Server) {
	t.Helper()
	server, err := postgresql.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	return at(t, server.Port()), server
}

func at(t *testing.T, port int) *testkit.Program {
	t.Helper()
	p := testkit.NewProgram(t)
	p.Setenv("DUNLIN", "dunlin")
	p.Profiles(fmt.Sprintf("[profile.sightings]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"env:DUNLIN\"\n", port))
	return p
}

func TestFaults(t *testing.T) {
	t.Parallel()
	const short = "1s"
	cases := []struct {
		fault postgresql.Fault
		rule  string
		stage string
		code  string
		seen  string
	}{
		{postgresql.Silent, "offered", "speak", "speak.silent", "no time was left to try other protocols"},
		{postgresql.Garbage, "offered", "speak", "speak.garbage", `\x00\x01\x02\xfftide`},
		{postgresql.Trickle, "offered", "speak", "speak.garbage", `"."`},
		{postgresql.ExtraBytes, "offered", "tls-extra", "tls.extra-bytes", "after the S"},
		{postgresql.LoseSession, "offered", "session", "session.lost", ""},
		{postgresql.HangSession, "offered", "session", "session.timeout", "nothing came back"},
		{postgresql.NoCatalogue, "offered", "expect", "expect.unknown", "permission denied"},
		{postgresql.EscapeMessage, "offered", "login", "login.refused", `"[2J]0;ownedgoaway now"`},
	}
	for _, c := range cases {
		t.Run(fmt.Sprintf("%s, tls %s", c.fault, c.rule), func(t *testing.T) {
			t.Parallel()
			config := birds()
			config.Fault = c.fault
			p, _ := standin(t, config)
			stage := strings.TrimSuffix(c.stage, "-extra")
			if c.stage == "tls-extra" {
				stage = "speak"
			}
			limit := short
			if c.fault == postgresql.HangSession { // behind a login, which has its time too
				limit = "5s"
			}
			r := p.Run("test", "sightings", "-format", "json", "-timeout", limit, "-override", "tls="+c.rule, "-override", "expect.tables=sighting").Want(1)
			s := r.Report().Ends(t, stage, "fail", c.code)
			if !strings.Contains(s.SeenText(), c.seen) {
				t.Errorf("no %q in seen:\n%s", c.seen, s.SeenText())
			}
			if r.Took > 9*time.Second { // the usual limit is ten
				t.Errorf("it took %s of a budget of %s", r.Took, limit)
			}
			if strings.ContainsAny(r.Stdout, "\x1b\x07\u202e") {
				t.Error("control characters reached the output")
			}
			p.OK("explain", c.code)
		})
	}
}

func TestSlowServerIsNotWrong(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	config := birds()
	config.Fault, config.Delay = postgresql.Slow, 120*time.Millisecond
	p, server := standin(t, config)
	r := p.Test("sightings")
	if r.Outcome != "ok" {
		t.Errorf("outcome %s: %+v", r.Outcome, r.Stages)
	}
	if n := server.Connections(); n != 1 {
		t.Errorf("%d connections for one test of %v ms", n, r.MS)
	}
	config.Delay = time.Second
	p, _ = standin(t, config)
	p.Test("sightings", "-timeout", "1500ms").Ends(t, "login", "fail", "login.timeout")
}

// TestSilentWithTime: with time enough, all other openings are tried.
func TestSilentWithTime(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	config := birds()
	config.Fault = postgresql.Silent
	connections := 0
	for range 3 { // a test that looks at what listens on this machine may have come by
		p, server := standin(t, config)
		s := p.Test("sightings", "-timeout", "6s").Ends(t, "speak", "fail", "speak.silent")
		if !strings.Contains(s.SeenText(), "Redis', HTTP's, MongoDB's, Oracle's or TLS's opening") {
			t.Errorf("seen: %s", s.SeenText())
		}
		if connections = server.Connections(); connections == 5 {
			return
		}
	}
	t.Errorf("after %d connections", connections)
}

func TestOneConnection(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, server := standin(t, birds())
	if r := p.Test("sightings"); r.Outcome != "ok" {
		t.Fatalf("%+v", r.Stages)
	}
	p.Test("sightings", "-override", "secret=none")
	if n := server.Connections(); n != 2 {
		t.Errorf("%d connections for two tests", n)
	}
}

// TestOtherEngines answers as other kinds of servers do.
func TestOtherEngines(t *testing.T) {
	t.Parallel()
	mariadb := "\x63\x00\x00\x00\x0a5.5.5-10.11.6-MariaDB-0+deb12u1\x00" + strings.Repeat("\x01", 70)
	mysql := "\x4a\x00\x00\x00\x0a8.0.36\x00" + strings.Repeat("\x01", 70)
	blocked := "\x1d\x00\x00\x00\xff\x69\x04Host '127.0.0.1' is blocked"
	cases := []struct {
		name  string
		serve func(net.Conn)
		code  string
		cause string
	}{
		{"MariaDB", speaksFirst(mariadb), "speak.other-engine", "a MariaDB server (version 10.11.6)"},
		{"MySQL", speaksFirst(mysql), "speak.other-engine", "a MySQL server (version 8.0.36)"},
		{"MariaDB, blocked", speaksFirst(blocked), "speak.other-engine", "a MySQL or MariaDB server"},
		{"SSH", speaksFirst("SSH-2.0-OpenSSH_9.2p1 Debian-2\r\n"), "speak.other-engine", "an SSH server"},
		{"SSH, a byte at a time", dribble("SSH-2.0-OpenSSH_9.2p1\r\n"), "speak.other-engine", "an SSH server"},
		{"mail", speaksFirst("220 mail.saltmarsh.example ESMTP\r\n"), "speak.other-engine", "a mail or file transfer server"},
		{"HTTP", answersLine("HTTP/1.1 400 Bad Request\r\n\r\n"), "speak.other-engine", "an HTTP server"},
		{"Redis", answersLine("+PONG\r\n"), "speak.other-engine", "a Redis server"},
		{"Redis with a password", answersLine("-NOAUTH Authentication required.\r\n"), "speak.other-engine", "a Redis server"},
		{"MongoDB", answersMongo, "speak.other-engine", "a MongoDB server"},
		{"TLS only", onlyTLS(t), "speak.tls-only", "TLS from the first byte"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := at(t, listen(t, c.serve))
			for _, rule := range []string{"offered", "off"} {
				r := p.Test("sightings", "-timeout", "3s", "-override", "tls="+rule)
				stage := "speak"
				if r.Stage("speak").Outcome == "ok" {
					stage = "tls" // an S that came alone looked like a yes to TLS
				}
				if s := r.Ends(t, stage, "fail", c.code); !strings.Contains(s.Finding.Cause, c.cause) {
					t.Errorf("tls %s: cause %q, want %q in it", rule, s.Finding.Cause, c.cause)
				}
			}
		})
	}
}

// listen serves connections on loopback until the test ends.
func listen(t *testing.T, serve func(net.Conn)) int {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	testkit.Serve(t, listener, func(conn net.Conn) {
		conn.SetDeadline(time.Now().Add(20 * time.Second))
		serve(conn)
	})
	return listener.Addr().(*net.TCPAddr).Port
}

func speaksFirst(text string) func(net.Conn) {
	return func(conn net.Conn) {
		io.WriteString(conn, text)
		io.Copy(io.Discard, conn)
	}
}

func dribble(text string) func(net.Conn) {
	return func(conn net.Conn) {
		for i := range len(text) {
			io.WriteString(conn, text[i:i+1])
			time.Sleep(30 * time.Millisecond)
		}
		io.Copy(io.Discard, conn)
	}
}

// answersLine waits for a whole line, as text protocols do.
func answersLine(text string) func(net.Conn) {
	return func(conn net.Conn) {
		buffer := make([]byte, 4096)
		var got []byte
		for !strings.Contains(string(got), "\r\n") {
			n, err := conn.Read(buffer)
			if err != nil {
				return
			}
			got = append(got, buffer[:n]...)
		}
		io.WriteString(conn, text)
		io.Copy(io.Discard, conn)
	}
}

// answersMongo closes on a message length that cannot be, as that server does.
func answersMongo(conn net.Conn) {
	head := make([]byte, 16)
	if _, err := io.ReadFull(conn, head[:4]); err != nil || head[2] != 0 || head[3] != 0 || head[0] < 16 {
		return
	}
	if _, err := io.ReadFull(conn, head[4:]); err != nil {
		return
	}
	reply := make([]byte, 36)
	reply[0] = 36
	copy(reply[8:12], head[4:8])
	reply[12], reply[13] = 0xdd, 0x07
	conn.Write(reply)
	io.Copy(io.Discard, conn)
}

// onlyTLS ends with an alert whatever is no handshake.
func onlyTLS(t *testing.T) func(net.Conn) {
	authority, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	config, err := authority.TLS([]string{"127.0.0.1"}, time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	return func(conn net.Conn) {
		secure := tls.Server(conn, config)
		if secure.Handshake() == nil {
			io.Copy(io.Discard, secure)
		}
	}
}

func TestCertificateNotYetValidAndTooOld(t *testing.T) {
	t.Parallel()
	authority, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	cert, _, _, err := authority.Issue("127.0.0.1", []string{"127.0.0.1"}, time.Now().Add(time.Hour), time.Now().Add(1000*time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	config := birds()
	config.TLS = &tls.Config{Certificates: []tls.Certificate{cert}}
	p, _ := standin(t, config)
	ca := filepath.Join(p.Home, "authority.pem")
	p.Write(ca, string(authority.PEM))
	p.Test("sightings", override("tls=verified", "tls-ca="+ca)...).Ends(t, "tls", "fail", "tls.not-yet-valid")

	old := birds()
	old.TLS = &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11}
	p, _ = standin(t, old)
	p.Test("sightings", override("tls=required")...).Ends(t, "tls", "fail", "tls.too-old")
}

// TestNoAuthorities: an image without root certificates.
func TestNoAuthorities(t *testing.T) {
	t.Parallel()
	authority, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	config := birds()
	if config.TLS, err = authority.TLS([]string{"127.0.0.1"}, time.Hour*1000); err != nil {
		t.Fatal(err)
	}
	p, _ := standin(t, config)
	empty := t.TempDir()
	p.Setenv("SSL_CERT_FILE", filepath.Join(empty, "none"))
	p.Setenv("SSL_CERT_DIR", empty)
	if _, err := x509.SystemCertPool(); err != nil {
		t.Skip("no pool to take away")
	}
	p.Test("sightings", override("tls=verified")...).Ends(t, "tls", "fail", "tls.no-authorities")
}

func TestTLSFiles(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	folder := t.TempDir()
	authority, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	_, cert, key, err := authority.Issue("warden", nil, time.Now(), time.Now().Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	path := func(name, text string) string {
		p.Write(filepath.Join(folder, name), text)
		return filepath.Join(folder, name)
	}
	certPath, keyPath := path("warden.pem", string(cert)), path("warden.key", string(key))
	for name, c := range map[string]struct {
		flags []string
		code  string
		text  string
	}{
		"no such authority":   {override("tls-ca=" + folder + "/none"), "profile.tls-file", "no such file"},
		"no certificate":      {override("tls-ca=" + path("text", "knot")), "profile.tls-file", "no PEM certificate"},
		"certificate alone":   {override("tls-cert=" + certPath), "profile.incomplete", "tls-key"},
		"key alone":           {override("tls-key=" + keyPath), "profile.incomplete", "tls-cert"},
		"key of another form": {override("tls-cert="+certPath, "tls-key="+certPath), "profile.tls-file", ""},
	} {
		s := p.Test("sightings", c.flags...).Ends(t, "profile", "fail", c.code)
		if !strings.Contains(s.Finding.Cause+s.SeenText(), c.text) {
			t.Errorf("%s: %s\n%s", name, s.Finding.Cause, s.SeenText())
		}
	}
	os.Chmod(keyPath, 0o644)
	s := p.Test("sightings", override("tls-cert="+certPath, "tls-key="+keyPath)...).Ends(t, "profile", "fail", "profile.tls-file")
	if s.Try() != "chmod 600 "+keyPath {
		t.Errorf("try %s", s.Try())
	}
}

// TestIncomplete: profiles that can't be tested, and a name nobody knows.
func TestIncomplete(t *testing.T) {
	t.Parallel()
	p := at(t, 1)
	p.Test("sightings", override("host=no-such-host.saltmarsh.example")...).Ends(t, "name", "fail", "name.unknown")
	s := p.Test("sightings", override("host=", "hosts=127.0.0.1:1,no-such-host.saltmarsh.example")...).Ends(t, "name", "fail", "name.unknown")
	if !strings.Contains(s.SeenText(), "before it, 127.0.0.1:1: ") || strings.Contains(s.Try(), "host=NAME") {
		t.Errorf("seen %s, try %s", s.SeenText(), s.Try())
	}
	for _, c := range [][2]string{{"host=", "profile.incomplete"}, {"user=", "profile.incomplete"}, {"engine=", "profile.incomplete"}, {"host=${NO_SUCH_VARIABLE}", "profile.variable"}} {
		p.Test("sightings", override(c[0])...).Ends(t, "profile", "fail", c[1])
	}
}

// TestPasswordForAnyHost: the warning comes before the dial.
func TestPasswordForAnyHost(t *testing.T) {
	t.Parallel()
	p := at(t, 1)
	p.Passfile("*:*:*:warden:dunlin")
	s := p.Test("sightings", append(override("secret=passfile", "host=tide-db.internal.example"), "-timeout", "2s")...).Stage("secret")
	if s.Outcome != "warn" || s.Finding.Code != "secret.any-host" {
		t.Errorf("%+v", s)
	}
	if s := p.Test("sightings", override("secret=passfile")...).Stage("secret"); s.Outcome != "ok" {
		t.Errorf("a local address: %+v", s)
	}
}

// TestHintNamesTheUsualPort: where the port is wrong and the usual one
// answers, the line to try leads there.
func TestHintNamesTheUsualPort(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	config := birds()
	config.Address = "127.0.0.1:5432"
	server, err := postgresql.Start(config)
	if err != nil {
		t.Skip("port 5432 is taken here")
	}
	defer server.Close()
	p := at(t, testkit.ClosedPort(t))
	s := p.Test("sightings").Ends(t, "reach", "fail", "reach.refused")
	if !strings.Contains(s.SeenText(), "a PostgreSQL server answers at 127.0.0.1:5432") || !strings.Contains(s.Try(), "gharbor set sightings port=5432") {
		t.Fatalf("seen %s\ntry %s", s.SeenText(), s.Try())
	}
	for line := range strings.SplitSeq(s.Try(), "\n") { // and does what it says
		if words := strings.Fields(line); words[1] == "set" {
			p.OK(words[1:]...)
			break
		}
	}
	if r := p.Test("sightings"); r.Outcome != "ok" {
		t.Errorf("after the line to try: %+v", r.Stages)
	}
}

func TestIPv6(t *testing.T) {
	t.Parallel()
	config := birds()
	config.Address = "[::1]:0"
	server, err := postgresql.Start(config)
	if err != nil {
		t.Skipf("no IPv6 loopback here: %v", err)
	}
	defer server.Close()
	p := at(t, server.Port())
	if r := p.Test("sightings", override("host=::1")...); r.Outcome != "ok" || r.Facts["route"] != fmt.Sprintf("[::1]:%d", server.Port()) {
		t.Errorf("%s %v", r.Outcome, r.Facts)
	}
	if r := p.Test("sightings", override(fmt.Sprintf("hosts=[::1]:%d", server.Port()))...); r.Outcome != "ok" {
		t.Errorf("as one of the hosts: %+v", r.Stages)
	}
}

// TestSavedLeaf: where the server sends its own certificate alone, saving it says what other programs make of that, and
// the test that follows warns.
func TestSavedLeaf(t *testing.T) {
	t.Parallel()
	ca, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	config := birds()
	if config.TLS, err = ca.TLS([]string{"127.0.0.1"}, 90*24*time.Hour); err != nil {
		t.Fatal(err)
	}
	chain := &config.TLS.Certificates[0]
	chain.Certificate = chain.Certificate[:1]
	p, _ := standin(t, config)
	leaf, _ := x509.ParseCertificate(chain.Certificate[0])
	p.OK("certificate", "sightings", "-save", "-fingerprint", tlsrule.Fingerprint(leaf)).Has("saved as tls-ca", "programs built on OpenSSL refuse it")
	p.Test("sightings", override("tls=verified")...).Ends(t, "tls", "warn", "tls.partial-chain")
}
