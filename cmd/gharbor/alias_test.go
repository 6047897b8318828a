//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/dns"
	"gentleharbor/standin/mysql"
	"gentleharbor/standin/oracle"
	"gentleharbor/standin/postgresql"
)

// aliased makes the profile sightings of a simulated server name the alias counts, with
// the lines given.
func aliased(t *testing.T, lines string, args ...any) (*testkit.Program, *postgresql.Server) {
	t.Helper()
	p, server := standin(t, birds())
	p.Profiles("[profile.sightings]\nalias = \"counts\"\nuser = \"warden\"\nsecret = \"env:DUNLIN\"\n")
	p.Setenv("DUNLIN", "dunlin")
	p.Aliases(fmt.Sprintf("[alias.counts]\nengine = \"postgresql\"\ndatabase = \"sightings\"\ntls = \"offered\"\n"+lines, args...))
	return p, server
}

// TestAliasMoves: moving a database is one edit, and every profile follows.
func TestAliasMoves(t *testing.T) {
	t.Parallel()
	p, server := aliased(t, "addresses = [\"127.0.0.1:1\"]\n")
	other, err := postgresql.Start(birds())
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	p.OK("alias", "add", "birds", "engine=postgresql", fmt.Sprintf("addresses=127.0.0.1:%d", server.Port()), "database=sightings", "note=the counts")
	p.Aliases("[alias.counts]\nengine = \"postgresql\"\n")
	p.Run("alias", "list").Want(3).Has("aliases.toml:1", "it needs addresses, srv or alias")
	p.Aliases("# ours\n[alias.birds] # here\naddresses = [\"127.0.0.1:" + fmt.Sprint(server.Port()) + "\"]\nengine " +
		"= \"postgresql\"\ndatabase = \"sightings\"\n\n[alias.counts]\nalias = \"birds\"\n")
	p.OK("test", "-full", "sightings").Has("alias counts (aliases.toml:7), which is birds (aliases.toml:2): direct "+
		"to 127.0.0.1:"+fmt.Sprint(server.Port()), "ready: ")
	p.OK("alias", "set", "birds", fmt.Sprintf("addresses=127.0.0.1:%d", other.Port())).Has("changed: alias birds in")
	p.OK("test", "sightings").Has(fmt.Sprint("ready: warden in sightings at 127.0.0.1:", other.Port()))
	if text := p.ReadAliases(); !strings.HasPrefix(text, "# ours\n[alias.birds] # here\naddresses = [") {
		t.Error(text)
	}
	p.OK("show", "sightings").Has("alias birds, aliases.toml:4", "which is", "aliases.toml:7", "aliases.toml:2", fmt.Sprint(other.Port()))
	p.OK("show", "sightings", "-format", "json").Has(`"kind": "alias"`, `"chain": [`, `"alias": "birds"`)
	p.OK("list").Has("alias counts")
	p.OK("alias", "used", "birds").Has("alias counts", "profile sightings")
	p.Run("alias", "remove", "birds", "-yes").Want(2).Has("alias counts")
	p.OK("alias", "rename", "birds", "flock")
	p.OK("alias", "rename", "counts", "numbers")
	p.OK("test", "-full", "sightings").Has("alias numbers (", "which is flock (")
	if text := p.ReadProfiles(); !strings.Contains(text, `alias = "numbers"`) {
		t.Error(text)
	}
	p.OK("with", "sightings", "--", "sh", "-c", `echo "$PGHOST:$PGPORT/$PGDATABASE"`).Has(fmt.Sprintf("127.0.0.1:%d/sightings", other.Port()))
	p.OK("export", "sightings", "-as", "url").Has(fmt.Sprintf(
		"postgresql://warden@127.0.0.1:%d/sightings", other.Port()))
	p.OK("set", "sightings", "alias=", "host=127.0.0.1", fmt.Sprint("port=", other.Port()), "engine=postgresql", "database=sightings")
	p.OK("alias", "remove", "numbers", "-yes")
	p.OK("alias", "remove", "flock", "-yes")
	p.OK("alias", "list").Has("no aliases yet")
}

// TestAliasFailover: an address that is dead, refused, silent or another engine's gives
// way to the next, and what each said is told.
func TestAliasFailover(t *testing.T) {
	t.Parallel()
	pg := testkit.PostgreSQLServer(t)
	silent := birds()
	silent.Fault = postgresql.Silent
	_, quiet := standin(t, silent)
	other, err := mysql.Start(mysql.Config{})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	refused := fmt.Sprint("127.0.0.1:", testkit.ClosedPort(t))
	serves := fmt.Sprint("127.0.0.1:", pg.Port)
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", testkit.WardenPassword)
	p.Profiles("[profile.x]\nalias = \"counts\"\nuser = \"warden\"\nsecret = \"env:KNOT\"\ntls = \"offered\"\n")
	for name, c := range map[string]struct{ address, code string }{
		"dead":           {"192.0.2.1:5432", "reach."},
		"refused":        {refused, "reach.refused"},
		"silent":         {fmt.Sprint("127.0.0.1:", quiet.Port()), "speak.silent"},
		"another engine": {fmt.Sprint("127.0.0.1:", other.Port()), "speak.other-engine"},
		"unknown":        {"no-such-host.saltmarsh.example:5432", "name."},
	} {
		p.Aliases(fmt.Sprintf("[alias.counts]\nengine = \"postgresql\"\naddresses = [%q, %q]\ndatabase = "+
			"\"sightings\"\nconnect-timeout = \"700ms\"\n", c.address, serves))
		r := p.Test("x", "-timeout", "8s")
		s := r.Ends(t, "reach", "warn", "reach.passed-over")
		if r.Outcome != "warn" || !strings.Contains(s.SeenText(), c.address) || !strings.Contains(s.SeenText(), c.code) || !strings.HasPrefix(fmt.Sprint(r.Facts["route"]), serves) {
			t.Errorf("%s: %s\n%s", name, r.Outcome, s.SeenText())
		}
	}
	// A standby is not what is wanted, and nobody else serves: both are told.
	p.Aliases(fmt.Sprintf("[alias.counts]\nengine = \"postgresql\"\naddresses = [%q, %q]\ndatabase = "+
		"\"sightings\"\n", serves, refused))
	s := p.Test("x", override("target=read-only")...).Ends(t, "reach", "fail", "reach.refused")
	if !strings.Contains(s.SeenText(), "session.target") {
		t.Errorf("%s", s.SeenText())
	}
}

// TestAliasRetries: all addresses are tried again as often as the alias says.
func TestAliasRetries(t *testing.T) {
	t.Parallel()
	port := testkit.FreePort(t)
	p, server := aliased(t, "addresses = [\"127.0.0.1:%d\"]\nretries = 8\n", port)
	began := make(chan error, 1)
	go func() {
		time.Sleep(700 * time.Millisecond)
		listener, err := net.Listen("tcp", fmt.Sprint("127.0.0.1:", port))
		began <- err
		if err != nil {
			return
		}
		defer listener.Close()
		testkit.Forward(listener, fmt.Sprint("127.0.0.1:", server.Port()))
	}()
	r := p.Test("sightings")
	if err := <-began; err != nil {
		t.Fatal(err)
	}
	r.Ends(t, "reach", "warn", "reach.passed-over")
	s := p.Test("sightings", override("alias=gone")...)
	s.Ends(t, "route", "fail", "alias.unknown")
	if s.Stage("secret").Outcome != "skip" || s.Stage("profile").Outcome != "ok" {
		t.Errorf("%+v", s.Stages)
	}
}

// TestAliasPick: random takes each first now and then, and fastest the one that accepts
// soonest.
func TestAliasPick(t *testing.T) {
	t.Parallel()
	p, a := aliased(t, "addresses = [\"127.0.0.1:1\"]\n")
	_, b := standin(t, birds())
	alias := func(pick string, addresses ...string) {
		p.Aliases(fmt.Sprintf("[alias.counts]\nengine = \"postgresql\"\ndatabase = \"sightings\"\naddresses = "+
			"[\"%s\"]\npick = %q\ntls = \"offered\"\n", strings.Join(addresses, `", "`), pick))
	}
	alias("random", fmt.Sprint("127.0.0.1:", a.Port()), fmt.Sprint("127.0.0.1:", b.Port()))
	first := 0
	for range 24 {
		if strings.HasPrefix(fmt.Sprint(p.Test("sightings").Facts["route"]), fmt.Sprint("127.0.0.1:", a.Port())) {
			first++
		}
	}
	if first == 0 || first == 24 { // once in eight million runs
		t.Errorf("the first of two came first %d times of 24", first)
	}
	alias("fastest", "192.0.2.1:5432", fmt.Sprint("127.0.0.1:", b.Port()))
	r := p.Test("sightings")
	if r.Outcome != "ok" || r.MS > 4000 {
		t.Errorf("%s after %v ms: %+v", r.Outcome, r.MS, r.Stages)
	}
}

// TestGivenHosts: a name of [hosts] leads where the file says, on the way through hops
// too, and a certificate must still be for the name.
func TestGivenHosts(t *testing.T) {
	t.Parallel()
	pg := testkit.PostgreSQLServer(t)
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", testkit.WardenPassword)
	p.Profiles(fmt.Sprintf("[profile.x]\nengine = \"postgresql\"\nhost = \"counts.saltmarsh.example\"\nport = "+
		"%d\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"env:KNOT\"\n", pg.Port))
	p.Test("x").Ends(t, "name", "fail", "name.unknown")
	p.Aliases("[hosts]\ncounts.saltmarsh.example = [\"127.0.0.9\", \"127.0.0.1\"]\n")
	r := p.Test("x", override("tls=offered")...)
	if s := r.Stage("name"); r.Outcome != "warn" || r.Stage("reach").Finding.Code != "reach.passed-over" || !strings.Contains(s.Detail,
		"127.0.0.9, 127.0.0.1, by [hosts] at aliases.toml:2") {
		t.Errorf("%s %+v", r.Outcome, s)
	}
	p.OK("show", "x").Has("counts.saltmarsh.example is 127.0.0.9, 127.0.0.1", "aliases.toml:2",
		"the address is not on this machine")
	s := p.Test("x", override("tls=verified", "tls-ca="+pg.Authority)...).Ends(t, "tls", "fail", "tls.wrong-name")
	if !strings.Contains(s.SeenText()+s.Finding.Cause, "counts.saltmarsh.example") {
		t.Errorf("%+v", s.Finding)
	}
	p.OK("with", "x", "--", "sh", "-c", "echo $PGHOST $PGHOSTADDR").Has("counts.saltmarsh.example 127.0.0.9")
	p.Write(filepath.Join(p.Home, "aliases.toml"), "[hosts]\ncounts = 3\n")
	p.Run("test", "x").Want(3).Has("aliases.toml:2", "hosts")
}

// TestTeamAliases: GHARBOR_ALIASES adds files; one that others can change is passed
// over, and one that is not there is an error.
func TestTeamAliases(t *testing.T) {
	t.Parallel()
	p, server := aliased(t, "addresses = [\"127.0.0.1:1\"]\n")
	folder := t.TempDir()
	team, more := filepath.Join(folder, "team.toml"), filepath.Join(folder, "more.toml")
	text := fmt.Sprintf("[alias.%%s]\nengine = \"postgresql\"\naddresses = [\"127.0.0.1:%d\"]\ndatabase = "+
		"\"sightings\"\n", server.Port())
	p.Write(team, fmt.Sprintf(text, "counts"))
	p.Write(more, fmt.Sprintf(text, "numbers"))
	p.Setenv("GHARBOR_ALIASES", team+string(os.PathListSeparator)+more)
	p.Test("sightings").Ends(t, "reach", "fail", "reach.refused") // one's own wins
	p.OK("test", "sightings", "-override", "alias=numbers").Has("numbers (more.toml:1)")
	p.Run("alias", "set", "numbers", "note=x").Want(2).Has("named by GHARBOR_ALIASES")
	p.OK("alias", "add", "numbers", "addresses=127.0.0.1:1").Has("aliases.toml") // one's own, in its place
	p.OK("alias", "remove", "numbers", "-yes").Has("aliases.toml")
	os.Chmod(more, 0o664)
	p.OK("test", "sightings", "-override", "alias=numbers")
	p.Run("audit").Want(1).Has("audit.permissions", "others can change a file of aliases", "chmod 0644 "+more)
	os.Chmod(more, 0o666)
	p.Run("test", "sightings", "-override", "alias=numbers").Want(1).Has(
		"anybody may write to it (its permissions are 0666), so it is ignored", "alias.unknown")
	p.Setenv("GHARBOR_ALIASES", filepath.Join(folder, "gone.toml"))
	p.Run("list").Want(3).Has("gone.toml", "GHARBOR_ALIASES names it")
}

// TestServiceFileAlias: PostgreSQL's own service file gives the address, the user and what
// to open; the rest is said, and its password never used.
func TestServiceFileAlias(t *testing.T) {
	t.Parallel()
	pg := testkit.PostgreSQLServer(t)
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", testkit.WardenPassword)
	path := filepath.Join(filepath.Dir(p.Home), ".pg_service.conf")
	p.Write(path, fmt.Sprintf("[birds]\nhost=127.0.0.1\nport=%d\ndbname=sightings\nuser=warden\nsslmode=prefer\npassword=Reed-Bunting-Canary\noptions=-c "+
		"x=1\n", pg.Port))
	p.Profiles("[profile.x]\nalias = \"service:birds\"\nsecret = \"env:KNOT\"\n")
	r := p.Test("x")
	s := r.Ends(t, "route", "warn", "alias.ignored")
	if r.Outcome != "warn" || r.Facts["user"] != "warden" || !strings.Contains(s.SeenText(), "options") {
		t.Errorf("%s %+v", r.Outcome, s)
	}
	shown := p.OK("show", "x").Has("alias service:birds, .pg_service.conf:1", "warden", "not used")
	testkit.NoSecret(t, "show", shown.Stdout+shown.Stderr, "Reed-Bunting-Canary")
	p.OK("alias", "show", "service:birds").Has(".pg_service.conf:1")
	p.OK("alias", "used", "service:birds").Has("profile x")
	p.Aliases("[alias.flock]\nalias = \"service:birds\"\n")
	p.OK("alias", "used", "service:birds").Has("profile x", "alias flock")
	p.Run("alias", "set", "service:birds", "note=x").Want(2)
	p.Write(path, "[birds]\nport=many\n")
	p.Test("x").Ends(t, "route", "fail", "alias.service-file")
	p.Setenv("PGSERVICEFILE", filepath.Join(t.TempDir(), "none.conf"))
	p.Test("x").Ends(t, "route", "fail", "alias.unknown")
}

// TestProjectAlias: an alias of a project's file leads nowhere before it was vouched
// for, and one of the user's own always wins.
func TestProjectAlias(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, server := aliased(t, "addresses = [\"127.0.0.1:1\"]\n")
	text := fmt.Sprintf("[alias.counts]\nengine = \"postgresql\"\naddresses = [\"127.0.0.1:%d\"]\ndatabase = "+
		"\"sightings\"\n[alias.theirs]\nalias = \"counts\"\n[profile.ours]\nalias = \"theirs\"\nuser = "+
		"\"warden\"\nsecret = \"env:DUNLIN\"\n[hosts]\ndb.saltmarsh.example = \"192.0.2.66\"\n", server.Port())
	root := project(t, p, text)
	p.OK("alias", "list").Has("project:counts", "project, not approved alone", "theirs")
	p.Test("sightings").Ends(t, "reach", "fail", "reach.refused")
	p.Test("sightings", override("alias=project:counts")...).Ends(t, "route", "fail", "alias.not-vouched")
	p.Run("alias", "knock", "project:counts").Want(3).Has("alias.not-vouched")
	p.Run("alias", "resolve", "theirs").Want(3).Has("alias.not-vouched")
	p.Test("ours").Ends(t, "profile", "fail", "profile.not-vouched")
	if server.Connections() != 0 {
		t.Errorf("%d connections before anybody vouched", server.Connections())
	}
	shown := p.Run("vouch", "ours").Want(2).Has("alias theirs alias", "alias counts addresses", fmt.Sprint(server.Port()))
	shown.HasNot("192.0.2.66") // a name that the profile does not dial
	vouchFor(t, p, "ours")
	p.Test("ours").Ends(t, "reach", "fail", "reach.refused") // by the user's own alias counts
	p.Aliases("# none\n")
	p.OK("test", "-full", "ours").Has("alias project:theirs (gharbor.toml:5), which is project:counts "+
		"(gharbor.toml:1)", "ready: ")
	p.Test("sightings", override("alias=counts")...).Ends(t, "route", "fail", "alias.not-vouched")
	vouchFor(t, p, "alias:counts")
	p.OK("test", "sightings").Has("ready: ")
	p.OK("alias", "knock", "project:counts").Has("postgresql")
	p.Write(filepath.Join(root, "gharbor.toml"), strings.Replace(text, "127.0.0.1:", "127.0.0.9:", 1))
	s := p.Test("sightings").Ends(t, "route", "fail", "alias.not-vouched")
	if !strings.Contains(s.SeenText(), "- alias counts addresses") || !strings.Contains(s.SeenText(), "127.0.0.9") {
		t.Errorf("%s", s.SeenText())
	}
	p.Test("ours").Ends(t, "profile", "fail", "profile.not-vouched")
	p.OK("alias", "add", "-project", "new", "addresses=db.saltmarsh.example:1").Has("gharbor.toml")
	p.OK("alias", "remove", "project:new", "-yes")
	p.OK("alias", "rename", "project:counts", "numbers").Has("gharbor set sightings alias=project:numbers")
	p.OK("show", "project:ours").Has("theirs")
}

// testAliasWallet: a secret bound to an alias goes where the alias leads, and nowhere
// that an untrusted file, [hosts] or DNS says.
func testAliasWallet(t *testing.T) {
	p, server := aliased(t, "")
	w := withWallet(t, p)
	p.Profiles("[profile.sightings]\nalias = \"counts\"\nuser = \"warden\"\nsecret = \"wallet\"\n\n[profile.direct]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = " + port(server) + "\ndatabase " +
		"= \"sightings\"\nuser = \"warden\"\nsecret = \"wallet:counts\"\n")
	here := func(lines string) {
		p.Aliases(fmt.Sprintf("[alias.counts]\nengine = \"postgresql\"\ndatabase = \"sightings\"\ntls = "+
			"\"offered\"\n"+lines, server.Port()))
	}
	here("addresses = [\"127.0.0.1:%d\"]\n")
	w.put("counts", "dunlin", "-bind", "alias:counts").Want(0)
	w.quickReader("nightly", filepath.Join(p.Home, "reader.pin"))
	r := p.Test("sightings")
	if s := r.Stage("secret"); r.Outcome != "ok" || !strings.Contains(s.Detail, "for alias:counts") {
		t.Errorf("%s %+v", r.Outcome, s)
	}
	p.OK("alias", "used", "counts").Has("wallet entry counts", "profile sightings")
	p.Test("direct").Ends(t, "secret", "fail", "secret.bound-elsewhere")
	connections := server.Connections()
	elsewhere := func(why string, flags ...string) {
		t.Helper()
		s := p.Test("sightings", flags...).Ends(t, "secret", "fail", "secret.bound-elsewhere")
		if !strings.Contains(s.Finding.Cause, why) {
			t.Errorf("%s, want %q", s.Finding.Cause, why)
		}
	}
	named := []string{"-override", "secret=wallet:counts"}
	elsewhere("has less", append(named, "-override", "tls=off")...)
	here("addresses = [\"counts.saltmarsh.example:%d\"]\n[hosts]\ncounts.saltmarsh.example = \"127.0.0.1\"\n")
	elsewhere("[hosts] at", named...)
	p.Aliases(fmt.Sprintf("[alias.others]\nengine = \"postgresql\"\naddresses = [\"127.0.0.1:%d\"]\ndatabase = "+
		"\"sightings\"\n", server.Port()))
	elsewhere("this is the alias others", append(named, "-override", "alias=others")...)

	// A hostile repository has an alias of the same name, and leads it to itself.
	trap, err := postgresql.Start(birds())
	if err != nil {
		t.Fatal(err)
	}
	defer trap.Close()
	project(t, p, fmt.Sprintf("[alias.counts]\nengine = \"postgresql\"\naddresses = [\"127.0.0.1:%d\"]\ndatabase = "+
		"\"sightings\"\n[profile.evil]\nalias = \"counts\"\nuser = \"warden\"\nsecret = \"wallet:counts\"\n",
		trap.Port()))
	p.Test("sightings").Ends(t, "route", "fail", "alias.not-vouched")
	p.Test("evil").Ends(t, "profile", "fail", "profile.not-vouched")
	vouchFor(t, p, "evil")
	vouchFor(t, p, "alias:counts")
	elsewhere("your own alias counts", named...)
	s := p.Test("evil").Ends(t, "secret", "fail", "secret.bound-elsewhere")
	testkit.NoSecret(t, "evil", s.SeenText()+s.Finding.Cause, "dunlin")
	if trap.Connections() != 0 || server.Connections() != connections {
		t.Errorf("%d and %d connections", trap.Connections(), server.Connections()-connections)
	}
	w.ok("bind", "counts", "alias:project:counts") // now it is meant
	p.OK("test", "-full", "evil").Has("for alias:counts of ")
	w.ok("unbind", "counts", "alias:project:counts")
}

// TestSRVAlias asks a real look-up of a simulated name server: the whole program, in a
// place where that is the system's.
func TestSRVAlias(t *testing.T) {
	t.Parallel()
	server := &dns.Server{Services: map[string][]dns.Record{"_postgresql._tcp.saltmarsh.example": {{Priority: 20, Port: 5433, Target: "b.saltmarsh.example"}, {Priority: 10, Port: 5432, Target: "a.saltmarsh.example"}}},
		Addresses: map[string][]string{"a.saltmarsh.example": {"192.0.2.1"}, "b.saltmarsh.example": {"192.0.2.2"}}}
	p := testkit.NewProgram(t)
	p.NameServer(t, server)
	p.Aliases("[alias.counts]\nengine = \"postgresql\"\nsrv = \"_postgresql._tcp.saltmarsh.example\"\ntls = " +
		"\"required\"\n[alias.none]\nsrv = \"_none._tcp.saltmarsh.example\"\n")
	p.Profiles("[profile.x]\nalias = \"counts\"\nuser = \"warden\"\nsecret = \"none\"\n")
	var out struct {
		Addresses []struct {
			Address   string
			Addresses []string
			Told      string
		}
	}
	r := p.OK("alias", "resolve", "counts", "-format", "json")
	if err := json.Unmarshal([]byte(r.Stdout), &out); err != nil || len(out.Addresses) != 2 || out.Addresses[0].Address != "a.saltmarsh.example:5432" || out.Addresses[0].Addresses[0] != "192.0.2.1" || !strings.Contains(out.Addresses[1].Told, "SRV record") {
		t.Errorf("%v %s", err, r.Stdout)
	}
	p.Run("alias", "resolve", "none").Want(5).Has("no SRV records for _none._tcp.saltmarsh.example")
	report := p.Test("x", "-timeout", "2s")
	if s := report.Stage("route"); !strings.Contains(s.Detail,
		"a.saltmarsh.example:5432, b.saltmarsh.example:5433, by the SRV records of") {
		t.Errorf("%+v", report.Stages)
	}
	p.Run("alias", "check").Want(1).Has("none", "alias.srv-unknown")
	p.Aliases("[alias.gone]\naddresses = [\"gone.saltmarsh.example:1\"]\n[alias.idle]\naddresses = " +
		"[\"a.saltmarsh.example:1\"]\n")
	checked := p.Run("alias", "check", "-format", "json").Want(1)
	for _, code := range []string{"alias.unknown-host", "alias.unused"} {
		checked.Has(code)
	}
}

// TestAliasKnock: what answers at each address, without a login.
func TestAliasKnock(t *testing.T) {
	t.Parallel()
	listener, err := oracle.Start(archive())
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	maria := testkit.MariaDBServer(t)
	pg := testkit.PostgreSQLServer(t)
	p := testkit.NewProgram(t)
	p.Aliases(fmt.Sprintf("[alias.skein]\nengine = \"oracle\"\naddresses = [\"127.0.0.1:%d\"]\nservice = "+
		"\"SKEIN\"\n[alias.skien]\nalias = \"skein\"\nservice = \"SKIEN\"\n"+
		"[alias.rings]\nengine = \"mariadb\"\naddresses = [\"127.0.0.1:%d\", "+
		"\"127.0.0.1:%d\"]\n[alias.any]\naddresses = [\"127.0.0.1:%d\"]\n",
		listener.Port(), maria.Port, pg.Port, pg.Port))
	p.OK("alias", "knock", "skein", "-count", "2").Has("oracle", "known", "3 connections were made")
	p.Run("alias", "knock", "skien").Want(5).Has("unknown ORA-12514", "speak.service-unknown")
	p.Run("alias", "knock", "rings", "-count", "1").Want(5).Has("mariadb", "speak.other-engine", "a PostgreSQL server answers")
	p.OK("alias", "knock", "any", "-format", "json").Has(`"engine": "postgresql"`)
	p.Run("alias", "knock", "any", "-count", "21").Want(2).Has("from 1 to 20")
	p.Run("alias", "knock", "skeim").Want(2).Has(`did you mean "skein"`)
	if listener.Logins() != 0 {
		t.Errorf("%d logins", listener.Logins())
	}
}

// TestAliasCommands: mistakes are one line, and change nothing.
func TestAliasCommands(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	p.OK("alias", "add", "skein", "engine=oracle", "addresses=a.example,b.example:1522", "service=SKEIN")
	p.OK("alias", "add", "old", "alias=skein")
	p.OK("alias", "add", "odd", "alias=nobody").Has(`notice: there is no alias "nobody"`)
	p.OK("alias", "remove", "odd", "-yes")
	p.OK("add", "x", "-alias", "skien", "-user", "u").Has(`notice: there is no alias "skien"`)
	p.OK("set", "x", "alias=skein").HasNot("notice")
	before := p.ReadAliases()
	for want, words := range map[string][]string{
		"exists already":                   {"add", "skein", "addresses=c.example"},
		"it needs addresses, srv or alias": {"add", "yarn", "service=X"},
		"both say where":                   {"add", "yarn", "addresses=c.example", "alias=skein"},
		"expected key=value":               {"add", "yarn", "c.example"},
		`did you mean "addresses"`:         {"set", "skein", "adresses=c.example"},
		"has no password":                  {"set", "skein", "password=avocet"},
		"two kinds of address":             {"set", "skein", "srv=_oracle._tcp.saltmarsh.example"},
		"skein → old → skein":              {"set", "skein", "addresses=", "alias=old"},
		"given twice":                      {"set", "skein", "note=a", "note=b"},
		"not an alias name":                {"rename", "skein", "S K"},
		`did you mean "skein"`:             {"remove", "skien", "-yes"},
		"there is no terminal":             {"remove", "old"},
	} {
		r := p.Run(append([]string{"alias"}, words...)...).Want(2).Has(want).HasNot("avocet")
		if lines := strings.Count(strings.TrimSpace(r.Stderr), "\n"); lines > 1 {
			t.Errorf("%v: %s", words, r.Stderr)
		}
	}
	if p.ReadAliases() != before {
		t.Error("a mistake changed the file")
	}
	info, err := os.Stat(filepath.Join(p.Home, "aliases.toml"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	p.OK("set", "x", "alias=", "host=127.0.0.1")
	p.Run("alias", "resolve", "skein").Want(5).Has("2 of 2 addresses could not be resolved", "b.example:1522")
}

// TestThousandAliases: a large file is listed, followed, checked and changed.
func TestThousandAliases(t *testing.T) {
	t.Parallel()
	p, server := aliased(t, "addresses = [\"127.0.0.1:1\"]\n")
	var text strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&text, "\n[alias.gauge-%d]\nengine = \"postgresql\"\naddresses = [\"127.0.0.1:%d\"]\ndatabase "+
			"= \"sightings\"\n", i, server.Port())
	}
	text.WriteString("[alias.counts]\nalias = \"gauge-999\"\n")
	p.Aliases(text.String())
	if n := strings.Count(p.OK("alias", "list").Stdout, "\n"); n != 1002 {
		t.Errorf("%d lines", n)
	}
	p.OK("test", "-full", "sightings").Has("counts (aliases.toml:5001), which is gauge-999 (aliases.toml:4997)")
	p.OK("alias", "check").Has("1001 aliases: 2 ok, 999 warn, 0 fail")
	p.OK("alias", "set", "gauge-500", "note=on the old sluice")
	if now := strings.Replace(p.ReadAliases(), "note     = \"on the old sluice\"\n", "", 1); now != text.String() {
		t.Error("more than the one key has changed")
	}
}

// TestAliasWriters: writers at once lose nothing.
func TestAliasWriters(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	var failed atomic.Int32
	done := make(chan bool)
	const writers = 12
	for i := range writers {
		go func() {
			if p.Run("alias", "add", fmt.Sprint("alias-", i), "addresses=db.example:1").Code != 0 {
				failed.Add(1)
			}
			done <- true
		}()
	}
	for range writers {
		<-done
	}
	if n := strings.Count(p.ReadAliases(), "[alias.alias-"); n != writers || failed.Load() > 0 {
		t.Errorf("%d aliases of %d, %d failed", n, writers, failed.Load())
	}
}
