//go:build unix

package main

import (
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// atPort is a program with a profile x on a PostgreSQL's port.
func atPort(t *testing.T, port int, keys ...string) *testkit.Program {
	t.Helper()
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Setenv("WRONG", "dunlin")
	p.Profiles(fmt.Sprintf("[profile.x]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\ndatabase = \"sightings\"\nsecret = \"env:KNOT\"\n%s",
		port, strings.Join(keys, "\n")))
	return p
}

const onlySCRAM = "local all postgres trust\nhost all all 127.0.0.1/32 scram-sha-256\n"

// TestPooler: what a pooler refuses, all with one SQLSTATE, is told apart; a login that it accepts and its server does not is
// not blamed on the profile.
func TestPooler(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAwayWith(t, onlySCRAM, "CREATE ROLE warden LOGIN PASSWORD 'knot'", "CREATE DATABASE sightings OWNER warden")
	at := fmt.Sprintf("host=127.0.0.1 port=%d", server.Port)
	port := testkit.Pooler(t, "sightings = "+at+" dbname=sightings\nlacks = "+at+" dbname=nosuchdb\nrefused = "+at+" dbname=sightings user=warden password=wrong\n"+
		"down = host=127.0.0.1 port=1 dbname=sightings\nshared = "+at+" dbname=sightings pool_mode=transaction\n", `"warden" "knot"`, "query_wait_timeout = 5\nmax_client_conn = 20")
	p := atPort(t, port)
	runReal(t, p, "x", []realCase{
		{"session mode", nil, "session", "ok", "", "", ""},
		{"transaction mode", override("database=shared"), "session", "ok", "", "", ""},
		{"no such database", override("database=sightins"), "database", "fail", "database.missing", "the pooler has no database", "[databases]"},
		{"no such user", override("user=wardn"), "login", "fail", "login.password", "by a pooler", "in its list of users"},
		{"a wrong password", override("secret=env:WRONG"), "login", "fail", "login.password", "by a pooler", "secret=ask"},
		{"its server lacks the database", override("database=lacks"), "login", "fail", "session.behind-pooler", "leads to another database", "[databases]"},
		{"its own login is refused", override("database=refused"), "login", "fail", "session.behind-pooler", "own login to its server", "[databases]"},
		{"its server is down", override("database=down"), "login", "fail", "session.server-full", "its server is down", "gharbor wait"},
	})
	full := testkit.Pooler(t, "sightings = "+at+" dbname=sightings\n", `"warden" "knot"`, "max_client_conn = 0")
	runReal(t, atPort(t, full), "x", []realCase{{"full", nil, "login", "fail", "session.server-full", "the pooler takes no more connections", "max_client_conn"}})
}

// TestPoolerSilent: a login that was accepted and then hangs is no question of time.
func TestPoolerSilent(t *testing.T) {
	t.Parallel()
	port := testkit.Pooler(t, "sightings = host=127.0.0.1 port=1 dbname=sightings\n", `"warden" "knot"`, "")
	r := atPort(t, port).Test("x", "-timeout", "2s")
	s := r.Ends(t, "login", "fail", "login.timeout")
	if !strings.Contains(s.Finding.Cause, "the login was accepted, and then nothing came") || strings.Contains(s.Try(), "-timeout 60s") {
		t.Errorf("%+v", s.Finding)
	}
}

// hostile makes a schema whose views, functions and operators have the names of the system's, and lie.
const hostile = `
CREATE SCHEMA evil;
GRANT USAGE ON SCHEMA evil TO PUBLIC;
DO $$
DECLARE r record;
BEGIN
  FOR r IN SELECT relname FROM pg_catalog.pg_class WHERE relnamespace = 'pg_catalog'::regnamespace AND relkind IN ('r', 'v') LOOP
    BEGIN
      EXECUTE format('CREATE VIEW evil.%I AS SELECT * FROM pg_catalog.%I WHERE false', r.relname, r.relname);
      EXECUTE format('GRANT SELECT ON evil.%I TO PUBLIC', r.relname);
    EXCEPTION WHEN others THEN NULL;
    END;
  END LOOP;
  FOR r IN SELECT proname, pg_catalog.pg_get_function_identity_arguments(oid) AS args, prorettype::regtype AS gives FROM pg_catalog.pg_proc
           WHERE pronamespace = 'pg_catalog'::regnamespace AND NOT proretset AND prokind = 'f'
             AND proname ~ '^(pg_|current_|has_|clock_|date_part|extract|unnest|to_reg|format_type|obj_|shobj_|col_|array_|coalesce|left)' LOOP
    BEGIN
      EXECUTE format('CREATE FUNCTION evil.%I(%s) RETURNS %s LANGUAGE sql AS $f$ SELECT NULL::%s $f$', r.proname, r.args, r.gives, r.gives);
    EXCEPTION WHEN others THEN NULL;
    END;
  END LOOP;
END $$;
CREATE OR REPLACE FUNCTION evil.current_database() RETURNS name LANGUAGE sql AS $$ SELECT 'production'::name $$;
CREATE OR REPLACE FUNCTION evil.pg_is_in_recovery() RETURNS boolean LANGUAGE sql AS $$ SELECT true $$;
CREATE OR REPLACE FUNCTION evil.current_setting(text) RETURNS text LANGUAGE sql AS $$ SELECT CASE $1 WHEN 'server_version' THEN '17.5' WHEN 'transaction_read_only' THEN 'on' ELSE 'on' END $$;
CREATE FUNCTION evil.no(name, name) RETURNS boolean LANGUAGE sql AS $$ SELECT false $$;
CREATE OPERATOR evil.= (LEFTARG = name, RIGHTARG = name, PROCEDURE = evil.no);
CREATE FUNCTION evil.no(oid, oid) RETURNS boolean LANGUAGE sql AS $$ SELECT false $$;
CREATE OPERATOR evil.= (LEFTARG = oid, RIGHTARG = oid, PROCEDURE = evil.no);
CREATE DOMAIN evil.text AS pg_catalog.text CHECK (false);
ALTER ROLE warden SET search_path = evil, pg_catalog, public`

// TestHostileSearchPath: a role's search_path, with whatever is behind it, does not decide what the test and browse
// report, nor whether expectations hold.
func TestHostileSearchPath(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAwayWith(t, "local all all trust\nhost all all 127.0.0.1/32 trust\n", "CREATE ROLE warden LOGIN", "CREATE DATABASE sightings OWNER warden")
	server.SQL(t, "sightings", "CREATE TABLE public.hide(id int)")
	p := atPort(t, server.Port)
	facts := func() map[string]any {
		r := p.Test("x")
		if r.Outcome == "fail" {
			t.Fatalf("%+v", r.Stages)
		}
		for _, moving := range []string{"clock_difference_ms", "round_trip_ms"} {
			delete(r.Facts, moving)
		}
		return r.Facts
	}
	listed := func() string {
		var lines []string
		for line := range strings.Lines(p.OK("browse", "x", "tables").Stdout) {
			if !strings.HasPrefix(line, "evil") {
				lines = append(lines, line)
			}
		}
		return strings.Join(lines, "")
	}
	honest, seen := facts(), listed()
	server.SQL(t, "sightings", strings.ReplaceAll(hostile, "\n", " "))
	if got := facts(); fmt.Sprint(got) != fmt.Sprint(honest) {
		t.Errorf("facts with the role's own names:\n%v\nwithout:\n%v", got, honest)
	}
	if got := listed(); got != seen {
		t.Errorf("browse with the role's own names:\n%s\nwithout:\n%s", got, seen)
	}
	p.Test("x", override("expect.database=production")...).Ends(t, "expect", "fail", "expect.database")
	p.Test("x", override("expect.extensions=plpgsql")...).Ends(t, "expect", "ok", "")
}

// TestPreparedPasswords: passwords that SASLprep changes are right, as for the server's own library.
func TestPreparedPasswords(t *testing.T) {
	t.Parallel()
	passwords := []string{"Heron²7", "a½b", "ﬁnch", "Ａ1", "x™", "1º", "a\u00adb", "a\u00a0b", "cafe\u0301", "Möwe-ß", "bird🐦", "m²-carré", "a\u0007b"}
	var roles []string
	for i, password := range passwords {
		roles = append(roles, fmt.Sprintf("CREATE ROLE r%d LOGIN PASSWORD '%s'", i, password))
	}
	server := testkit.ThrowAwayWith(t, onlySCRAM, append([]string{"SET password_encryption = 'scram-sha-256'"}, roles...)...)
	p := atPort(t, server.Port, `tls = "off"`)
	for i, password := range passwords {
		p.Setenv("KNOT", password)
		p.Test("x", override(fmt.Sprintf("user=r%d", i), "database=postgres")...).Ends(t, "login", "ok", "")
		p.Setenv("KNOT", password+"x")
		p.Test("x", override(fmt.Sprintf("user=r%d", i), "database=postgres")...).Ends(t, "login", "fail", "login.password")
	}
}

// TestSessionTruth: a limit of time, a right that was taken, a name that is too long: each is named, and what can't be read
// is left out.
func TestSessionTruth(t *testing.T) {
	t.Parallel()
	long := strings.Repeat("l", 70)
	server := testkit.ThrowAwayWith(t, "local all all trust\nhost all all 127.0.0.1/32 trust\n", "CREATE ROLE warden LOGIN", "CREATE DATABASE sightings",
		"CREATE ROLE hasty LOGIN", "ALTER ROLE hasty SET statement_timeout = 1", "ALTER ROLE hasty SET search_path = slow", "CREATE DATABASE "+long[:63],
		"CREATE ROLE reader LOGIN", "ALTER ROLE reader SET default_transaction_read_only = on")
	server.SQL(t, "sightings", "REVOKE EXECUTE ON FUNCTION pg_is_in_recovery(), pg_postmaster_start_time() FROM PUBLIC")
	p := atPort(t, server.Port)
	r := p.Test("x")
	r.Ends(t, "session", "ok", "")
	if _, known := r.Facts["in_recovery"]; known || r.Facts["writable"] != true || r.Facts["server_started"] != nil {
		t.Errorf("the facts are %v", r.Facts)
	}
	runReal(t, p, "x", []realCase{
		{"a name of 70 letters", override("database=" + long), "database", "warn", "database.name-too-long", "70 bytes", "database=" + long[:63]},
		{"template0", override("database=template0"), "database", "fail", "database.not-accepting", "it takes no connections", "database=postgres"},
		{"a reader", override("user=reader"), "session", "warn", "session.read-only", "the role is set to read-only", ""},
	})
	server.SQL(t, "postgres", "ALTER SYSTEM SET default_transaction_read_only = on", "SELECT pg_reload_conf()")
	waitUntil(t, func() bool {
		return slices.ContainsFunc(p.Test("x").Stages, func(s testkit.Stage) bool { return s.Outcome == "warn" && s.Stage == "session" })
	})
	if s := p.Test("x").Ends(t, "session", "warn", "session.read-only"); !strings.Contains(s.SeenText()+s.Finding.Cause, "the server is set to read-only") {
		t.Errorf("%+v", s.Finding)
	}
}

// TestAges: the main cases on the oldest and the newest servers.
func TestAges(t *testing.T) {
	t.Parallel()
	for _, age := range testkit.PostgreSQLAges {
		t.Run(age, func(t *testing.T) {
			t.Parallel()
			server := testkit.PostgreSQLOf(t, age, "local all postgres trust\nhostssl all tlsonly 127.0.0.1/32 scram-sha-256\nhostssl all certified 127.0.0.1/32 cert\n"+
				"host all md5user 127.0.0.1/32 md5\nhost all banned 127.0.0.1/32 reject\nhost all warden,nologin,limited,expired 127.0.0.1/32 scram-sha-256\n",
				"SET password_encryption = 'scram-sha-256'", "CREATE ROLE warden LOGIN PASSWORD 'knot'", "CREATE ROLE tlsonly LOGIN PASSWORD 'knot'",
				"CREATE ROLE certified LOGIN", "CREATE ROLE nologin PASSWORD 'knot'", "CREATE ROLE limited LOGIN PASSWORD 'knot' CONNECTION LIMIT 0",
				"CREATE ROLE expired LOGIN PASSWORD 'knot' VALID UNTIL '2001-01-01'", "CREATE DATABASE sightings OWNER warden", "CREATE DATABASE sealed",
				"REVOKE CONNECT ON DATABASE sealed FROM PUBLIC", "CREATE DATABASE asleep ALLOW_CONNECTIONS false", "SET password_encryption = 'md5'", "CREATE ROLE md5user LOGIN PASSWORD 'knot'")
			p := atPort(t, server.Port, fmt.Sprintf("tls-ca = %q\ntls-name = \"sightings.saltmarsh.example\"\ntls = \"verified\"", server.Authority))
			r := p.Test("x")
			r.Ends(t, "session", "ok", "")
			if version := fmt.Sprint(r.Facts["version"]); !strings.HasPrefix(version, age+".") {
				t.Errorf("the version is %s", version)
			}
			if r.Facts["server_lineage"] == nil || r.Facts["server_started"] == nil || r.Facts["writable"] != true {
				t.Errorf("facts are missing: %v", r.Facts)
			}
			runReal(t, p, "x", []realCase{
				{"a wrong password", override("secret=env:WRONG"), "login", "fail", "login.password", "", "secret=ask"},
				{"MD5", override("user=md5user"), "login", "warn", "login.weak-method", "", ""},
				{"no login", override("user=nologin"), "login", "fail", "login.no-login-right", "", ""},
				{"an expired one", override("user=expired"), "login", "fail", "login.password", "", ""},
				{"too many", override("user=limited"), "login", "fail", "session.server-full", "CONNECTION LIMIT", "gharbor wait"},
				{"no TLS", override("user=tlsonly", "tls=off"), "login", "fail", "tls.required-by-server", "", "tls=verified"},
				{"no TLS and no certificate", override("user=certified", "tls=off"), "login", "fail", "tls.required-by-server", "client certificate", "tls-cert=PATH"},
				{"no certificate", override("user=certified"), "login", "fail", "tls.client-certificate", "", "tls-cert=PATH"},
				{"rejected", override("user=banned"), "login", "fail", "login.host-not-allowed", "rejects", "above the line that rejects"},
				{"no line", override("user=stranger"), "login", "fail", "login.host-not-allowed", "", "pg_hba.conf"},
				{"no database", override("database=sighting"), "database", "fail", "database.missing", "sightings", "database=sightings"},
				{"a sealed one", override("database=sealed"), "database", "fail", "database.no-access", "", ""},
				{"an asleep one", override("database=asleep"), "database", "fail", "database.not-accepting", "", ""},
			})
			if direct := p.Test("x", override("tls-start=direct")...); age == "10" {
				if s := direct.Ends(t, "tls", "fail", "tls.handshake"); !strings.Contains(s.Try(), "tls-start=asked") {
					t.Errorf("%+v", s.Finding)
				}
			} else if direct.Ends(t, "session", "ok", ""); direct.Facts["tls_verified"] != true {
				t.Errorf("direct TLS: %v", direct.Facts)
			}
			p.OK("browse", "x", "databases").Has("sightings")
			p.OK("query", "x", "select 6*7").Has("42")
		})
	}
}

// TestClientCertificates: a certificate of another account, and one that the server does not know, are told apart.
func TestClientCertificates(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAwayWith(t, "local all postgres trust\nhostssl all certified 127.0.0.1/32 cert\nhostssl all other 127.0.0.1/32 cert\n",
		"CREATE ROLE certified LOGIN", "CREATE ROLE other LOGIN")
	p := atPort(t, server.Port, `tls = "required"`, fmt.Sprintf("tls-cert = %q\ntls-key = %q", server.ClientCert, server.ClientKey))
	runReal(t, p, "x", []realCase{
		{"the right one", override("user=certified", "database=postgres"), "session", "ok", "", "", ""},
		{"another account's", override("user=other", "database=postgres"), "login", "fail", "login.certificate", `is for "certified", not for the role "other"`, "user=certified"},
	})
	s := p.Test("x", override("user=certified", "database=postgres", "tls-cert="+server.OtherCert, "tls-key="+server.OtherKey)...).Ends(t, "login", "fail", "tls.client-certificate")
	if !strings.Contains(s.Finding.Cause, "does not know the authority") || !strings.Contains(s.SeenText(), "issued by") {
		t.Errorf("%s\n%s", s.Finding.Cause, s.SeenText())
	}
}

// TestTwinAddresses: of a name's two addresses of one family the first does not serve, which is said.
func TestTwinAddresses(t *testing.T) {
	t.Parallel()
	server := testkit.PostgreSQLServer(t)
	p := testkit.NewProgram(t)
	p.Setenv("WARDEN", testkit.WardenPassword)
	p.Write(filepath.Join(p.Home, "aliases.toml"), "[hosts]\n\"twin.example\" = [\"127.0.0.2\", \"127.0.0.1\"]\n")
	p.Profiles(fmt.Sprintf("[profile.x]\nengine = \"postgresql\"\nhost = \"twin.example\"\nport = %d\nuser = \"warden\"\ndatabase = \"sightings\"\nsecret = \"env:WARDEN\"\ntls = \"required\"\n", server.Port))
	s := p.Test("x").Ends(t, "reach", "warn", "reach.passed-over")
	if !strings.Contains(s.Finding.Cause, "127.0.0.2") || !strings.Contains(s.Finding.Cause, "127.0.0.1") || !strings.Contains(s.SeenText(), "connection refused") {
		t.Errorf("%+v", s.Finding)
	}
}

// TestOtherLoopback: a server that listens on ::1 alone is found from 127.0.0.1.
func TestOtherLoopback(t *testing.T) {
	t.Parallel()
	listener, err := net.Listen("tcp", "[::1]:0")
	if err != nil {
		t.Skip("no IPv6 here")
	}
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			conn.Close()
		}
	}()
	s := atPort(t, listener.Addr().(*net.TCPAddr).Port).Test("x").Ends(t, "reach", "fail", "reach.refused")
	if !strings.Contains(s.SeenText(), "[::1]:") || !strings.Contains(s.Try(), "host=::1") || strings.Contains(s.SeenText(), "still be starting") {
		t.Errorf("%+v", s.Finding)
	}
}
