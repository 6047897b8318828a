package mysql

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
	stages "gentleharbor/internal/testkit/talk"
	"gentleharbor/standin/mysql"
)

// rings is a server with accounts by name and host.
func rings() mysql.Config {
	return mysql.Config{
		UUID:      "3e11fa47-71ca-11e1-9e33-c80aa9429562",
		Method:    "mysql_native_password",
		Databases: []string{"sightings", "ringing"},
		Tables:    []string{"ring"},
		Accounts: []mysql.Account{
			{User: "warden", Host: "%", Password: stages.Password, Databases: []string{"sightings"}},
			{User: "admin", Host: "%", Password: stages.Password, Admin: true},
			{User: "locked", Host: "%", Password: stages.Password, Locked: true, Databases: []string{"sightings"}},
			{User: "expired", Host: "%", Password: stages.Password, Expired: true, Databases: []string{"sightings"}},
			{User: "far", Host: "10.0.0.9", Password: stages.Password},
			{User: "tls", Host: "%", Password: stages.Password, NeedsTLS: true, Databases: []string{"sightings"}},
			{User: "open", Host: "%", Databases: []string{"sightings"}},
		},
	}
}

func with(t *testing.T, config mysql.Config, word string, change func(*engine.Target), ends ...finding.Code) *stages.Talk {
	t.Helper()
	server, err := mysql.Start(config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	return stages.Start(t, Begin(word), fmt.Sprint("127.0.0.1:", server.Port()), change, ends...)
}

// TestConversation: a session is described in all its parts, on either server, and a wrong word is told.
func TestConversation(t *testing.T) {
	t.Parallel()
	for version, want := range map[string]string{"8.0.36": Word, "10.11.6-MariaDB": MariaDB} {
		for _, word := range []string{Word, MariaDB} {
			config := rings()
			config.Version = version
			c := with(t, config, word, nil)
			f := c.Facts()
			if c.Stage != "session" || c.Result.Outcome == finding.Fail || c.Asked != 1 {
				t.Fatalf("%s as %s ended at %s: %+v", version, word, c.Stage, c.Result.Finding)
			}
			if f.Engine != want || f.Database != "sightings" || f.Lineage == "" || f.ServerStarted == nil || !strings.HasPrefix(f.User, "warden") {
				t.Errorf("%s as %s: %+v", version, word, f)
			}
			if flavour := len(c.Warned) > 0 && c.Warned[0] == finding.SpeakFlavour; flavour != (word != want) {
				t.Errorf("%s as %s warns of %v", version, word, c.Warned)
			}
			tables, err := c.Missing(t.Context(), key.ExpectTables, []string{"ring", "nest"})
			if err != nil || len(tables) != 1 || tables[0] != "nest" {
				t.Errorf("missing are %v: %v", tables, err)
			}
		}
	}
}

// TestFaults: what a server does wrong has its own finding, at its own stage.
func TestFaults(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		fault mysql.Fault
		rule  tlsrule.Rule
		stage string
		code  finding.Code
	}{
		{mysql.Full, "offered", "speak", finding.SessionServerFull},
		{mysql.Blocked, "offered", "speak", finding.SpeakHostBlocked},
		{mysql.NotAllowed, "offered", "speak", finding.LoginHostNotAllowed},
		{mysql.Stopping, "offered", "speak", finding.SpeakStopping},
		{mysql.Silent, "offered", "speak", finding.SpeakSilent},
		{mysql.Garbage, "offered", "speak", finding.SpeakGarbage},
		{mysql.Endless, "off", "speak", finding.SpeakGarbage},
		{mysql.HugeLength, "offered", "speak", finding.SpeakGarbage},
		{mysql.HalfGreeting, "offered", "speak", finding.SpeakClosed},
		{mysql.OldProtocol, "offered", "speak", finding.SpeakTooOld},
		{mysql.CloseAtOnce, "offered", "speak", finding.SpeakClosed},
		{mysql.CloseAtLogin, "offered", "login", finding.LoginBrokenOff},
		{mysql.HugeAtLogin, "offered", "login", finding.LoginBrokenOff},
		{mysql.HangAtLogin, "offered", "login", finding.LoginTimeout},
		{mysql.FileAtLogin, "offered", "login", finding.SessionAsksForFile},
		{mysql.AsksForFile, "offered", "login", finding.SessionAsksForFile},
		{mysql.OddMethod, "offered", "login", finding.LoginUnsupportedMethod},
		{mysql.OldMethod, "offered", "login", finding.LoginUnsupportedMethod},
		{mysql.ClearMethod, "offered", "login", finding.LoginCleartextRefused},
		{mysql.OfferKey, "offered", "login", finding.LoginCleartextRefused},
		{mysql.LoseSession, "offered", "login", finding.SessionLost},
		{mysql.HangSession, "offered", "login", finding.SessionTimeout},
		{mysql.EscapeMessage, "offered", "login", finding.LoginRefused},
	} {
		t.Run(fmt.Sprint(c.fault, " ", c.rule), func(t *testing.T) {
			t.Parallel()
			config := rings()
			config.Fault = c.fault
			if c.fault == mysql.OfferKey {
				config.Method = ""
			}
			got := with(t, config, Word, func(to *engine.Target) { to.TLS = stages.Plan(t, tlsrule.Settings{Rule: c.rule}) }, c.code)
			if got.Stage != c.stage || got.Code() != c.code {
				t.Errorf("it ended at %s with %s: %+v", got.Stage, got.Code(), got.Result.Finding)
			}
		})
	}
}

// TestLogins: who is let in, and why not; an administrator's login finds out what the server keeps to itself.
func TestLogins(t *testing.T) {
	t.Parallel()
	server, err := mysql.Start(rings())
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close()
	address := fmt.Sprint("127.0.0.1:", server.Port())
	for user, want := range map[string]finding.Code{"warden": "", "nobody": finding.LoginPassword, "locked": finding.LoginLocked, "expired": finding.LoginExpired, "tls": finding.LoginPassword} {
		c := stages.Start(t, Begin(Word), address, func(to *engine.Target) { to.User = user })
		code := c.Code()
		if c.Result.Outcome != finding.Fail {
			code = ""
		}
		if code != want {
			t.Errorf("%s: %s at %s, want %s", user, code, c.Stage, want)
		}
	}
	admin := stages.Start(t, Begin(Word), address, func(to *engine.Target) { to.User = "admin" })
	for user, want := range map[string]finding.Code{"nobody": finding.LoginNoSuchRole, "far": finding.LoginHostNotAllowed, "warden": finding.LoginPassword} {
		found := finding.New(finding.LoginPassword, "the login was refused")
		if err := admin.LookUp(t.Context(), engine.Refusal{Profile: "counts", User: user, Database: "sightings", Network: "tcp", Method: "mysql_native_password", SeenAs: user + "@localhost", From: "127.0.0.1", Finding: found}); err != nil {
			t.Errorf("%s: %v", user, err)
		}
		if found.Code != want {
			t.Errorf("looked up, %s is %s, want %s: %+v", user, found.Code, want, found)
		}
	}
	for database, want := range map[string]finding.Code{"ringing": finding.DatabaseNoAccess, "sighting": finding.DatabaseNoAccess} {
		c := stages.Start(t, Begin(Word), address, func(to *engine.Target) { to.Database = database })
		if c.Code() != want {
			t.Errorf("the database %s: %+v", database, c.Result.Finding)
		}
	}
	missing := stages.Start(t, Begin(Word), address, func(to *engine.Target) { to.User, to.Database = "admin", "sighting" })
	if missing.Code() != finding.DatabaseMissing {
		t.Errorf("%+v", missing.Result.Finding)
	}
}

// TestTLS: the certificate is judged by the rule, and what is sent under it follows.
func TestTLS(t *testing.T) {
	t.Parallel()
	secure, _, ca := stages.ServerTLS(t)
	for _, c := range []struct {
		fault mysql.Fault
		user  string
		s     tlsrule.Settings
		stage string
		code  finding.Code
	}{
		{"", "tls", tlsrule.Settings{Rule: tlsrule.Verified, CA: ca}, "session", ""},
		{"", "warden", tlsrule.Settings{Rule: tlsrule.Verified}, "tls", finding.TLSUntrusted},
		{mysql.ClearMethod, "warden", tlsrule.Settings{Rule: tlsrule.Verified, CA: ca}, "session", ""},
		{mysql.ClearMethod, "warden", tlsrule.Settings{Rule: tlsrule.Required}, "login", finding.LoginCleartextRefused},
		{mysql.ExtraBytes, "warden", tlsrule.Settings{Rule: tlsrule.Required}, "speak", finding.TLSExtraBytes},
		{mysql.HangTLS, "warden", tlsrule.Settings{Rule: tlsrule.Required}, "tls", finding.TLSUnfinished},
	} {
		config := rings()
		config.TLS, config.Fault = secure, c.fault
		got := with(t, config, Word, func(to *engine.Target) { to.TLS, to.User = stages.Plan(t, c.s), c.user }, c.code)
		if got.Stage != c.stage || got.Result.Outcome == finding.Fail && got.Code() != c.code {
			t.Errorf("%s as %s, %s ended at %s with %+v", c.s.Rule, c.user, c.fault, got.Stage, got.Result.Finding)
		}
	}
}

// TestOptionFiles: the password is in the group that fits, and is put there.
func TestOptionFiles(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	path := filepath.Join(home, ".my.cnf")
	f := &secret.Finder{Home: home, Locks: t.TempDir(), Lookup: func(string) (string, bool) { return "", false }}
	files := MariaDBSpec.Credentials
	q := secret.Query{Profile: "counts", Source: secret.Source{Kind: "default"}, Host: "db.saltmarsh.example", Port: "3306", User: "warden"}
	if _, found := files.Locate(f, q); found == nil || found.Code != finding.SecretMissing && found.Code != finding.SecretNoMatch {
		t.Errorf("without a file: %+v", found)
	}
	if place, err := files.Put(t.Context(), f, q, secret.NewValue("dun#lin")); err != nil || !strings.Contains(place, path) {
		t.Errorf("%s %v", place, err)
	}
	l, found := files.Locate(f, q)
	if found != nil {
		t.Fatal(found.Cause)
	}
	if v, err := l.Take(t.Context()); err != nil || v.Disclose() != "dun#lin" {
		t.Errorf("%v", err)
	}
	other := q
	other.User = "visitor"
	if _, found := files.Locate(f, other); found == nil || found.Code != finding.SecretNoMatch {
		t.Errorf("another user's: %+v", found)
	}
	if _, err := files.Put(t.Context(), f, other, secret.NewValue("x")); err == nil {
		t.Error("a group of another connection was changed")
	}
	if err := os.WriteFile(path, []byte("[client]\nuser = warden\npassword =\n[client-mariadb]\nuser = warden\npassword = knot\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	l, found = files.Locate(f, q)
	if found == nil || found.Code != finding.SecretAnyHost || !strings.Contains(l.Place, "client-mariadb") {
		t.Errorf("a group without a host: %+v %+v", l, found)
	}
	var kinds []secret.RiskKind
	for _, risk := range files.Risks("", f.Lookup, home) {
		kinds = append(kinds, risk.Kind)
	}
	if want := []secret.RiskKind{secret.RiskOthers, secret.RiskEmpty, secret.RiskOthers, secret.RiskPlain}; !slices.Equal(kinds, want) {
		t.Errorf("the risks are %v", kinds)
	}
	if notice := MariaDBSpec.Client.Overruled(home); !strings.Contains(notice, "sets user") {
		t.Errorf("%q", notice)
	}
	os.Chmod(path, 0o644)
	if _, found := files.Locate(f, q); found == nil || found.Code != finding.SecretPermissions {
		t.Errorf("a file that others can read: %+v", found)
	}
	if sections, err := readOptions(path); err != nil || len(sections) != 2 || sections[1].Engine != MariaDB {
		t.Errorf("%+v %v", sections, err)
	}
}
