//go:build unix

package main

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// cache is a real server with users, and a program with a profile for each of them that leads there.
func cache(t *testing.T, settings ...string) (*testkit.Program, *testkit.Redis) {
	t.Helper()
	r := testkit.RedisServer(t, settings...)
	r.Do(t,
		[]string{"ACL", "SETUSER", "warden", "on", ">knot", "~*", "&*", "+@all"},
		[]string{"ACL", "SETUSER", "admin", "on", ">knot", "~*", "&*", "+@all"},
		[]string{"ACL", "SETUSER", "off", "off", ">knot", "~*", "+@all"},
		[]string{"ACL", "SETUSER", "unset", "on", "~*", "+@all"},
		[]string{"ACL", "SETUSER", "few", "on", ">knot", "~x:*", "+get"},
		[]string{"SET", "station:1", "North Creek"}, []string{"SET", "station:2", "Shingle Spit", "EX", "500"},
		[]string{"HSET", "bird:knot", "latin", "Calidris canutus"}, []string{"RPUSH", "counts", "1", "2", "3"})
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	base := "[profile.%s]\nengine = \"redis\"\nhost = \"127.0.0.1\"\nport = %d\nuser = %q\nsecret = \"env:KNOT\"\n\n"
	p.Profiles(fmt.Sprintf(base, "cache", r.Port, "warden") + fmt.Sprintf(base, "admin", r.Port, "admin") +
		fmt.Sprintf("[profile.open]\nengine = \"redis\"\nhost = \"127.0.0.1\"\nport = %d\n\n[profile.sock]\nengine = \"redis\"\nsocket = %q\n", r.Port, r.Socket))
	return p, r
}

// TestRedisFindings: what goes wrong at a real server is told for what it is.
func TestRedisFindings(t *testing.T) {
	t.Parallel()
	p, _ := cache(t)
	runReal(t, p, "cache", []realCase{
		{"ready", nil, "session", "ok", "", "", ""},
		{"the default user", override("user="), "login", "warn", "login.no-password-asked", "was not sent", ""},
		{"wrong password", override("secret=env:HOME"), "login", "fail", "login.password", "WRONGPASS", "-override secret=ask"},
		{"no such user", override("user=nobody"), "login", "fail", "login.password", "one answer", "-as ADMIN"},
		{"looked up: no user", append(override("user=nobody"), "-as", "admin"), "login", "fail", "login.no-such-role", "gives nothing", "provision make"},
		{"looked up: off", append(override("user=off"), "-as", "admin"), "login", "fail", "login.locked", "off", "provision unlock"},
		{"looked up: unset", append(override("user=unset"), "-as", "admin"), "login", "fail", "login.no-password-set", "", "provision make"},
		{"looked up: wrong", append(override("secret=env:HOME"), "-as", "admin"), "login", "fail", "login.password", "the user is there", ""},
		{"none sent", override("secret=none"), "login", "fail", "login.password-wanted", "", "secret keep"},
		{"few rights", override("user=few"), "session", "warn", "session.no-right", "NOPERM", "provision grant"},
		{"few rights, another database", override("user=few", "database=2"), "database", "fail", "database.no-access", "NOPERM", ""},
		{"a high number", override("database=99"), "database", "fail", "database.missing", "16 databases", "database=9"},
		{"a name", override("database=birds"), "database", "fail", "database.missing", "birds", "database=0"},
		{"TLS", override("tls=required"), "tls", "fail", "tls.not-offered", "answers PING", "tls=offered"},
		{"as postgresql", override("engine=postgresql", "database=x"), "speak", "fail", "speak.other-engine", "a Redis server", "engine=redis"},
		{"expected keys", override(`expect.keys=station:*,counts`), "expect", "ok", "", "", ""},
		{"missing keys", override(`expect.keys=gauge:*`), "expect", "fail", "expect.key-missing", "gauge", ""},
		{"persistent", override("expect.persistent=false"), "expect", "fail", "expect.persistent", "", ""},
		{"tables", override("expect.tables=x"), "profile", "warn", "profile.conflict", "no tables", ""},
	})
	for _, profile := range []string{"open", "sock"} {
		if f := p.Test(profile).Facts; f["user"] != "default" || f["server_id"] == "" || !strings.HasPrefix(fmt.Sprint(f["version"]), "7") {
			t.Errorf("%s: %v", profile, f)
		}
	}
	p.OK("compare", "open", "sock").Has("same-instance")
}

// TestRedisStates: a password alone, a full memory, too many clients, a replica, a renamed command, protected mode.
func TestRedisStates(t *testing.T) {
	t.Parallel()
	primary := testkit.RedisServer(t, "--requirepass", "knot", "--save", "")
	replica := testkit.RedisServer(t, "--replicaof", fmt.Sprintf("127.0.0.1 %d", primary.Port), "--masterauth", "knot")
	lonely := testkit.RedisServer(t, "--replicaof", "127.0.0.1 1")
	full := testkit.RedisServer(t, "--maxmemory", "1100000")
	few := testkit.RedisServer(t, "--maxclients", "1")
	renamed := testkit.RedisServer(t, "--rename-command", "PING", "", "--rename-command", "CONFIG", "HIDDEN")
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	profiles := ""
	for name, r := range map[string]*testkit.Redis{"primary": primary, "replica": replica, "lonely": lonely, "full": full, "few": few, "renamed": renamed} {
		profiles += fmt.Sprintf("[profile.%s]\nengine = \"redis\"\nhost = \"127.0.0.1\"\nport = %d\n", name, r.Port)
	}
	p.Profiles(profiles)
	p.OK("set", "primary", "secret=env:KNOT")
	for i := 0; ; i++ { // the replica takes its data over
		if p.Test("replica").Facts["replica_of"] != nil && !strings.Contains(p.Run("test", "replica").Stdout, "link-down") || i == 100 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	holdClient(t, few)
	for name, c := range map[string]realCase{
		"primary": {"", nil, "session", "ok", "", "", ""},
		"replica": {"", nil, "session", "warn", "session.read-only", "is a replica of", "expect.writable=false"},
		"lonely":  {"", nil, "session", "warn", "session.link-down", "the link is", "gharbor wait"},
		"few":     {"", nil, "speak", "fail", "session.server-full", "max number of clients", "gharbor wait"},
		"renamed": {"", nil, "session", "ok", "", "", ""},
	} {
		c.name = name
		runReal(t, p, name, []realCase{c})
	}
	for i := 0; i < 400; i++ {
		if p.Run("query", "full", fmt.Sprintf("SET station:%d %s", i, strings.Repeat("x", 4000))).Code != 0 {
			break
		}
	}
	p.Test("full").Ends(t, "session", "warn", "session.memory-full")
	p.Run("query", "full", "SET a b").Want(1).Has("OOM", "memory is full")
	p.Run("query", "replica", "SET a b").Want(1).Has("READONLY", "its primary takes writes")
	p.Run("compare", "primary", "replica").Want(1).Has("same-lineage")
	p.Run("test", "primary", "-override", "expect.persistent=true").Want(1).Has("expect.persistent")
}

// scriptFile writes a file beside the program's home, and gives its path.
func scriptFile(p *testkit.Program, name, text string) string {
	path := filepath.Join(filepath.Dir(p.Home), name)
	p.Write(path, text)
	return path
}

// holdClient keeps the only place of a server for clients.
func holdClient(t *testing.T, r *testkit.Redis) {
	t.Helper()
	answer := make([]byte, 64)
	for range 100 { // a connection of before may count still
		conn := dialSocket(t, r.Socket)
		fmt.Fprint(conn, "PING\r\n")
		if n, _ := conn.Read(answer); strings.HasPrefix(string(answer[:n]), "+PONG") {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatal("no client is let in")
}

// dialSocket is a connection to a socket until the test ends.
func dialSocket(t *testing.T, path string) net.Conn {
	t.Helper()
	conn, err := net.Dial("unix", path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	return conn
}

// TestRedisTLS: rediss is TLS from the first byte, verified; a port with TLS alone, and one without, are told.
func TestRedisTLS(t *testing.T) {
	t.Parallel()
	r, port := testkit.SecureRedis(t, "--requirepass", "knot", "--tls-auth-clients", "optional")
	strict, strictPort := testkit.SecureRedis(t, "--requirepass", "knot")
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.OK("add", "cache", fmt.Sprintf("rediss://localhost:%d/2", port), "-secret", "env:KNOT", "-tls-ca", r.Authority)
	p.OK("add", "strict", fmt.Sprintf("rediss://localhost:%d", strictPort), "-secret", "env:KNOT", "-tls-ca", strict.Authority)
	test := p.Test("cache")
	test.Ends(t, "session", "ok", "")
	if f := test.Facts; f["tls_verified"] != true || f["database"] != "2" {
		t.Errorf("%v", f)
	}
	runReal(t, p, "cache", []realCase{
		{"no authority", override("tls-ca="), "tls", "fail", "tls.untrusted", "", ""},
		{"another name", override("tls-name=x.example"), "tls", "fail", "tls.wrong-name", "", ""},
		{"without TLS", override("tls=off", "tls-ca="), "speak", "fail", "speak.tls-only", "", "tls=verified"},
	})
	runReal(t, p, "strict", []realCase{
		{"a certificate is wanted", nil, "tls", "fail", "tls.client-certificate", "", ""},
		{"a certificate", override("tls-cert="+strict.ClientCert, "tls-key="+strict.ClientKey), "session", "ok", "", "", ""},
	})
}

// TestRedisNearby: the server stands among those of this machine.
func TestRedisNearby(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, server := cache(t)
	p.OK("nearby").Has(fmt.Sprintf("127.0.0.1:%d", server.Port), "redis", "cache")
}

// TestRedisStatements: commands are run, looked around is, files are loaded, and guards hold.
func TestRedisStatements(t *testing.T) {
	t.Parallel()
	p, _ := cache(t)
	query := func(code int, text string, more ...string) *testkit.Result {
		return p.Run(append([]string{"query", "cache", text, "-format", "bare"}, more...)...).Want(code)
	}
	if got := query(0, "GET station:1").Stdout; got != "North Creek\n" {
		t.Errorf("%q", got)
	}
	query(0, `SET "odd \"key" 'it\'s'`)
	if got := query(0, `GET "odd \"key"`).Stdout; got != "it's\n" {
		t.Errorf("%q", got)
	}
	if got := query(0, "GET {k}", "-let", "k=odd \"key").Stdout; got != "it's\n" {
		t.Errorf("a value: %q", got)
	}
	if got := query(0, "LRANGE counts 0 -1").Stdout; got != "1\n2\n3\n" {
		t.Errorf("%q", got)
	}
	p.OK("query", "cache", "HGETALL bird:knot", "-format", "csv").Has("name,value", "latin,Calidris canutus")
	p.OK("query", "cache", "DBSIZE", "-format", "json").Has(`{"value":5}`)
	p.OK("query", "cache", "-format", "json", "-file", scriptFile(p, "two.redis", "# counts\nGET station:1\n\nLLEN counts\n")).Has(`"result":2`, `{"value":3}`)
	query(1, "LPUSH station:1 x").Has("WRONGTYPE")
	p.Run("query", "cache", "-override", "user=few", "HGETALL bird:knot").Want(1).Has("NOPERM", "ACL SETUSER few +hgetall")
	query(2, `GET "x`).Has("statement:1:5: this text in quotes is not closed")
	query(2, "GET a", "-atomic").Has("-atomic")
	query(2, "CONFIG SET requirepass x").Has("password in an argument")
	query(1, "SUBSCRIBE x").Has("is not sent")
	query(1, "SET a b", "-read-only").Has("read-only")
	query(0, "GET station:1", "-read-only")
	query(2, "DEL a", "-override", "guard=ask").Has("removes whole keys", "-yes")
	query(0, "DEL a", "-override", "guard=ask", "-yes")
	query(1, "EVAL 'return 1' 0", "-override", "guard=read-only").Has("read-only")
	p.Run("query", "cache", "BLPOP nothing 0", "-statement-timeout", "200ms").Want(1).Has("cancelled at the server")
	p.OK("load", "cache", scriptFile(p, "data.redis", "SET gauge:1 12\nSADD places 'The Lagoon'\n")).Has("2 statements")
	p.Run("load", "cache", scriptFile(p, "bad.redis", "SET gauge:1 12\nKIWIT\n")).Want(1).Has("bad.redis:2", "unknown command")
	p.Run("load", "cache", scriptFile(p, "rows.csv", "a,b\n1,2\n"), "-table", "x").Want(2).Has("can't load rows on redis")
	p.OK("browse", "cache").Has("commands +@all", "7 keys, 1 of them expire")
	p.OK("browse", "cache", "keys", "station*").Has("station:1", "string").HasNot("bird")
	for _, kind := range []string{"databases", "accounts", "access", "activity", "clients", "slow", "slowlog", "settings"} {
		p.OK("browse", "cache", kind)
	}
	p.OK("browse", "cache", "accounts").HasNot("ec580d1e") // the hash of a password
	p.Run("browse", "cache", "tables").Want(2).Has("redis has no tables to browse")
	p.Run("browse", "cache", "station").Want(2).Has("activity, settings, keys, slow").HasNot("SELECT", "tables")
	p.OK("browse", "cache").HasNot("encoding") // which no row knows
	p.OK("browse", "cache", "accounts", "-against", "admin")
	p.OK("export", "cache", "-as", "url").Has("redis://warden@127.0.0.1:")
	socket := strings.TrimSpace(p.OK("export", "sock", "-as", "url").Stdout)
	p.OK("add", "again", socket)
	if a, b := p.Test("sock").Facts["server_id"], p.Test("again").Facts["server_id"]; a != b || !strings.HasPrefix(socket, "redis://%2F") {
		t.Errorf("%s leads to %v and not to %v", socket, b, a)
	}
	p.OK("with", "cache", "--", "sh", "-c", "echo $REDIS_HOST $REDIS_USERNAME $REDISCLI_AUTH").Has("127.0.0.1 warden knot")
	p.Feed("GET station:1\n", "session", "cache").Want(0).Has("North Creek")
}

// TestRedisProvision: a user is made, given rights, unlocked and dropped; a password is rotated.
func TestRedisProvision(t *testing.T) {
	t.Parallel()
	p, r := cache(t)
	p.OK("provision", "make", "cache", "-as", "admin", "-override", "user=visitor", "-access", "read", "-yes").Has("there is no user visitor", "[hidden]", "ready: visitor")
	p.OK("provision", "make", "cache", "-as", "admin", "-override", "user=visitor", "-access", "read", "-yes").Has("nothing to do")
	p.Run("query", "cache", "-override", "user=visitor", "SET a b").Want(1).Has("NOPERM")
	p.OK("query", "cache", "-override", "user=visitor", "-format", "bare", "GET station:1").Has("North Creek")
	p.OK("provision", "grant", "cache", "-as", "admin", "-override", "user=visitor", "-access", "write", "-on", "station:*", "-yes").Has("~station:*")
	p.OK("query", "cache", "-override", "user=visitor", "SET station:9 b")
	p.OK("provision", "unlock", "cache", "-as", "admin", "-override", "user=off", "-yes").Has("switched off", "ready: off")
	p.OK("provision", "revoke", "cache", "-as", "admin", "-override", "user=visitor", "-yes").Has("nocommands")
	p.OK("provision", "drop", "cache", "-as", "admin", "-override", "user=visitor", "-yes").Has("ACL DELUSER visitor")
	p.Run("provision", "expire", "cache", "-as", "admin", "-never").Want(2).Has("no provision expire")
	if list := p.OK("query", "admin", "ACL LIST").Stdout; strings.Contains(list, "visitor") {
		t.Errorf("%s", list)
	}
	secret := filepath.Join(p.Home, "knot")
	if err := os.WriteFile(secret, []byte("knot\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	p.OK("set", "cache", "secret=file:"+secret)
	p.OK("secret", "rotate", "cache", "-yes").Has("[hidden]", "rotated")
	if now, _ := os.ReadFile(secret); strings.TrimSpace(string(now)) == "knot" {
		t.Error("the password is the old one")
	}
	p.OK("test", "cache", "-brief").Has("ready")
	if log, _ := os.ReadFile(filepath.Join(r.Folder, "log")); strings.Contains(string(log), "knot") {
		t.Errorf("the server's log has a password:\n%s", log)
	}
}
