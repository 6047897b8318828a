// Package talk holds conversations with scripted servers for the tests of engines: all stages on one
// connection, in order, as a test of a profile goes through them.
package talk

import (
	"context"
	"crypto/tls"
	"net"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
	"gentleharbor/standin/authority"
)

// Talk is how a conversation went.
type Talk struct {
	engine.Conversation
	Stage  string // the last one that was gone through
	Result finding.Result
	Warned []finding.Code // of the stages before
	Asked  int            // how often the password was taken
}

// Password is what TakeSecret gives.
const Password = "dunlin"

// shortLimit bounds a conversation whose end only time shows; longLimit any other, however busy the machine is.
const (
	shortLimit = 1500 * time.Millisecond
	longLimit  = time.Minute
)

// byTime are the ends that only time shows.
var byTime = []finding.Code{finding.SpeakSilent, finding.LoginTimeout, finding.TLSUnfinished}

// Start goes through the stages with a server at an address until one fails. change may be nil; the TLS rule is
// off where it sets no plan. ends is the finding that the test expects: one that only time shows comes soon.
func Start(t testing.TB, begin engine.Begin, address string, change func(*engine.Target), ends ...finding.Code) *Talk {
	t.Helper()
	limit := longLimit
	switch {
	case len(ends) > 0 && slices.Contains(byTime, ends[0]):
		limit = shortLimit
	case slices.Contains(ends, finding.SessionTimeout): // behind a login, which has its time too
		limit = 4 * shortLimit
	}
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	t.Cleanup(cancel)
	talk := &Talk{}
	to := engine.Target{
		Profile:   "counts",
		User:      "warden",
		Database:  "sightings",
		Network:   "tcp",
		Address:   address,
		TLS:       Plan(t, tlsrule.Settings{Rule: tlsrule.Off}),
		Greetings: greeting.Set{},
		Redial: func(ctx context.Context) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, "tcp", address)
		},
		TakeSecret: func(context.Context) (secret.Value, error) {
			talk.Asked++
			return secret.NewValue(Password), nil
		},
	}
	if change != nil {
		change(&to)
	}
	conn, err := new(net.Dialer).DialContext(ctx, to.Network, to.Address)
	if err != nil {
		t.Fatal(err)
	}
	talk.Conversation = begin(conn, to)
	t.Cleanup(talk.Close)
	encrypt := func(ctx context.Context) finding.Result {
		_, result := talk.Encrypt(ctx)
		return result
	}
	for _, stage := range []struct {
		name string
		run  func(context.Context) finding.Result
	}{
		{"speak", talk.Speak},
		{"tls", encrypt},
		{"login", talk.Login},
		{"database", talk.Database},
		{"session", talk.Session},
	} {
		talk.Stage, talk.Result = stage.name, stage.run(ctx)
		if talk.Result.Outcome == finding.Fail {
			break
		}
		if talk.Result.Finding != nil {
			talk.Warned = append(talk.Warned, talk.Result.Finding.Code)
		}
	}
	return talk
}

// Code is the finding's code of the last stage, "" for none.
func (t *Talk) Code() finding.Code {
	if t.Result.Finding == nil {
		return ""
	}
	return t.Result.Finding.Code
}

// Run runs a statement on a connection that is open, and writes down what it gives.
func (t *Talk) Run(ctx context.Context, text string, values ...string) (string, error) {
	s := engine.Statement{Text: text}
	for _, v := range values {
		s.Arguments = append(s.Arguments, &v)
	}
	var told ResultLog
	err := t.Conversation.(engine.Runner).Run(ctx, s, &told)
	return told.String(), err
}

// ServerTLS is what a server at 127.0.0.1 presents, and the authority that issued it: in a file too.
func ServerTLS(t testing.TB) (server *tls.Config, by *authority.Authority, file string) {
	t.Helper()
	by, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	if server, err = by.TLS([]string{"127.0.0.1"}, 90*24*time.Hour); err != nil {
		t.Fatal(err)
	}
	file = filepath.Join(t.TempDir(), "ca.pem")
	if err := os.WriteFile(file, by.PEM, 0o600); err != nil {
		t.Fatal(err)
	}
	return server, by, file
}

// Plan is a TLS plan.
func Plan(t testing.TB, s tlsrule.Settings) *tlsrule.Plan {
	t.Helper()
	s.Profile = "counts"
	plan, found := tlsrule.Load(context.Background(), s)
	if found != nil {
		t.Fatal(found.Cause)
	}
	plan.Name = "127.0.0.1"
	return plan
}
