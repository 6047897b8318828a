package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// passwordRules let everybody in by a password over TCP, and by the socket without one.
const passwordRules = "local all all trust\nhost all all 127.0.0.1/32 scram-sha-256\n"

// freshPostgreSQL is a program at a server with nothing on it: the profile admin is its superuser, by the socket.
func freshPostgreSQL(t *testing.T, age string) (*testkit.PostgreSQL, *testkit.Program) {
	t.Helper()
	pg := testkit.PostgreSQLOf
	if age == "" {
		pg = func(t testing.TB, _, rules string, statements ...string) *testkit.PostgreSQL {
			return testkit.ThrowAwayWith(t, rules, statements...)
		}
	}
	server := pg(t, age, passwordRules, "ALTER SYSTEM SET log_statement = 'all'", "SELECT pg_reload_conf()")
	p := testkit.NewProgram(t)
	p.Profiles(fmt.Sprintf("[profile.admin]\nengine = \"postgresql\"\nsocket = %q\nport = %d\nuser = \"postgres\"\ndatabase = \"postgres\"\nsecret = \"none\"\n", server.Folder, server.Port))
	return server, p
}

// addPostgreSQL adds a profile over TCP whose password is to be in a file, and gives the path of that.
func addPostgreSQL(t *testing.T, p *testkit.Program, server *testkit.PostgreSQL, name, user, database string) (file string) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "secret")
	p.OK("add", name, "-engine", "postgresql", "-host", "127.0.0.1", "-port", fmt.Sprint(server.Port), "-user", user, "-database", database, "-secret", "file:"+file)
	return file
}

// mayDo reports whether a login may run a statement.
func mayDo(t *testing.T, p *testkit.Program, profile string, may bool, statement string) {
	t.Helper()
	if r := p.Run("query", profile, statement); (r.Code == 0) != may {
		t.Errorf("%s, %s: ends with %d\n%s", profile, statement, r.Code, r.Stderr)
	}
}

// TestProvisionMake goes from a server with nothing on it to a ready profile, with each access, twice: what is there
// already is left, what is yet to be made is included, and no log has the password.
func TestProvisionMake(t *testing.T) {
	t.Parallel()
	for _, age := range []string{"", "10", "18"} {
		t.Run("PostgreSQL "+age, func(t *testing.T) {
			t.Parallel()
			pg, p := freshPostgreSQL(t, age)
			files := map[string]string{
				"owner":  addPostgreSQL(t, p, pg, "owner", `O'Brien "x" \ü`, "odd db; --"),
				"writer": addPostgreSQL(t, p, pg, "writer", "writer", "odd db; --"),
				"reader": addPostgreSQL(t, p, pg, "reader", "reader", "odd db; --"),
			}
			p.OK("set", "reader", "expect.writable=false")
			before := state(t, p)
			p.OK("provision", "make", "owner", "-as", "admin", "-dry-run").Has("PASSWORD '[hidden]'", "nothing was sent")
			if after := state(t, p); after != before {
				t.Errorf("a dry run changed\n%s\nto\n%s", before, after)
			}
			if _, err := os.Stat(files["owner"]); err == nil {
				t.Error("a dry run kept a password")
			}
			p.OK("provision", "make", "owner", "-as", "admin", "-yes").Has(`there is no role O'Brien "x" \ü`, "ready: ")
			mayDo(t, p, "owner", true, "create table before(i serial)")
			mayDo(t, p, "owner", true, "create function f() returns int language sql as 'select 1'")
			mayDo(t, p, "owner", true, "revoke execute on function f() from public")
			p.OK("provision", "make", "writer", "-as", "admin", "-yes").Has("GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES").HasNot("ALTER DATABASE")
			p.OK("provision", "make", "reader", "-as", "admin", "-yes").Has("GRANT SELECT ON ALL TABLES", "default_transaction_read_only = on").HasNot("INSERT", "EXECUTE")
			mayDo(t, p, "owner", true, "create table later(i serial)")
			for _, table := range []string{"before", "later"} {
				mayDo(t, p, "writer", true, "insert into "+table+" default values")
				mayDo(t, p, "reader", true, "select i from "+table)
				mayDo(t, p, "reader", false, "delete from "+table)
				mayDo(t, p, "writer", false, "drop table "+table)
			}
			mayDo(t, p, "writer", true, "select f()")
			mayDo(t, p, "reader", false, "select f()")
			for name, file := range files {
				p.OK("provision", "make", name, "-as", "admin").Has("nothing to do", "ready: ")
				unseenIn(t, file, filepath.Join(pg.Folder, "log"))
			}
			p.OK("provision", "make", "writer", "-as", "admin", "-access", "own", "-yes").Has("the database odd db; -- belongs to", "ready: ")
			p.OK("provision", "revoke", "reader", "-as", "admin", "-yes").Has("REVOKE ALL ON ALL TABLES")
			mayDo(t, p, "reader", false, "select i from before")
			p.OK("provision", "revoke", "reader", "-as", "admin").Has("nothing to do")
			p.OK("provision", "grant", "reader", "-as", "admin", "-access", "read", "-on", "later", "-yes")
			mayDo(t, p, "reader", true, "select i from later")
			mayDo(t, p, "reader", false, "select i from before")
			p.OK("provision", "drop", "owner", "-account", "-as", "admin", "-yes").Has("REASSIGN OWNED", "DROP ROLE")
			p.OK("provision", "drop", "writer", "-as", "admin", "-yes").Has("DROP DATABASE", "DROP ROLE")
			p.OK("provision", "drop", "writer", "-as", "admin", "-yes").Has("the database odd db; -- is not there", "the role writer is not there", "nothing to do")
		})
	}
}

// state is what a server has of roles, databases and rights.
func state(t *testing.T, p *testkit.Program) string {
	t.Helper()
	return p.OK("query", "admin", "select (select string_agg(r::text, ' ' order by 1) from pg_authid r), (select string_agg(d.datname || coalesce(d.datacl::text, ''), ' ' order by 1) from pg_database d), (select count(*) from pg_default_acl)").Stdout
}

// unseenIn sees that the password in a file is in no log.
func unseenIn(t *testing.T, file string, logs ...string) {
	t.Helper()
	data, err := os.ReadFile(file)
	password := strings.TrimSpace(string(data))
	if err != nil || len(password) != 32 {
		t.Fatalf("the password of %s has %d characters: %v", file, len(password), err)
	}
	for _, path := range logs {
		log, err := os.ReadFile(path)
		if err != nil || len(log) == 0 || strings.Contains(string(log), password) {
			t.Errorf("%s has %d bytes, with the password: %v; %v", path, len(log), strings.Contains(string(log), password), err)
		}
	}
}

// TestProvisionVerbs has the other verbs, the names that are asked for, and what keeps them from being done.
func TestProvisionVerbs(t *testing.T) {
	t.Parallel()
	pg, p := freshPostgreSQL(t, "")
	file := addPostgreSQL(t, p, pg, "counts", "warden", "counts")
	p.OnTerminal("provision", "make", "counts", "-as", "admin").Expect("send these 6 statements?").Type("n\n").Ends(1)
	if _, err := os.Stat(file); err == nil {
		t.Error("a password is kept of what was not made")
	}
	p.OnTerminal("provision", "make", "counts", "-as", "admin").Expect("send these 6 statements?").Type("y\n").Expect("ready: ").Ends(0)
	p.Run("provision", "make", "counts", "-as", "admin", "-override", "user=other").Want(2).Has("no terminal to ask on", "-yes")

	pg.SQL(t, "postgres", "ALTER ROLE warden NOLOGIN")
	p.Test("counts", "-as", "admin").Ends(t, "login", "fail", "login.no-login-right")
	p.OK("provision", "unlock", "counts", "-as", "admin", "-yes").Has("ALTER ROLE warden LOGIN", "ready: ")
	p.OK("provision", "unlock", "counts", "-as", "admin").Has("nothing to do")
	p.OK("provision", "expire", "counts", "-as", "admin", "-on", "2020-02-29", "-yes").Has("VALID UNTIL '2020-03-01 00:00:00+00'").HasNot("login.expired")
	p.Test("counts", "-as", "admin").Ends(t, "login", "fail", "login.expired")
	p.OK("provision", "expire", "counts", "-as", "admin", "-never", "-yes").Has("ready: ")
	p.OK("provision", "expire", "counts", "-as", "admin", "-on", "2040-01-31", "-yes").Has("ready: ")
	p.OK("provision", "database", "second", "-as", "admin", "-owner", "warden", "-yes").Has("CREATE DATABASE second OWNER warden")
	p.OK("provision", "database", "second", "-as", "admin", "-owner", "warden").Has("nothing to do")
	p.Run("provision", "database", "third", "-as", "admin", "-owner", "nobody", "-yes").Want(1).Has("the role nobody is not there")
	p.OnTerminal("provision", "database", "second", "-as", "admin", "-drop").Expect("type second to drop it").Type("secnd\n").Ends(1)
	p.OnTerminal("provision", "database", "second", "-as", "admin", "-drop").Expect("type second to drop it").Type("second\n").Ends(0)

	// An administrator without the rights, and accounts that are not there.
	pg.SQL(t, "postgres", "CREATE ROLE helper LOGIN", "CREATE ROLE maker LOGIN CREATEROLE CREATEDB")
	for _, user := range []string{"helper", "maker"} {
		p.OK("copy", "admin", user)
		p.OK("set", user, "user="+user)
	}
	addPostgreSQL(t, p, pg, "fresh", "fresh", "fresh")
	p.Run("provision", "make", "fresh", "-as", "helper", "-yes").Want(1).Has("may not make or change roles (CREATEROLE)", "may not make databases (CREATEDB)", "nothing was sent")
	p.OK("provision", "make", "fresh", "-as", "maker", "-yes").Has("GRANT fresh TO maker", "ready: ")
	p.OK("provision", "make", "fresh", "-as", "maker").Has("ready: ")
	p.Run("provision", "grant", "counts", "-as", "helper", "-access", "read", "-override", "user=nobody", "-yes").Want(1).Has("the role nobody is not there", "gharbor provision make counts -as helper")
	p.Run("provision", "grant", "counts", "-as", "admin", "-access", "read", "-on", "no_such", "-yes").Want(2).Has("there is no table no_such")
	p.OK("set", "helper", "guard=read-only")
	p.Run("provision", "unlock", "counts", "-as", "helper", "-yes").Want(1).Has("the guard of helper is read-only")

	// Flags, and profiles of other servers.
	for line, want := range map[string]string{
		"make counts": "-as is missing", "expire counts -as admin": "-on DATE or -never", "expire counts -as admin -on tomorrow": "a day as", "grant counts -as admin": "-access is missing",
		"grant counts -as admin -access all": "own, write, read", "make counts -as counts": "is the profile itself", "make counts -as admin -yes -dry-run": "not both", "make counts -as nobody": "-as: no profile of that name",
		"database x -as admin -owner y -drop": "not both", "make no-such -as admin": "no profile of that name", "make counts -as admin -timeout 0s": "above zero",
	} {
		p.Run(append([]string{"provision"}, strings.Fields(line)...)...).Want(2).Has(want)
	}
	other := testkit.ThrowAway(t)
	p.OK("add", "elsewhere", "-engine", "postgresql", "-host", "127.0.0.1", "-port", fmt.Sprint(other.Port), "-user", "nobody", "-database", "postgres", "-secret", "none")
	p.Run("provision", "make", "elsewhere", "-as", "admin", "-yes").Want(2).Has("not known that elsewhere and admin lead to the same server", "-same-server")
	p.OK("set", "elsewhere", "user=postgres")
	p.Run("provision", "make", "elsewhere", "-as", "admin", "-yes").Want(2).Has("lead to two servers")
}

// freshMariaDB is a program at a server with nothing on it: the profile admin is its administrator, by the socket.
func freshMariaDB(t *testing.T, settings ...string) (*testkit.MariaDB, *testkit.Program) {
	t.Helper()
	m := testkit.ThrowAwayMariaDB(t, settings...)
	m.SQL(t, "CREATE USER keeper@localhost IDENTIFIED BY 'knot'", "GRANT ALL ON *.* TO keeper@localhost WITH GRANT OPTION")
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Profiles(fmt.Sprintf("[profile.admin]\nengine = \"mariadb\"\nsocket = %q\nuser = \"keeper\"\nsecret = \"env:KNOT\"\n", m.Socket))
	return m, p
}

// TestProvisionMariaDB makes accounts for where the server sees each connection come from.
func TestProvisionMariaDB(t *testing.T) {
	t.Parallel()
	logs := t.TempDir()
	os.Chmod(logs, 0o777)
	os.Chmod(filepath.Dir(logs), 0o755)
	m, p := freshMariaDB(t, "--skip-name-resolve", "--general-log=1", "--general-log-file="+filepath.Join(logs, "general.log"))
	gate := testkit.SSHServer(t)
	p.Knows(gate.KnownLine(t))
	files := make(map[string]string)
	add := func(name, user string, address ...string) {
		files[name] = filepath.Join(t.TempDir(), "secret")
		p.OK(append([]string{"add", name, "-engine", "mariadb", "-user", user, "-database", "mo_ult%", "-secret", "file:" + files[name]}, address...)...)
	}
	port := fmt.Sprint(m.Port)
	add("tcp", `ban'der\`, "-host", "127.0.0.1", "-port", port)
	add("socket", "socketed", "-socket", m.Socket)
	add("hopped", "hopped", "-host", "127.0.0.1", "-port", port)
	p.Write(filepath.Join(p.Home, "profiles.toml"), p.ReadProfiles()+gate.Hop("hopped", quoted("key", gate.Key)))

	p.OK("provision", "make", "tcp", "-as", "admin", "-yes").Has(`CREATE USER 'ban''der\\'@'127.0.0.1' IDENTIFIED VIA`, "CREATE DATABASE `mo_ult%`", "ON `mo\\_ult\\%`.*", "ready: ")
	p.OK("provision", "make", "socket", "-as", "admin", "-access", "write", "-yes").Has("CREATE USER 'socketed'@'localhost'", "ready: ")
	p.OK("provision", "make", "hopped", "-as", "admin", "-access", "read", "-yes").Has("CREATE USER 'hopped'@'127.0.0.1'", "ready: ")
	mayDo(t, p, "tcp", true, "create table ring(number int)")
	mayDo(t, p, "socket", true, "insert into ring values (7)")
	mayDo(t, p, "socket", false, "drop table ring")
	mayDo(t, p, "hopped", true, "select number from ring")
	mayDo(t, p, "hopped", false, "delete from ring")
	for name, file := range files {
		p.OK("provision", "make", name, "-as", "admin", "-access", map[string]string{"tcp": "own", "socket": "write", "hopped": "read"}[name]).Has("nothing to do", "ready: ")
		unseenIn(t, file, filepath.Join(logs, "general.log"))
	}
	m.SQL(t, "ALTER USER hopped@'127.0.0.1' ACCOUNT LOCK")
	p.OK("provision", "unlock", "hopped", "-as", "admin", "-yes").Has("ACCOUNT UNLOCK", "ready: ")
	m.SQL(t, "ALTER USER hopped@'127.0.0.1' PASSWORD EXPIRE")
	p.Test("hopped").Ends(t, "login", "fail", "login.expired")
	p.OK("provision", "expire", "hopped", "-as", "admin", "-on", "2040-01-31", "-yes").Has("the same one counts as new", "PASSWORD EXPIRE INTERVAL", "ready: ")
	p.OK("provision", "expire", "hopped", "-as", "admin", "-on", "2040-01-31").Has("nothing to do")
	p.OK("provision", "expire", "hopped", "-as", "admin", "-on", "2020-01-31", "-yes")
	p.OK("provision", "expire", "hopped", "-as", "admin", "-on", "2020-01-31").Has("nothing to do")
	p.OK("provision", "expire", "hopped", "-as", "admin", "-never", "-yes").Has("ready: ")
	p.OK("provision", "revoke", "hopped", "-as", "admin", "-yes").Has("REVOKE ALL PRIVILEGES ON `mo\\_ult\\%`.*")
	p.OK("provision", "grant", "hopped", "-as", "admin", "-access", "read", "-on", "ring", "-yes").Has("ready: ")
	p.OK("provision", "drop", "hopped", "-account", "-as", "admin", "-yes").Has("DROP USER 'hopped'@'127.0.0.1'").HasNot("DROP DATABASE")
	p.OK("provision", "drop", "tcp", "-as", "admin", "-yes").Has("DROP DATABASE `mo_ult%`", "1 tables and views")
	p.OK("set", "tcp", "secret=none")
	p.Run("provision", "make", "tcp", "-as", "admin", "-yes").Want(4).Has("an account without one would be open to everybody")

	other := testkit.ThrowAwayMariaDB(t)
	p.OK("set", "socket", "socket="+other.Socket)
	p.Run("provision", "make", "socket", "-as", "admin", "-yes").Want(2).Has("not known that socket and admin lead to the same server", "does not see the profile's connection")
}

// TestRealContainerProvision: a server in a container sees the bridge's address.
func TestRealContainerProvision(t *testing.T) {
	t.Parallel()
	e, p := engineProgram(t)
	name := named(t, "maria")
	e.Serve(t, name, []string{"-p", "127.0.0.1::3306", "-v", "/var/lib/mysql", "-e", "MARIADB_ROOT_PASSWORD=" + knotPassword, "-e", "FROM_HOST=%"})
	p.OK("container", "adopt", name, "admin")
	p.OK("wait", "admin")
	p.OK("add", "ringing", "-engine", "mariadb", "-container", name, "-user", "ringer", "-database", "ringing", "-secret", "file:"+filepath.Join(t.TempDir(), "secret"))
	r := p.OK("provision", "make", "ringing", "-as", "admin", "-yes").Has("CREATE USER 'ringer'@'1", "ready: ").HasNot("'127.0.0.1'", "'localhost'")
	if !strings.Contains(r.Stdout, ".1' IDENTIFIED VIA") {
		t.Errorf("the account is for no bridge's address:\n%s", r.Stdout)
	}
	p.OK("provision", "make", "ringing", "-as", "admin").Has("nothing to do")
}
