//go:build linux

package main

import (
	"fmt"
	"path/filepath"
	"strconv"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/dns"
	"gentleharbor/standin/oracle"
)

// byAlias writes the profile x for the real PostgreSQL server by an alias, and a file
// of aliases, in which PORT is the server's.
func byAlias(alias, aliases string, args ...any) func(*tryWorld) {
	return func(w *tryWorld) {
		w.Profiles(fmt.Sprintf("[profile.x]\nalias = %q\nengine = \"postgresql\"\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"env:KNOT\"\ntls = \"offered\"\n", alias))
		w.Aliases(fmt.Sprintf(aliases+"\n", args...))
		w.Setenv("PG_PORT", strconv.Itoa(w.pg.Port))
	}
}

func aliasCases() []tryCase {
	fix := fills{"HOST:PORT": "127.0.0.1:$PG_PORT", "_SERVICE._tcp.DOMAIN": "_postgresql._tcp.saltmarsh.example"}
	same := fills{"gharbor alias list": "same", "gharbor show": "same", "ls ": "same", "${EDITOR": "same"}
	srv := func(w *tryWorld, service string) {
		byAlias("counts", "[alias.counts]\nsrv = \"_%s._tcp.saltmarsh.example\"", service)(w)
		w.NameServer(w.t, &dns.Server{Addresses: map[string][]string{"a.saltmarsh.example": {"127.0.0.1"}}, Services: map[string][]dns.Record{
			"_gone._tcp.saltmarsh.example": {{Target: "."}}, "_postgresql._tcp.saltmarsh.example": {{Port: uint16(w.pg.Port), Target: "a.saltmarsh.example"}}}})
	}
	return []tryCase{
		{name: "no such alias", code: "alias.unknown", setUp: byAlias("counts", ""), fill: fix, after: same},
		{name: "no such section", code: "alias.unknown", setUp: byAlias("service:birds", ""), after: same},
		{name: "a section of no sense", code: "alias.service-file", setUp: func(w *tryWorld) {
			byAlias("service:birds", "")(w)
			w.Write(filepath.Join(filepath.Dir(w.Home), ".pg_service.conf"), "[birds]\nport=many\n")
		}, after: same},
		{name: "options of a section", code: "alias.ignored", setUp: func(w *tryWorld) {
			byAlias("service:birds", "")(w)
			w.Write(filepath.Join(filepath.Dir(w.Home), ".pg_service.conf"), fmt.Sprintf("[birds]\nhost=127.0.0.1\nport=%d\noptions=-c x=1\n", w.pg.Port))
		}, after: same},
		{name: "a circle", code: "alias.cycle", setUp: byAlias("counts", "[alias.counts]\nalias = \"birds\"\n[alias.birds]\nalias = \"counts\""), fill: fix},
		{name: "no records", code: "alias.srv-unknown", setUp: func(w *tryWorld) { srv(w, "none") }, fill: fix},
		{name: "a service taken away", code: "alias.srv-none", setUp: func(w *tryWorld) { srv(w, "gone") }, fill: fix},
		{name: "an address that nobody knows", code: "name.unknown", setUp: byAlias("counts", "[alias.counts]\naddresses = [\"no-such-host.saltmarsh.example\"]"), after: fills{"gharbor alias show": "same"}},
		{name: "a project's alias", code: "alias.not-vouched", setUp: func(w *tryWorld) {
			byAlias("counts", "")(w)
			project(w.t, w.Program, fmt.Sprintf("[alias.counts]\naddresses = [\"127.0.0.1:%d\"]\n", w.pg.Port))
			w.dir = w.Dir
		}, after: fills{"gharbor vouch": "ready"}},
	}
}

// onArchive writes the profile x for a simulated database with keys changed.
func onArchive(config oracle.Config, pairs ...string) func(*tryWorld) {
	return func(w *tryWorld) {
		w.t.Helper()
		config := config
		config.Instances = []string{"SKEIN1"}
		if config.Services == nil {
			config.Services = map[string]oracle.State{"SKEIN": oracle.Up, "BUSY": oracle.NoHandler, "HELD": oracle.Blocked, "SHY": oracle.Filtered}
		}
		config.Accounts = []oracle.Account{{User: "CURATOR", Password: "knot"}, {User: "LOCKED", Password: "knot", Locked: true}, {User: "EXPIRED", Password: "knot", Expired: true},
			{User: "GRACE", Password: "knot", Grace: true}, {User: "SHUT", Password: "knot", NoSession: true}, {User: "SYS", Password: "knot", DBA: true}}
		server, err := oracle.Start(config)
		if err != nil {
			w.t.Fatal(err)
		}
		w.t.Cleanup(server.Close)
		w.sql = func(all ...string) {
			w.t.Helper()
			for _, statement := range all {
				if err := server.Do(statement); err != nil {
					w.t.Error(err)
				}
			}
		}
		w.Profiles(fmt.Sprintf("[profile.x]\nengine = \"oracle\"\nhost = \"127.0.0.1\"\nport = %d\nservice = \"SKEIN\"\nuser = \"curator\"\nsecret = \"env:KNOT\"\n", server.Port()) +
			fmt.Sprintf("\n[profile.admin]\nlike = \"x\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"sys\"\nsecret = \"env:KNOT\"\nas = \"sysdba\"\n", server.Port()))
		w.Setenv("ARCHIVE", strconv.Itoa(server.Port()))
		w.set(pairs)
	}
}

func oracleCases() []tryCase {
	fix := fills{"NEW-PASSWORD": "knot", "OLD-PASSWORD": "knot", "THE-PASSWORD": "knot", "=NAME": "=SKEIN"}
	same := fills{"gharbor show": "same", "gharbor wait": "same", "gharbor test": "same", "on the server": "same"}
	free := oracle.Config{}
	return []tryCase{
		{name: "a service that is not known", code: "speak.service-unknown", setUp: func(w *tryWorld) {
			onArchive(free)(w)
			w.Aliases("[alias.archive]\naddresses = [\"127.0.0.1:" + w.Getenv("ARCHIVE") + "\"]\nservice = \"SKIEN\"\n")
			w.OK("set", "x", "host=", "port=", "service=", "alias=archive")
		}, fill: fix, after: same},
		{name: "an instance that is not known", code: "speak.service-unknown", setUp: onArchive(free, "service=", "instance=SKEIN2"), fill: fills{"=NAME": "=SKEIN1"}, after: same},
		{name: "no service", code: "profile.incomplete", setUp: onArchive(free, "service="), fill: fix, after: same},
		{name: "a database of oracle's", code: "profile.conflict", setUp: onArchive(free, "database=sightings"), after: same},
		{name: "no handler", code: "speak.no-handler", setUp: onArchive(free, "service=BUSY"), after: fills{"gharbor wait": "same", "as an administrator: SELECT": "same"}},
		{name: "a service for others", code: "login.refused", setUp: onArchive(free, "service=SHY"), after: same},
		{name: "no method in common", code: "login.unsupported-method", setUp: onArchive(oracle.Config{Fault: oracle.NoMethod}), fill: fix, after: fills{"as an administrator": "same"}},
		{name: "a blocked service", code: "speak.service-blocked", setUp: onArchive(free, "service=HELD"), after: same},
		{name: "an instance that is down", code: "speak.instance-down", setUp: onArchive(oracle.Config{Services: map[string]oracle.State{"SKEIN": oracle.Down}}), after: same},
		{name: "an instance that starts", code: "speak.starting", setUp: onArchive(oracle.Config{Services: map[string]oracle.State{"SKEIN": oracle.Starting}}), after: same},
		{name: "again and again", code: "speak.garbage", setUp: onArchive(oracle.Config{Fault: oracle.ResendAlways}), after: same},
		{name: "an odd yes", code: "speak.garbage", setUp: onArchive(oracle.Config{Fault: oracle.BadAccept}), after: same},
		{name: "a redirect", code: "speak.redirected", setUp: onArchive(oracle.Config{Redirect: "archive-z.saltmarsh.example:1521"}), after: same},
		{name: "no TLS there", code: "tls.not-offered", setUp: onArchive(free, "tls=verified"), after: fills{"gharbor set x port": "reach.refused"}},
		{name: "a weak verifier", code: "login.cleartext-refused", setUp: onArchive(oracle.Config{Fault: oracle.WeakVerifier}), after: fills{"gharbor set": "tls.not-offered"}},
		{name: "oracle's password", code: "login.password", setUp: onArchive(free, "secret=env:WRONG"), after: same},
		{name: "oracle's empty password", code: "login.empty-password", setUp: onArchive(free, "secret=env:EMPTY"), typed: "knot"},
		{name: "oracle's none", code: "login.password-wanted", setUp: onArchive(free, "secret=none"), typed: "knot"},
		{name: "oracle's locked account", code: "login.locked", setUp: onArchive(free, "user=locked")},
		{name: "oracle's locked account, looked up", code: "login.expired", setUp: onArchive(free, "user=expired", "secret=env:WRONG"), flags: []string{"-as", "admin"}, fill: fix, after: fills{"as an administrator": "login.password"}},
		{name: "oracle's expired password", code: "login.expired", setUp: onArchive(free, "user=expired"), fill: fix},
		{name: "oracle's grace", code: "login.expires-soon", setUp: onArchive(free, "user=grace"), fill: fix},
		{name: "oracle's right to log in", code: "login.no-login-right", setUp: onArchive(free, "user=shut")},
		{name: "oracle's administrators", code: "login.right-refused", setUp: onArchive(free, "as=sysdba")},
		{name: "oracle's SYS", code: "login.right-needed", setUp: onArchive(free, "user=sys")},
		{name: "oracle's listener down", code: "reach.refused", setUp: onPort("oracle", func(w *tryWorld) int { return testkit.ClosedPort(w.t) }, "service=SKEIN"), after: fills{"gharbor show": "same", "gharbor nearby": "same", "sudo": "same", "on the server": "same"}},
	}
}
