//go:build unix

package main

import (
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// tides is a program whose profile tides leads to a private PostgreSQL through one
// real jump host, and both servers.
func tides(t *testing.T, lines ...string) (*testkit.Program, *testkit.SSHD, *testkit.PostgreSQL) {
	t.Helper()
	in := testkit.PrivateNetwork(t)
	db, gate := testkit.PrivatePostgreSQL(t, in), testkit.SSHServerIn(t, in, lines...)
	p := testkit.NewProgram(t)
	p.Setenv("TIDES_PASSWORD", testkit.WardenPassword)
	p.Knows(gate.KnownLine(t))
	p.Profiles(tidesProfile(db) + "tls-name = \"localhost\"\n" + gate.Hop("tides", `key = "`+gate.Key+`"`))
	return p, gate, db
}

func tidesProfile(db *testkit.PostgreSQL) string {
	return fmt.Sprintf(`[profile.tides]
engine = "postgresql"
host = "127.0.0.1"
port = %d
database = "tides"
user = "tidekeeper"
secret = "env:TIDES_PASSWORD"
tls = "verified"
tls-ca = %q
`, db.Port, db.Authority)
}

// TestTides: a real PostgreSQL that only a real OpenSSH server can see.
func TestTides(t *testing.T) {
	t.Parallel()
	p, gate, db := tides(t)
	if conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", db.Port), time.Second); err == nil {
		conn.Close()
		t.Fatal("the server can be reached from here: nothing would be proved")
	}
	r := p.Test("tides")
	r.Ends(t, "session", "ok", "")
	if s := r.Stage("hop 1"); s.Outcome != "ok" || !strings.Contains(s.Detail, "ED25519") || !strings.Contains(s.Detail, gate.Key) {
		t.Errorf("%+v", s)
	}
	if route := r.Facts["route"]; route != fmt.Sprintf("127.0.0.1:%d through %s@%s", db.Port, gate.User, gate.Address()) {
		t.Errorf("route: %v", route)
	}
	if s := r.Stage("name"); !strings.Contains(s.Detail, "not here") {
		t.Errorf("%+v", s)
	}
}
