package find

import (
	"encoding/json"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/container/api"
	"gentleharbor/core/engine"
	"gentleharbor/core/engines"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
)

// TestStillStarts reads logs as the official images write them, up to each moment.
func TestStillStarts(t *testing.T) {
	postgres := []string{
		"The files belonging to this database system will be owned by user \"postgres\".",
		"Success. You can now start the database server using:",
		"waiting for server to start....2026-11-26 10:00:00.000 UTC [48] LOG:  starting PostgreSQL 16.4",
		"2026-11-26 10:00:00.010 UTC [48] LOG:  listening on Unix socket \"/var/run/postgresql/.s.PGSQL.5432\"",
		"2026-11-26 10:00:00.020 UTC [48] LOG:  database system is ready to accept connections", // for itself
		" done", "server started", "CREATE DATABASE",
		"waiting for server to shut down....2026-11-26 10:00:01.000 UTC [48] LOG:  received fast shutdown request",
		"2026-11-26 10:00:01.010 UTC [48] LOG:  database system is shut down",
		" done", "server stopped", "",
		"PostgreSQL init process complete; ready for start up.",
		"2026-11-26 10:00:01.100 UTC [1] LOG:  starting PostgreSQL 16.4",
		"2026-11-26 10:00:01.110 UTC [62] LOG:  database system was shut down at 2026-11-26 10:00:01 UTC",
		"2026-11-26 10:00:01.120 UTC [1] LOG:  database system is ready to accept connections",
	}
	mysql := []string{
		"2026-11-26 10:00:00+00:00 [Note] [Entrypoint]: Entrypoint script for MySQL Server 8.4.2-1.el9 started.",
		"2026-11-26 10:00:00+00:00 [Note] [Entrypoint]: Initializing database files",
		"2026-11-26T10:00:05Z 0 [System] [MY-015018] [Server] MySQL Server Initialization - end.",
		"2026-11-26 10:00:05+00:00 [Note] [Entrypoint]: Starting temporary server",
		"2026-11-26T10:00:06Z 0 [System] [MY-011323] [Server] X Plugin ready for connections. Socket: /var/run/mysqld/mysqlx.sock",
		"2026-11-26T10:00:06Z 0 [System] [MY-010931] [Server] /usr/sbin/mysqld: ready for connections. Version: '8.4.2'  socket: '/var/run/mysqld/mysqld.sock'  port: 0  MySQL Community Server - GPL.",
		"2026-11-26 10:00:06+00:00 [Note] [Entrypoint]: Temporary server started.",
		"2026-11-26 10:00:08+00:00 [Note] [Entrypoint]: MySQL init process done. Ready for start up.",
		"2026-11-26T10:00:08Z 0 [System] [MY-010116] [Server] /usr/sbin/mysqld (mysqld 8.4.2) starting as process 1",
		"2026-11-26T10:00:09Z 0 [System] [MY-011323] [Server] X Plugin ready for connections. Bind-address: '::' port: 33060, socket: /var/run/mysqld/mysqlx.sock",
		"2026-11-26T10:00:09Z 0 [System] [MY-010931] [Server] /usr/sbin/mysqld: ready for connections. Version: '8.4.2'  socket: '/var/run/mysqld/mysqld.sock'  port: 3306  MySQL Community Server - GPL.",
	}
	mariadb := []string{
		"2026-11-26 10:00:00+00:00 [Note] [Entrypoint]: Entrypoint script for MariaDB Server 1:11.4.2+maria~ubu2404 started.",
		"2026-11-26 10:00:00+00:00 [Note] [Entrypoint]: Initializing database files",
		"2026-11-26 10:00:03 0 [Note] mariadbd: ready for connections.",
		"Version: '11.4.2-MariaDB'  socket: '/run/mysqld/mysqld.sock'  port: 0  mariadb.org binary distribution",
		"2026-11-26 10:00:04+00:00 [Note] [Entrypoint]: MariaDB init process done. Ready for start up.",
		"2026-11-26 10:00:05 0 [Note] mariadbd: ready for connections.",
		"Version: '11.4.2-MariaDB'  socket: '/run/mysqld/mysqld.sock'  port: 3306  mariadb.org binary distribution",
	}
	for _, c := range []struct {
		engine string
		lines  []string
		ready  int // lines from which on it is ready
	}{{"postgresql", postgres, len(postgres)}, {"mysql", mysql, len(mysql)}, {"mariadb", mariadb, len(mariadb)}} {
		for n := 1; n <= len(c.lines); n++ {
			starting, seen := isStarting(logOf(c.engine), c.lines[:n])
			if starting != (n < c.ready) || starting && !slices.Contains(c.lines[:n], seen) {
				t.Errorf("%s after %d of %d lines (%q): starting is %v, by %q", c.engine, n, len(c.lines), c.lines[n-1], starting, seen)
			}
		}
		again := append(slices.Clone(c.lines), "received fast shutdown request", c.lines[len(c.lines)-2])
		if starting, _ := isStarting(logOf(c.engine), append(again, c.lines[c.ready-2:]...)); starting {
			t.Errorf("%s that came back is starting", c.engine)
		}
	}
	if starting, _ := isStarting(logOf("redis"), []string{"1:M * Ready to accept connections tcp"}); starting {
		t.Error("redis")
	}
	if starting, _ := isStarting(engine.Log{}, mariadb[:2]); starting {
		t.Error("an engine that is not known is starting")
	}
}

// TestPublished: loopback and IPv4 first, every address once, and only those that can be
// dialled from here.
func TestPublished(t *testing.T) {
	for _, c := range []struct {
		bindings string // "address:port" each
		host     string // of the engine
		want     string
	}{
		{"0.0.0.0:40000 ::/40000", "", "127.0.0.1:40000 [::1]:40000"},
		{"::/40001 0.0.0.0:40000", "", "127.0.0.1:40000 [::1]:40001"},
		{"192.0.2.5:1 127.0.0.1:2 ::1/3", "", "127.0.0.1:2 [::1]:3 192.0.2.5:1"},
		{"127.0.0.1:2 127.0.0.1:2", "", "127.0.0.1:2"},
		{":5", "", "127.0.0.1:5"},
		{"127.0.0.1:2", "far.saltmarsh.example", ""},
		{"0.0.0.0:2 ::/2", "far.saltmarsh.example", "far.saltmarsh.example:2"},
		{"0.0.0.0:0 0.0.0.0:x nonsense:7 0.0.0.0:70000", "", ""},
	} {
		var bindings []api.Binding
		for word := range strings.FieldsSeq(c.bindings) {
			at := strings.LastIndexAny(word, ":/")
			bindings = append(bindings, api.Binding{HostIp: word[:at], HostPort: word[at+1:]})
		}
		var have []string
		for _, p := range publishedOf(bindings, c.host) {
			have = append(have, p.String())
		}
		if strings.Join(have, " ") != c.want {
			t.Errorf("%s on %q came to %v, want %s", c.bindings, c.host, have, c.want)
		}
	}
}

// catalog recognises the servers of all engines.
var catalog = Catalog{Known: keys.Engines()}

func logOf(word string) engine.Log { return keys.Engines().ByWord(word).Image.Log }

func env(pairs ...string) api.Environment {
	e := make(api.Environment)
	for _, pair := range pairs {
		name, value, _ := strings.Cut(pair, "=")
		e[name] = secret.NewValue(value)
	}
	return e
}

// TestDeclared reads environments by what the official images document.
func TestDeclared(t *testing.T) {
	for _, c := range []struct {
		env   string
		image string
		want  Declaration
		ok    bool
		ports []int
	}{
		{"POSTGRES_PASSWORD=x", "postgres:16", Declaration{Engine: "postgresql", User: "postgres", Database: "postgres", Variable: "POSTGRES_PASSWORD"}, true, nil},
		{"POSTGRES_USER=warden POSTGRES_PASSWORD_FILE=/run/secrets/p PG_MAJOR=16", "own", Declaration{Engine: "postgresql", User: "warden", Database: "warden", Variable: "POSTGRES_PASSWORD_FILE"}, true, nil},
		{"POSTGRES_USER=warden POSTGRES_DB=sightings POSTGRES_HOST_AUTH_METHOD=trust", "postgres", Declaration{Engine: "postgresql", User: "warden", Database: "sightings", None: true}, true, nil},
		{"POSTGRES_USER=warden POSTGRES_PASSWORD=x POSTGRES_HOST=db", "web", Declaration{}, false, nil},
		{"PGDATA=/data PG_MAJOR=16 POSTGRES_PASSWORD=", "postgres", Declaration{Engine: "postgresql", User: "postgres", Database: "postgres"}, true, nil},
		{"MARIADB_USER=ringer MARIADB_PASSWORD=x MARIADB_ROOT_PASSWORD=y MARIADB_DATABASE=ringing", "mariadb:11", Declaration{Engine: "mariadb", User: "ringer", Database: "ringing", Variable: "MARIADB_PASSWORD"}, true, nil},
		{"MYSQL_USER=ringer MYSQL_PASSWORD=x MARIADB_VERSION=11", "mariadb:11", Declaration{Engine: "mariadb", User: "ringer", Variable: "MYSQL_PASSWORD"}, true, nil},
		{"MYSQL_USER=ringer MYSQL_PASSWORD=x", "docker.io/library/mariadb:10", Declaration{Engine: "mariadb", User: "ringer", Variable: "MYSQL_PASSWORD"}, true, nil},
		{"MYSQL_ROOT_PASSWORD=x", "mysql:8", Declaration{Engine: "mysql", User: "root", Variable: "MYSQL_ROOT_PASSWORD"}, true, nil},
		{"MYSQL_RANDOM_ROOT_PASSWORD=yes", "mysql:8", Declaration{Engine: "mysql", User: "root", Made: true}, true, nil},
		{"MYSQL_ALLOW_EMPTY_PASSWORD=1", "mysql:8", Declaration{Engine: "mysql", User: "root", None: true}, true, nil},
		{"MYSQL_HOST=db MYSQL_USER=ringer MYSQL_PASSWORD=x", "web", Declaration{}, false, nil},
		{"MONGO_INITDB_ROOT_USERNAME=scribe MONGO_INITDB_ROOT_PASSWORD=x", "mongo", Declaration{Engine: "mongodb", User: "scribe", Variable: "MONGO_INITDB_ROOT_PASSWORD"}, true, nil},
		{"REDIS_VERSION=7", "redis", Declaration{Engine: "redis", User: "default"}, true, nil},
		{"ORACLE_PWD=x ORACLE_SID=SKEIN", "oracle", Declaration{Engine: "oracle", User: "SYSTEM", Variable: "ORACLE_PWD", Service: "SKEIN"}, true, nil},
		{"PATH=/bin", "nginx", Declaration{}, false, nil},
		{"POSTGRES_USER=warden POSTGRES_PASSWORD=x", "saltmarsh/web", Declaration{}, false, []int{8080}}, // the server's variables, given to a client
		{"POSTGRES_USER=warden POSTGRES_PASSWORD=x", "saltmarsh/own", Declaration{Engine: "postgresql", User: "warden", Database: "warden", Variable: "POSTGRES_PASSWORD"}, true, []int{5432, 8008}},
		{"MARIADB_USER=ringer", "mariadb:11", Declaration{Engine: "mariadb", User: "ringer"}, true, []int{4406}},
		{"POSTGRES_USER=warden POSTGRES_PASSWORD=x", "saltmarsh/job", Declaration{}, false, nil}, // as a job has them
		{"MYSQL_ROOT_PASSWORD=x", "saltmarsh/front", Declaration{}, false, []int{80}},
		{"MARIADB_ROOT_PASSWORD=x", "saltmarsh/rings", Declaration{Engine: "mariadb", User: "root", Variable: "MARIADB_ROOT_PASSWORD"}, true, nil},
		{"POSTGRES_USER=warden POSTGRES_PASSWORD=x PGPORT=6543", "saltmarsh/own", Declaration{Engine: "postgresql", User: "warden", Database: "warden", Variable: "POSTGRES_PASSWORD"}, true, []int{6543}},
		{"POSTGRES_USER_FILE=/run/u POSTGRES_PASSWORD=x", "postgres", Declaration{Engine: "postgresql", Variable: "POSTGRES_PASSWORD", Elsewhere: "POSTGRES_USER_FILE"}, true, nil},
		{"MARIADB_USER_FILE=/u MARIADB_PASSWORD_FILE=/p MARIADB_DATABASE_FILE=/d", "mariadb", Declaration{Engine: "mariadb", Variable: "MARIADB_PASSWORD_FILE", Elsewhere: "MARIADB_USER_FILE, MARIADB_DATABASE_FILE"}, true, nil},
		{"POSTGRES_USER=war\x1bden POSTGRES_PASSWORD=x", "postgres", Declaration{Engine: "postgresql", User: "postgres", Database: "postgres", Variable: "POSTGRES_PASSWORD"}, true, nil},
	} {
		have, ok := catalog.readDeclaration(env(strings.Fields(c.env)...), c.image, c.ports)
		if have != c.want || ok != c.ok {
			t.Errorf("%s of %s declares %+v %v, want %+v", c.env, c.image, have, ok, c.want)
		}
	}
	if d, port, ok := catalog.Describe(env(), "registry.saltmarsh.example:5000/library/redis:7@sha256:ab", []int{6400}); d.Engine != "redis" || port != 6400 || !ok {
		t.Errorf("by its image it is %+v, port %d", d, port)
	}
	if d, port, ok := catalog.Describe(env("POSTGRES_PASSWORD=x", "PGPORT=15460"), "postgres:16", []int{5432}); d.Engine != "postgresql" || port != 15460 || !ok {
		t.Errorf("told its port it is %+v, port %d", d, port)
	}
	for text, want := range map[string]string{"POSTGRES_USER=w": "postgresql", "MARIADB_ROOT_PASSWORD=x": "mariadb", "MYSQL_HOST=db MYSQL_USER=w": "", "PATH=/bin": ""} {
		if got, ok := catalog.Similar(env(strings.Fields(text)...), "", nil); got.Engine != want || ok != (want != "") {
			t.Errorf("%s is similar to %q", text, got.Engine)
		}
		if _, ok := catalog.Similar(env(strings.Fields(text)...), "", []int{80}); ok {
			t.Errorf("%s with another port is similar", text)
		}
	}
	for image, want := range map[string]string{"team/mariadb-custom:2": "mariadb", "bitnami/postgresql": "postgresql", "redis/redis-stack": "redis", "valkey/valkey:8": "redis",
		"team/postgresque": "", "team/front": "", "": ""} {
		if got, ok := catalog.Similar(env(), image, nil); got.Engine != want || ok != (want != "") {
			t.Errorf("the image %s is similar to %q", image, got.Engine)
		}
	}
	for command, want := range map[string][2]bool{
		"postgres -c fsync=off": {true, false}, "pg_dump -h db": {false, true}, "sh -c pg_dump db": {false, true}, "sleep 60": {false, false},
		"docker-entrypoint.sh mysqld": {true, false}, "--user mysql": {false, false}, "": {false, false}, "bash -c exec postgres": {true, false},
		"/usr/bin/mysqldump --all": {false, true}, "python job.py psql": {false, false},
	} {
		if server, client := catalog.Runs(strings.Fields(command)); server != want[0] || client != want[1] {
			t.Errorf("%q: a server %v, a client %v", command, server, client)
		}
	}
	if !catalog.Checks("postgresql", []string{"CMD-SHELL", "/usr/bin/pg_isready", "-q"}) || catalog.Checks("postgresql", []string{"CMD", "mysqladmin"}) || catalog.Checks("none", []string{"pg_isready"}) {
		t.Error("health checks")
	}
	sets := Declaration{Engine: "postgresql", User: "war$den", Database: "sightings", Variable: "POSTGRES_PASSWORD"}.Sets(keys, schema.Container{Project: "station", Service: "counts"}, 5432)
	r := resolve.Values(keys, "counts", sets, resolve.Environment{Lookup: func(string) (string, bool) { return "", false }})
	if found := r.Problem(); found != nil || r.Text(key.User) != "war$den" || r.Text(key.Secret) != "container:POSTGRES_PASSWORD" {
		t.Errorf("the profile has the user %q: %+v", r.Text(key.User), found)
	}
}

// TestOwnAddress: a container's own address counts where the network's gateway is this
// machine.
func TestOwnAddress(t *testing.T) {
	one := &api.Container{Name: "saltmarsh-ringing"}
	one.NetworkSettings.Networks = map[string]api.Network{"a": {IPAddress: "172.30.0.2", Gateway: "172.30.0.1"}, "b": {IPAddress: "", Gateway: "172.31.0.1"}, "c": {IPAddress: "203.0.113.9", Gateway: "192.0.2.1"}}
	for own, want := range map[string]bool{"172.30.0.1/16": true, "172.31.0.1/16": false, "192.0.2.1/24": false, "192.0.2.7/24": false} { // the last but one is told of a stranger
		v := &view{Engines: &Engines{Own: func() []netip.Prefix { return []netip.Prefix{netip.MustParsePrefix(own)} }}, match: match{one: one, client: &api.Client{Endpoint: api.Endpoint{Address: "unix:///x"}}}}
		one.NetworkSettings.Ports = map[string][]api.Binding{"5432/tcp": {{HostIp: "203.0.113.9", HostPort: "5432"}, {HostIp: netip.MustParsePrefix(own).Addr().String(), HostPort: "5433"}}}
		if all := v.publishedPlaces(5432); len(all) != 1 || all[0].port != 5433 {
			t.Errorf("with %s here it is published at %v", own, all)
		}
		if at, ok := v.ownAddress(t.Context()); ok != want || ok && at != "172.30.0.2" {
			t.Errorf("with %s here it is reached at %q %v", own, at, ok)
		}
	}
}

// FuzzContainer reads descriptions of containers, whatever is in them.
func FuzzContainer(f *testing.F) {
	f.Add([]byte(`{"Id":"5a17","Name":"/ringing","State":{"Status":"running","Running":true,"Health":{"Status":"healthy","Log":[{"Output":"x"}]}},"Config":{"Image":"mariadb","Env":["MARIADB_USER=ringer","=","A"],"ExposedPorts":{"3306/tcp":{}}},"HostConfig":{"NetworkMode":"bridge"},"NetworkSettings":{"Ports":{"3306/tcp":[{"HostIp":"::","HostPort":"3306"}],"x":null},"Networks":{"b":{"IPAddress":"x"}}}}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		var one api.Container
		if json.Unmarshal(data, &one) != nil {
			return
		}
		d, _, _ := catalog.Describe(one.Config.Env, one.Config.Image, tcpPorts(&one))
		d.Sets(keys, schema.Container{Name: "x"}, 0)
		for _, bindings := range one.NetworkSettings.Ports {
			for _, p := range publishedOf(bindings, "") {
				if p.port < 1 || p.port > 65535 || p.host == "" {
					t.Errorf("published at %v", p)
				}
			}
		}
		if text := newSeen(&one).State + State(&one) + describeEnd(&one); strings.ContainsAny(text, "\x1b\n") {
			t.Errorf("%q", text)
		}
	})
}

// TestLogReader marks what a server says of itself, and cuts out what a line before it announced.
func TestLogReader(t *testing.T) {
	one := &api.Container{}
	one.Config.Image, one.Config.Env = "postgres:16", api.Environment{"POSTGRES_PASSWORD": secret.NewValue("harbor lights")}
	r := NewLogReader(engines.All().ByWord("postgresql"), one)
	for _, c := range []struct{ line, text, mark string }{
		{"LOG:  starting PostgreSQL 16.1", "LOG:  starting PostgreSQL 16.1", "starts"},
		{"LOG:  database system is ready to accept connections", "LOG:  database system is ready to accept connections", "ready"},
		{"FATAL:  it says harbor lights", "FATAL:  it says [cut out]", "fails"},
		{"generated password:", "generated password:", ""}, {"Xk2vQ9rTzz", "[cut out]", ""},
		{"\x1b[2Jclean", "clean", ""}, {"nothing", "nothing", ""},
	} {
		if got := r.Read(c.line); !strings.Contains(got.Text, c.text) || strings.Contains(got.Text, "\x1b") || got.Mark != c.mark || strings.Contains(got.Text, "Xk2v") {
			t.Errorf("%q is %+v", c.line, got)
		}
	}
	if got := NewLogReader(nil, one).Read("FATAL: of an unknown server"); got.Mark != "" {
		t.Errorf("%+v", got)
	}
}
