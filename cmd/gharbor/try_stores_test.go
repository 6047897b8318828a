//go:build linux

package main

import (
	"fmt"
	"strings"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/mongodb"
	"gentleharbor/standin/redis"
)

// leftToPeople are steps to do that are settings of a server, or decisions, with where a test comes upon them.
var leftToPeople = map[string]string{
	"have %s signed again":                         "needs the authority's key; TestHopCertificates has one that expired",
	"a server in a container of another":           "of an engine on another machine; what jump hosts do, hops show",
	"on the server: give its default user":         "TestRedisStates; a real server in protected mode",
	"on the server: give the default user":         "TestRedisFindings has a server with a password",
	"on the server: look at CLIENT LIST":           "TestRedisStates comes upon it",
	"on the server: raise maxmemory":               "TestRedisStates comes upon it",
	"on the server: is there room":                 "needs a full disk; core/engine/redis has it",
	"on the server: set tls-port":                  "TestRedisTLS has a server with one",
	"on the server: set net.tls.mode":              "needs another configuration of the server",
	"on the server: make an administrator":         "needs another configuration of the server",
	"on the replica: ":                             "TestRedisStates comes upon it",
	"to end a script":                              "TestRedisStates runs one",
	"compare the address with":                     "TestRedisModes comes upon it",
	"name the server itself":                       "a sentinel that does not tell; core/engine/redis has it",
	"can more than half":                           "needs a set; core/engine/mongodb has it",
	"use an account with a password":               "needs a server with Kerberos",
	"as an administrator: make":                    "needs a real server with accounts",
	"as an administrator: set":                     "needs a real server with accounts",
	`{"grantRolesToUser"`:                          "needs a real server with accounts",
	"gharbor show %s   # is its s":                 "needs name servers that do not answer, or a sentinel; TestRedisModes",
	"name what it watches":                         "TestRedisModes comes upon it",
	"gharbor set %s secret=none   # if the server": "TestRedisModes comes upon it",
	"where nobody else is on":                      "needs a port of another user's; core/engine/redis has it",
	"gharbor browse %s activity   # who is":        "TestRedisStates comes upon it, and an administrator gets no place either",
	"gharbor test %s -override tls=verified":       "TestRedisTLS has a server with such a port",
	"gharbor test %s   # again; if it repeats, is": "needs a server that breaks the exchange; core/engine/mongodb has it",
	"gharbor test %s   # again":                    "needs a server that is slow",
	"gharbor wait %s   # while the members":        "needs a set; core/engine/mongodb has it",
	"gharbor wait %s   # if it only":               "needs a server that stops; core/engine/mongodb has it",
}

// onRedis writes the profile x for a real Redis server with keys changed, and one for its administrator.
func onRedis(settings []string, pairs ...string) func(*tryWorld) {
	return func(w *tryWorld) {
		w.t.Helper()
		r := testkit.RedisServer(w.t, settings...)
		r.Do(w.t, []string{"ACL", "SETUSER", "warden", "on", ">knot", "~*", "&*", "+@all"}, []string{"ACL", "SETUSER", "admin", "on", ">knot", "~*", "&*", "+@all"},
			[]string{"ACL", "SETUSER", "off", "off", ">knot", "~*", "+@all"}, []string{"ACL", "SETUSER", "unset", "on", "~*", "+@all"},
			[]string{"ACL", "SETUSER", "few", "on", ">knot", "~x:*", "+get"})
		base := "[profile.%s]\nengine = \"redis\"\nhost = \"127.0.0.1\"\nport = %d\nuser = %q\nsecret = \"env:KNOT\"\n\n"
		w.Profiles(fmt.Sprintf(base, "x", r.Port, "warden") + fmt.Sprintf(base, "admin", r.Port, "admin"))
		w.set(pairs)
	}
}

// onStore writes the profile x for a simulated server with keys changed.
func onStore(config any, pairs ...string) func(*tryWorld) {
	return func(w *tryWorld) {
		w.t.Helper()
		engine, port := "redis", 0
		switch c := config.(type) {
		case redis.Config:
			server, err := redis.Start(c)
			if err != nil {
				w.t.Fatal(err)
			}
			w.t.Cleanup(server.Close)
			port = server.Port()
		case mongodb.Config:
			c.Accounts = []mongodb.Account{{User: "warden", Password: "knot"}, {User: "scribe", Password: "knot", Source: "fieldnotes"}, {User: "admin", Password: "knot", Role: "root"}}
			server, err := mongodb.Start(c)
			if err != nil {
				w.t.Fatal(err)
			}
			w.t.Cleanup(server.Close)
			engine, port = "mongodb", server.Port()
		}
		text := fmt.Sprintf("[profile.x]\nengine = %q\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\nsecret = \"env:KNOT\"\n", engine, port)
		w.Profiles(text + strings.NewReplacer(".x]", ".admin]", "warden", "admin").Replace("\n"+text))
		w.set(pairs)
	}
}

func storeCases() []tryCase {
	same := fills{"gharbor show": "same", "gharbor wait": "same", "gharbor browse": "same", "gharbor nearby": "same", "on the server": "same"}
	users := redis.Config{Users: map[string]string{"warden": "knot", "admin": "knot"}}
	faulty := func(f redis.Fault) redis.Config {
		c := users
		c.Fault, c.Saves = f, true
		return c
	}
	return []tryCase{
		{name: "redis' password", code: "login.password", setUp: onRedis(nil, "secret=env:WRONG"), after: same, fill: fills{"ADMIN": "admin"}, typed: "knot"},
		{name: "redis' empty password", code: "login.empty-password", setUp: onRedis(nil, "secret=env:EMPTY"), typed: "knot"},
		{name: "redis' none", code: "login.password-wanted", setUp: onRedis(nil, "secret=none"), fill: fills{"ADMIN": "admin"}, typed: "knot"},
		{name: "redis' user switched off", code: "login.locked", setUp: onRedis(nil, "user=off"), flags: []string{"-as", "admin"}},
		{name: "redis' user without a password", code: "login.no-password-set", setUp: onRedis(nil, "user=unset"), flags: []string{"-as", "admin"}},
		{name: "redis' user who is not there", code: "login.no-such-role", setUp: onRedis(nil, "user=visitor"), flags: []string{"-as", "admin"}},
		{name: "redis' few rights", code: "session.no-right", setUp: onRedis(nil, "user=few"), after: fills{"as an administrator: ": "ready"}},
		{name: "redis' few rights, another database", code: "database.no-access", setUp: onRedis(nil, "user=few", "database=2"), after: fills{"as an administrator: ": "ready"}},
		{name: "redis' high number", code: "database.missing", setUp: onRedis(nil, "database=99")},
		{name: "redis' database with a name", code: "database.missing", setUp: onRedis(nil, "database=birds")},
		{name: "redis without TLS", code: "tls.not-offered", setUp: onRedis(nil, "tls=verified")},
		{name: "redis before users", code: "login.no-such-role", setUp: onStore(redis.Config{Fault: redis.Old, Password: "knot"}), after: fills{"gharbor set x user=": "ready"}},
		{name: "redis' protected mode", code: "speak.protected-mode", setUp: onStore(faulty(redis.Protected)), after: same},
		{name: "redis that starts", code: "speak.starting", setUp: onStore(faulty(redis.Loading)), after: same},
		{name: "redis that is full", code: "session.server-full", setUp: onStore(faulty(redis.Full)), after: same},
		{name: "redis that is busy", code: "speak.busy", setUp: onStore(faulty(redis.Busy)), after: same},
		{name: "a sentinel", code: "speak.sentinel", setUp: onStore(faulty(redis.Sentinel)), after: same},
		{name: "redis' link", code: "session.link-down", setUp: onStore(faulty(redis.LinkDown)), after: same},
		{name: "redis that can't save", code: "session.writes-stopped", setUp: onStore(redis.Config{Fault: redis.Unsaved, Saves: true}, "user="), after: same},
		{name: "redis' memory", code: "session.memory-full", setUp: onStore(faulty(redis.MemoryFull)), after: same},
		{name: "redis that asks for nothing", code: "login.no-password-asked", setUp: onStore(redis.Config{}, "user="), after: same},
		{name: "documents, password", code: "login.password", setUp: onStore(mongodb.Config{}, "secret=env:WRONG", "database=fieldnotes"), after: same, fill: fills{"ADMIN": "admin"}, typed: "knot"},
		{name: "documents, elsewhere", code: "login.no-such-role", setUp: onStore(mongodb.Config{}, "user=scribe"), flags: []string{"-as", "admin"}, after: fills{"gharbor set": "ready"}},
		{name: "documents, nobody", code: "login.password-wanted", setUp: onStore(mongodb.Config{}, "user="), fill: fills{"NAME": "warden"}, after: fills{"gharbor set": "ready"}},
		{name: "documents, no login", code: "login.no-password-asked", setUp: onStore(mongodb.Config{Open: true}), after: same},
		{name: "documents, not yet", code: "database.not-yet", setUp: onStore(mongodb.Config{}, "database=notes"), after: same},
		{name: "documents, odd name", code: "database.missing", setUp: onStore(mongodb.Config{}, "database=field notes"), fill: fills{"NAME": "admin"}, after: fills{"gharbor set": "ready"}},
		{name: "documents that stop", code: "speak.stopping", setUp: onStore(mongodb.Config{Fault: mongodb.Stopping}), after: same},
		{name: "documents of before", code: "speak.too-old", setUp: onStore(mongodb.Config{Fault: mongodb.OldWire}), after: same},
		{name: "documents' rounds", code: "login.refused", setUp: onStore(mongodb.Config{Fault: mongodb.FewRounds}), after: same},
		{name: "documents' method", code: "login.unsupported-method", setUp: onStore(mongodb.Config{Fault: mongodb.NoMethod}), after: same},
		{name: "documents' set", code: "session.no-primary", setUp: onStore(mongodb.Config{Fault: mongodb.NoPrimary, Set: "shore"}), after: same},
	}
}
