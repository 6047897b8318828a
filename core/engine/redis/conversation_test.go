package redis

import (
	"context"
	"fmt"
	"net"
	"strings"
	"testing"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
	stages "gentleharbor/internal/testkit/talk"
	"gentleharbor/standin/redis"
)

// with talks to a simulated server, as its default user in database 0 where change says nothing else.
func with(t *testing.T, config redis.Config, change func(*engine.Target), ends ...finding.Code) (*stages.Talk, *redis.Server) {
	t.Helper()
	server, err := redis.Start(config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	return stages.Start(t, Begin, fmt.Sprint("127.0.0.1:", server.Port()), func(to *engine.Target) {
		to.User, to.Database = "", ""
		to.ListenerChecked = func() bool { return true }
		if change != nil {
			change(to)
		}
	}, ends...), server
}

// users is a server with passwords.
func users() redis.Config {
	return redis.Config{
		Password: stages.Password,
		Users:    map[string]string{"warden": stages.Password, "off": stages.Password},
		Off:      []string{"off"},
		Saves:    true,
	}
}

// TestConversation: a session is described in all its parts, for the default user and another one.
func TestConversation(t *testing.T) {
	t.Parallel()
	for _, user := range []string{"", "warden"} {
		c, _ := with(t, users(), func(to *engine.Target) { to.User, to.Database = user, "3" })
		f := c.Facts()
		if c.Stage != "session" || c.Result.Outcome != finding.OK || c.Asked != 1 {
			t.Fatalf("it ended at %s: %+v", c.Stage, c.Result.Finding)
		}
		want := user
		if want == "" {
			want = defaultUser
		}
		switch {
		case f.Version != "7.2.4", f.Product != "Redis", f.User != want, f.Database != "3", f.LoginMethod != methodPassword:
			t.Errorf("%+v", f)
		case f.Writable == nil || !*f.Writable, f.Persistent == nil || !*f.Persistent, f.Superuser == nil || !*f.Superuser:
			t.Errorf("%+v", f)
		case f.ServerStarted == nil, f.RoundTrip == nil, f.ClockDifference == nil, f.MemoryUsed == nil, f.ServerID == "":
			t.Errorf("%+v", f)
		}
		if text := f.Server(); text != "Redis 7.2.4, primary, writable" {
			t.Errorf("the server is %q", text)
		}
	}
}

// TestGreetingOfServers: a server with a password and one without are known by their answer to what a client says first.
func TestGreetingOfServers(t *testing.T) {
	t.Parallel()
	for _, config := range []redis.Config{users(), {}} {
		server, err := redis.Start(config)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(server.Close)
		dial := func(ctx context.Context) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, "tcp", fmt.Sprint("127.0.0.1:", server.Port()))
		}
		set := greeting.Set{Spec.Greeting}
		if s, n, ok := set.Identify(t.Context(), dial, set.Probes("", false)...); !ok || s.Engine != Word || n != 1 {
			t.Errorf("%+v after %d connections, %v", s, n, ok)
		}
	}
}

// TestFlavour: a server that speaks the protocol is told by the name that it gives itself.
func TestFlavour(t *testing.T) {
	t.Parallel()
	c, _ := with(t, redis.Config{Name: "valkey"}, nil)
	if f := c.Facts(); f.Product != "valkey" || f.Version != "8.1.0" || f.Engine != Word {
		t.Errorf("%+v", f)
	}
	old, _ := with(t, redis.Config{Fault: redis.Old, Version: "5.0.14", Password: stages.Password}, nil)
	if f := old.Facts(); f.Product != "Redis" || f.Version != "5.0.14" || f.User != defaultUser {
		t.Errorf("%+v at %s", f, old.Stage)
	}
}

// TestFindings: each state of a server, and each mistake of a profile, has its own finding at its own stage.
func TestFindings(t *testing.T) {
	t.Parallel()
	open := redis.Config{}
	faulty := func(f redis.Fault) redis.Config { return redis.Config{Fault: f, Saves: true} }
	nobody := func(to *engine.Target) { to.NoSecret = true }
	as := func(user string) func(*engine.Target) { return func(to *engine.Target) { to.User = user } }
	says := func(password string) func(*engine.Target) {
		return func(to *engine.Target) { to.TakeSecret = gives(password) }
	}
	for name, c := range map[string]struct {
		server redis.Config
		change func(*engine.Target)
		stage  string
		want   finding.Code
	}{
		"protected":      {faulty(redis.Protected), nil, "speak", finding.SpeakProtectedMode},
		"loading":        {faulty(redis.Loading), nil, "speak", finding.SpeakStarting},
		"full":           {faulty(redis.Full), nil, "speak", finding.SessionServerFull},
		"busy":           {faulty(redis.Busy), nil, "speak", finding.SpeakBusy},
		"closed":         {faulty(redis.CloseAtOnce), nil, "speak", finding.SpeakClosed},
		"silent":         {faulty(redis.Silent), nil, "speak", finding.SpeakSilent},
		"garbage":        {faulty(redis.Garbage), nil, "speak", finding.SpeakGarbage},
		"huge text":      {faulty(redis.HugeText), nil, "speak", finding.SpeakGarbage},
		"huge list":      {faulty(redis.HugeList), nil, "speak", finding.SpeakGarbage},
		"deep":           {faulty(redis.Deep), nil, "speak", finding.SpeakGarbage},
		"endless line":   {faulty(redis.EndlessLine), nil, "speak", finding.SpeakGarbage},
		"half":           {faulty(redis.Half), nil, "speak", finding.SpeakGarbage},
		"sentinel":       {faulty(redis.Sentinel), nil, "login", finding.SpeakSentinel},
		"password":       {users(), says("knot"), "login", finding.LoginPassword},
		"blank":          {users(), says("knot "), "login", finding.LoginPassword},
		"empty":          {users(), says(""), "login", finding.LoginEmptyPassword},
		"none sent":      {users(), nobody, "login", finding.LoginPasswordWanted},
		"user sent none": {users(), func(to *engine.Target) { to.User, to.NoSecret = "warden", true }, "login", finding.LoginPasswordWanted},
		"no user":        {users(), as("knot"), "login", finding.LoginPassword},
		"old with user":  {redis.Config{Fault: redis.Old, Password: stages.Password}, as("warden"), "login", finding.LoginNoSuchRole},
		"not safe": {users(), func(to *engine.Target) {
			to.ListenerChecked = nil
			to.TLS = stages.Plan(t, tlsrule.Settings{Rule: tlsrule.Offered})
		}, "login", finding.LoginCleartextRefused},
		"closes at login": {redis.Config{Password: stages.Password, Fault: redis.CloseAtLogin}, nil, "login", finding.LoginBrokenOff},
		"hangs at login":  {redis.Config{Password: stages.Password, Fault: redis.HangAtLogin}, nil, "login", finding.LoginTimeout},
		"database":        {open, func(to *engine.Target) { to.Database = "16" }, "database", finding.DatabaseMissing},
		"database's name": {open, func(to *engine.Target) { to.Database = "counts" }, "database", finding.DatabaseMissing},
		"no right": {redis.Config{Password: stages.Password, Fault: redis.FewRights}, func(to *engine.Target) { to.Database = "1" },
			"database", finding.DatabaseNoAccess},
		"lost":        {faulty(redis.LoseSession), nil, "session", finding.SessionLost},
		"hangs":       {faulty(redis.HangSession), nil, "session", finding.SessionTimeout},
		"no facts":    {redis.Config{Fault: redis.FewRights}, nil, "session", finding.SessionNoRight},
		"link down":   {faulty(redis.LinkDown), nil, "session", finding.SessionLinkDown},
		"unsaved":     {faulty(redis.Unsaved), nil, "session", finding.SessionWritesStopped},
		"memory full": {faulty(redis.MemoryFull), nil, "session", finding.SessionMemoryFull},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			talk, _ := with(t, c.server, c.change, c.want)
			if talk.Stage != c.stage || talk.Result.Finding == nil || talk.Result.Finding.Code != c.want {
				t.Fatalf("%s: %+v, want %s at %s", talk.Stage, talk.Result.Finding, c.want, c.stage)
			}
			if f := talk.Result.Finding; len(f.Try)+len(f.Do) == 0 {
				t.Errorf("nothing to try: %+v", f)
			}
		})
	}
}

// TestAskedForNothing: a server that lets everybody in is warned of, and no password goes to it.
func TestAskedForNothing(t *testing.T) {
	t.Parallel()
	c, _ := with(t, redis.Config{}, nil)
	if len(c.Warned) != 1 || c.Warned[0] != finding.LoginNoPasswordAsked || c.Asked != 0 {
		t.Errorf("%v, asked %d times", c.Warned, c.Asked)
	}
	off, _ := with(t, users(), func(to *engine.Target) { to.ListenerChecked = nil }) // tls = off is what it says
	if len(off.Warned) != 1 || off.Warned[0] != finding.LoginWeakMethod || off.Asked != 1 {
		t.Errorf("%v, asked %d times", off.Warned, off.Asked)
	}
}

// TestEncrypted: TLS begins with the first byte, is verified, and a port without it, or a rule without it, is told.
func TestEncrypted(t *testing.T) {
	t.Parallel()
	server, _, ca := stages.ServerTLS(t)
	config := users()
	config.TLS = server
	verified := func(to *engine.Target) {
		to.ListenerChecked = nil
		to.TLS = stages.Plan(t, tlsrule.Settings{Rule: tlsrule.Verified, CA: ca})
		to.TLS.Name = "127.0.0.1"
	}
	c, _ := with(t, config, verified)
	if f := c.Facts(); c.Stage != "session" || f.TLS != "TLS 1.3" || f.TLSVerified == nil || !*f.TLSVerified {
		t.Fatalf("%s: %+v", c.Stage, c.Result.Finding)
	}
	if c, _ := with(t, users(), verified); c.Stage != "tls" || c.Result.Finding.Code != finding.TLSNotOffered {
		t.Errorf("without TLS: %s %+v", c.Stage, c.Result.Finding)
	}
	if c, _ := with(t, config, nil); c.Stage != "speak" || c.Result.Finding.Code != finding.SpeakTLSOnly {
		t.Errorf("TLS alone: %s %+v", c.Stage, c.Result.Finding)
	}
}

// TestLookUp: an administrator's login tells the causes apart that the server does not.
func TestLookUp(t *testing.T) {
	t.Parallel()
	admin, _ := with(t, users(), func(to *engine.Target) { to.User = "warden" })
	for user, want := range map[string]finding.Code{
		"knot": finding.LoginNoSuchRole, "off": finding.LoginLocked, "warden": finding.LoginPassword,
	} {
		found := finding.New(finding.LoginPassword, "refused")
		r := engine.Refusal{User: user, Profile: "counts", Admin: "admin", Finding: found, By: "looked up: "}
		if err := admin.LookUp(t.Context(), r); err != nil || found.Code != want {
			t.Errorf("%s: %+v, %v", user, found, err)
		}
	}
}

// TestMissing: keys are looked for by name and by pattern.
func TestMissing(t *testing.T) {
	t.Parallel()
	c, _ := with(t, redis.Config{}, nil)
	c.Run(t.Context(), "SET station:1 x")
	missing, err := c.Missing(t.Context(), key.ExpectKeys, []string{"station:1", "station:*", "gauge:*", "gauge:1"})
	if err != nil || strings.Join(missing, " ") != "gauge:* gauge:1" {
		t.Errorf("%v, %v", missing, err)
	}
	if missing, _ := c.Missing(t.Context(), key.ExpectTables, []string{"x"}); len(missing) != 1 {
		t.Error("there are tables")
	}
}

func gives(password string) func(context.Context) (secret.Value, error) {
	return func(context.Context) (secret.Value, error) { return secret.NewValue(password), nil }
}
