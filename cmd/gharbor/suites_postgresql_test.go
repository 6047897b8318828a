//go:build unix

package main

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// TestTheirURIs: each connection URI of libpq's own tests is read as libpq reads it, or refused as libpq does. What
// gharbor refuses on its own is listed, with the reason.
func TestTheirURIs(t *testing.T) {
	t.Parallel()
	suite := testkit.Suite(t, "src/interfaces/libpq/t/001_uri.pl")
	p := testkit.NewProgram(t)
	seen := 0
	for _, e := range suite.Events {
		uri, words, refusal := e.Fields[0], e.Fields[1], e.Fields[2]
		seen++
		p.Profiles("")
		r := p.Feed(uri+"\n", "add", "x", "-url-stdin")
		if strings.Contains(r.Stderr, "secret") && strings.Contains(uri, ":secret@") {
			t.Errorf("%s: the password shows: %s", uri, r.Stderr)
		}
		switch {
		case refusal != "":
			if r.Code != 2 {
				t.Errorf("%s is refused by libpq (%s), and taken: %s", uri, refusal, p.ReadProfiles())
			}
			continue
		case strings.Contains(words, "password="): // a password goes into a wallet, or nowhere
			if r.Code != 2 || !strings.Contains(r.Stderr, "-into wallet") {
				t.Errorf("%s: %+v", uri, r)
			}
			continue
		case strings.Contains(uri, "200z:"): // an IPv6 address that is none
			if r.Code != 2 {
				t.Errorf("%s: %+v", uri, r)
			}
			continue
		case r.Code != 0:
			t.Errorf("%s: %s", uri, r.Stderr)
			continue
		}
		if got, want := asTheyPrint(p), expected(words); got != want {
			t.Errorf("%s\n got %s\nwant %s", uri, got, want)
		}
	}
	if seen < 50 {
		t.Errorf("only %d URIs were tried", seen)
	}
}

// expected is what the suite expects in the order of asTheyPrint, without the kind of address.
func expected(words string) string {
	words, _, _ = strings.Cut(words, "(")
	all := strings.Fields(strings.ReplaceAll(words, "'", ""))
	if strings.HasPrefix(words, "hostaddr=") { // without a name there is no difference
		all[0] = strings.TrimPrefix(all[0], "hostaddr=")
		all[0] = "host=" + all[0]
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}

// asTheyPrint is the profile x in the words of libpq, as far as its file sets them.
func asTheyPrint(p *testkit.Program) string {
	names := map[string]string{"user": "user", "database": "dbname", "host": "host", "port": "port", "socket": "host"}
	var all []string
	sets := map[string]string{}
	for line := range strings.Lines(p.ReadProfiles()) {
		key, value, ok := strings.Cut(line, "=")
		if ok {
			sets[strings.TrimSpace(key)] = strings.Trim(strings.TrimSpace(value), `"`)
		}
	}
	if name := sets["tls-name"]; name != "" {
		all = append(all, "host="+name, "hostaddr="+sets["host"])
		delete(sets, "host")
	}
	for key, name := range names {
		if sets[key] != "" {
			all = append(all, name+"="+sets[key])
		}
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}

// TestTheirPreparedPasswords: the logins of PostgreSQL's own tests on SASLprep end as they do there.
func TestTheirPreparedPasswords(t *testing.T) {
	t.Parallel()
	suite := testkit.Suite(t, "src/test/authentication/t/002_saslprep.pl")
	server := testkit.ThrowAwayWith(t, "local all all trust\n")
	p := atPort(t, server.Port)
	p.OK("set", "x", "host=", "socket="+server.Folder, "database=postgres", "port="+fmt.Sprint(server.Port))
	play(t, suite, server, func(login theirLogin) {
		p.Setenv("KNOT", login.password)
		r := p.Test("x", override("user="+login.words["user"])...)
		careful{}.compare(t, login, r, nil)
	})
}

// TestTheirCertificates: PostgreSQL's own matrix of certificates, with TLS as the profile's service file asks for it.
func TestTheirCertificates(t *testing.T) {
	t.Parallel()
	seenCare := careful{}
	for script, least := range map[string]int{"src/test/ssl/t/001_ssltests.pl": 60, "src/test/ssl/t/002_scram.pl": 5} {
		suite := testkit.Suite(t, script)
		server := testkit.ThrowAwayWith(t, "local all postgres trust\n")
		suite.Install(t, server, "local all postgres trust\n")
		server.SQL(t, "postgres", "SELECT pg_reload_conf()")
		p := testkit.NewProgram(t)
		p.Setenv("HOME", suite.Folder)
		seen := 0
		play(t, suite, server, func(login theirLogin) {
			seen++
			p.Profiles("")
			service := filepath.Join(suite.Folder, "service.conf")
			text := "[x]\n"
			for _, name := range login.order {
				value := login.words[name]
				if strings.HasPrefix(value, "ssl/") {
					value = filepath.Join(suite.Home, value)
				}
				text += name + "=" + value + "\n"
			}
			p.Write(service, text+fmt.Sprintf("port=%d\n", server.Port))
			r := p.Run("import", "service", service)
			if r.Code != 0 {
				seenCare.compare(t, login, nil, r)
				return
			}
			if passphrase := login.words["sslpassword"]; passphrase != "" {
				p.Setenv("PASSPHRASE", passphrase)
				p.OK("set", "x", "tls-key-secret=env:PASSPHRASE")
			}
			p.Setenv("PGPASSWORD", login.password)
			secret := "none"
			if login.password != "" {
				secret = "env:PGPASSWORD"
			}
			seenCare.compare(t, login, p.Test("x", override("secret="+secret)...), r)
		})
		if seen < least {
			t.Errorf("%s: only %d logins were tried", script, seen)
		}
	}
	if len(seenCare) != 6 {
		t.Errorf("the differences are %v", seenCare)
	}
}

// theirLogin is one connection of a script.
type theirLogin struct {
	works          bool
	password, what string
	settings       string            // of the server's TLS
	words          map[string]string // of the connection string, without those that name no file on purpose
	order          []string
}

// play does what a script does to a server, and hands over its logins.
func play(t *testing.T, suite *testkit.Recording, server *testkit.PostgreSQL, try func(theirLogin)) {
	t.Helper()
	settings, rules := "", ""
	for _, e := range suite.Events {
		switch {
		case e.What == "sql":
			server.SQL(t, e.Fields[0], e.Fields[1])
		case e.What == "empty":
			settings = ""
		case e.What == "file" && e.Fields[0] == "sslconfig.conf":
			settings += e.Fields[1]
		case e.What == "file" && e.Fields[0] == "pg_hba.conf":
			rules = "local all postgres trust\n" + e.Fields[1] + "\n"
		case e.What == "ready":
			if rules != "" {
				server.Write("data/pg_hba.conf", rules)
			}
			server.Configure(t, "ssl_crl_dir = ''\n"+settings)
		case e.What == "login":
			login := theirLogin{works: e.Fields[0] == "ok", password: e.Fields[1], what: e.Fields[3], settings: settings, words: map[string]string{}}
			for _, word := range strings.Fields(e.Fields[2]) {
				name, value, _ := strings.Cut(word, "=")
				if !slices.Contains(login.order, name) {
					login.order = append(login.order, name)
				}
				login.words[name] = strings.Trim(value, "'")
			}
			login.order = slices.DeleteFunc(login.order, func(name string) bool {
				return login.words[name] == "invalid" && name != "channel_binding" || login.words[name] == ""
			})
			try(login)
		}
	}
}

// careful are the differences from libpq, each of which docs/test.md names, and how often each was met.
type careful map[string]int

// compare holds a test, or an import that was refused, against the script.
func (c careful) compare(t *testing.T, l theirLogin, r *testkit.Report, imported *testkit.Result) {
	t.Helper()
	var code string
	works := false
	if r != nil {
		works = r.Outcome == "ok" || r.Outcome == "warn"
		for _, s := range r.Stages {
			if s.Finding != nil && (code == "" || s.Outcome == "fail") {
				code = s.Finding.Code
			}
		}
	}
	address := strings.Trim(l.words["host"], "0123456789.") == ""
	difference := ""
	switch {
	case works == l.works:
		return
	case works && code == "tls.partial-chain":
		difference = "an authority that is not self-signed is warned about"
	case works:
	case code == "tls.wrong-name" && l.words["sslmode"] != "verify-full":
		difference = "the name counts in verify-ca, and in require with a root certificate"
	case code == "tls.wrong-name" && address:
		difference = "an address in the common name or as a DNS entry, or with leading zeros"
	case code == "tls.wrong-name" && strings.Contains(l.settings, "server-cn-and-ip-alt-names"):
		difference = "a common name beside alternative names that are addresses"
	case code == "tls.untrusted" && l.words["channel_binding"] == "require":
		difference = "channel_binding=require verifies"
	case strings.Contains(l.settings, "server-rsapss"):
		difference = "a certificate with an RSA-PSS key"
	}
	if difference == "" {
		t.Errorf("%s: it works with libpq is %v, here %v with %s\n%v\n%+v", l.what, l.works, works, code, l.words, imported)
	}
	c[difference]++
}
