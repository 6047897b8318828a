//go:build unix

package main

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"gentleharbor/internal/testkit"
)

// onReal is a program with profiles for the real server: "sightings" is the
// plain one, and every case is an override of it.
func onReal(t *testing.T) (*testkit.Program, *testkit.PostgreSQL) {
	t.Helper()
	server := testkit.PostgreSQLServer(t)
	p := testkit.NewProgram(t)
	p.Setenv("WARDEN", testkit.WardenPassword)
	p.Setenv("KNOT", "knot")
	p.Setenv("ADMIN", testkit.AdminPassword)
	p.Setenv("EMPTY", "")
	p.Setenv("BLANK", "knot ")
	p.Profiles(fmt.Sprintf(`format = 1

[profile.sightings]
engine   = "postgresql"
host     = "127.0.0.1"
port     = %[1]d
database = "sightings"
user     = "warden"
secret   = "env:WARDEN"

[profile.admin]
like     = "sightings"
database = "postgres"
user     = "admin"
secret   = "env:ADMIN"

[profile.socket]
engine   = "postgresql"
socket   = %[2]q
port     = %[1]d
database = "postgres"
user     = "postgres"
secret   = "none"
`, server.Port, server.Folder))
	return p, server
}

func TestRealReady(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	r := p.Test("sightings")
	if r.Outcome != "ok" {
		t.Fatalf("outcome %s: %+v", r.Outcome, r.Stages)
	}
	for key, want := range map[string]any{"engine": "postgresql", "user": "warden", "database": "sightings", "login_method": "SCRAM-SHA-256-PLUS",
		"writable": true, "in_recovery": false, "superuser": false, "encoding": "UTF8", "tls": "TLS 1.3", "tls_verified": false,
		"route": fmt.Sprintf("127.0.0.1:%d", server.Port)} {
		if r.Facts[key] != want {
			t.Errorf("fact %s is %v, want %v", key, r.Facts[key], want)
		}
	}
	for _, key := range []string{"version", "server_id", "server_started", "time_zone", "clock_difference_ms", "round_trip_ms", "certificate", "tls_cipher", "secret_source"} {
		if r.Facts[key] == nil || r.Facts[key] == "" {
			t.Errorf("fact %s is missing", key)
		}
	}
	conn, err := server.Connect("postgres")
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	row := conn.ExecParams(context.Background(), "SELECT system_identifier::text FROM pg_control_system()", nil, nil, nil, nil).Read()
	if id := r.Facts["server_id"].(string); !strings.HasPrefix(id, string(row.Rows[0][0])+" started ") {
		t.Errorf("server_id is %q, the server's is %s", id, row.Rows[0][0])
	}
	text := p.OK("test", "sightings").Stdout
	lines := strings.Split(strings.TrimSpace(text), "\n")
	if last := lines[len(lines)-1]; !strings.HasPrefix(last, "ready: warden in sightings at 127.0.0.1:") || !regexp.MustCompile(`\([0-9.]+ m?s\)$`).MatchString(last) {
		t.Errorf("last line: %s", last)
	}
}

// TestRealFindings breaks the plain profile in every way that a real server
// can show, and wants the right finding each time.
func TestRealFindings(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	runReal(t, p, "sightings", []realCase{
		{"wrong password", override("secret=env:KNOT"), "login", "fail", "login.password", "28P01", "-as socket"},
		{"unknown role, same answer", override("user=summer"), "login", "fail", "login.password", "28P01", ""},
		{"empty password", override("secret=env:EMPTY"), "login", "fail", "login.empty-password", "EMPTY", "gharbor show"},
		{"no password to send", override("secret=none"), "login", "fail", "login.password-wanted", "SCRAM", "secret=ask"},
		{"variable not set", override("secret=env:NOT_SET"), "secret", "fail", "secret.missing", "", "export NOT_SET"},
		{"ask without a terminal", override("secret=ask"), "secret", "fail", "secret.no-terminal", "", "secret=env:NAME"},
		{"no source, nothing found", override("secret="), "login", "fail", "secret.missing", "no password file", ""},
		{"unknown role, looked up", append(override("user=summer"), "-as", "admin"), "login", "fail", "login.no-such-role", "looked up with the profile admin", "CREATE ROLE"},
		{"misspelt, looked up", append(override("user=vistor"), "-as", "admin"), "login", "fail", "login.no-such-role", "visitor", ""},
		{"expired, looked up", append(override("user=expired", "secret=env:KNOT"), "-as", "admin"), "login", "fail", "login.expired", "VALID UNTIL is 2001", "VALID UNTIL 'infinity'"},
		{"expired, not looked up", override("user=expired", "secret=env:KNOT"), "login", "fail", "login.password", "28P01", ""},
		{"may not log in, wrong password, looked up", append(override("user=nologin"), "-as", "admin"), "login", "fail", "login.no-login-right", "NOLOGIN"[2:], "ALTER ROLE"},
		{"may not log in, the server says so", override("user=nologin", "secret=env:KNOT"), "login", "fail", "login.no-login-right", "not permitted to log in", "ALTER ROLE nologin LOGIN"},
		{"no password set, looked up", append(override("user=nopassword"), "-as", "admin"), "login", "fail", "login.no-password-set", "no password is stored", ""},
		{"stored for MD5, SCRAM asked, looked up", append(override("user=oldhash", "secret=env:KNOT"), "-as", "admin"), "login", "fail", "login.other-hash", "begins with md5", "provision make"},
		{"a blank at the end", override("secret=env:BLANK"), "login", "fail", "login.password", "ends with a blank", ""},
		{"wrong password, looked up", append(override("secret=env:KNOT"), "-as", "admin"), "login", "fail", "login.password", "so the password is wrong", ""},
		{"rejected by a rule", override("user=banned", "secret=env:KNOT"), "login", "fail", "login.host-not-allowed", "pg_hba.conf", "127.0.0.1/32"},
		{"allowed from elsewhere", override("user=elsewhere", "secret=env:KNOT"), "login", "fail", "login.host-not-allowed", "no pg_hba.conf entry", "hostssl sightings elsewhere"},
		{"not allowed, with or without TLS", override("user=nowhere", "tls=off"), "login", "fail", "login.host-not-allowed", "no encryption", "host sightings nowhere"},
		{"TLS wanted by the server", override("user=tlsonly", "secret=env:KNOT", "tls=off"), "login", "fail", "tls.required-by-server", "asks for the password", "tls=verified"},
		{"MD5", override("user=md5user", "secret=env:KNOT"), "login", "warn", "login.weak-method", "", "scram-sha-256"},
		{"trust", override("user=truster"), "login", "warn", "login.no-password-asked", "trust", "pg_hba_file_rules"},
		{"cleartext without TLS", override("user=cleartext", "secret=env:KNOT", "tls=off"), "login", "fail", "login.cleartext-refused", "not encrypted", "tls=verified"},
		{"cleartext, TLS not verified", override("user=cleartext", "secret=env:KNOT", "tls=required"), "login", "fail", "login.cleartext-refused", "not verified", ""},
		{"no client certificate", override("user=certified", "tls=required"), "login", "fail", "tls.client-certificate", "", "tls-cert=PATH"},
		{"stranger's client certificate", override("user=certified", "tls=required", "tls-cert="+server.OtherCert, "tls-key="+server.OtherKey), "login", "fail", "tls.client-certificate", "other.pem", ""},
		{"client certificate", override("user=certified", "tls=required", "tls-cert="+server.ClientCert, "tls-key="+server.ClientKey), "login", "warn", "login.no-password-asked", "certificate", ""},
		{"role's own limit", override("user=limited", "secret=env:KNOT"), "login", "fail", "session.server-full", "53300", ""},
		{"database's own limit", override("database=crowded"), "login", "fail", "session.server-full", "53300", ""},
		{"missing database", override("database=sighting"), "database", "fail", "database.missing", `similar names that exist: "sightings"`, "database=sightings"},
		{"missing database, nothing alike", override("database=zzzzzz"), "database", "fail", "database.missing", "asked in", ""},
		{"no CONNECT", override("database=sealed"), "database", "fail", "database.no-access", "42501", "GRANT CONNECT ON DATABASE sealed TO warden"},
		{"database asleep", override("database=asleep"), "database", "fail", "database.not-accepting", "55000", "ALLOW_CONNECTIONS true"},
		{"read-only role", override("user=visitor", "secret=env:KNOT"), "session", "warn", "session.read-only", "the role is set to read-only transactions", "expect.writable=false"},
		{"read-only, expected", override("user=visitor", "secret=env:KNOT", "expect.writable=false"), "session", "ok", "", "", ""},
		{"untrusted", override("tls=verified"), "tls", "fail", "tls.untrusted", "Saltmarsh Test Authority", "certificate sightings -save"},
		{"wrong name", override("tls=verified", "tls-ca="+server.Authority), "tls", "fail", "tls.wrong-name", "sightings.saltmarsh.example", "tls-name=NAME"},
		{"verified", override("tls=verified", "tls-ca="+server.Authority, "tls-name=sightings.saltmarsh.example"), "tls", "ok", "", "", ""},
		{"authority without verification", override("tls=required", "tls-ca="+server.Authority), "profile", "warn", "profile.conflict", "", "tls=verified"},
		{"no TLS wanted", override("tls=off"), "tls", "ok", "", "", ""},
		{"expected version", override("expect.version=>= 90"), "expect", "fail", "expect.version", "", "gharbor show"},
		{"expected version holds", override("expect.version=>= 9.6, < 90"), "expect", "ok", "", "", ""},
		{"expected TLS", override("expect.tls=verified"), "expect", "fail", "expect.tls", "", ""},
		{"expected no TLS", override("expect.tls=off"), "expect", "fail", "expect.tls", "", ""},
		{"expected read-only", override("expect.writable=false"), "expect", "fail", "expect.writable", "", ""},
		{"expected user", override("expect.user=visitor"), "expect", "fail", "expect.user", "", ""},
		{"expected database", override("expect.database=ringing"), "expect", "fail", "expect.database", "", ""},
		{"expected tables", override("expect.tables=sighting,field.observer"), "expect", "ok", "", "", ""},
		{"expected table", override("expect.tables=sighting,ring"), "expect", "fail", "expect.table-missing", "", ""},
		{"expected extension", override("expect.extensions=plpgsql,postgis"), "expect", "fail", "expect.extension-missing", "", ""},
		{"expected encoding holds", override("expect.encoding=utf-8"), "expect", "ok", "", "", ""},
		{"expected encoding", override("expect.encoding=LATIN1"), "expect", "fail", "expect.encoding", "", ""},
		{"expected latency", override("expect.latency=1ns"), "expect", "fail", "expect.latency", "", ""},
		{"two expectations", override("expect.user=a", "expect.tables=ring"), "expect", "fail", "expect.user", "expect.table-missing", ""},
	})
}

// TestRealChannelBinding checks that the driver gets a bare TLS connection:
// otherwise SCRAM would go on without binding to it, and nobody would notice.
func TestRealChannelBinding(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	verified := override("tls=verified", "tls-ca="+server.Authority, "tls-name=localhost")
	r := p.Test("sightings", verified...)
	if r.Facts["login_method"] != "SCRAM-SHA-256-PLUS" || r.Facts["tls_verified"] != true {
		t.Errorf("method %v, verified %v", r.Facts["login_method"], r.Facts["tls_verified"])
	}
	if r := p.Test("sightings", override("tls=off")...); r.Facts["login_method"] != "SCRAM-SHA-256" || r.Facts["tls"] != "none" {
		t.Errorf("without TLS: method %v, tls %v", r.Facts["login_method"], r.Facts["tls"])
	}
	r = p.Test("sightings", append(verified, override("user=cleartext", "secret=env:KNOT")...)...)
	if r.Outcome != "ok" || r.Facts["login_method"] != "cleartext password" {
		t.Errorf("cleartext over verified TLS: %s by %v", r.Outcome, r.Facts["login_method"])
	}
}

func TestRealSocket(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	r := p.Test("socket")
	r.Ends(t, "login", "warn", "login.no-password-asked")
	path := fmt.Sprintf("%s/.s.PGSQL.%d", server.Folder, server.Port)
	if r.Facts["route"] != "socket "+path || r.Facts["superuser"] != true {
		t.Errorf("facts %v", r.Facts)
	}
	p.Test("socket", override("socket="+path)...).Ends(t, "session", "ok", "")
	account, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	p.Test("socket", override("user="+account.Username)...).Ends(t, "login", "warn", "login.no-password-asked")
	p.Test("socket", override("user=someone-else")...).Ends(t, "login", "fail", "login.peer")
	p.Test("socket", override("user=truster")...).Ends(t, "login", "fail", "login.host-not-allowed")
	p.Test("socket", override("tls=required")...).Ends(t, "tls", "fail", "tls.not-offered")
	// The folder is the server account's own, so its socket may get a password.
	p.Test("socket", override("user=cleartext", "secret=env:KNOT")...).Ends(t, "login", "ok", "")
	missing := p.Test("socket", override("port=1111")...).Ends(t, "reach", "fail", "reach.socket-missing")
	if !strings.Contains(missing.Try(), "gharbor nearby") {
		t.Errorf("try:\n%s", missing.Try())
	}
	stale := filepath.Join(t.TempDir(), ".s.PGSQL.5432")
	leaveSocket(t, stale)
	p.Test("socket", override("socket="+stale)...).Ends(t, "reach", "fail", "reach.refused")
	plain := filepath.Join(t.TempDir(), "plain")
	p.Write(plain, "")
	p.Test("socket", override("socket="+plain)...).Ends(t, "reach", "fail", "reach.not-a-socket")
	long := "/tmp/" + strings.Repeat("x", 120)
	p.Test("socket", override("socket="+long)...).Ends(t, "secret", "fail", "profile.incomplete")
}

func TestRealSocketPermission(t *testing.T) {
	t.Parallel()
	if os.Getuid() == 0 {
		t.Skip("root may use every socket")
	}
	p, _ := onReal(t)
	folder := t.TempDir()
	leaveSocket(t, filepath.Join(folder, ".s.PGSQL.5432"))
	os.Chmod(folder, 0)
	defer os.Chmod(folder, 0o700)
	p.Test("socket", override("socket="+folder+"/.s.PGSQL.5432")...).Ends(t, "reach", "fail", "reach.socket-permission")
}

// TestRealNameMixed: the server listens on 127.0.0.1 alone, and localhost is
// ::1 first where the hosts file says so. Where it does not, and one is root,
// the program gets a hosts file of its own, by a mount that only it sees.
func TestRealNameMixed(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	hosts, _ := os.ReadFile("/etc/hosts")
	if !strings.Contains(string(hosts), "::1") {
		own := filepath.Join(t.TempDir(), "hosts")
		p.Write(own, "127.0.0.1 localhost\n::1 localhost\n")
		wrapper := filepath.Join(t.TempDir(), "gharbor")
		p.Write(wrapper, fmt.Sprintf("#!/bin/sh\nexec unshare -m sh -c 'mount --bind %s /etc/hosts && exec \"$0\" \"$@\"' %s \"$@\"\n", own, p.Path))
		os.Chmod(wrapper, 0o700)
		p.Path = wrapper
		if r := p.Run("version"); r.Code != 0 {
			t.Skipf("this machine's hosts file has no ::1, and it can't be given another: %s", r.Stderr)
		}
	}
	s := p.Test("sightings", override("host=localhost")...).Ends(t, "name", "warn", "name.mixed")
	if !strings.Contains(s.SeenText(), fmt.Sprintf("127.0.0.1:%d: accepted", server.Port)) || !strings.Contains(s.Try(), "host=127.0.0.1") {
		t.Errorf("seen %s\ntry %s", s.SeenText(), s.Try())
	}
	p.Test("sightings", override("host=::1")...).Ends(t, "reach", "fail", "reach.refused")
	r := p.OK("test", "sightings", "-override", "host=localhost")
	if name, reach := strings.Index(r.Stdout, "  name "), strings.Index(r.Stdout, "  reach "); name < 0 || name > reach {
		t.Errorf("the stages are out of order:\n%s", r.Stdout)
	}
}

func TestRealHosts(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	second := testkit.SecondPostgreSQL(t)
	closed := testkit.ClosedPort(t)
	hosts := func(ports ...int) string {
		var words []string
		for _, port := range ports {
			words = append(words, fmt.Sprintf("127.0.0.1:%d", port))
		}
		return "hosts=" + strings.Join(words, ",")
	}
	r := p.Test("sightings", override(hosts(closed, server.Port))...)
	s := r.Ends(t, "reach", "warn", "reach.passed-over")
	if !strings.Contains(s.SeenText(), "reach.refused") {
		t.Errorf("seen: %s", s.SeenText())
	}
	r = p.Test("sightings", override(hosts(second.Port, server.Port), "target=writable")...)
	if r.Outcome == "fail" || r.Facts["route"] != fmt.Sprintf("127.0.0.1:%d", server.Port) {
		t.Errorf("target writable: %s at %v", r.Outcome, r.Facts["route"])
	}
	r = p.Test("sightings", override(hosts(server.Port, second.Port), "target=read-only")...)
	if r.Outcome == "fail" || r.Facts["route"] != fmt.Sprintf("127.0.0.1:%d", second.Port) {
		t.Errorf("target read-only: %s at %v", r.Outcome, r.Facts["route"])
	}
	p.Test("sightings", override(hosts(server.Port), "target=read-only")...).Ends(t, "session", "fail", "session.target")
	// A refused login does not send the same password to the next host.
	p.Test("sightings", override(hosts(server.Port, second.Port), "secret=env:KNOT")...).Ends(t, "login", "fail", "login.password")
	p.Test("sightings", override(hosts(closed, testkit.ClosedPort(t)))...).Ends(t, "reach", "fail", "reach.refused")
}

// TestRealHint: a wrong port of this machine says what is to be done.
func TestRealHint(t *testing.T) {
	t.Parallel()
	p, _ := onReal(t)
	s := p.Test("sightings", override(fmt.Sprintf("port=%d", testkit.ClosedPort(t)))...).Ends(t, "reach", "fail", "reach.refused")
	if !strings.Contains(s.SeenText(), "connection refused") || !strings.Contains(s.Try(), "gharbor nearby") {
		t.Errorf("seen %s\ntry %s", s.SeenText(), s.Try())
	}
}

func TestRealServerFull(t *testing.T) { // not parallel: others use the second server too
	p, _ := onReal(t)
	second := testkit.SecondPostgreSQL(t)
	port := override(fmt.Sprintf("port=%d", second.Port))
	var held []*pgconn.PgConn
	defer func() {
		for _, conn := range held {
			conn.Close(context.Background())
		}
	}()
	hold := func(name, password string) {
		for range 20 {
			conn, err := second.ConnectAs(name, password, "postgres")
			if err != nil {
				return
			}
			held = append(held, conn)
		}
	}
	hold("warden", testkit.WardenPassword)
	s := p.Test("sightings", port...).Ends(t, "login", "fail", "session.server-full")
	if !strings.Contains(s.SeenText(), "reserved") {
		t.Errorf("with only reserved slots left: %s", s.SeenText())
	}
	hold("admin", testkit.AdminPassword)
	s = p.Test("sightings", port...).Ends(t, "login", "fail", "session.server-full")
	if !strings.Contains(s.SeenText(), "too many clients") {
		t.Errorf("with none left: %s", s.SeenText())
	}
	p.Test("sightings", append(port, override("tls=required")...)...).Ends(t, "tls", "fail", "tls.not-offered")
}

// TestRealStoppingAndRecovering takes a server of its own through the states
// in which it lets nobody in.
func TestRealStoppingAndRecovering(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAway(t)
	p := testkit.NewProgram(t)
	p.OK("add", "tides", "-engine", "postgresql", "-host", "127.0.0.1", "-port", fmt.Sprint(server.Port), "-user", "postgres")
	p.Test("tides").Ends(t, "session", "ok", "")
	conn, err := server.Connect("postgres")
	if err != nil {
		t.Fatal(err)
	}
	server.Stop("smart")
	p.Test("tides").Ends(t, "login", "fail", "speak.stopping")
	p.Test("tides", override("tls=off")...).Ends(t, "speak", "fail", "speak.stopping")
	conn.Close(context.Background())
	waitUntil(t, func() bool { return p.Test("tides").Stage("reach").Outcome == "fail" })
	p.Test("tides").Ends(t, "reach", "fail", "reach.refused")

	if err := server.Write("data/standby.signal", ""); err != nil {
		t.Fatal(err)
	}
	if err := server.Write("data/postgresql.conf", "hot_standby = off\n"); err != nil {
		t.Fatal(err)
	}
	if err := server.StartUnready(); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, func() bool { return p.Test("tides").Stage("reach").Outcome == "ok" })
	waitUntil(t, func() bool {
		f := p.Test("tides").Stage("login").Finding
		return f != nil && f.Code == "speak.standby-closed"
	})
}

func waitUntil(t *testing.T, what func() bool) {
	t.Helper()
	for range 100 {
		if what() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("it did not come about in time")
}

// TestRealEnvironment: variables and files that the driver would take from the
// environment by itself change nothing.
func TestRealEnvironment(t *testing.T) {
	t.Parallel()
	p, _ := onReal(t)
	for name, value := range map[string]string{"PGHOST": "192.0.2.1", "PGPORT": "1", "PGUSER": "nobody", "PGDATABASE": "none", "PGPASSWORD": "wrong",
		"PGSERVICE": "missing", "PGSSLMODE": "verify-full", "PGOPTIONS": "-c search_path=nowhere", "PGTZ": "Antarctica/Troll", "PGAPPNAME": "other", "PGREQUIREAUTH": "none",
		"PGCONNECT_TIMEOUT": "1", "PGTARGETSESSIONATTRS": "standby", "PGSSLROOTCERT": "/none", "PGCHANNELBINDING": "require", "PGMINPROTOCOLVERSION": "3.2"} {
		p.Setenv(name, value)
	}
	r := p.Test("sightings", override("expect.tables=sighting")...)
	if r.Outcome != "ok" || r.Facts["user"] != "warden" {
		t.Errorf("%s %v", r.Outcome, r.Facts)
	}
	if zone := r.Facts["time_zone"]; zone == "Antarctica/Troll" {
		t.Error("PGTZ reached the session")
	}
}

func TestRealPassfile(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	escaped := strings.NewReplacer(`\`, `\\`, `:`, `\:`).Replace(testkit.WardenPassword)
	port := fmt.Sprint(server.Port)
	byDefault := override("secret=")
	path := p.Passfile("# the field station", "127.0.0.1:1:*:warden:wrong", "127.0.0.1:"+port+":sightings:warden:"+escaped, "*:*:*:*:wrong")
	r := p.Test("sightings", byDefault...)
	if r.Outcome != "ok" || !strings.Contains(fmt.Sprint(r.Facts["secret_source"]), ".pgpass, line 3") {
		t.Errorf("%s, %v", r.Outcome, r.Facts["secret_source"])
	}
	p.Test("sightings", override("secret=passfile")...).Ends(t, "login", "ok", "")
	p.Passfile("*:*:*:*:wrong", "127.0.0.1:"+port+":sightings:warden:"+escaped)
	p.Test("sightings", byDefault...).Ends(t, "login", "fail", "login.password") // the first match wins, right or not
	p.Passfile("127.0.0.1:5433:sightings:warden:" + escaped)
	s := p.Test("sightings", override("secret=passfile")...).Ends(t, "secret", "fail", "secret.no-match")
	if !strings.Contains(s.SeenText(), `line 1 is the nearest: it has this host, database and user, and port "5433"`) {
		t.Errorf("seen: %s", s.SeenText())
	}
	p.Passfile("127.0.0.1:" + port + ":sightings:warden:" + escaped)
	os.Chmod(path, 0o640)
	for _, flags := range [][]string{byDefault, override("secret=passfile"), override("secret=passfile:" + path)} {
		s = p.Test("sightings", flags...).Ends(t, "secret", "fail", "secret.permissions") // and never falls through
		if s.Try() != "chmod 600 "+path {
			t.Errorf("try: %s", s.Try())
		}
	}
	os.Chmod(path, 0o600)
	other := filepath.Join(t.TempDir(), "other")
	os.Rename(path, other)
	p.Test("sightings", override("secret=passfile:"+other)...).Ends(t, "login", "ok", "")
	p.Test("sightings", override("secret=passfile")...).Ends(t, "secret", "fail", "secret.missing")
	p.Setenv("PGPASSFILE", other)
	p.Test("sightings", override("secret=passfile")...).Ends(t, "login", "ok", "")
	// Each host has a line of its own.
	second := testkit.SecondPostgreSQL(t)
	p.Write(other, fmt.Sprintf("127.0.0.1:%d:*:warden:%s\n", second.Port, escaped))
	r = p.Test("sightings", override("secret=passfile", fmt.Sprintf("hosts=127.0.0.1:%d,127.0.0.1:%d", testkit.ClosedPort(t), second.Port))...)
	if r.Outcome != "warn" || r.Stage("login").Outcome != "ok" {
		t.Errorf("the second host's line: %+v", r.Stages)
	}
	p.Test("sightings", override("secret=passfile", fmt.Sprintf("hosts=127.0.0.1:%d,127.0.0.1:%d", server.Port, second.Port))...).Ends(t, "login", "fail", "secret.missing")
	// A socket outside the default folders is looked up by its folder.
	p.Write(other, server.Folder+":"+port+":*:cleartext:knot\n")
	p.Test("socket", override("secret=passfile", "user=cleartext")...).Ends(t, "login", "ok", "")
}

func TestRealSecretFile(t *testing.T) {
	t.Parallel()
	p, _ := onReal(t)
	path := filepath.Join(t.TempDir(), "warden")
	p.Write(path, testkit.WardenPassword+"\nanother line\n")
	p.Test("sightings", override("secret=file:"+path)...).Ends(t, "login", "ok", "")
	link := filepath.Join(t.TempDir(), "link")
	os.Symlink(path, link)
	p.Test("sightings", override("secret=file:"+link)...).Ends(t, "login", "ok", "")
	os.Chmod(path, 0o604)
	p.Test("sightings", override("secret=file:"+path)...).Ends(t, "secret", "fail", "secret.permissions")
	p.Test("sightings", override("secret=file:"+link)...).Ends(t, "secret", "fail", "secret.permissions")
	p.Test("sightings", override("secret=file:"+filepath.Dir(path))...).Ends(t, "secret", "fail", "secret.unreadable")
	p.Test("sightings", override("secret=file:/nowhere/at/all")...).Ends(t, "secret", "fail", "secret.missing")
	if os.Getuid() == 0 {
		os.Chmod(path, 0o600)
		os.Chown(path, 12345, 12345)
		p.Test("sightings", override("secret=file:"+path)...).Ends(t, "secret", "fail", "secret.permissions")
		os.Chown(path, 0, 0)
		os.Chown(filepath.Dir(path), 12345, 12345)
		p.Test("sightings", override("secret=file:"+link)...).Ends(t, "secret", "fail", "secret.permissions")
	}
}

// TestRealNotTakenTooEarly: a secret that is located is not read before the
// server has asked. Here the file vanishes behind a server that never asks.
func TestRealNotTakenTooEarly(t *testing.T) {
	t.Parallel()
	p, _ := onReal(t)
	p.Test("sightings", override("user=truster", "secret=env:WARDEN")...).Ends(t, "login", "warn", "login.no-password-asked")
}

func TestRealCertificate(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	r := p.OK("certificate", "sightings").Has("CN=sightings.saltmarsh.example", "localhost", "Saltmarsh Test Authority", "days left", "SHA256:", "tls.untrusted")
	fingerprint := ""
	for line := range strings.SplitSeq(r.Stdout, "\n") {
		if at := strings.Index(line, "SHA256:"); at >= 0 {
			fingerprint = line[at:]
		}
	}
	p.Run("certificate", "sightings", "-save").Want(2).Has("-fingerprint")
	p.Run("certificate", "sightings", "-save", "-fingerprint", "SHA256:00").Want(1).Has("nothing was saved")
	if strings.Contains(p.ReadProfiles(), "tls-ca") {
		t.Fatal("a certificate with another fingerprint was kept")
	}
	p.OK("certificate", "sightings", "-save", "-fingerprint", strings.ToLower(fingerprint)).Has("tls=verified")
	p.OK("set", "sightings", "tls=verified", "tls-name=localhost")
	p.Test("sightings").Ends(t, "tls", "ok", "")
	info, err := os.Stat(filepath.Join(p.Home, "certificates", "sightings.pem"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the kept certificate: %v %v", info, err)
	}
	p.Run("certificate", "socket").Want(5).Has("Unix socket")
	p.Run("certificate", "sightings", "-override", fmt.Sprintf("port=%d", testkit.ClosedPort(t))).Want(5).Has("reach.refused")
	_ = server
}

func TestRealNearby(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, server := onReal(t)
	second := testkit.SecondPostgreSQL(t)
	r := p.OK("nearby")
	r.Has(fmt.Sprintf("127.0.0.1:%d", server.Port), "sightings", fmt.Sprintf("gharbor add postgresql-%d -engine postgresql -host 127.0.0.1 -port %d -user warden", second.Port, second.Port))
	// The line that it gives works as it stands.
	for line := range strings.SplitSeq(r.Stdout, "\n") {
		if at := strings.Index(line, "gharbor add postgresql-"+fmt.Sprint(second.Port)); at >= 0 {
			p.OK(strings.Fields(line[at:])[1:]...)
		}
	}
	p.OK("nearby").Has(fmt.Sprintf("postgresql-%d", second.Port)).HasNot(fmt.Sprintf("gharbor add postgresql-%d ", second.Port))
	p.OK("nearby", "-format", "json").Has(`"profiles"`, `"connections"`)
}
