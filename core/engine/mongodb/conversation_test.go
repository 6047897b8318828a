package mongodb

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
	stages "gentleharbor/internal/testkit/talk"
	"gentleharbor/standin/mongodb"
)

// with talks to a simulated server about the database fieldnotes, as warden where change says nobody else.
func with(t *testing.T, config mongodb.Config, change func(*engine.Target), ends ...finding.Code) (*stages.Talk, *mongodb.Server) {
	t.Helper()
	server, err := mongodb.Start(config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	server.Add("fieldnotes", "note", document(t, `{"_id":1,"place":"North Creek","head_count":12}`),
		document(t, `{"_id":2,"place":"Shingle Spit","tags":["a"],"by":{"name":"Observer One"}}`))
	return stages.Start(t, Begin, fmt.Sprint("127.0.0.1:", server.Port()), func(to *engine.Target) {
		to.Database = "fieldnotes"
		if change != nil {
			change(to)
		}
	}, ends...), server
}

// notes is a server with an account for each method.
func notes() mongodb.Config {
	return mongodb.Config{Accounts: []mongodb.Account{
		{User: "warden", Password: stages.Password},
		{User: "old", Password: stages.Password, Method: methodSHA1},
		{User: "plain", Password: stages.Password, Method: methodPlain, Source: external},
		{User: "CN=scribe", Method: methodX509, Source: external},
		{User: "scribe", Password: stages.Password, Source: "fieldnotes"},
		{User: "admin", Password: stages.Password, Role: "root"},
		{User: "möwe, =1", Password: "Heron²7"},
	}}
}

// TestConversation: a session is described in all its parts, by each method of a login.
func TestConversation(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ user, source, password, method string }{
		{"warden", "", stages.Password, methodSHA256},
		{"old", "", stages.Password, methodSHA1},
		{"scribe", "fieldnotes", stages.Password, methodSHA256},
		{"möwe, =1", "", "Heron²7", methodSHA256},
	} {
		talk, _ := with(t, notes(), func(to *engine.Target) {
			to.User, to.AuthDatabase, to.TakeSecret = c.user, c.source, gives(c.password)
		})
		f := talk.Facts()
		if talk.Stage != "session" || talk.Result.Outcome == finding.Fail {
			t.Fatalf("%s: it ended at %s: %+v", c.user, talk.Stage, talk.Result.Finding)
		}
		switch {
		case f.Version != "7.0.14", f.Product != "MongoDB", f.User != c.user, f.Database != "fieldnotes", f.LoginMethod != c.method:
			t.Errorf("%+v", f)
		case f.Writable == nil || !*f.Writable, f.Persistent == nil || !*f.Persistent, f.Superuser == nil || *f.Superuser:
			t.Errorf("%+v", f)
		case f.ServerStarted == nil, f.RoundTrip == nil, f.ClockDifference == nil, f.ServerID == "", f.ServerHost == "":
			t.Errorf("%+v", f)
		}
		if weak := len(talk.Warned) > 0 && talk.Warned[0] == finding.LoginWeakMethod; weak != (c.method == methodSHA1) {
			t.Errorf("%s warns of %v", c.user, talk.Warned)
		}
	}
}

// TestSet: a member of a set says its role. Members that it tells of are named, and not connected to.
func TestSet(t *testing.T) {
	t.Parallel()
	_, other := with(t, mongodb.Config{Open: true}, nil)
	before := other.Connections()
	member := fmt.Sprint("127.0.0.1:", other.Port())
	for role, writable := range map[string]bool{"primary": true, "secondary": false} {
		config := notes()
		config.Set, config.Role, config.Members = "shore", role, []string{member, "10.20.0.9:27017"}
		c, _ := with(t, config, nil)
		f := c.Facts()
		if f.ReplicaSet != "shore" || f.Writable == nil || *f.Writable != writable || f.Role != role+" of shore" {
			t.Errorf("%s: %+v, %v", role, f, c.Result.Finding)
		}
		if !writable && (f.ReplicaOf != member || f.ReadOnlyBy == "") {
			t.Errorf("%+v", f)
		}
	}
	if other.Connections() != before {
		t.Error("a member that nobody wrote was connected to")
	}
	own, _ := with(t, mongodb.Config{Open: true, Name: "ferretdb", Role: "router"}, nobody)
	if f := own.Facts(); f.Product != "ferretdb" || f.Version != "2.1.0" || f.Role != "router" || f.LoginMethod != methodNone {
		t.Errorf("%+v", f)
	}
}

func nobody(to *engine.Target) { to.User, to.NoSecret = "", true }

func gives(password string) func(context.Context) (secret.Value, error) {
	return func(context.Context) (secret.Value, error) { return secret.NewValue(password), nil }
}

// TestBefore: a server of version 3.6 is greeted by the older name, and logged in to by the older method.
func TestBefore(t *testing.T) {
	t.Parallel()
	config := notes()
	config.Fault, config.Version = mongodb.OldHello, "3.6.8"
	c, _ := with(t, config, func(to *engine.Target) { to.User = "old" })
	if f := c.Facts(); c.Stage != "session" || f.LoginMethod != methodSHA1 || f.Writable == nil || !*f.Writable {
		t.Errorf("%s: %+v, %+v", c.Stage, c.Result.Finding, c.Facts())
	}
}

// TestFindings: each state of a server, and each mistake of a profile, has its own finding at its own stage.
func TestFindings(t *testing.T) {
	t.Parallel()
	faulty := func(f mongodb.Fault) mongodb.Config {
		c := notes()
		c.Fault = f
		return c
	}
	set := faulty(mongodb.NoPrimary)
	set.Set, set.Members = "shore", []string{"10.20.0.9:27017"}
	plain := func(to *engine.Target) { to.User, to.AuthDatabase = "plain", external }
	for name, c := range map[string]struct {
		server mongodb.Config
		change func(*engine.Target)
		stage  string
		want   finding.Code
		seen   string
	}{
		"silent":       {faulty(mongodb.Silent), nil, "speak", finding.SpeakSilent, ""},
		"closed":       {faulty(mongodb.CloseAtOnce), nil, "speak", finding.SpeakClosed, ""},
		"garbage":      {faulty(mongodb.Garbage), nil, "speak", finding.SpeakGarbage, ""},
		"half":         {faulty(mongodb.Half), nil, "speak", finding.SpeakGarbage, ""},
		"huge":         {faulty(mongodb.HugeLength), nil, "speak", finding.SpeakGarbage, ""},
		"wrong length": {faulty(mongodb.WrongLength), nil, "speak", finding.SpeakGarbage, ""},
		"deep":         {faulty(mongodb.Deep), nil, "speak", finding.SpeakGarbage, ""},
		"other answer": {faulty(mongodb.OtherAnswer), nil, "speak", finding.SpeakGarbage, ""},
		"escape":       {faulty(mongodb.Escape), nil, "speak", finding.SpeakGarbage, "red"},
		"old wire":     {faulty(mongodb.OldWire), nil, "speak", finding.SpeakTooOld, "0 to 5"},
		"old messages": {faulty(mongodb.OldMessages), nil, "speak", finding.SpeakTooOld, "3.6"},
		"starting":     {faulty(mongodb.Starting), nil, "speak", finding.SpeakStarting, "13436"},
		"stopping":     {faulty(mongodb.Stopping), nil, "speak", finding.SpeakStopping, "quiesce"},
		"limited":      {faulty(mongodb.Limited), nil, "speak", finding.SessionServerFull, ""},
		"password": {notes(), func(to *engine.Target) { to.TakeSecret = gives("knot") }, "login", finding.LoginPassword,
			"proof"},
		"no user":       {notes(), func(to *engine.Target) { to.User = "knot" }, "login", finding.LoginPassword, "first step"},
		"auth-database": {notes(), func(to *engine.Target) { to.User = "scribe" }, "login", finding.LoginPassword, "first step"},
		"blank":         {notes(), func(to *engine.Target) { to.TakeSecret = gives("dunlin ") }, "login", finding.LoginPassword, "blank"},
		"empty":         {notes(), func(to *engine.Target) { to.TakeSecret = gives("") }, "login", finding.LoginEmptyPassword, ""},
		"none sent":     {notes(), func(to *engine.Target) { to.NoSecret = true }, "login", finding.LoginPasswordWanted, ""},
		"nobody":        {notes(), nobody, "login", finding.LoginPasswordWanted, "without one"},
		"plain":         {notes(), plain, "login", finding.LoginCleartextRefused, ""},
		"few rounds":    {faulty(mongodb.FewRounds), nil, "login", finding.LoginRefused, "rounds"},
		"many rounds":   {faulty(mongodb.ManyRounds), nil, "login", finding.LoginRefused, "rounds"},
		"not proved":    {faulty(mongodb.NotProved), nil, "login", finding.LoginRefused, ""},
		"odd method":    {faulty(mongodb.OddMethod), nil, "login", finding.LoginUnsupportedMethod, "TERN"},
		"no method":     {faulty(mongodb.NoMethod), nil, "login", finding.LoginUnsupportedMethod, "334"},
		"closes":        {faulty(mongodb.CloseAtLogin), nil, "login", finding.LoginBrokenOff, ""},
		"hangs":         {faulty(mongodb.HangAtLogin), nil, "login", finding.LoginTimeout, ""},
		"no rights":     {faulty(mongodb.NoRights), nil, "database", finding.DatabaseNoAccess, "not authorized"},
		"odd name":      {notes(), func(to *engine.Target) { to.Database = "field notes" }, "database", finding.DatabaseMissing, "Invalid"},
		"lost":          {faulty(mongodb.LoseSession), nil, "session", finding.SessionLost, ""},
		"hangs later":   {faulty(mongodb.HangSession), nil, "session", finding.SessionTimeout, ""},
		"no primary":    {set, nil, "session", finding.SessionNoPrimary, "10.20.0.9"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			talk, _ := with(t, c.server, c.change, c.want)
			f := talk.Result.Finding
			if talk.Stage != c.stage || f == nil || f.Code != c.want {
				t.Fatalf("%s: %+v, want %s at %s", talk.Stage, f, c.want, c.stage)
			}
			seen := strings.Join(f.Seen, "\n")
			if len(f.Try)+len(f.Do) == 0 || !strings.Contains(seen, c.seen) || strings.ContainsAny(seen, "\x1b\u202e") {
				t.Errorf("%+v", f)
			}
		})
	}
}

// TestWarnings: a server that wants no login, and a database that is not there yet, are warned of.
func TestWarnings(t *testing.T) {
	t.Parallel()
	open, _ := with(t, mongodb.Config{Open: true}, nobody)
	if len(open.Warned) == 0 || open.Warned[0] != finding.LoginNoPasswordAsked || open.Asked != 0 {
		t.Errorf("%v, asked %d times", open.Warned, open.Asked)
	}
	config := notes()
	config.Open = true
	both, _ := with(t, config, func(to *engine.Target) { to.Database = "fieldnote" })
	if len(both.Warned) != 2 || both.Warned[1] != finding.DatabaseNotYet || both.Facts().User != "warden" {
		t.Errorf("%v, %+v", both.Warned, both.Result.Finding)
	}
}

// TestEncrypted: TLS begins with the first byte, a certificate logs in, and PLAIN is for a verified server alone.
func TestEncrypted(t *testing.T) {
	t.Parallel()
	secure, signer, ca := stages.ServerTLS(t)
	_, cert, private, err := signer.Issue("scribe", []string{"scribe"}, time.Now().Add(-time.Hour), time.Now().Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	file := func(name string, data []byte) string {
		path := filepath.Join(folder, name)
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	s := tlsrule.Settings{Rule: tlsrule.Verified, CA: ca}
	withCert := s
	withCert.Cert, withCert.Key = file("cert.pem", cert), file("key.pem", private)
	config := notes()
	config.TLS = secure
	for _, c := range []struct {
		user     string
		settings tlsrule.Settings
		method   string
	}{{"warden", s, methodSHA256}, {"plain", s, methodPlain}, {"CN=scribe", withCert, methodX509}, {"", withCert, methodX509}} {
		talk, _ := with(t, config, func(to *engine.Target) {
			to.User = c.user
			if c.method != methodSHA256 {
				to.AuthDatabase = external
			}
			to.TLS = stages.Plan(t, c.settings)
			to.TLS.Name = "127.0.0.1"
		})
		if f := talk.Facts(); talk.Stage != "session" || f.LoginMethod != c.method || f.TLSVerified == nil || !*f.TLSVerified {
			t.Errorf("%s: %s %+v", c.user, talk.Stage, talk.Result.Finding)
		}
	}
	strict := func(to *engine.Target) {
		to.TLS = stages.Plan(t, s)
		to.TLS.Name = "127.0.0.1"
	}
	if c, _ := with(t, notes(), strict); c.Stage != "tls" || c.Result.Finding.Code != finding.TLSNotOffered {
		t.Errorf("without TLS: %s %+v", c.Stage, c.Result.Finding)
	}
	if c, _ := with(t, config, nil); c.Stage != "speak" || c.Result.Finding.Code != finding.SpeakTLSOnly {
		t.Errorf("TLS alone: %s %+v", c.Stage, c.Result.Finding)
	}
	if c, _ := with(t, notes(), func(to *engine.Target) {
		to.User, to.AuthDatabase = "", external
		to.TLS = stages.Plan(t, tlsrule.Settings{Rule: tlsrule.Off, Cert: withCert.Cert, Key: withCert.Key})
	}); c.Stage != "login" || c.Result.Finding.Code != finding.LoginCertificate {
		t.Errorf("a certificate without TLS: %s %+v", c.Stage, c.Result.Finding)
	}
}

// TestLookUp: an administrator's login tells the causes apart that the server does not.
func TestLookUp(t *testing.T) {
	t.Parallel()
	admin, _ := with(t, notes(), func(to *engine.Target) { to.User = "admin" })
	for user, want := range map[string]string{
		"knot": "there is no user", "scribe": "made in another database", "warden": "the password of",
	} {
		found := finding.New(finding.LoginPassword, "refused")
		r := engine.Refusal{User: user, Profile: "counts", Admin: "admin", Finding: found, By: "looked up: "}
		if err := admin.LookUp(t.Context(), r); err != nil || !strings.Contains(found.Cause, want) {
			t.Errorf("%s: %+v, %v", user, found, err)
		}
	}
}

// TestMissing: collections and indexes are looked for by their names.
func TestMissing(t *testing.T) {
	t.Parallel()
	c, _ := with(t, notes(), nil)
	for what, want := range map[key.Name]string{key.ExpectCollections: "nest", key.ExpectIndexes: "note.x nest._id_", key.ExpectTables: "note nest"} {
		names := []string{"note", "nest"}
		if what == key.ExpectIndexes {
			names = []string{"note._id_", "note.place_1_at_-1", "note.x", "nest._id_"}
		}
		missing, err := c.Missing(t.Context(), what, names)
		if err != nil || strings.Join(missing, " ") != want {
			t.Errorf("%s: %v, %v", what, missing, err)
		}
	}
}
