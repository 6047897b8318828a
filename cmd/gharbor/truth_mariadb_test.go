//go:build unix

package main

import (
	"fmt"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// atMariaDB is a program with a profile x on a MariaDB's port.
func atMariaDB(t *testing.T, port int, keys ...string) *testkit.Program {
	t.Helper()
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Setenv("WRONG", "dunlin")
	p.Profiles(fmt.Sprintf("[profile.x]\nengine = \"mariadb\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"bander\"\ndatabase = \"moult\"\nsecret = \"env:KNOT\"\n%s\n"+
		"[profile.admin]\nengine = \"mariadb\"\nhost = \"127.0.0.1\"\nport = %[1]d\nuser = \"admin\"\nsecret = \"env:KNOT\"\n", port, strings.Join(keys, "\n")))
	return p
}

// TestUncheckedAccounts: a server that was started to set a lost password lets everybody in, and is told as that.
func TestUncheckedAccounts(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAwayMariaDB(t, "--skip-grant-tables")
	p := atMariaDB(t, server.Port)
	r := p.Test("x", override("secret=env:WRONG", "database=mysql")...)
	s := r.Ends(t, "login", "warn", "login.unchecked")
	if !strings.Contains(s.Finding.Cause, "skip-grant-tables") || r.Outcome != "warn" {
		t.Errorf("%+v, %s", s.Finding, r.Outcome)
	}
	if _, known := r.Facts["superuser"]; known {
		t.Errorf("rights are told that could not be read: %v", r.Facts)
	}
}

// TestAccountLimits: error 1226 is told by the limit that the server names.
func TestAccountLimits(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAwayMariaDB(t, "--skip-name-resolve")
	server.SQL(t, "CREATE DATABASE moult", "CREATE USER few@'%' IDENTIFIED BY 'knot' WITH MAX_CONNECTIONS_PER_HOUR 1", "CREATE USER slow@'%' IDENTIFIED BY 'knot' WITH MAX_QUERIES_PER_HOUR 2",
		"CREATE USER one@'%' IDENTIFIED BY 'knot' WITH MAX_USER_CONNECTIONS 1", "GRANT ALL ON moult.* TO one@'%'", "CREATE USER started@'%' IDENTIFIED BY 'knot'", "GRANT ALL ON moult.* TO started@'%'")
	p := atMariaDB(t, server.Port)
	p.Test("x", override("user=few", "database=")...)
	s := p.Test("x", override("user=few", "database=")...).Ends(t, "login", "fail", "session.server-full")
	if !strings.Contains(s.Finding.Cause, "max_connections_per_hour") || strings.Contains(s.Try(), "gharbor wait") || !strings.Contains(strings.Join(s.Finding.Do, "\n"), "FLUSH USER_RESOURCES") {
		t.Errorf("%+v", s.Finding)
	}
	r := p.Test("x", override("user=slow", "database=")...)
	found := false
	for _, s := range r.Stages {
		found = found || s.Finding != nil && s.Finding.Code == "session.server-full" && strings.Contains(s.Finding.Cause, "max_queries_per_hour")
	}
	if !found {
		t.Errorf("%+v", r.Stages)
	}
	s = p.Test("x", override("user=one", "database="+strings.Repeat("m", 70))...).Ends(t, "database", "fail", "database.missing")
	if !strings.Contains(s.Finding.Cause, "too long") {
		t.Errorf("%+v", s.Finding)
	}
	s = p.Test("x", override("user=one", "database=Moult")...).Ends(t, "database", "fail", "database.no-access")
	if !strings.Contains(s.Try(), "database=moult") {
		t.Errorf("no name is offered: %s", s.Try())
	}
	server.SQL(t, "SET GLOBAL init_connect = 'SELECT no_such_column'")
	broken := p.Test("x", override("user=started", "database=")...)
	found = false
	for _, s := range broken.Stages {
		found = found || s.Finding != nil && s.Finding.Code == "session.init-failed"
	}
	if !found {
		t.Errorf("init_connect: %+v", broken.Stages)
	}
}

// TestProxyHeader: a proxy that opens with a PROXY header is named, and not taken for somebody who tampers.
func TestProxyHeader(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAwayMariaDB(t, "--skip-name-resolve")
	server.SQL(t, "CREATE USER bander@'%' IDENTIFIED BY 'knot'", "CREATE DATABASE moult", "GRANT ALL ON moult.* TO bander@'%'")
	p := atMariaDB(t, testkit.Proxy(t, server.Port, "send-proxy"))
	r := p.Test("x")
	s := r.Stage("speak")
	if s.Finding == nil { // on a busy machine the refusal comes behind the greeting
		s = r.Stage("login")
	}
	if s.Finding == nil || s.Finding.Code != "speak.proxy-header" {
		t.Fatalf("%+v", r.Stages)
	}
	if !strings.Contains(s.SeenText(), "Proxy header") || !strings.Contains(strings.Join(s.Finding.Do, ""), "proxy_protocol_networks") {
		t.Errorf("%+v", s.Finding)
	}
	atMariaDB(t, testkit.Proxy(t, server.Port, "")).OK("test", "x")
	atMariaDB(t, testkit.Proxy(t, testkit.ClosedPort(t), "")).Test("x").Ends(t, "speak", "fail", "speak.closed")
}

// TestMariaDBCertificates: a certificate that the server does not know is named each time, and one with another subject is
// compared.
func TestMariaDBCertificates(t *testing.T) {
	t.Parallel()
	server := testkit.MariaDBServer(t)
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Setenv("ADMIN", testkit.AdminPassword)
	server.SQL(t, "CREATE USER IF NOT EXISTS subject@'%' IDENTIFIED BY 'knot' REQUIRE SUBJECT '/CN=somebody'")
	p.Profiles(fmt.Sprintf("[profile.x]\nengine = \"mariadb\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"certified\"\nsecret = \"env:KNOT\"\ntls = \"required\"\ntls-cert = %q\ntls-key = %q\n"+
		"[profile.admin]\nengine = \"mariadb\"\nhost = \"127.0.0.1\"\nport = %[1]d\nuser = \"admin\"\nsecret = \"env:ADMIN\"\ntls = \"required\"\n",
		server.Port, server.ClientCert, server.ClientKey))
	p.Test("x").Ends(t, "login", "ok", "")
	for range 8 {
		s := p.Test("x", override("tls-cert="+server.OtherCert, "tls-key="+server.OtherKey)...).Ends(t, "login", "fail", "tls.client-certificate")
		if !strings.Contains(s.Finding.Cause, "does not know the authority") {
			t.Fatalf("%+v", s.Finding)
		}
	}
	s := p.Test("x", override("user=subject")...).Ends(t, "login", "fail", "login.password")
	if !strings.Contains(s.Finding.Cause, "client certificate") {
		t.Errorf("%s", s.Finding.Cause)
	}
	s = p.Test("x", append(override("user=subject"), "-as", "admin")...).Ends(t, "login", "fail", "tls.client-certificate")
	if !strings.Contains(s.Finding.Cause, "wants another client certificate") || !strings.Contains(s.SeenText(), "REQUIRE SUBJECT /CN=somebody") || !strings.Contains(s.SeenText(), "/CN=certified") {
		t.Errorf("%s\n%s", s.Finding.Cause, s.SeenText())
	}
}
