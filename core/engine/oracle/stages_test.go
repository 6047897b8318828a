package oracle

import (
	"bytes"
	"fmt"
	"net"
	"strings"
	"testing"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	stages "gentleharbor/internal/testkit/talk"
	"gentleharbor/standin/oracle"
)

// archive is a listener with services in every state.
func archive() oracle.Config {
	return oracle.Config{
		Services: map[string]oracle.State{"SKEIN": oracle.Up, "HELD": oracle.Blocked, "DOWN": oracle.Down, "LATE": oracle.Starting, "FULL": oracle.NoHandler, "SHUT": oracle.Filtered},
		Accounts: []oracle.Account{
			{User: "WARDEN", Password: stages.Password},
			{User: "OTHER", Password: "another"},
			{User: "LOCKED", Password: stages.Password, Locked: true},
			{User: "EXPIRED", Password: stages.Password, Expired: true},
			{User: "CURATOR", Password: stages.Password, DBA: true},
		},
		Tables: []string{"WARDEN.SPECIES"},
	}
}

func with(t *testing.T, config oracle.Config, change func(*engine.Target), ends ...finding.Code) *stages.Talk {
	t.Helper()
	server, err := oracle.Start(config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	return stages.Start(t, Begin, fmt.Sprint("127.0.0.1:", server.Port()), func(to *engine.Target) {
		to.Service, to.Database = "SKEIN", ""
		if change != nil {
			change(to)
		}
	}, ends...)
}

// TestFaults: what a listener or a server does wrong has its own finding, at its own stage.
func TestFaults(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		fault oracle.Fault
		stage string
		code  finding.Code
	}{
		{oracle.Silent, "speak", finding.SpeakSilent},
		{oracle.CloseAtOnce, "speak", finding.SpeakClosed},
		{oracle.Garbage, "speak", finding.SpeakGarbage},
		{oracle.Endless, "speak", finding.SpeakGarbage},
		{oracle.Trickle, "speak", finding.SpeakSilent},
		{oracle.HalfAnswer, "speak", finding.SpeakGarbage},
		{oracle.BadAccept, "speak", finding.SpeakGarbage},
		{oracle.ResendAlways, "speak", finding.SpeakGarbage},
		{oracle.CloseAtLogin, "login", finding.LoginBrokenOff},
		{oracle.HangAtLogin, "login", finding.LoginTimeout},
		{oracle.NoiseAtLogin, "login", finding.LoginBrokenOff},
		{oracle.HugeAtLogin, "login", finding.LoginBrokenOff},
		{oracle.WeakVerifier, "login", finding.LoginCleartextRefused},
		{oracle.LoseSession, "session", finding.SessionLost},
		{oracle.HangSession, "session", finding.SessionTimeout},
	} {
		t.Run(string(c.fault), func(t *testing.T) {
			t.Parallel()
			config := archive()
			config.Fault = c.fault
			if got := with(t, config, nil, c.code); got.Stage != c.stage || got.Code() != c.code {
				t.Errorf("it ended at %s with %s: %+v", got.Stage, got.Code(), got.Result.Finding)
			} else if strings.ContainsAny(strings.Join(got.Result.Finding.Seen, ""), "\x1b\x07\u202e") {
				t.Error("control characters reached the finding")
			}
		})
	}
}

// TestServices: what the listener says of a service, and the server of an account.
func TestServices(t *testing.T) {
	t.Parallel()
	for service, want := range map[string]finding.Code{
		"SKEIN": "", "SKIEN": finding.SpeakServiceUnknown, "HELD": finding.SpeakServiceBlocked, "FULL": finding.SpeakNoHandler,
	} {
		got := with(t, archive(), func(to *engine.Target) { to.Service = service })
		code := got.Code()
		if got.Result.Outcome != finding.Fail {
			code = ""
		}
		if code != want {
			t.Errorf("%s: %s at %s, want %s", service, code, got.Stage, want)
		}
	}
	for user, want := range map[string]finding.Code{"warden": "", "other": finding.LoginPassword, "nobody": finding.LoginPassword, "locked": finding.LoginLocked, "expired": finding.LoginExpired} {
		got := with(t, archive(), func(to *engine.Target) { to.User = user })
		code := got.Code()
		if got.Result.Outcome != finding.Fail {
			code = ""
		}
		if code != want {
			t.Errorf("%s: %s at %s, want %s", user, code, got.Stage, want)
		}
	}
}

// TestAsk: a listener is asked for a service without a login.
func TestAsk(t *testing.T) {
	t.Parallel()
	server, err := oracle.Start(archive())
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close()
	for service, want := range map[string]engine.ServiceState{"SKEIN": engine.ServiceKnown, "SKIEN": engine.ServiceUnknown, "HELD": engine.ServiceBlocked} {
		conn, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", server.Port()))
		if err != nil {
			t.Fatal(err)
		}
		answer, err := Spec.Listener.Ask(conn, engine.ServiceQuestion{Host: "127.0.0.1", Port: server.Port(), Service: service})
		conn.Close()
		if err != nil || answer.State != want || want != engine.ServiceKnown && answer.Said == "" {
			t.Errorf("%s: %+v %v", service, answer, err)
		}
	}
	if _, err := Spec.Listener.Ask(&bytes.Buffer{}, engine.ServiceQuestion{Service: "x"}); err == nil {
		t.Error("nothing is an answer")
	}
	u := engine.URLParts{Query: make(map[string]string)}
	Spec.URL.Write(&engine.Connection{Spec: Spec, Service: "SKEIN", Servers: []engine.Endpoint{{Host: "h", Port: 1521}}}, &u)
	if u.Host != "h:1521" || u.Path != "/SKEIN" {
		t.Errorf("%+v", u)
	}
}
