//go:build unix

package main

import (
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// onMariaDB is a program with profiles on the main real MariaDB server: moult
// by its owner, over TCP and over the socket, and the administrator's.
func onMariaDB(t *testing.T) (*testkit.Program, *testkit.MariaDB) {
	t.Helper()
	return withMariaDB(t, testkit.MariaDBServer(t), testkit.BanderPassword)
}

func withMariaDB(t *testing.T, server *testkit.MariaDB, password string) (*testkit.Program, *testkit.MariaDB) {
	t.Helper()
	p := testkit.NewProgram(t)
	for name, value := range map[string]string{"BANDER": password, "ADMIN": testkit.AdminPassword, "KNOT": "knot", "EMPTY": "", "BLANK": "knot "} {
		p.Setenv(name, value)
	}
	p.Profiles(fmt.Sprintf(`[profile.moult]
engine = "mariadb"
host = "127.0.0.1"
port = %[1]d
database = "moult"
user = "bander"
secret = "env:BANDER"

[profile.admin]
engine = "mariadb"
host = "127.0.0.1"
port = %[1]d
user = "admin"
secret = "env:ADMIN"

[profile.socket]
engine = "mariadb"
socket = %[2]q
database = "moult"
user = "bander"
secret = "env:BANDER"
`, server.Port, server.Socket))
	return p, server
}

func TestMariaDBReady(t *testing.T) {
	t.Parallel()
	p, server := onMariaDB(t)
	r := p.Test("moult", override("tls=verified", "tls-ca="+server.Authority, "tls-name=localhost")...)
	for _, s := range r.Stages {
		if s.Outcome != "ok" {
			t.Errorf("%s: %s %+v", s.Stage, s.Outcome, s.Finding)
		}
	}
	f := r.Facts
	for key, want := range map[string]any{"engine": "mariadb", "user": "bander", "account": "bander@%", "database": "moult", "seen_as": "bander@127.0.0.1",
		"encoding": "utf8mb4", "collation": "utf8mb4_general_ci", "writable": true, "superuser": false, "tls_verified": true, "login_method": "mysql_native_password"} {
		if f[key] != want {
			t.Errorf("%s is %v, want %v", key, f[key], want)
		}
	}
	for _, key := range []string{"version", "server_id", "server_lineage", "server_host", "server_started", "time_zone", "sql_mode", "round_trip_ms", "clock_difference_ms", "certificate"} {
		if f[key] == nil {
			t.Errorf("no %s", key)
		}
	}
	if !strings.HasSuffix(f["server_host"].(string), fmt.Sprintf(":%d", server.Port)) || !strings.Contains(f["sql_mode"].(string), "STRICT_TRANS_TABLES") {
		t.Errorf("%v %v", f["server_host"], f["sql_mode"])
	}
	p.Test("admin", override("user=root", "secret=none", "host=", "socket="+server.Socket)...).Ends(t, "login", "warn", "login.root-without-password")
	if r := p.Test("admin"); r.Facts["superuser"] != true || r.Facts["database"] != nil {
		t.Errorf("%v", r.Facts)
	}
	p.OK("test", "admin").Has("admin in no database at 127.0.0.1")
	p.OK("test", "-full", "moult", "-override", "host=localhost").Has("over TCP (for the Unix socket set socket)")
}

// TestMariaDBFindings makes every failure that a real server can show happen,
// and looks at its stage, code, evidence and what it says to try.
func TestMariaDBFindings(t *testing.T) {
	t.Parallel()
	p, server := onMariaDB(t)
	knot := func(pairs ...string) []string { return override(append(pairs, "secret=env:KNOT")...) }
	asAdmin := func(flags []string) []string { return append(flags, "-as", "admin") }
	runReal(t, p, "moult", []realCase{
		{"wrong password", knot(), "login", "fail", "login.password", "'bander'@'127.0.0.1'", "-as ADMIN"},
		{"wrong password: the causes it does not tell apart", knot(), "login", "fail", "login.password", "an anonymous account in front", "secret=ask"},
		{"the trap of localhost", knot(), "login", "fail", "login.password", "an account for 'localhost' (the socket)", ""},
		{"wrong password, looked up", asAdmin(knot()), "login", "fail", "login.password", "the password sent for \"bander\" is wrong", ""},
		{"unknown account, the same answer", knot("user=bandr"), "login", "fail", "login.password", "1045", ""},
		{"unknown account, looked up", asAdmin(knot("user=bandr")), "login", "fail", "login.no-such-role", "similar accounts: \"bander\"", "user=NAME"},
		{"empty password", override("secret=env:EMPTY"), "login", "fail", "login.empty-password", "using password: NO", ""},
		{"a blank at the end", override("secret=env:BLANK"), "login", "fail", "login.password", "ends with a blank", ""},
		{"no password to send", override("secret=none"), "login", "fail", "login.password-wanted", "using password: NO", "secret=ask"},
		{"none found", override("secret="), "login", "fail", "secret.missing", "no terminal", "secret keep moult"},
		{"locked", knot("user=locked"), "login", "fail", "login.locked", "4151", "ALTER USER 'locked'@'HOST' ACCOUNT UNLOCK"},
		{"locked, looked up", asAdmin(knot("user=locked")), "login", "fail", "login.locked", "ACCOUNT LOCK", "ALTER USER 'locked'@'%' ACCOUNT UNLOCK"},
		{"locked and a wrong password", override("user=locked", "secret=env:BANDER"), "login", "fail", "login.password", "1045", ""},
		{"locked and a wrong password, looked up", asAdmin(override("user=locked", "secret=env:BANDER")), "login", "fail", "login.locked", "the account is 'locked'@'%'", "ACCOUNT UNLOCK"},
		{"expired, in a limited session", knot("user=expired"), "login", "fail", "login.expired", "only set a new password", "'HOST'"},
		{"expired, looked up", asAdmin(knot("user=expired")), "login", "fail", "login.expired", "PASSWORD EXPIRE", "ALTER USER 'expired'@'%'"},
		{"for other hosts, looked up", asAdmin(knot("user=elsewhere")), "login", "fail", "login.host-not-allowed", "may connect from '10.0.0.0/255.0.0.0', but the server sees this machine as '127.0.0.1'", "CREATE USER 'elsewhere'@'127.0.0.1'"},
		{"for the socket only, over TCP", asAdmin(knot("user=indoors")), "login", "fail", "login.host-not-allowed", "'localhost' is the socket", "host= port= socket=PATH"},
		{"needs TLS", asAdmin(knot("user=tlsonly", "tls=off")), "login", "fail", "tls.required-by-server", "REQUIRE SSL", "tls=verified"},
		{"needs TLS, not looked up", knot("user=tlsonly", "tls=off"), "login", "fail", "login.password", "or without TLS", "tls=required"},
		{"needs TLS and has it", knot("user=tlsonly", "database="), "login", "ok", "", "", ""},
		{"needs a certificate, looked up", asAdmin(knot("user=certified")), "login", "fail", "tls.client-certificate", "REQUIRE X509", "tls-cert=PATH"},
		{"has a certificate", knot("user=certified", "database=", "tls=required", "tls-cert="+server.ClientCert, "tls-key="+server.ClientKey), "login", "ok", "", "", ""},
		{"a password that is not needed", asAdmin(knot("user=open")), "login", "fail", "login.no-password-set", "no password is stored", ""},
		{"no password asked", override("user=open", "secret=none", "database="), "login", "warn", "login.no-password-asked", "\"open@%\" has none", "ALTER USER 'open'@'%'"},
		{"for the socket's account, over TCP", knot("user=socketed"), "login", "fail", "login.peer", "1698", "socket=PATH"},
		{"for the socket's account, looked up", asAdmin(knot("user=socketed")), "login", "fail", "login.peer", "it says unix_socket", ""},
		{"no rights", knot("user=norights"), "database", "fail", "database.no-access", "only the information schema", "GRANT SELECT, INSERT, UPDATE, DELETE ON `moult`.* TO 'norights'@'%'"},
		{"no rights, looked up", asAdmin(knot("user=norights")), "database", "fail", "database.no-access", "the database \"moult\" exists, but the account has no right to it", ""},
		{"no such database, the same answer", override("database=molt"), "database", "fail", "database.no-access", "similar names among them: \"moult\"", "-as ADMIN"},
		{"no such database, looked up", asAdmin(override("database=molt")), "database", "fail", "database.missing", "similar names that exist: \"moult\"", "CREATE DATABASE `molt`"},
		{"no such database, to an administrator", override("user=admin", "secret=env:ADMIN", "database=ringin"), "database", "fail", "database.missing", "\"ringing\"", "database=ringing"},
		{"another flavour", override("engine=mysql"), "speak", "warn", "speak.flavour", "MariaDB", "engine=mariadb"},
		{"another engine", override("engine=postgresql"), "speak", "fail", "speak.other-engine", "MariaDB", "engine=mariadb"},
		{"untrusted", override("tls=verified"), "tls", "fail", "tls.untrusted", "Saltmarsh Test Authority", "certificate moult -save"},
		{"wrong name", override("tls=verified", "tls-ca="+server.Authority), "tls", "fail", "tls.wrong-name", "sightings.saltmarsh.example", "tls-name=NAME"},
		{"encrypted", override("tls=required"), "tls", "ok", "", "", ""},
		{"expected version", override("expect.version=>= 90"), "expect", "fail", "expect.version", "", ""},
		{"expected version holds", override("expect.version=>= 10.4, < 90"), "expect", "ok", "", "", ""},
		{"expected tables", override("expect.tables=ring,ringing.species"), "expect", "ok", "", "", ""},
		{"expected table", override("expect.tables=ring,species,ringing.ring"), "expect", "fail", "expect.table-missing", "", ""},
		{"expected plugin", override("expect.extensions=innodb,abacus"), "expect", "fail", "expect.extension-missing", "abacus", ""},
		{"expected encoding", override("expect.encoding=utf8mb4"), "expect", "ok", "", "", ""},
		{"expected user", override("expect.user=bander"), "expect", "ok", "", "", ""},
		{"expected account", override("expect.user=bander@%"), "expect", "ok", "", "", ""},
		{"expected collation", override("expect.collation=utf8mb4_bin"), "expect", "fail", "expect.collation", "", ""},
		{"expected collation holds", override("expect.collation=utf8mb4_general_ci"), "expect", "ok", "", "", ""},
		{"expected SQL mode", override("expect.sql-mode=STRICT_TRANS_TABLES,ANSI_QUOTES"), "expect", "fail", "expect.sql-mode", "ANSI_QUOTES", ""},
		{"expected SQL mode holds", override("expect.sql-mode=strict_trans_tables"), "expect", "ok", "", "", ""},
		{"expected time zone", override("expect.time-zone=Europe/Oslo"), "expect", "fail", "expect.time-zone", "", ""},
		{"expected server", override("expect.server=another"), "expect", "fail", "expect.server", "", ""},
	})
}

func TestMariaDBMethods(t *testing.T) {
	t.Parallel()
	p, server := onMariaDB(t)
	if _, err := os.Stat("/usr/lib/mysql/plugin/auth_ed25519.so"); err == nil || os.Getenv(testkit.Require) != "" {
		r := p.Test("moult", override("user=edward", "secret=env:KNOT", "database=")...)
		r.Ends(t, "login", "ok", "")
		if r.Facts["login_method"] != "client_ed25519" {
			t.Errorf("method %v", r.Facts["login_method"])
		}
		p.Test("moult", override("user=edward", "secret=env:BANDER")...).Ends(t, "login", "fail", "login.password")
	}
	account, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	server.SQL(t, fmt.Sprintf("CREATE USER IF NOT EXISTS `%s`@localhost IDENTIFIED VIA unix_socket", account.Username))
	if account.Username != "root" {
		r := p.Test("socket", override("user="+account.Username, "secret=none", "database=")...)
		r.Ends(t, "login", "ok", "")
		if r.Facts["login_method"] != "unix-socket identity" {
			t.Errorf("method %v", r.Facts["login_method"])
		}
	} else {
		own := testkit.ThrowAwayMariaDB(t)
		defer own.Stop()
		own.SQL(t, "ALTER USER root@localhost IDENTIFIED VIA unix_socket")
		root, _ := withMariaDB(t, own, "knot")
		r := root.Test("socket", override("user=root", "secret=none", "database=")...)
		r.Ends(t, "login", "ok", "")
		if r.Facts["login_method"] != "unix-socket identity" {
			t.Errorf("method %v", r.Facts["login_method"])
		}
		server.SQL(t, "CREATE USER IF NOT EXISTS someone@localhost IDENTIFIED VIA unix_socket")
		p.Test("socket", override("user=someone", "secret=none")...).Ends(t, "login", "fail", "login.peer")
	}
}

func TestMariaDBSocket(t *testing.T) {
	t.Parallel()
	p, server := onMariaDB(t)
	r := p.Test("socket")
	r.Ends(t, "session", "ok", "")
	if r.Facts["route"] != "socket "+server.Socket || r.Facts["seen_as"] != "bander@localhost" {
		t.Errorf("%v", r.Facts)
	}
	p.Test("socket", override("socket="+server.Folder)...).Ends(t, "session", "ok", "")
	// The trap, the other way round.
	s := p.Test("socket", append(override("user=outdoors", "secret=env:KNOT"), "-as", "admin")...).Ends(t, "login", "fail", "login.host-not-allowed")
	if !strings.Contains(s.Finding.Cause, "may connect from '127.0.0.1', but the server sees this machine as 'localhost'") || !strings.Contains(s.Try(), "socket= host=127.0.0.1") {
		t.Errorf("%s\n%s", s.Finding.Cause, s.Try())
	}
	p.Test("moult", override("user=outdoors", "secret=env:KNOT", "database=")...).Ends(t, "login", "ok", "")
	p.Test("socket", override("tls=required")...).Ends(t, "tls", "fail", "tls.not-offered")
	p.Test("socket", override("socket="+t.TempDir())...).Ends(t, "reach", "fail", "reach.socket-missing")
}

// TestMariaDBSecond: with names looked up, loopback is 'localhost' and
// its address both; an anonymous account for it hides others; and few
// connections are left.
func TestMariaDBSecond(t *testing.T) { // not parallel: others use the second server too
	p, server := withMariaDB(t, testkit.SecondMariaDB(t), "knot")
	asAdmin := func(flags []string) []string { return append(flags, "-as", "admin") }
	r := p.Test("moult")
	if s := r.Ends(t, "session", "warn", "session.read-only"); !strings.Contains(s.SeenText(), "read_only is on") {
		t.Errorf("seen: %s", s.SeenText())
	}
	if r.Facts["seen_as"] != "bander@localhost" || r.Facts["writable"] != false {
		t.Errorf("%v", r.Facts)
	}
	p.Test("moult", override("expect.writable=false")...).Ends(t, "session", "ok", "")
	if r := p.Test("admin"); r.Facts["writable"] != true {
		t.Error("an account with all rights is not bound by read_only")
	}
	p.Test("moult", override("user=ipv4", "database=")...).Ends(t, "login", "ok", "")
	p.Test("moult", override("tls=required")...).Ends(t, "tls", "fail", "tls.not-offered")
	s := p.Test("moult", asAdmin(override("user=shadowed", "database="))...).Ends(t, "login", "fail", "login.anonymous-first")
	if !strings.Contains(unquoted(s.Try()), "DROP USER ''@'localhost'") {
		t.Errorf("try: %s", s.Try())
	}
	p.Test("moult", override("user=nobody", "secret=none", "database=")...).Ends(t, "login", "warn", "login.anonymous")
	for range 3 {
		p.Test("moult", override("user=guesser", "secret=env:ADMIN")...)
	}
	if s := p.Test("moult", override("user=guesser")...).Ends(t, "login", "fail", "login.locked"); !strings.Contains(s.SeenText(), "4150") {
		t.Errorf("seen: %s", s.SeenText())
	}
	var held []*sql.DB
	defer func() {
		for _, db := range held {
			db.Close()
		}
	}()
	for range 12 {
		db, err := server.ConnectAs("bander", "knot")
		if err != nil {
			break
		}
		held = append(held, db)
	}
	s = p.Test("moult").Ends(t, "login", "fail", "session.server-full")
	if !strings.Contains(s.SeenText(), "1040") {
		t.Errorf("seen: %s", s.SeenText())
	}
}

func TestMariaDBFewOfOneAccount(t *testing.T) {
	t.Parallel()
	p, server := onMariaDB(t)
	db, err := server.ConnectAs("few", "knot")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	s := p.Test("moult", override("user=few", "secret=env:KNOT")...).Ends(t, "login", "fail", "session.server-full")
	if !strings.Contains(s.Finding.Cause, "the account") {
		t.Error(s.Finding.Cause)
	}
}

// TestMariaDBBlocked: a server that looks names up blocks an address, other
// than 127.0.0.1, whose connections ended too early too often; and one that
// has no account for an address says so instead of greeting.
func TestMariaDBBlocked(t *testing.T) {
	t.Parallel()
	own := ownAddress()
	if own == "" {
		t.Skip("this machine has no address but loopback")
	}
	server := testkit.ThrowAwayMariaDB(t, "--bind-address="+own, "--max-connect-errors=2", "--performance-schema=OFF")
	defer server.Stop()
	p, _ := withMariaDB(t, server, "knot")
	at := override("host="+own, "tls=off")
	s := p.Test("moult", at...).Ends(t, "speak", "fail", "login.host-not-allowed")
	if !strings.Contains(s.Finding.Cause, "'") || !strings.Contains(s.Try(), "CREATE USER 'bander'@'") {
		t.Errorf("%s\n%s", s.Finding.Cause, s.Try())
	}
	server.SQL(t, "CREATE USER bander@'%' IDENTIFIED BY 'knot'", "CREATE DATABASE moult", "GRANT ALL ON moult.* TO bander@'%'")
	for range 4 {
		conn, err := net.Dial("tcp", net.JoinHostPort(own, fmt.Sprint(server.Port)))
		if err != nil {
			t.Fatal(err)
		}
		conn.Read(make([]byte, 256))
		conn.Close()
		time.Sleep(20 * time.Millisecond)
	}
	s = p.Test("moult", at...).Ends(t, "speak", "fail", "speak.host-blocked")
	if !strings.Contains(s.SeenText(), "1129") || !strings.Contains(s.Try(), "FLUSH HOSTS") {
		t.Errorf("seen %s\ntry %s", s.SeenText(), s.Try())
	}
	server.SQL(t, "FLUSH HOSTS")
	p.Test("moult", at...).Ends(t, "login", "ok", "")
}

// ownAddress is an IPv4 address of this machine that is not loopback.
func ownAddress() string {
	addrs, _ := net.InterfaceAddrs()
	for _, a := range addrs {
		if network, ok := a.(*net.IPNet); ok && network.IP.To4() != nil && !network.IP.IsLoopback() {
			return network.IP.String()
		}
	}
	return ""
}

// TestMariaDBStopsAndStarts: a socket that is left behind, and none at all.
func TestMariaDBStopsAndStarts(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAwayMariaDB(t)
	p, _ := withMariaDB(t, server, "knot")
	server.Stop()
	p.Test("socket").Ends(t, "reach", "fail", "reach.socket-missing")
	leaveSocket(t, server.Socket)
	// Something of that name that was just started may be the server to come.
	sleep := filepath.Join(t.TempDir(), "mariadbd")
	if os.Symlink("/bin/sleep", sleep) == nil {
		cmd := exec.Command(sleep, "30")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		defer cmd.Wait()
		defer cmd.Process.Kill()
		s := p.Test("socket").Ends(t, "reach", "fail", "reach.refused")
		if runtime.GOOS == "linux" && !strings.Contains(s.SeenText(), fmt.Sprintf("the process mariadbd (%d) started", cmd.Process.Pid)) {
			t.Errorf("seen: %s", s.SeenText())
		}
	}
	p.Test("moult").Ends(t, "reach", "fail", "reach.refused")
	os.Remove(server.Socket)
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	defer server.Stop()
	p.Test("socket", override("user=root", "secret=none", "database=")...).Ends(t, "login", "warn", "login.root-without-password")
}

// TestMariaDBRequiresTLS: the server as a whole.
func TestMariaDBRequiresTLS(t *testing.T) {
	t.Parallel()
	main := testkit.MariaDBServer(t)
	path := func(name string) string {
		return "--ssl-" + name + "=" + filepath.Join(main.Folder, "server."+map[string]string{"cert": "pem", "key": "key"}[name])
	}
	server := testkit.ThrowAwayMariaDB(t, "--require-secure-transport", path("cert"), path("key"), "--skip-name-resolve", "--disconnect-on-expired-password")
	defer server.Stop()
	server.SQL(t, "CREATE USER bander@'%' IDENTIFIED BY 'knot'", "CREATE USER expired@'%' IDENTIFIED BY 'knot' PASSWORD EXPIRE",
		"CREATE USER admin@'%' IDENTIFIED BY '"+testkit.AdminPassword+"'", "GRANT ALL ON *.* TO admin@'%'")
	p, _ := withMariaDB(t, server, "knot")
	p.OK("set", "admin", "tls=required")
	p.Test("moult", override("tls=off")...).Ends(t, "login", "fail", "login.password") // this server says no more
	p.Test("moult", append(override("tls=off"), "-as", "admin")...).Ends(t, "login", "fail", "tls.required-by-server")
	p.Test("moult", override("tls=required", "database=")...).Ends(t, "login", "ok", "")
	s := p.Test("moult", override("tls=required", "user=expired")...).Ends(t, "login", "fail", "login.expired")
	if !strings.Contains(s.SeenText(), "disconnect_on_expired_password") {
		t.Error(s.SeenText())
	}
}

func TestMariaDBNearby(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, server := onMariaDB(t)
	r := p.OK("nearby")
	r.Has(fmt.Sprintf("127.0.0.1:%d", server.Port), "mariadb 1", "moult")
	p.OK("remove", "moult", "-yes")
	p.OK("remove", "admin", "-yes")
	line := ""
	for l := range strings.SplitSeq(p.OK("nearby").Stdout, "\n") {
		if at := strings.Index(l, fmt.Sprintf("gharbor add mariadb-%d ", server.Port)); at >= 0 {
			line = l[at:]
		}
	}
	if line == "" {
		t.Fatal("no line that adds the server")
	}
	p.OK(strings.Fields(line)[1:]...)
	p.Test(fmt.Sprintf("mariadb-%d", server.Port), override("user=bander", "secret=env:BANDER", "database=moult")...).Ends(t, "session", "ok", "")
}

// TestMariaDBOptionFile: the password comes from an option file, as the
// server's own clients read it, where it is safe there and meant for this
// connection.
func TestMariaDBOptionFile(t *testing.T) {
	t.Parallel()
	p, server := onMariaDB(t)
	home := filepath.Dir(p.Home)
	path := filepath.Join(home, ".my.cnf")
	quoted := `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(testkit.BanderPassword) + `"`
	p.Write(path, "# mine\n[client]\nuser = bander\npassword = "+quoted+"   # the ringer's\n[mysql]\npassword = other\n")
	r := p.Test("moult", override("secret=")...)
	r.Ends(t, "login", "ok", "")
	if want := "option file " + path + ", [client], line 4"; r.Facts["secret_source"] != want {
		t.Errorf("the source is %v, want %s", r.Facts["secret_source"], want)
	}
	p.Test("moult", override("secret=optionfile")...).Ends(t, "login", "ok", "")
	p.Test("moult", override("secret=optionfile:"+path)...).Ends(t, "login", "ok", "")
	p.Test("moult", override("secret=optionfile:"+path+"#mysql")...).Ends(t, "login", "fail", "login.password")
	s := p.Test("moult", override("secret=optionfile", "user=admin")...).Ends(t, "secret", "fail", "secret.no-match")
	if !strings.Contains(s.SeenText(), `names the user "bander"`) || !strings.Contains(s.SeenText(), "line 3") {
		t.Error(s.SeenText())
	}
	p.Test("moult", override("secret=optionfile:"+path+"#nothing")...).Ends(t, "secret", "fail", "secret.no-match")
	s = p.Test("moult", override("secret=optionfile:"+home+"/none.cnf")...).Ends(t, "secret", "fail", "secret.missing")
	if !strings.Contains(s.Try(), "gharbor secret keep moult") {
		t.Error(s.Try())
	}
	// A later group overrides; a file that is included counts; a port of another
	// server does not fit.
	p.Write(filepath.Join(home, "more.cnf"), fmt.Sprintf("[client-mariadb]\nport = %d\npassword = knot\n", server.Port))
	p.Write(path, "[client]\npassword = dunlin\n!include more.cnf\n")
	p.Test("moult", override("secret=", "user=norights", "database=")...).Ends(t, "login", "ok", "")
	p.Write(filepath.Join(home, "more.cnf"), "[client-mariadb]\nport = 1\npassword = knot\n")
	p.Test("moult", override("secret=", "user=norights", "database=")...).Ends(t, "login", "fail", "login.password")
	// What is read last counts, whichever of the groups it stands in.
	p.Write(path, "[client-mariadb]\npassword = dunlin\n[client]\npassword = knot\n")
	p.Test("moult", override("secret=", "user=norights", "database=")...).Ends(t, "login", "ok", "")
	p.Write(path, "[client]\npassword\nuser\n")
	p.Test("moult", override("secret=optionfile:"+path)...).Ends(t, "secret", "fail", "secret.no-match")
	p.Write(path, "password = knot\n")
	s = p.Test("moult", override("secret=")...).Ends(t, "secret", "fail", "secret.unreadable")
	if !strings.Contains(s.SeenText(), "before the first group") {
		t.Error(s.SeenText())
	}
	p.Write(path, "[client]\npassword = knot\n")
	os.Chmod(path, 0o644)
	p.Test("moult", override("secret=")...).Ends(t, "secret", "fail", "secret.permissions")
	os.Chmod(path, 0o666)
	p.Test("moult", override("secret=optionfile:"+path)...).Ends(t, "secret", "fail", "secret.no-match")
}
