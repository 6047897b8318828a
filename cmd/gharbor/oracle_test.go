//go:build unix

package main

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/oracle"
)

// archive is a simulated database with the accounts of the tests.
func archive() oracle.Config {
	return oracle.Config{
		Services: map[string]oracle.State{"SKEIN": oracle.Up, "HELD": oracle.Blocked, "BUSY": oracle.NoHandler}, Instances: []string{"SKEIN1"}, Resend: true,
		Accounts: []oracle.Account{
			{User: "CURATOR", Password: "avocet"}, {User: "LOCKED", Password: "avocet", Locked: true}, {User: "EXPIRED", Password: "avocet", Expired: true},
			{User: "GRACE", Password: "avocet", Grace: true}, {User: "SHUT", Password: "avocet", NoSession: true}, {User: "SYS", Password: "avocet", DBA: true},
		},
		Tables: []string{"CURATOR.SPECIES"},
	}
}

// listening starts a simulated database and writes the profile archive for it.
func listening(t *testing.T, config oracle.Config, lines ...string) (*testkit.Program, *oracle.Server) {
	t.Helper()
	server, err := oracle.Start(config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	p := testkit.NewProgram(t)
	p.Setenv("AVOCET", "avocet")
	p.Setenv("DUNLIN", "dunlin")
	p.Setenv("EMPTY", "")
	base := "[profile.%s]\nengine = \"oracle\"\nhost = \"127.0.0.1\"\nport = %d\nservice = \"SKEIN\"\nuser = \"%s\"\nsecret = \"env:AVOCET\"\n%s\n"
	p.Profiles(fmt.Sprintf(base, "archive", server.Port(), "curator", strings.Join(lines, "\n")) + fmt.Sprintf(base, "sys", server.Port(), "sys", "as = \"sysdba\""))
	return p, server
}

// TestOracle: one connection carries every stage; what the server says is told, and
// nothing else reaches the output.
func TestOracle(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, server := listening(t, archive())
	r := p.Test("archive", override("expect.tables=species,curator.species", "expect.user=CURATOR", "expect.version=>= 19")...)
	if r.Outcome != "ok" || server.Connections() != 1 || server.Logins() != 1 {
		t.Errorf("%s by %d connections, %d logins: %+v", r.Outcome, server.Connections(), server.Logins(), r.Stages)
	}
	for fact, want := range map[string]any{"version": "19.0.0.0.0", "user": "CURATOR", "database": "SKEINPDB1", "tls": "none", "login_method": "12c verifier (PBKDF2)", "encoding": "AL32UTF8", "server_host": "archive-a", "server_id": "skein_a/skein1", "in_recovery": false} {
		if r.Facts[fact] != want {
			t.Errorf("%s: %v, want %v", fact, r.Facts[fact], want)
		}
	}
	if _, known := r.Facts["writable"]; known {
		t.Error("writable is told though the account may not ask")
	}
	if r := p.Test("sys"); r.Outcome != "ok" || r.Facts["writable"] != true || r.Facts["superuser"] != true || !strings.Contains(r.Stage("login").Detail, "as sysdba") {
		t.Errorf("%+v", r)
	}
	p.OK("test", "archive", "-override", "service=", "-override", "instance=skein1").Has(`the instance "skein1"`)
	p.OK("copy", "sys", "sys-too")
	p.OK("compare", "sys", "sys-too").Has("same-instance")
	p.Run("compare", "archive", "sys").Want(6).Has("can't be read")
	for _, asked := range server.Descriptors() {
		if strings.Contains(asked, "avocet") || strings.Contains(asked, "USER=w") || !strings.Contains(asked, "(PROGRAM=gharbor)") {
			t.Errorf("the listener was told %s", asked)
		}
	}
}

// TestOracleFindings: every refusal of a listener and of the login gets its own finding.
func TestOracleFindings(t *testing.T) {
	t.Parallel()
	p, server := listening(t, archive())
	runReal(t, p, "archive", []realCase{
		{"service unknown", override("service=SKIEN"), "speak", "fail", "speak.service-unknown", "ORA-12514", "gharbor set archive service=NAME"},
		{"instance unknown", override("service=", "instance=SKEIN2"), "speak", "fail", "speak.service-unknown", "ORA-12505", "gharbor set archive instance=NAME"},
		{"blocked", override("service=HELD"), "speak", "fail", "speak.service-blocked", "ORA-12528", "gharbor wait"},
		{"no handler", override("service=BUSY"), "speak", "fail", "speak.no-handler", "ORA-12516", "gharbor wait"},
		{"wrong password", override("secret=env:DUNLIN"), "login", "fail", "login.password", "ORA-01017", "gharbor show"},
		{"no such account", override("user=nobody"), "login", "fail", "login.password", "ORA-01017", ""},
		{"looked up", append(override("user=nobody"), "-as", "sys"), "login", "fail", "login.no-such-role", "looked up with the profile sys", ""},
		{"looked up, and there", append(override("secret=env:DUNLIN"), "-as", "sys"), "login", "fail", "login.password", "what is left is the password", ""},
		{"locked", override("user=locked", "secret=env:DUNLIN"), "login", "fail", "login.locked", "ORA-28000", "ALTER USER LOCKED ACCOUNT UNLOCK"},
		{"expired", override("user=expired"), "login", "fail", "login.expired", "ORA-28001", "ALTER USER EXPIRED"},
		{"grace", override("user=grace"), "login", "warn", "login.expires-soon", "within 7 days", "ALTER USER GRACE"},
		{"no right to log in", override("user=shut"), "login", "fail", "login.no-login-right", "ORA-01045", "GRANT CREATE SESSION TO SHUT"},
		{"no administrator", override("as=sysdba"), "login", "fail", "login.right-refused", "ORA-01031", "GRANT SYSDBA TO CURATOR"},
		{"administrator alone", override("user=sys"), "login", "fail", "login.right-needed", "ORA-28009", "as=sysdba"},
		{"empty password", override("secret=env:EMPTY"), "login", "fail", "login.empty-password", "it was not sent", "secret=ask"},
		{"no password", override("secret=none"), "login", "fail", "login.password-wanted", "", "secret=ask"},
		{"no service", override("service="), "profile", "fail", "profile.incomplete", "which service", "service=NAME"},
		{"a database too", override("database=sightings"), "profile", "warn", "profile.conflict", "the service decides", "database="},
		{"another engine's keys", override("engine=postgresql"), "profile", "warn", "profile.conflict", "service has no effect", "service="},
		{"a missing table", override("expect.tables=ring"), "expect", "fail", "expect.table-missing", "", ""},
		{"an extension", override("expect.extensions=postgis"), "expect", "fail", "expect.extension-missing", "", ""},
		{"TLS wanted", override("tls=verified"), "tls", "fail", "tls.not-offered", "answered as a listener", "port=2484"},
	})
	p.OK("test", "archive", "-override", "user=grace").HasNot("&{")
	other, _ := standin(t, birds())
	other.Profiles(strings.Replace(other.ReadProfiles(), "postgresql\"", "oracle\"\nservice = \"SKEIN\"", 1))
	other.Test("sightings").Ends(t, "speak", "fail", "speak.other-engine")
	p.Test("archive", override("engine=mariadb", "service=", fmt.Sprint("port=", server.Port()))...).Ends(t, "speak", "fail", "speak.other-engine")
	p.Test("archive", override(fmt.Sprint("port=", testkit.ClosedPort(t)))...).Ends(t, "reach", "fail", "reach.refused")
}

// TestOracleStates: what is behind the listener may be down, starting, or a standby.
func TestOracleStates(t *testing.T) {
	t.Parallel()
	for state, code := range map[oracle.State]string{oracle.Down: "speak.instance-down", oracle.Starting: "speak.starting"} {
		config := archive()
		config.Services = map[string]oracle.State{"SKEIN": state}
		p, _ := listening(t, config)
		p.Test("archive").Ends(t, "login", "fail", code)
	}
	config := archive()
	config.Standby = true
	p, _ := listening(t, config)
	if r := p.Test("archive"); r.Facts["writable"] != false || r.Facts["in_recovery"] != true {
		t.Errorf("%+v", r.Facts)
	}
}

// TestOracleEscapes: a hostile server ends in a finding, in time, and never in a crash.
func TestOracleEscapes(t *testing.T) {
	t.Parallel()
	config := archive()
	config.Fault = oracle.Escapes
	p, _ := listening(t, config)
	for _, flags := range [][]string{override("service=SKIEN"), override("secret=env:DUNLIN")} {
		if r := p.Run(append([]string{"test", "archive"}, flags...)...); strings.ContainsAny(r.Stdout, "\x1b\x07\u202e") || !strings.Contains(r.Stdout, "ORA-") {
			t.Errorf("%q", r.Stdout)
		}
	}
}

// TestOracleTLS: a listener of its own speaks TLS from the first byte, and says nothing
// before it is known who it is.
func TestOracleTLS(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	ca, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	config := archive()
	if config.TLS, err = ca.TLS([]string{"archive-a.saltmarsh.example"}, 90*24*time.Hour); err != nil {
		t.Fatal(err)
	}
	p, server := listening(t, config, "tls = \"verified\"", "tls-ca = \"ca.pem\"", "tls-name = \"archive-a.saltmarsh.example\"")
	if err := os.WriteFile(filepath.Join(p.Home, "ca.pem"), ca.PEM, 0o600); err != nil {
		t.Fatal(err)
	}
	if r := p.Test("archive"); r.Outcome != "ok" || r.Facts["tls_verified"] != true || server.Connections() != 1 {
		t.Errorf("%d connections, %+v", server.Connections(), r.Stages)
	}
	asked := len(server.Descriptors())
	p.Test("archive", override("tls-name=other.saltmarsh.example")...).Ends(t, "tls", "fail", "tls.wrong-name")
	p.Test("archive", override("tls-ca=")...).Ends(t, "tls", "fail", "tls.untrusted")
	if len(server.Descriptors()) != asked {
		t.Errorf("a listener that is not who it is meant to be was asked for the service")
	}
	p.Test("archive", override("tls=off")...).Ends(t, "speak", "fail", "speak.tls-only")
	p.OK("certificate", "archive").Has("archive-a.saltmarsh.example")
	config.Fault = oracle.Silent
	quiet, _ := listening(t, config, "tls = \"required\"")
	quiet.Test("archive", "-timeout", "3s").Ends(t, "speak", "fail", "speak.silent")
	closing, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	testkit.Serve(t, closing, func(conn net.Conn) { // ends what is no handshake without a word
		head := make([]byte, 1)
		if _, err := io.ReadFull(conn, head); err == nil && head[0] == 22 {
			tls.Server(&replayed{conn, head}, config.TLS).Handshake()
		}
	})
	p.Test("archive", override("tls=off", fmt.Sprint("port=", closing.Addr().(*net.TCPAddr).Port))...).Ends(t, "speak", "fail", "speak.tls-only")
}

// replayed is a connection whose first bytes were read already.
type replayed struct {
	net.Conn
	first []byte
}

func (r *replayed) Read(p []byte) (int, error) {
	if len(r.first) == 0 {
		return r.Conn.Read(p)
	}
	n := copy(p, r.first)
	r.first = r.first[n:]
	return n, nil
}

// TestOracleRedirect: a redirect is followed once, and only to an address that the
// alias lists.
func TestOracleRedirect(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, target := listening(t, archive())
	trap, err := oracle.Start(archive())
	if err != nil {
		t.Fatal(err)
	}
	defer trap.Close()
	sends := func(to string) string {
		config := archive()
		config.Redirect = to
		server, err := oracle.Start(config)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(server.Close)
		return fmt.Sprint("127.0.0.1:", server.Port())
	}
	good := fmt.Sprint("127.0.0.1:", target.Port())
	first := sends(good)
	p.OK("test", "-full", "archive", "-override", "host=", "-override", "hosts="+first+","+good).Has("which is listed", "at "+good)
	p.Test("archive", override("host=", "hosts="+first)...).Ends(t, "speak", "fail", "speak.redirected")
	s := p.Test("archive", override("host=", "hosts="+sends(fmt.Sprint("127.0.0.1:", trap.Port())))...).Ends(t, "speak", "fail", "speak.redirected")
	if !strings.Contains(s.SeenText(), fmt.Sprint(trap.Port())) || trap.Connections() != 0 {
		t.Errorf("%d connections to where the listener sent one: %s", trap.Connections(), s.SeenText())
	}
	twice := sends(first)
	s = p.Test("archive", override("host=", "hosts="+twice+","+first)...).Ends(t, "speak", "fail", "speak.redirected")
	if strings.Contains(s.Finding.Cause, "listed, and") {
		t.Errorf("%s", s.Finding.Cause)
	}
	gone := net.JoinHostPort("127.0.0.1", fmt.Sprint(testkit.ClosedPort(t)))
	p.Test("archive", override("host=", "hosts="+sends(gone)+","+gone)...).Ends(t, "reach", "fail", "reach.refused")
}

// TestOracleBehindHop: an alias leads through a real jump host, and a name of [hosts] is
// not the hop's to look up.
func TestOracleBehindHop(t *testing.T) {
	t.Parallel()
	gate := testkit.SSHServer(t)
	p, server := listening(t, archive())
	p.Knows(gate.KnownLine(t))
	p.Aliases(fmt.Sprintf("[alias.skein]\nengine = \"oracle\"\naddresses = [\"archive-a.internal.example:%d\", \"archive-b.internal.example:%d\"]\nservice = \"SKEIN\"\ntls = \"off\"\n[hosts]\n\"archive-a.internal.example\" = \"127.0.0.9\"\n\"archive-b.internal.example\" = [\"127.0.0.9\", \"127.0.0.1\"]\n", server.Port(), server.Port()))
	p.Profiles("[profile.archive]\nalias = \"skein\"\nuser = \"curator\"\nsecret = \"env:AVOCET\"\n" + gate.Hop("archive", fmt.Sprintf("key = %q", gate.Key)))
	r := p.Test("archive")
	s := r.Ends(t, "reach", "warn", "reach.passed-over")
	if r.Outcome != "warn" || !strings.Contains(s.SeenText(), "archive-a.internal.example") || !strings.Contains(r.Stage("name").Detail, "by [hosts] at aliases.toml") || !strings.Contains(r.Stage("route").Detail, "alias skein") {
		t.Errorf("%s %+v", r.Outcome, r.Stages)
	}
	p.OK("alias", "set", "skein", "pick=fastest")
	if r := p.Test("archive"); r.Outcome != "ok" {
		t.Errorf("%s %+v", r.Outcome, r.Stages)
	}
}
