package main

import (
	"fmt"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/mysql"
)

// rings is a simulated MySQL server's usual configuration.
func rings() mysql.Config {
	return mysql.Config{UUID: "5a17-rings", Databases: []string{"moult", "ringing"}, Tables: []string{"ring"}, Accounts: []mysql.Account{
		{User: "bander", Host: "%", Password: "knot", Databases: []string{"moult"}},
		{User: "oldhand", Host: "%", Password: "knot", Method: "mysql_native_password", Databases: []string{"moult"}},
		{User: "locked", Host: "%", Password: "knot", Method: "mysql_native_password", Locked: true},
		{User: "expired", Host: "%", Password: "knot", Method: "mysql_native_password", Expired: true},
		{User: "admin", Host: "%", Password: "knot", Method: "mysql_native_password", Admin: true},
		{User: "root", Host: "%", Admin: true},
	}}
}

// onRings starts a simulated server and a program whose profile "moult" leads
// to it.
func onRings(t *testing.T, c mysql.Config) (*testkit.Program, *mysql.Server) {
	t.Helper()
	server, err := mysql.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Setenv("EMPTY", "")
	p.Profiles(fmt.Sprintf("[profile.moult]\nengine = \"mysql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"moult\"\nuser = \"oldhand\"\nsecret = \"env:KNOT\"\n\n[profile.admin]\nlike = \"moult\"\nuser = \"admin\"\n", server.Port()))
	return p, server
}

func TestMySQLFaults(t *testing.T) {
	t.Parallel()
	const short = "1s"
	cases := []struct {
		fault mysql.Fault
		rule  string
		stage string
		code  string
		seen  string
	}{
		{mysql.NotAllowed, "offered", "speak", "login.host-not-allowed", "Host '127.0.0.1' is not allowed"},
		{mysql.Silent, "offered", "speak", "speak.silent", "no time was left to try other protocols"},
		{mysql.Garbage, "offered", "speak", "speak.garbage", `\x00\x01\x02\xfftide`},
		{mysql.HalfGreeting, "offered", "speak", "speak.closed", ""},
		{mysql.OldProtocol, "offered", "speak", "speak.too-old", "3.23.58"},
		{mysql.FileAtLogin, "offered", "login", "session.asks-for-file", "/etc/passwd"},
		{mysql.AsksForFile, "offered", "login", "session.asks-for-file", "/home/warden/.ssh/id_ed25519"},
		{mysql.OddMethod, "offered", "login", "login.unsupported-method", "tide_table_1"},
		{mysql.ClearMethod, "offered", "login", "login.cleartext-refused", "mysql_clear_password"},
		{mysql.ClearMethod, "required", "login", "login.cleartext-refused", "not verified"},
		{mysql.ClearMethod, "verified", "login", "", ""},
		{mysql.OfferKey, "offered", "login", "login.cleartext-refused", ""},
		{mysql.NoCatalogue, "offered", "expect", "expect.unknown", "command denied"},
		{mysql.EscapeMessage, "offered", "login", "login.refused", `"[2J]0;ownedgoaway now"`},
	}
	authority, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	secure, err := authority.TLS([]string{"127.0.0.1"}, 90*24*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range cases {
		t.Run(fmt.Sprintf("%s, tls %s", c.fault, c.rule), func(t *testing.T) {
			t.Parallel()
			config := rings()
			config.Fault = c.fault
			if c.rule == "required" || c.rule == "verified" {
				config.TLS = secure
			}
			p, server := onRings(t, config)
			ca := filepath.Join(p.Home, "authority.pem")
			p.Write(ca, string(authority.PEM))
			flags := append([]string{"test", "moult", "-format", "json", "-timeout", short}, override("tls="+c.rule, "expect.tables=ring")...)
			if c.rule == "verified" {
				flags = append(flags, override("tls-ca="+ca)...)
			}
			r := p.Run(flags...)
			ends := "fail"
			if c.code == "" {
				ends = "ok"
			}
			s := r.Report().Ends(t, c.stage, ends, c.code)
			if !strings.Contains(s.SeenText(), c.seen) && !strings.Contains(s.Finding.Cause, c.seen) {
				t.Errorf("no %q in seen:\n%s", c.seen, s.SeenText())
			}
			if r.Took > 4*time.Second {
				t.Errorf("it took %s of a budget of %s", r.Took, short)
			}
			if strings.ContainsAny(r.Stdout, "\x1b\x07\u202e") {
				t.Error("control characters reached the output")
			}
			if got := server.Files(); len(got) > 0 {
				t.Errorf("the server got %q for a file", got)
			}
			if c.code != "" {
				p.OK("explain", c.code)
			}
		})
	}
}

func TestMySQLFloodAndSlow(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	config := rings()
	config.Fault = mysql.FloodRows
	p, _ := onRings(t, config)
	r := p.Test("moult", override("database=molt")...)
	r.Ends(t, "database", "fail", "database.no-access")
	config.Fault = mysql.OldVariables // of another version than those known here
	p, _ = onRings(t, config)
	if r := p.Test("moult"); r.Outcome != "ok" || r.Facts["server_lineage"] != "5a17-rings" || r.Facts["collation"] == nil {
		t.Errorf("%s %v", r.Outcome, r.Facts)
	}
	config.Fault, config.Delay = mysql.Slow, 50*time.Millisecond
	p, server := onRings(t, config)
	if r := p.Test("moult"); r.Outcome != "ok" || server.Connections() != 1 {
		t.Errorf("%s over %d connections", r.Outcome, server.Connections())
	}
	config.Delay = time.Second
	p, _ = onRings(t, config)
	p.Test("moult", "-timeout", "1500ms").Ends(t, "login", "fail", "login.timeout")
}

// TestMySQLCachingSHA2: the whole password goes out only where it is safe, and
// is needed only once.
func TestMySQLCachingSHA2(t *testing.T) {
	t.Parallel()
	authority, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	secure, err := authority.TLS([]string{"127.0.0.1"}, 90*24*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	config := rings()
	config.TLS = secure
	config.Socket = filepath.Join(t.TempDir(), "mysqld.sock")
	caching := override("user=bander")
	fresh := func() (*testkit.Program, *mysql.Server, []string) {
		c := config
		c.Socket = filepath.Join(t.TempDir(), "mysqld.sock")
		p, server := onRings(t, c)
		ca, key := filepath.Join(p.Home, "authority.pem"), filepath.Join(p.Home, "server.pem")
		p.Write(ca, string(authority.PEM))
		p.Write(key, string(server.PublicKey()))
		return p, server, append(caching, override("tls=verified", "tls-ca="+ca)...)
	}
	p, _, verified := fresh()
	for _, rule := range []string{"off", "required"} {
		s := p.Test("moult", append(caching, override("tls="+rule)...)...).Ends(t, "login", "fail", "login.cleartext-refused")
		if !strings.Contains(s.SeenText(), "the first login after a server start") {
			t.Errorf("tls %s: %s", rule, s.SeenText())
		}
	}
	r := p.Test("moult", verified...)
	r.Ends(t, "login", "ok", "")
	if r.Facts["login_method"] != "caching_sha2_password" || r.Facts["engine"] != "mysql" || r.Facts["server_lineage"] != "5a17-rings" {
		t.Errorf("%v", r.Facts)
	}
	// From now on the hash is enough, over anything.
	for _, rule := range []string{"off", "required"} {
		p.Test("moult", append(caching, override("tls="+rule)...)...).Ends(t, "login", "ok", "")
	}
	p.Test("moult", append(caching, override("tls=off", "secret=env:EMPTY")...)...).Ends(t, "login", "fail", "login.empty-password")

	// A pinned key is as good as TLS; another key is not taken.
	p, _, _ = fresh()
	key := filepath.Join(p.Home, "server.pem")
	p.Test("moult", append(caching, override("tls=off", "server-key="+key)...)...).Ends(t, "login", "ok", "")
	p, _, _ = fresh()
	p.Test("moult", append(caching, override("tls=required", "server-key="+filepath.Join(p.Home, "server.pem"))...)...).Ends(t, "login", "fail", "login.cleartext-refused")
	other, _, _ := fresh()
	p.Test("moult", append(caching, override("tls=off", "server-key="+filepath.Join(other.Home, "server.pem"))...)...).Ends(t, "login", "fail", "login.password")
	p.Test("moult", append(caching, override("tls=off", "server-key="+p.Home+"/none.pem")...)...).Ends(t, "login", "fail", "profile.tls-file")
	p.Test("moult", append(caching, override("tls=off", "server-key="+filepath.Join(p.Home, "profiles.toml"))...)...).Ends(t, "login", "fail", "profile.tls-file")

	// Over a socket whose owner is this user.
	if runtime.GOOS == "linux" {
		p, server, _ := fresh()
		p.Test("moult", append(caching, override("host=", "port=", "socket="+server.Socket)...)...).Ends(t, "login", "ok", "")
	}
}

func TestMySQLAccounts(t *testing.T) {
	t.Parallel()
	config := rings()
	config.Method = "mysql_native_password"
	p, _ := onRings(t, config)
	s := p.Test("moult", override("user=locked")...).Ends(t, "login", "fail", "login.locked")
	if !strings.Contains(s.SeenText(), "3118") {
		t.Error(s.SeenText())
	}
	s = p.Test("moult", override("user=expired")...).Ends(t, "login", "fail", "login.expired")
	if !strings.Contains(s.SeenText(), "1862") {
		t.Error(s.SeenText())
	}
	p.Test("moult", override("user=root", "secret=none")...).Ends(t, "login", "warn", "login.root-without-password")
	p.Test("moult", override("engine=mariadb")...).Ends(t, "speak", "warn", "speak.flavour")
	p.Test("moult", append(override("user=oldhnd"), "-as", "admin")...).Ends(t, "login", "fail", "login.no-such-role")
	p.Test("moult", append(override("secret=env:HOME"), "-as", "admin")...).Ends(t, "login", "fail", "login.password")
	p.Test("moult", append(override("database=ringing"), "-as", "admin")...).Ends(t, "database", "fail", "database.no-access")
	p.Test("admin", override("database=molt")...).Ends(t, "database", "fail", "database.missing")
	config = rings()
	config.Version = "10.6.12-MariaDB"
	config.ReadOnly = true
	p, _ = onRings(t, config)
	r := p.Test("moult", override("engine=mariadb")...)
	r.Ends(t, "session", "warn", "session.read-only")
	if r.Facts["version"] != "10.6.12-MariaDB" {
		t.Errorf("%v", r.Facts)
	}
	p.Test("moult", override("engine=mariadb", "user=expired")...).Ends(t, "login", "fail", "login.expired")
}

// TestMySQLCertificatesAndHosts: wrong certificates, and several hosts of which
// one is wanted.
func TestMySQLCertificatesAndHosts(t *testing.T) {
	t.Parallel()
	ca, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	for code, c := range map[string]struct {
		name string
		life time.Duration
	}{"tls.wrong-name": {"moult.saltmarsh.example", 90 * 24 * time.Hour}, "tls.expired": {"127.0.0.1", -24 * time.Hour}} {
		config := rings()
		if config.TLS, err = ca.TLS([]string{c.name}, c.life); err != nil {
			t.Fatal(err)
		}
		p, _ := onRings(t, config)
		path := filepath.Join(p.Home, "authority.pem")
		p.Write(path, string(ca.PEM))
		p.Test("moult", override("tls=verified", "tls-ca="+path)...).Ends(t, "tls", "fail", code)
		p.Test("moult", override("tls=verified")...).Ends(t, "tls", "fail", map[string]string{"tls.wrong-name": "tls.untrusted", "tls.expired": "tls.expired"}[code])
	}
	standby := rings()
	standby.ReadOnly, standby.Method = true, "mysql_native_password"
	p, first := onRings(t, standby)
	primary, err := mysql.Start(rings())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(primary.Close)
	hosts := fmt.Sprintf("hosts=127.0.0.1:%d,127.0.0.1:%d", first.Port(), primary.Port())
	for target, port := range map[string]int{"writable": primary.Port(), "read-only": first.Port(), "any": first.Port()} {
		r := p.Test("moult", override("host=", hosts, "target="+target)...)
		if r.Outcome == "fail" || r.Facts["route"] != fmt.Sprintf("127.0.0.1:%d", port) {
			t.Errorf("target %s: %s at %v", target, r.Outcome, r.Facts["route"])
		}
	}
}

// TestMySQLOtherServers: what answers is something else.
func TestMySQLOtherServers(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		port func(*testing.T) int
		code string
		text string
	}{
		"PostgreSQL":  {func(t *testing.T) int { _, s := standin(t, birds()); return s.Port() }, "speak.other-engine", "a PostgreSQL server"},
		"Redis":       {func(t *testing.T) int { return listen(t, answersLine("+PONG\r\n")) }, "speak.other-engine", "a Redis server"},
		"SSH":         {func(t *testing.T) int { return listen(t, speaksFirst("SSH-2.0-OpenSSH_9.2p1 Debian-2\r\n")) }, "speak.other-engine", "an SSH server"},
		"SSH, slowly": {func(t *testing.T) int { return listen(t, dribble("SSH-2.0-OpenSSH_9.2p1\r\n")) }, "speak.other-engine", "an SSH server"},
		"X Protocol":  {func(t *testing.T) int { return listen(t, speaksFirst("\x05\x00\x00\x00\x0b\x08\x05\x1a\x00")) }, "speak.other-engine", "X Protocol"},
		"MongoDB":     {func(t *testing.T) int { return listen(t, answersMongo) }, "speak.other-engine", "a MongoDB server"},
		"TLS only":    {func(t *testing.T) int { return listen(t, onlyTLS(t)) }, "speak.tls-only", "TLS from the first byte"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p, _ := onRings(t, rings())
			s := p.Test("moult", append(override(fmt.Sprintf("port=%d", c.port(t))), "-timeout", "8s")...).Ends(t, "speak", "fail", c.code)
			if !strings.Contains(s.Finding.Cause, c.text) {
				t.Error(s.Finding.Cause)
			}
		})
	}
}
