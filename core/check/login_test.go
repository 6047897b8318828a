package check

import (
	"context"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// TestLogIn: a program gets a session with what it wants, at the server that is wanted, or the reason why not.
func TestLogIn(t *testing.T) {
	const (
		known = "secret = \"env:X\"\ndatabase = \"tides\"\n"
		two   = "hosts = [\"10.0.0.1\", \"10.0.0.2\"]\n"
	)
	wrong := map[string]finding.Result{"session": failing(finding.SessionTarget)}
	for name, c := range map[string]struct {
		text   string
		ends   map[string]map[string]finding.Result
		local  ProgramLogin
		at     string // the session's server, "" for none
		in     string // its database
		code   finding.Code
		logins int
	}{
		"the profile's database": {known + two, map[string]map[string]finding.Result{"10.0.0.1:5432": nil},
			ProgramLogin{Request: &engine.SessionRequest{}}, "10.0.0.1:5432", "tides", "", 1},
		"another, read-only": {known + two, map[string]map[string]finding.Result{"10.0.0.2:5432": nil},
			ProgramLogin{Request: &engine.SessionRequest{Database: "sea", Parameters: map[string]string{"a": "b"}}, ReadOnly: true}, "10.0.0.2:5432", "sea", "", 1},
		"the wanted one": {known + two + "target = \"writable\"\n", map[string]map[string]finding.Result{"10.0.0.1:5432": wrong, "10.0.0.2:5432": nil},
			ProgramLogin{Request: &engine.SessionRequest{}, ReadOnly: true}, "10.0.0.2:5432", "tides", "", 3},
		"no wanted one": {known + "host = \"10.0.0.1\"\ntarget = \"writable\"\n", map[string]map[string]finding.Result{"10.0.0.1:5432": wrong},
			ProgramLogin{Request: &engine.SessionRequest{}}, "", "", finding.SessionTarget, 1},
		"refused": {known + "host = \"10.0.0.1\"\n", map[string]map[string]finding.Result{"10.0.0.1:5432": {"database": failing(finding.DatabaseMissing)}},
			ProgramLogin{Request: &engine.SessionRequest{}}, "", "", finding.DatabaseMissing, 1},
	} {
		fakes := make(map[string]*fake)
		for at, ends := range c.ends {
			fakes[at] = &fake{ends: ends}
		}
		runner, p, took := against(t, c.text, fakes, nil)
		conv, found := runner.LogIn(t.Context(), p, c.local)
		if (found == nil) != (c.code == "") || found != nil && found.Code != c.code || *took != c.logins {
			t.Errorf("%s: %+v after %d logins", name, found, *took)
		}
		if (conv == nil) != (c.at == "") || conv == nil {
			continue
		}
		to := conv.(*fake).target
		if to.Address != c.at || to.Database != c.in || to.ReadOnly != c.local.ReadOnly || len(to.Parameters) != len(c.local.Request.Parameters) {
			t.Errorf("%s: at %s in %s, read-only %v, with %v", name, to.Address, to.Database, to.ReadOnly, to.Parameters)
		}
	}
}

// TestLogInGreets: a program is greeted once the server has spoken, on its own time, and may be refused then.
func TestLogInGreets(t *testing.T) {
	for _, refused := range []*finding.Finding{nil, finding.New(finding.LoginOtherUser, "nobody else")} {
		runner, p, took := against(t, "secret = \"env:X\"\nhost = \"10.0.0.1\"\n", map[string]*fake{"10.0.0.1:5432": {}}, nil)
		runner.Timeout = 300 * time.Millisecond
		greeted := 0
		conv, found := runner.LogIn(t.Context(), p, ProgramLogin{Greet: func(engine.Conversation) *finding.Finding {
			greeted++
			time.Sleep(400 * time.Millisecond)
			return refused
		}})
		if greeted != 1 || found != refused || (conv == nil) != (refused != nil) || *took != 1 && refused == nil {
			t.Errorf("greeted %d times: %v %+v, %d logins", greeted, conv, found, *took)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	runner, p, _ := against(t, "secret = \"env:X\"\nhost = \"10.0.0.1\"\n", map[string]*fake{"10.0.0.1:5432": {}}, nil)
	conv, found := runner.LogIn(ctx, p, ProgramLogin{Greet: func(engine.Conversation) *finding.Finding { cancel(); return nil }})
	if conv != nil || found == nil {
		t.Errorf("an ended login: %v %+v", conv, found)
	}
}
