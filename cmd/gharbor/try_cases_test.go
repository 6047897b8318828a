//go:build linux

package main

import (
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/mysql"
	"gentleharbor/standin/postgresql"
)

// onPostgreSQL writes the profile x for the real PostgreSQL server, with keys
// changed, and runs statements there.
func onPostgreSQL(pairs []string, statements ...string) func(*tryWorld) {
	return func(w *tryWorld) {
		w.sql = func(all ...string) { w.t.Helper(); w.pg.SQL(w.t, "postgres", all...) }
		w.sql(statements...)
		base := "[profile.%s]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"sightings\"\nuser = \"%s\"\nsecret = \"env:KNOT\"\n\n"
		w.Profiles(fmt.Sprintf(base, "x", w.pg.Port, "warden") + fmt.Sprintf(base, "admin", w.pg.Port, "admin"))
		w.set(pairs)
	}
}

// onServer is the same for the real MariaDB server.
func onServer(pairs []string, statements ...string) func(*tryWorld) {
	return func(w *tryWorld) {
		w.sql = func(all ...string) { w.t.Helper(); w.maria.SQL(w.t, all...) }
		w.sql("CREATE USER IF NOT EXISTS admin@'%' IDENTIFIED BY 'knot'", "GRANT ALL ON *.* TO admin@'%' WITH GRANT OPTION", "CREATE DATABASE IF NOT EXISTS moult",
			"CREATE USER IF NOT EXISTS bander@'%' IDENTIFIED BY 'knot'", "GRANT ALL ON moult.* TO bander@'%'")
		w.sql(statements...)
		base := "[profile.%s]\nengine = \"mariadb\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"%s\"\nsecret = \"env:KNOT\"\n"
		w.Profiles(fmt.Sprintf(base, "x", w.maria.Port, "bander") + "database = \"moult\"\n\n" + fmt.Sprintf(base, "admin", w.maria.Port, "admin"))
		w.set(pairs)
	}
}

// onPort writes the profile x for a port of loopback.
func onPort(engine string, port func(*tryWorld) int, pairs ...string) func(*tryWorld) {
	return func(w *tryWorld) {
		w.Profiles(fmt.Sprintf("[profile.x]\nengine = %q\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"moult\"\nuser = \"oldhand\"\nsecret = \"env:KNOT\"\n", engine, port(w)))
		w.set(pairs)
	}
}

func (w *tryWorld) set(pairs []string) {
	if len(pairs) > 0 {
		w.OK(append([]string{"set", "x"}, pairs...)...)
	}
}

// simulated is a port of a simulated server with a fault.
func simulated(fault any, pairs ...string) func(*tryWorld) {
	var engine string
	port := func(w *tryWorld) int {
		ca, err := authority.New()
		if err != nil {
			w.t.Fatal(err)
		}
		secure, err := ca.TLS([]string{"127.0.0.1"}, 90*24*time.Hour)
		if err != nil {
			w.t.Fatal(err)
		}
		if fault, ok := fault.(postgresql.Fault); ok {
			server, err := postgresql.Start(postgresql.Config{Fault: fault, TLS: secure, Databases: []string{"moult"}, Roles: map[string]postgresql.Role{"oldhand": {Password: "knot"}}})
			if err != nil {
				w.t.Fatal(err)
			}
			w.t.Cleanup(server.Close)
			return server.Port()
		}
		config := rings()
		config.Fault, config.TLS = fault.(mysql.Fault), secure
		if !slices.Contains(pairs, "user=bander") {
			config.Method = "mysql_native_password"
		}
		server, err := mysql.Start(config)
		if err != nil {
			w.t.Fatal(err)
		}
		w.t.Cleanup(server.Close)
		w.Write(filepath.Join(w.Home, "authority.pem"), string(ca.PEM))
		if server.Method == "caching_sha2_password" {
			w.Write(filepath.Join(w.dir, "server.pem"), string(server.PublicKey()))
		}
		return server.Port()
	}
	engine = "mysql"
	if _, ok := fault.(postgresql.Fault); ok {
		engine = "postgresql"
	}
	return onPort(engine, port, pairs...)
}

func nowhere(w *tryWorld) int { return testkit.ClosedPort(w.t) }

type fills = map[string]string

func profileCases() []tryCase {
	text := func(s string) func(*tryWorld) { return func(w *tryWorld) { w.Profiles("[profile.x]\n" + s) } }
	certificate := func(mode os.FileMode) func(*tryWorld) {
		return func(w *tryWorld) {
			onPostgreSQL(nil)(w)
			ca, err := authority.New()
			if err != nil {
				w.t.Fatal(err)
			}
			_, cert, key, err := ca.Issue("warden", nil, time.Now(), time.Now().Add(time.Hour))
			if err != nil {
				w.t.Fatal(err)
			}
			w.Write(filepath.Join(w.dir, "warden.pem"), string(cert))
			w.Write(filepath.Join(w.dir, "warden.key"), string(key))
			os.Chmod(filepath.Join(w.dir, "warden.key"), mode)
			w.set([]string{"tls-cert=" + w.dir + "/warden.pem", "tls-key=" + w.dir + "/warden.key"})
		}
	}
	return []tryCase{
		{name: "no engine", code: "profile.incomplete", setUp: text("host = \"127.0.0.1\"\nport = 1\nuser = \"u\"\n"), after: fills{"gharbor set x engine=postgresql": "reach.refused"}},
		{name: "no address", code: "profile.incomplete", setUp: text("engine = \"postgresql\"\nport = 1\nuser = \"u\"\n"), fill: fills{"HOST": "127.0.0.1"}, after: fills{"gharbor set": "reach.refused"}},
		{name: "no user", code: "profile.incomplete", setUp: text("engine = \"mysql\"\nhost = \"127.0.0.1\"\nport = 1\n"), fill: fills{"NAME": "bander"}, after: fills{"gharbor set": "reach.refused"}},
		{name: "a variable", code: "profile.variable", setUp: text("engine = \"mysql\"\nhost = \"${NOT_SET:-127.0.0.1}\"\nuser = \"${NOT_SET}\"\n"), after: fills{"gharbor show": "same"}},
		{name: "half a certificate", code: "profile.incomplete", setUp: func(w *tryWorld) { certificate(0o600)(w); w.set([]string{"tls-key="}) }, fill: fills{"PATH": "warden.key"}},
		{name: "a loose key", code: "profile.tls-file", setUp: certificate(0o644)},
		{name: "no authority", code: "profile.tls-file", setUp: func(w *tryWorld) { onPostgreSQL([]string{"tls-ca=" + w.dir})(w); w.Write(w.dir+"/none.pem", "") }, fill: fills{"PATH": "none.pem"}, after: fills{"gharbor set": "profile.tls-file"}},
		{name: "an idle authority", code: "profile.conflict", setUp: func(w *tryWorld) { onPostgreSQL([]string{"tls=required", "tls-ca=" + w.pg.Authority})(w) }, after: fills{"gharbor set": "tls.wrong-name"}},
		{name: "TLS keys on a socket", code: "profile.conflict", setUp: func(w *tryWorld) {
			onPostgreSQL([]string{"host=", "socket=" + w.pg.Folder, "user=postgres", "tls-ca=" + w.pg.Authority})(w)
		}, after: fills{"gharbor set": "login.no-password-asked"}},
		{name: "a socket's path", code: "profile.incomplete", setUp: text("engine = \"mysql\"\nuser = \"u\"\nsocket = \"/tmp/a-very-long-path-that-no-socket-may-have/a-very-long-path-that-no-socket-may-have/a-very-long-path-that\"\n"), fill: fills{"SHORTER-PATH": "/tmp/none.sock"}, after: fills{"gharbor set": "reach.socket-missing"}},
		{name: "a server's key", code: "profile.tls-file", setUp: simulated(mysql.NoFault, "user=bander", "tls=off", "server-key=/nowhere.pem"), fill: fills{"PATH": "server.pem", "ls -l /nowhere.pem": "ls -ld /"}, after: fills{"gharbor set": "ready"}},
	}
}

func secretCases() []tryCase {
	passfile := func(pairs []string, lines ...string) func(*tryWorld) {
		return func(w *tryWorld) {
			onPostgreSQL(append(pairs, "secret=passfile"))(w)
			if lines != nil {
				w.Passfile(lines...)
			}
		}
	}
	file := func(name string, mode os.FileMode) func(*tryWorld) {
		return func(w *tryWorld) {
			onPostgreSQL(nil)(w)
			path := filepath.Join(w.dir, name)
			w.Write(filepath.Join(w.dir, "password"), "knot\n")
			os.Chmod(filepath.Join(w.dir, "password"), mode)
			w.set([]string{"secret=file:" + path})
		}
	}
	return []tryCase{
		{name: "a variable that is not set", code: "secret.missing", setUp: onPostgreSQL([]string{"secret=env:NOT_SET"}), typed: "knot", after: fills{"gharbor set": "ready"}},
		{name: "no password file", code: "secret.missing", setUp: passfile(nil), typed: "knot", after: fills{"gharbor set": "ready"}},
		{name: "no secret file", code: "secret.missing", setUp: file("none", 0o600), typed: "knot", after: fills{"gharbor set": "ready"}},
		{name: "no line", code: "secret.no-match", setUp: passfile(nil, "127.0.0.1:1:*:warden:knot"), typed: "knot"},
		{name: "a line for any host", code: "secret.any-host", setUp: func(w *tryWorld) {
			passfile(nil, "*:*:*:warden:knot")(w)
			// A name that is written like another machine's and leads here.
			w.set([]string{"host=" + hostName(w.t)})
		}},
		{name: "a loose password file", code: "secret.permissions", setUp: func(w *tryWorld) {
			passfile(nil, "127.0.0.1:*:*:warden:knot")(w)
			os.Chmod(filepath.Join(filepath.Dir(w.Home), ".pgpass"), 0o644)
		}},
		{name: "a loose secret file", code: "secret.permissions", setUp: file("password", 0o644)},
		{name: "a folder", code: "secret.unreadable", setUp: file(".", 0o600), after: fills{"ls": "same"}},
		{name: "no option file", code: "secret.missing", setUp: func(w *tryWorld) { onServer([]string{"secret=optionfile:" + w.dir + "/my.cnf"})(w) }, typed: "knot", after: fills{"gharbor set": "ready"}},
		{name: "no group", code: "secret.no-match", setUp: func(w *tryWorld) {
			onServer([]string{"secret=optionfile:" + w.dir + "/my.cnf"})(w)
			w.Write(filepath.Join(w.dir, "my.cnf"), "[client]\nuser = bander\n")
		}, typed: "knot", after: fills{"gharbor set": "ready", "${EDITOR": "ready"}},
		{name: "a group for any host", code: "secret.any-host", setUp: func(w *tryWorld) {
			onServer([]string{"secret=optionfile:" + w.dir + "/my.cnf", "host=" + hostName(w.t)})(w)
			w.Write(filepath.Join(w.dir, "my.cnf"), "[client]\npassword = knot\n")
		}},
		{name: "no command", code: "secret.missing", setUp: onPostgreSQL([]string{"secret=command"}), fill: fills{"PROGRAM,WORD": "printf,knot"}, after: fills{"gharbor set": "ready"}},
		{name: "a command that is not there", code: "secret.missing", setUp: onPostgreSQL([]string{"secret=command", "command=no-such-program"}), fill: fills{"PATH,WORD": "/usr/bin/printf,knot"}, after: fills{"gharbor set": "ready"}},
		{name: "a command that may not be run", code: "secret.missing", setUp: func(w *tryWorld) {
			w.Write(filepath.Join(w.dir, "plain"), "")
			onPostgreSQL([]string{"secret=command:" + w.dir + "/plain"})(w)
		}},
		{name: "a command that prints nothing", code: "secret.command-failed", setUp: onPostgreSQL([]string{"secret=command:true"})},
		{name: "a command beside another source", code: "profile.conflict", setUp: onPostgreSQL([]string{"command=printf,knot"}), after: fills{"gharbor set": "ready"}},
		{name: "nobody to ask", code: "secret.no-terminal", setUp: onPostgreSQL([]string{"secret=ask"}), fill: fills{"NAME": "KNOT"}, after: fills{"gharbor set x secret=env": "ready", "gharbor set x secret=passfile": "secret.missing"}},
	}
}

func reachCases() []tryCase {
	socket := func(engine, path string) func(*tryWorld) {
		return func(w *tryWorld) {
			w.Profiles(fmt.Sprintf("[profile.x]\nengine = %q\nsocket = %q\nuser = \"u\"\nsecret = \"env:KNOT\"\n", engine, filepath.Join(w.dir, path)))
			w.Write(filepath.Join(w.dir, "plain"), "")
		}
	}
	return []tryCase{
		{name: "nothing listens", code: "reach.refused", setUp: onPort("postgresql", nowhere)},
		{name: "a name that nobody knows", code: "name.unknown", setUp: onPostgreSQL([]string{"host=no-such-host.saltmarsh.example"}), fill: fills{"NAME": "127.0.0.1"}, after: fills{"gharbor set": "ready"}},
		{name: "names that nobody knows", code: "name.unknown", setUp: onPostgreSQL([]string{"host=", "hosts=127.0.0.1:1,no-such-host.saltmarsh.example"}), after: fills{"gharbor show": "same"}},
		{name: "no socket", code: "reach.socket-missing", setUp: socket("mysql", "none.sock")},
		{name: "no socket of PostgreSQL's", code: "reach.socket-missing", setUp: socket("postgresql", ".s.PGSQL.1")},
		{name: "no socket at all", code: "reach.not-a-socket", setUp: socket("mysql", "plain"), fill: fills{"PATH": "/tmp/none.sock"}, after: fills{"gharbor set": "reach.socket-missing"}},
		{name: "a socket for datagrams", code: "reach.not-a-socket", setUp: func(w *tryWorld) {
			socket("mysql", "d.sock")(w)
			if conn, err := net.ListenPacket("unixgram", filepath.Join(w.dir, "d.sock")); err != nil {
				w.t.Fatal(err)
			} else {
				w.t.Cleanup(func() { conn.Close() })
			}
		}, fill: fills{"PATH": "/tmp/none.sock"}, after: fills{"gharbor set": "reach.socket-missing"}},
		{name: "a host that was passed over", code: "reach.passed-over", setUp: func(w *tryWorld) {
			onPostgreSQL([]string{"host=", fmt.Sprintf("hosts=127.0.0.1:%d,127.0.0.1:%d", testkit.ClosedPort(w.t), w.pg.Port)})(w)
		}, after: fills{"gharbor show": "same"}},
		{name: "no host is the target", code: "session.target", setUp: func(w *tryWorld) {
			onPostgreSQL([]string{"host=", fmt.Sprintf("hosts=127.0.0.1:%d", w.pg.Port), "target=read-only"})(w)
		}, after: fills{"gharbor show": "same"}},
	}
}

func speakCases() []tryCase {
	other := func(w *tryWorld) int { return w.pg.Port }
	right := fills{"PORT": "1"}
	return []tryCase{
		{name: "another engine", code: "speak.other-engine", setUp: onPort("mysql", other, "user=warden", "database=sightings"), fill: right, after: fills{"gharbor set x engine=postgresql": "ready", "gharbor set x port=": "reach.refused"}},
		{name: "only TLS", code: "speak.tls-only", setUp: onPort("mysql", func(w *tryWorld) int { return listen(w.t, onlyTLS(w.t)) }), flags: []string{"-timeout", "15s"}, fill: right, after: fills{"gharbor set": "reach.refused"}},
		{name: "garbage", code: "speak.garbage", setUp: simulated(mysql.Garbage), fill: right, after: fills{"gharbor set": "reach.refused"}},
		{name: "garbage on a socket", code: "speak.garbage", setUp: func(w *tryWorld) {
			path := filepath.Join(w.dir, "g.sock")
			listener, err := net.Listen("unix", path)
			if err != nil {
				w.t.Fatal(err)
			}
			w.t.Cleanup(func() { listener.Close() })
			go func() {
				for {
					conn, err := listener.Accept()
					if err != nil {
						return
					}
					go speaksFirst("ebb and flow, and nothing else at all")(conn)
				}
			}()
			w.Profiles(fmt.Sprintf("[profile.x]\nengine = \"mysql\"\nsocket = %q\nuser = \"u\"\nsecret = \"none\"\n", path))
		}, fill: fills{"PATH": "/tmp/none.sock"}, after: fills{"gharbor set": "reach.socket-missing"}},
		{name: "silent", code: "speak.silent", setUp: simulated(postgresql.Silent)},
		{name: "closed", code: "speak.closed", setUp: simulated(postgresql.CloseAtOnce)},
		{name: "too old", code: "speak.too-old", setUp: simulated(mysql.OldProtocol)},
		{name: "bytes before TLS", code: "tls.extra-bytes", setUp: simulated(postgresql.ExtraBytes)},
		{name: "bytes before TLS, MySQL", code: "tls.extra-bytes", setUp: simulated(mysql.ExtraBytes)},
		{name: "no end of the handshake", code: "tls.unfinished", setUp: simulated(mysql.HangTLS)},
		{name: "a handshake that is broken off", code: "tls.unfinished", setUp: onPort("postgresql", func(w *tryWorld) int {
			return listen(w.t, func(conn net.Conn) {
				conn.Read(make([]byte, 8))
				conn.Write([]byte{'S'})
				conn.Read(make([]byte, 4096))
			})
		})},
		{name: "no TLS after all", code: "tls.handshake", setUp: onPort("postgresql", func(w *tryWorld) int {
			return listen(w.t, func(conn net.Conn) {
				conn.Read(make([]byte, 8))
				conn.Write([]byte{'S'})
				conn.Read(make([]byte, 4096))
				conn.Write([]byte("mud and silt and mud"))
			})
		})},
		{name: "a handshake that fails", code: "tls.handshake", setUp: onPort("postgresql", func(w *tryWorld) int {
			return listen(w.t, func(conn net.Conn) {
				conn.Read(make([]byte, 8))
				conn.Write([]byte{'S'})
				conn.Read(make([]byte, 4096))
				conn.Write([]byte{21, 3, 3, 0, 2, 2, 40})
			})
		})},
		{name: "starting", code: "speak.starting", setUp: simulated(postgresql.Starting), flags: override("tls=off")},
		{name: "stopping", code: "speak.stopping", setUp: simulated(postgresql.Stopping)},
		{name: "recovering", code: "speak.recovering", setUp: simulated(postgresql.Recovering)},
		{name: "full", code: "session.server-full", setUp: func(w *tryWorld) {
			simulated(postgresql.Full)(w)
			w.sql = func(all ...string) { w.pg.SQL(w.t, "postgres", all...) }
		}},
		{name: "broken off", code: "login.broken-off", setUp: simulated(postgresql.CloseAtLogin)},
		{name: "hangs at the login", code: "login.timeout", setUp: simulated(postgresql.HangAtLogin)},
		{name: "an odd refusal", code: "login.refused", setUp: simulated(postgresql.EscapeMessage)},
		{name: "a session that hangs", code: "session.timeout", setUp: simulated(postgresql.HangSession)},
		{name: "a lost session", code: "session.lost", setUp: simulated(postgresql.LoseSession)},
		{name: "no right", code: "session.no-right", setUp: simulated(postgresql.NoRight)},
		{name: "tables that can't be asked for", code: "expect.unknown", setUp: simulated(postgresql.NoCatalogue, "expect.tables=ring")},
	}
}

func postgresqlCases() []tryCase {
	admin := []string{"-as", "admin"}
	word := fills{"NEW-PASSWORD": "knot", "THE-PASSWORD": "knot", "NAME": "warden"}
	role := func(name, options string) []string {
		return []string{"DROP ROLE IF EXISTS " + name, "CREATE ROLE " + name + " " + options}
	}
	with := func(user string, statements ...string) func(*tryWorld) {
		return onPostgreSQL([]string{"user=" + user}, statements...)
	}
	return []tryCase{
		{name: "a wrong password", code: "login.password", setUp: onPostgreSQL([]string{"secret=env:WRONG"}), fill: fills{"-as ADMIN": "-as admin"}, typed: "knot"},
		{name: "an empty password", code: "login.empty-password", setUp: onPostgreSQL([]string{"secret=env:EMPTY"}), after: fills{"gharbor show": "same"}},
		{name: "no password", code: "login.password-wanted", setUp: onPostgreSQL([]string{"secret=none"}), typed: "knot", after: fills{"gharbor set x secret=ask": "ready", "gharbor set x secret=passfile": "secret.missing"}},
		{name: "none found", code: "secret.missing", setUp: onPostgreSQL([]string{"secret="}), typed: "knot"},
		{name: "no such role", code: "login.no-such-role", setUp: onPostgreSQL([]string{"user=nosuch", "database=nosuch"}, "DROP DATABASE IF EXISTS nosuch", "DROP ROLE IF EXISTS nosuch"), flags: admin, fill: word, after: fills{"as an administrator": "ready"}},
		{name: "an administrator of the same address", code: "login.password", setUp: func(w *tryWorld) {
			onPostgreSQL([]string{"secret=env:WRONG"})(w)
			w.OK("set", "admin", "user=postgres")
		}, typed: "knot", after: fills{"gharbor test x -as admin": "same"}},
		{name: "an administrator that can't log in", code: "login.password", setUp: func(w *tryWorld) {
			onPostgreSQL([]string{"secret=env:WRONG"})(w)
			w.OK("set", "admin", "secret=env:WRONG")
		}, flags: admin, fill: fills{"-as ADMIN": "-as admin"}, typed: "knot"},
		{name: "no login right", code: "login.no-login-right", setUp: with("nologin", role("nologin", "NOLOGIN PASSWORD 'knot'")...), flags: admin, after: fills{"as an administrator": "ready"}},
		{name: "no login right, looked up", code: "login.no-login-right", setUp: onPostgreSQL([]string{"user=nologin2", "secret=env:WRONG"}, role("nologin2", "NOLOGIN PASSWORD 'knot'")...), flags: admin, after: fills{"as an administrator": "login.password"}},
		{name: "expired", code: "login.expired", setUp: with("expired", role("expired", "LOGIN PASSWORD 'knot' VALID UNTIL '2001-01-01'")...), flags: admin, after: fills{"as an administrator": "ready"}},
		{name: "no password set", code: "login.no-password-set", setUp: with("unset", role("unset", "LOGIN")...), flags: admin, fill: word, after: fills{"as an administrator": "ready"}},
		{name: "another hash", code: "login.other-hash", setUp: with("oldhash", "DROP ROLE IF EXISTS oldhash", "SET password_encryption = 'md5'; CREATE ROLE oldhash LOGIN PASSWORD 'knot'"), flags: admin, fill: word, after: fills{"as an administrator": "ready"}},
		{name: "not allowed from here", code: "login.host-not-allowed", setUp: with("norule", "DROP ROLE IF EXISTS norule", "CREATE ROLE norule LOGIN PASSWORD 'knot'"), after: fills{"on the server": "ready"}},
		{name: "TLS wanted", code: "tls.required-by-server", setUp: onPostgreSQL([]string{"user=all_tls", "tls=off"}), after: fills{"gharbor set x tls=verified": "tls.untrusted", "gharbor set x tls=required": "ready"}},
		{name: "cleartext", code: "login.cleartext-refused", setUp: onPostgreSQL([]string{"user=all_clear", "tls=off"}), after: fills{"gharbor set": "tls.untrusted", "on the server": "ready"}},
		{name: "a certificate wanted", code: "tls.client-certificate", setUp: func(w *tryWorld) {
			onPostgreSQL([]string{"user=certified", "tls=required"})(w)
			copyFile(w, w.pg.ClientCert, "client.pem")
			copyFile(w, w.pg.ClientKey, "client.key")
		}, fill: fills{"tls-cert=PATH": "tls-cert=client.pem", "tls-key=PATH": "tls-key=client.key"}, after: fills{"gharbor set": "login.no-password-asked"}},
		{name: "another certificate", code: "tls.client-certificate", setUp: func(w *tryWorld) {
			onPostgreSQL([]string{"user=certified", "tls=required", "tls-cert=" + w.pg.OtherCert, "tls-key=" + w.pg.OtherKey})(w)
		}},
		{name: "MD5", code: "login.weak-method", setUp: with("all_md5", "DROP ROLE IF EXISTS all_md5", "SET password_encryption = 'md5'; CREATE ROLE all_md5 LOGIN PASSWORD 'knot'"), after: fills{"on the server": "ready"}},
		{name: "trust", code: "login.no-password-asked", setUp: with("all_trust")},
		{name: "peer", code: "login.peer", setUp: func(w *tryWorld) {
			onPostgreSQL([]string{"host=", "socket=" + w.pg.Folder}, fmt.Sprintf("DROP ROLE IF EXISTS %q", account()), fmt.Sprintf("CREATE ROLE %q LOGIN", account()))(w)
		}, after: fills{"gharbor set x user=": "login.no-password-asked", "gharbor set x socket=": "ready"}},
		{name: "no such database", code: "database.missing", setUp: onPostgreSQL([]string{"database=sighting"}, "DROP DATABASE IF EXISTS sighting"), fill: fills{"NAME": "sightings"}, after: fills{"gharbor set": "ready", "as an administrator": "ready"}},
		{name: "no access", code: "database.no-access", setUp: onPostgreSQL([]string{"database=sealed"}, "DROP DATABASE IF EXISTS sealed", "CREATE DATABASE sealed", "REVOKE CONNECT ON DATABASE sealed FROM PUBLIC"), after: fills{"as an administrator": "ready"}},
		{name: "asleep", code: "database.not-accepting", setUp: onPostgreSQL([]string{"database=asleep"}, "DROP DATABASE IF EXISTS asleep", "CREATE DATABASE asleep ALLOW_CONNECTIONS false"), after: fills{"as an administrator": "ready"}},
		{name: "read-only", code: "session.read-only", setUp: with("quiet"), after: fills{"gharbor set": "ready"}},
		{name: "untrusted", code: "tls.untrusted", setUp: onPostgreSQL([]string{"tls=verified", "tls-name=localhost"}), after: fills{"gharbor certificate x -save": "ready"}},
		{name: "a wrong name", code: "tls.wrong-name", setUp: func(w *tryWorld) { onPostgreSQL([]string{"tls=verified", "tls-ca=" + w.pg.Authority})(w) }, fill: fills{"NAME": "sightings.saltmarsh.example"}},
		{name: "no TLS on a socket", code: "tls.not-offered", setUp: func(w *tryWorld) {
			onPostgreSQL([]string{"host=", "socket=" + w.pg.Folder, "user=postgres", "tls=required"})(w)
		}, after: fills{"gharbor set": "login.no-password-asked"}},
		{name: "no TLS", code: "tls.not-offered", setUp: onPort("postgresql", func(w *tryWorld) int {
			server, err := postgresql.Start(postgresql.Config{Databases: []string{"moult"}, Roles: map[string]postgresql.Role{"oldhand": {Password: "knot"}}})
			if err != nil {
				w.t.Fatal(err)
			}
			w.t.Cleanup(server.Close)
			return server.Port()
		}, "tls=required"), after: fills{"gharbor set": "ready", "on the server": "same"}},
		{name: "an expectation", code: "expect.user", setUp: onPostgreSQL([]string{"expect.user=somebody"}), after: fills{"gharbor show": "same"}},
	}
}

func mariadbCases() []tryCase {
	admin := []string{"-as", "admin"}
	word := fills{"NEW-PASSWORD": "knot", "-as ADMIN": "-as admin", "'HOST'": "'%'", "NAME": "bander"}
	with := func(user string, statements ...string) func(*tryWorld) {
		return onServer([]string{"user=" + user, "database="}, statements...)
	}
	onSocket := func(w *tryWorld) { w.set([]string{"host=", "port=", "socket=" + w.maria.Socket}) }
	return []tryCase{
		{name: "MariaDB: a wrong password", code: "login.password", setUp: onServer([]string{"secret=env:WRONG"}), fill: word, typed: "knot"},
		{name: "MariaDB: an empty password", code: "login.empty-password", setUp: onServer([]string{"secret=env:EMPTY"}), fill: word, typed: "knot"},
		{name: "MariaDB: no password", code: "login.password-wanted", setUp: onServer([]string{"secret=none"}), fill: word, typed: "knot", after: fills{"gharbor set": "ready"}},
		{name: "MariaDB: none found", code: "secret.missing", setUp: onServer([]string{"secret="}), typed: "knot"},
		{name: "MariaDB: unknown, looked up", code: "login.no-such-role", setUp: with("t_none", "DROP USER IF EXISTS t_none, t_none@'127.0.0.1'"), flags: admin, fill: word, after: fills{"as an administrator": "ready", "gharbor set": "ready"}},
		{name: "MariaDB: locked", code: "login.locked", setUp: with("t_locked", "CREATE OR REPLACE USER t_locked@'%' IDENTIFIED BY 'knot' ACCOUNT LOCK"), fill: word, after: fills{"as an administrator": "ready"}},
		{name: "MariaDB: locked, looked up", code: "login.locked", setUp: with("t_locked2", "CREATE OR REPLACE USER t_locked2@'%' IDENTIFIED BY 'knot' ACCOUNT LOCK"), flags: admin, after: fills{"as an administrator": "ready"}},
		{name: "MariaDB: expired", code: "login.expired", setUp: with("t_expired", "CREATE OR REPLACE USER t_expired@'%' IDENTIFIED BY 'other' PASSWORD EXPIRE", "ALTER USER t_expired@'%' IDENTIFIED BY 'knot' PASSWORD EXPIRE"), fill: word, after: fills{"as an administrator": "ready"}},
		{name: "MariaDB: expired, in a file", code: "login.expired", setUp: func(w *tryWorld) {
			with("t_expired3", "CREATE OR REPLACE USER t_expired3@'%' IDENTIFIED BY 'knot' PASSWORD EXPIRE")(w)
			w.Write(filepath.Join(w.dir, "x.secret"), "knot\n")
			w.set([]string{"secret=file:" + filepath.Join(w.dir, "x.secret")})
		}, flags: admin, after: fills{"as an administrator": "ready"}},
		{name: "MariaDB: expired, looked up", code: "login.expired", setUp: with("t_expired2", "CREATE OR REPLACE USER t_expired2@'%' IDENTIFIED BY 'knot' PASSWORD EXPIRE"), flags: admin, fill: word, after: fills{"as an administrator": "ready"}},
		{name: "MariaDB: from elsewhere", code: "login.host-not-allowed", setUp: with("t_elsewhere", "DROP USER IF EXISTS t_elsewhere@'127.0.0.1'", "CREATE OR REPLACE USER t_elsewhere@'10.0.0.0/255.0.0.0' IDENTIFIED BY 'knot'"), flags: admin, fill: fills{"NEW-PASSWORD": "knot"}, after: fills{"as an administrator": "ready"}},
		{name: "MariaDB: for the socket", code: "login.host-not-allowed", setUp: func(w *tryWorld) {
			with("t_indoors", "DROP USER IF EXISTS t_indoors@'127.0.0.1'", "CREATE OR REPLACE USER t_indoors@localhost IDENTIFIED BY 'knot'")(w)
			os.Symlink(w.maria.Socket, filepath.Join(w.dir, "mysqld.sock"))
		}, flags: admin, fill: fills{"socket=PATH": "socket=mysqld.sock", "NEW-PASSWORD": "knot"}, after: fills{"as an administrator": "ready", "gharbor set": "ready"}},
		{name: "MariaDB: for TCP", code: "login.host-not-allowed", setUp: func(w *tryWorld) {
			with("t_outdoors", "DROP USER IF EXISTS t_outdoors@localhost", "CREATE OR REPLACE USER t_outdoors@'127.0.0.1' IDENTIFIED BY 'knot'")(w)
			onSocket(w)
		}, flags: admin, fill: fills{"NEW-PASSWORD": "knot"}, after: fills{"as an administrator": "ready", "gharbor set": "reach.refused"}},
		{name: "MariaDB: anonymous first", code: "login.anonymous-first", setUp: func(w *tryWorld) {
			w.maria = w.other
			with("t_shadowed", "CREATE OR REPLACE USER t_shadowed@'127.%' IDENTIFIED BY 'knot'", "CREATE OR REPLACE USER ''@'127.0.0.%'", "CREATE USER IF NOT EXISTS admin@'127.0.0.1' IDENTIFIED BY 'knot'", "GRANT ALL ON *.* TO admin@'127.0.0.1'")(w)
		}, flags: admin, after: fills{"as an administrator": "ready"}},
		{name: "MariaDB: anonymous", code: "login.anonymous", setUp: func(w *tryWorld) {
			w.maria = w.other
			with("t_nobody", "DROP USER IF EXISTS t_nobody", "CREATE OR REPLACE USER ''@localhost")(w)
			onSocket(w)
			w.set([]string{"secret=none"})
		}, after: fills{"as an administrator": "login.password-wanted"}},
		{name: "MariaDB: no password set", code: "login.no-password-set", setUp: with("t_open", "CREATE OR REPLACE USER t_open@'%'"), flags: admin, fill: word, after: fills{"as an administrator": "ready"}},
		{name: "MariaDB: no password asked", code: "login.no-password-asked", setUp: onServer([]string{"user=t_open2", "secret=none", "database="}, "CREATE OR REPLACE USER t_open2@'%'"), fill: word, after: fills{"as an administrator": "login.password-wanted"}},
		{name: "MariaDB: root without a password", code: "login.root-without-password", setUp: onServer([]string{"user=root", "secret=none", "database="}, "CREATE OR REPLACE USER root@'127.%'"), fill: word, after: fills{"as root": "login.password-wanted"}},
		{name: "MariaDB: certificate wanted", code: "tls.client-certificate", setUp: with("t_certified", "CREATE OR REPLACE USER t_certified@'%' IDENTIFIED BY 'knot' REQUIRE X509"), flags: admin, fill: fills{"tls-cert=PATH": "tls-cert=", "tls-key=PATH": "tls-key="}, after: fills{"gharbor set": "same"}},
		{name: "MariaDB: TLS wanted", code: "tls.required-by-server", setUp: with("t_tls", "CREATE OR REPLACE USER t_tls@'%' IDENTIFIED BY 'knot' REQUIRE SSL"), flags: admin, after: fills{"gharbor set": "tls.not-offered"}},
		{name: "MariaDB: the system account's", code: "login.peer", setUp: func(w *tryWorld) {
			with("t_peer", "CREATE OR REPLACE USER t_peer@'%' IDENTIFIED VIA unix_socket")(w)
			os.Symlink(w.maria.Socket, filepath.Join(w.dir, "mysqld.sock"))
		}, fill: fills{"socket=PATH": "socket=mysqld.sock", "-as ADMIN": "-as admin"}, after: fills{"gharbor set": "same"}},
		{name: "MariaDB: the system account's, looked up", code: "login.peer", setUp: func(w *tryWorld) {
			with("t_peer2", "CREATE OR REPLACE USER t_peer2@'%' IDENTIFIED VIA unix_socket")(w)
			os.Symlink(w.maria.Socket, filepath.Join(w.dir, "mysqld.sock"))
		}, flags: admin, fill: fills{"socket=PATH": "socket=mysqld.sock"}, after: fills{"gharbor set": "same"}},
		{name: "MariaDB: another system account's", code: "login.peer", setUp: func(w *tryWorld) {
			with("t_peer3", "CREATE OR REPLACE USER t_peer3@'%' IDENTIFIED VIA unix_socket", fmt.Sprintf("CREATE USER IF NOT EXISTS `%s`@localhost IDENTIFIED VIA unix_socket", account()))(w)
			onSocket(w)
			w.set([]string{"secret=none"})
		}, fill: fills{"-as ADMIN": "-as admin"}, after: fills{"gharbor set": map[bool]string{true: "login.root-without-password", false: "ready"}[account() == "root"]}},
		{name: "MariaDB: no rights", code: "database.no-access", setUp: onServer([]string{"user=t_norights"}, "CREATE OR REPLACE USER t_norights@'%' IDENTIFIED BY 'knot'"), fill: word, after: fills{"as an administrator": "ready"}},
		{name: "MariaDB: no such database, looked up", code: "database.missing", setUp: onServer([]string{"database=molt"}, "DROP DATABASE IF EXISTS molt"), flags: admin, fill: fills{"NAME": "moult"}, after: fills{"gharbor set": "ready", "as an administrator": "ready"}},
		{name: "MariaDB: no such database", code: "database.missing", setUp: onServer([]string{"user=admin", "database=moultt"}, "DROP DATABASE IF EXISTS moultt"), fill: fills{"NAME": "moult"}, after: fills{"gharbor set": "ready", "as an administrator": "ready"}},
		{name: "MariaDB: another flavour", code: "speak.flavour", setUp: onServer([]string{"engine=mysql"}), after: fills{"gharbor set": "ready"}},
		{name: "MariaDB: no TLS", code: "tls.not-offered", setUp: onServer([]string{"tls=required"}), after: fills{"gharbor set": "ready", "on the server": "same"}},
		{name: "MariaDB: no TLS on a socket", code: "tls.not-offered", setUp: func(w *tryWorld) { onServer([]string{"tls=required"})(w); onSocket(w) }, after: fills{"gharbor set": "ready"}},
	}
}

func mysqlCases() []tryCase {
	asked := func(fault mysql.Fault, pairs ...string) func(*tryWorld) {
		return func(w *tryWorld) {
			simulated(fault, pairs...)(w)
			w.sql = func(all ...string) { w.maria.SQL(w.t, all...) }
		}
	}
	unaltered := func(w *tryWorld) { w.sql = func(...string) {} } // the simulated server has no ALTER USER
	return []tryCase{
		{name: "MySQL: full", code: "session.server-full", setUp: asked(mysql.Full), after: fills{"as an administrator": "same"}},
		{name: "MySQL: blocked", code: "speak.host-blocked", setUp: asked(mysql.Blocked), after: fills{"as an administrator": "same"}},
		{name: "MySQL: not allowed", code: "login.host-not-allowed", setUp: asked(mysql.NotAllowed), fill: fills{"NEW-PASSWORD": "knot", "CREATE USER": "CREATE OR REPLACE USER"}, after: fills{"as an administrator": "same"}},
		{name: "MySQL: stopping", code: "speak.stopping", setUp: asked(mysql.Stopping)},
		{name: "MySQL: asks for a file", code: "session.asks-for-file", setUp: asked(mysql.AsksForFile)},
		{name: "MySQL: hangs", code: "session.timeout", setUp: asked(mysql.HangSession)},
		{name: "MySQL: lost", code: "session.lost", setUp: asked(mysql.LoseSession)},
		{name: "MySQL: odd method", code: "login.unsupported-method", setUp: func(w *tryWorld) { asked(mysql.OddMethod)(w); unaltered(w) }, fill: fills{"'HOST'": "'%'"}, after: fills{"as an administrator": "same"}},
		{name: "MySQL: odd refusal", code: "login.refused", setUp: asked(mysql.EscapeMessage)},
		{name: "MySQL: the whole password", code: "login.cleartext-refused", setUp: asked(mysql.NoFault, "user=bander", "tls=off"), fill: fills{"PATH": "server.pem"}, after: fills{"gharbor set x tls=verified": "tls.untrusted", "gharbor set x server-key": "ready"}},
		{name: "MySQL: a password that may need TLS", code: "login.password", setUp: asked(mysql.NoFault, "secret=env:WRONG", "tls=off"), fill: fills{"-as ADMIN": "-as x"}, typed: "knot"},
		{name: "MySQL: hangs", code: "login.timeout", setUp: asked(mysql.HangAtLogin)},
		{name: "MySQL: broken off", code: "login.broken-off", setUp: asked(mysql.CloseAtLogin)},
		{name: "MySQL: locked after wrong passwords", code: "login.locked", setUp: asked(mysql.NoFault, "user=locked"), fill: fills{"'HOST'": "'%'", "ALTER USER 'locked'": "CREATE OR REPLACE USER 'locked'", "-as ADMIN": "-as x"}, after: fills{"as an administrator": "same"}},
	}
}

func copyFile(w *tryWorld, from, to string) {
	data, err := os.ReadFile(from)
	if err != nil {
		w.t.Fatal(err)
	}
	w.Write(filepath.Join(w.dir, to), string(data))
}

// account is the system account that the tests run as.
func account() string {
	u, err := user.Current()
	if err != nil {
		return "nobody"
	}
	return u.Username
}

// hostName is this machine's own name, which is not written like a local one.
func hostName(t *testing.T) string {
	name, err := os.Hostname()
	if err != nil {
		t.Skip("this machine has no name")
	}
	return name
}
