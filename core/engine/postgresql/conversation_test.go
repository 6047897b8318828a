package postgresql

import (
	"fmt"
	"strings"
	"testing"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/tlsrule"
	"gentleharbor/internal/testkit/talk"
	"gentleharbor/standin/postgresql"
)

// birds is a server with accounts of every method.
func birds() postgresql.Config {
	return postgresql.Config{
		Databases: []string{"postgres", "sightings"},
		Tables:    []string{"sighting"},
		Roles: map[string]postgresql.Role{
			"warden":  {Password: talk.Password},
			"oldhand": {Password: talk.Password, Method: "md5"},
			"plain":   {Password: talk.Password, Method: "password"},
			"open":    {Method: "trust"},
			"other":   {Password: "another"},
			"group":   {Password: talk.Password, NoLogin: true},
			"late":    {Password: talk.Password, Expired: true},
			"admin":   {Password: talk.Password, Superuser: true},
		},
	}
}

// with starts a server and talks to it.
func with(t *testing.T, config postgresql.Config, change func(*engine.Target), ends ...finding.Code) *talk.Talk {
	t.Helper()
	server, err := postgresql.Start(config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	return talk.Start(t, Begin, fmt.Sprint("127.0.0.1:", server.Port()), change, ends...)
}

// TestConversation: a session is described in all its parts.
func TestConversation(t *testing.T) {
	t.Parallel()
	c := with(t, birds(), nil)
	f := c.Facts()
	if c.Stage != "session" || c.Result.Outcome == finding.Fail || c.Asked != 1 {
		t.Fatalf("it ended at %s: %+v", c.Stage, c.Result.Finding)
	}
	if f.User != "warden" || f.Database != "sightings" || f.Lineage != "7300000000000000001" || !strings.HasPrefix(f.Version, "15.4") || f.ServerStarted == nil || f.LoginMethod == "" || f.Writable == nil || !*f.Writable {
		t.Errorf("%+v", f)
	}
	tables, err := c.Missing(t.Context(), key.ExpectTables, []string{"sighting", "rings"})
	if err != nil || len(tables) != 1 || tables[0] != "rings" {
		t.Errorf("missing are %v: %v", tables, err)
	}
	if extensions, err := c.Missing(t.Context(), key.ExpectExtensions, []string{"plpgsql"}); err != nil || len(extensions) > 1 {
		t.Errorf("missing are %v: %v", extensions, err)
	}
}

// TestFaults: what a server does wrong has its own finding, at its own stage.
func TestFaults(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		fault postgresql.Fault
		rule  tlsrule.Rule
		stage string
		code  finding.Code
	}{
		{postgresql.Starting, "off", "speak", finding.SpeakStarting},
		{postgresql.Starting, "offered", "login", finding.SpeakStarting},
		{postgresql.Stopping, "offered", "login", finding.SpeakStopping},
		{postgresql.Recovering, "offered", "login", finding.SpeakRecovering},
		{postgresql.Full, "offered", "login", finding.SessionServerFull},
		{postgresql.FullReserved, "offered", "login", finding.SessionServerFull},
		{postgresql.Silent, "offered", "speak", finding.SpeakSilent},
		{postgresql.Garbage, "off", "speak", finding.SpeakGarbage},
		{postgresql.Endless, "offered", "speak", finding.SpeakGarbage},
		{postgresql.HugeLength, "offered", "login", finding.LoginBrokenOff},
		{postgresql.CloseAtOnce, "off", "speak", finding.SpeakClosed},
		{postgresql.CloseAtLogin, "offered", "login", finding.LoginBrokenOff},
		{postgresql.HangAtLogin, "offered", "login", finding.LoginTimeout},
		{postgresql.ExtraBytes, "offered", "speak", finding.TLSExtraBytes},
		{postgresql.HangTLS, "required", "tls", finding.TLSUnfinished},
		{postgresql.EmptyMethods, "offered", "login", finding.LoginUnsupportedMethod},
		{postgresql.LoseSession, "offered", "session", finding.SessionLost},
		{postgresql.HangSession, "offered", "session", finding.SessionTimeout},
		{postgresql.NoRight, "offered", "session", finding.SessionNoRight},
		{postgresql.OutOfTime, "offered", "session", finding.SessionTimeLimit},
		{postgresql.EscapeMessage, "offered", "login", finding.LoginRefused},
	} {
		t.Run(fmt.Sprint(c.fault, " ", c.rule), func(t *testing.T) {
			t.Parallel()
			config := birds()
			config.Fault = c.fault
			got := with(t, config, func(to *engine.Target) {
				to.TLS = talk.Plan(t, tlsrule.Settings{Rule: c.rule})
			}, c.code)
			if got.Stage != c.stage || got.Code() != c.code {
				t.Errorf("it ended at %s with %s: %+v", got.Stage, got.Code(), got.Result.Finding)
			}
			if strings.ContainsAny(strings.Join(got.Result.Finding.Seen, ""), "\x1b\x07\u202e") {
				t.Error("control characters reached the finding")
			}
		})
	}
}

// TestPing: the simulated server answers the comment by which the driver asks whether it is there.
func TestPing(t *testing.T) {
	t.Parallel()
	got := with(t, birds(), nil)
	if err := got.Conversation.(*conversation).pg.Ping(t.Context()); err != nil {
		t.Error(err)
	}
}

// TestLogins: who is let in, by which method, and why not.
func TestLogins(t *testing.T) {
	t.Parallel()
	server, err := postgresql.Start(birds())
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close()
	for user, want := range map[string]finding.Code{
		"warden": "", "oldhand": finding.LoginWeakMethod, "open": finding.LoginNoPasswordAsked, "other": finding.LoginPassword, "plain": finding.LoginCleartextRefused,
		"nobody": finding.LoginPassword, "group": finding.LoginNoLoginRight, "late": finding.LoginPassword,
	} {
		c := talk.Start(t, Begin, fmt.Sprint("127.0.0.1:", server.Port()), func(to *engine.Target) { to.User = user })
		code := c.Code()
		if c.Result.Outcome != finding.Fail {
			code = ""
			if len(c.Warned) > 0 {
				code = c.Warned[0]
			}
		}
		if code != want {
			t.Errorf("%s: %s at %s, want %s", user, code, c.Stage, want)
		}
	}
	admin := talk.Start(t, Begin, fmt.Sprint("127.0.0.1:", server.Port()), func(to *engine.Target) { to.User = "admin" })
	for user, want := range map[string]finding.Code{"nobody": finding.LoginNoSuchRole, "late": finding.LoginExpired, "other": finding.LoginPassword} {
		found := finding.New(finding.LoginPassword, "the login was refused")
		if err := admin.LookUp(t.Context(), engine.Refusal{Profile: "counts", User: user, Database: "sightings", Network: "tcp", Method: "scram-sha-256", Finding: found}); err != nil {
			t.Errorf("%s: %v", user, err)
		}
		if found.Code != want {
			t.Errorf("looked up, %s is %s, want %s", user, found.Code, want)
		}
	}
	missing := talk.Start(t, Begin, fmt.Sprint("127.0.0.1:", server.Port()), func(to *engine.Target) { to.Database = "sighting" })
	if missing.Code() != finding.DatabaseMissing || !strings.Contains(strings.Join(missing.Result.Finding.Seen, "\n"), "\"sightings\"") {
		t.Errorf("a database that is not there: %+v", missing.Result.Finding)
	}
}

// TestTLS: the certificate is judged by the rule.
func TestTLS(t *testing.T) {
	t.Parallel()
	server, _, ca := talk.ServerTLS(t)
	config := birds()
	config.TLS, config.OnlyTLS = server, true
	for _, c := range []struct {
		s     tlsrule.Settings
		user  string
		stage string
		code  finding.Code
	}{
		{tlsrule.Settings{Rule: tlsrule.Verified, CA: ca}, "warden", "session", ""},
		{tlsrule.Settings{Rule: tlsrule.Verified, CA: ca}, "plain", "session", ""},
		{tlsrule.Settings{Rule: tlsrule.Required}, "plain", "login", finding.LoginCleartextRefused},
		{tlsrule.Settings{Rule: tlsrule.Verified}, "warden", "tls", finding.TLSUntrusted},
		{tlsrule.Settings{Rule: tlsrule.Off}, "warden", "login", finding.TLSRequiredByServer},
	} {
		got := with(t, config, func(to *engine.Target) {
			to.TLS, to.User = talk.Plan(t, c.s), c.user
		})
		if got.Stage != c.stage || got.Result.Outcome == finding.Fail && got.Code() != c.code {
			t.Errorf("%s as %s ended at %s with %s", c.s.Rule, c.user, got.Stage, got.Code())
		}
	}
}

// TestOther: a server of another kind is named.
func TestOther(t *testing.T) {
	t.Parallel()
	config := birds()
	config.Fault = postgresql.Garbage
	got := with(t, config, func(to *engine.Target) {
		to.Greetings = greeting.Set{{
			Engine: "tern",
			Recognise: func(p []byte) (greeting.Service, bool) {
				return greeting.Service{Engine: "tern", What: "a Tern server"}, strings.HasPrefix(string(p), "\x00\x01\x02")
			},
		}}
	})
	if got.Code() != finding.SpeakOtherEngine || !strings.Contains(got.Result.Finding.Cause, "a Tern server") {
		t.Errorf("%+v", got.Result.Finding)
	}
}
