package check

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// fake is an engine whose stages end as a test says.
type fake struct {
	target engine.Target
	facts  engine.Facts
	ends   map[string]finding.Result
	block  string        // the stage that waits for its context
	work   time.Duration // that a login takes once it has the secret
	took   *int          // how often the secret was taken
	asked  bool          // it was asked for something that needs a login
}

func (f *fake) end(ctx context.Context, stage string) finding.Result {
	if f.block == stage {
		<-ctx.Done()
	}
	if r, ok := f.ends[stage]; ok {
		return r
	}
	return finding.Good("fine")
}

func (f *fake) Speak(ctx context.Context) finding.Result { return f.end(ctx, "speak") }
func (f *fake) Encrypt(ctx context.Context) (*tlsrule.Facts, finding.Result) {
	return nil, f.end(ctx, "tls")
}
func (f *fake) Login(ctx context.Context) finding.Result {
	if _, err := f.target.TakeSecret(ctx); err != nil {
		return finding.FailWith(finding.New("secret.unreadable", "%v", err))
	}
	*f.took++
	select { // the login itself takes its time
	case <-time.After(f.work):
	case <-ctx.Done():
		return failing("login.timeout")
	}
	return f.end(ctx, "login")
}
func (f *fake) Database(ctx context.Context) finding.Result { return f.end(ctx, "database") }
func (f *fake) Session(ctx context.Context) finding.Result  { return f.end(ctx, "session") }
func (f *fake) Missing(_ context.Context, what key.Name, _ []string) ([]string, error) {
	f.asked = true
	if what == key.ExpectTables {
		return []string{"ring"}, nil
	}
	return nil, nil
}
func (f *fake) LookUp(context.Context, engine.Refusal) error {
	f.asked = true
	return errors.New("no")
}
func (f *fake) LogInAs(user string)  { f.target.User = user }
func (f *fake) Facts() *engine.Facts { return &f.facts }
func (f *fake) Close()               {}

// spoken is a table of keys in which an engine's conversations are a test's own.
func spoken(begin engine.Begin) *schema.Schema {
	spec := *keys.Engines().ByWord("postgresql")
	spec.Begin = begin
	return schema.New(engine.NewSet(&spec))
}

// against is a runner for which fakes stand at the addresses that are dialled, a profile, and how often a secret was
// taken.
func against(t *testing.T, text string, fakes map[string]*fake, ask func(context.Context, string) (secret.Value, error)) (*Runner, *resolve.Profile, *int) {
	t.Helper()
	took := 0
	f, err := profile.Parse(spoken(func(conn net.Conn, target engine.Target) engine.Conversation {
		conn.Close()
		c := fakes[target.Address]
		c.target, c.took = target, &took
		return c
	}), "profiles.toml", []byte("[profile.tides]\nengine = \"postgresql\"\nuser = \"u\"\n"+text))
	if err != nil {
		t.Fatal(err)
	}
	return &Runner{
		Network: route.Network{
			Resolve: func(context.Context, string) ([]netip.Addr, error) { return nil, errors.New("nobody") },
			Dial: func(_ context.Context, _, address string) (net.Conn, error) {
				if fakes[address] == nil {
					return nil, &net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}
				}
				ours, theirs := net.Pipe()
				theirs.Close()
				return ours, nil
			},
		},
		Finder: &secret.Finder{Lookup: func(string) (string, bool) { return "knot", true }, Terminal: ask != nil, Ask: ask},
		Places: nearby.Places{Root: t.TempDir(), Dial: func(context.Context, string, string) (net.Conn, error) { return nil, errors.New("no") }},
	}, resolve.Resolve(f, f.Lookup("tides"), nil, resolve.Environment{}), &took
}

// run tests a profile against fakes, one for each address that is dialled.
func run(t *testing.T, ctx context.Context, text string, fakes map[string]*fake, ask func(context.Context, string) (secret.Value, error), timeout time.Duration) (*Report, int) {
	t.Helper()
	runner, p, took := against(t, text, fakes, ask)
	runner.Timeout = timeout
	report := runner.Run(ctx, p)
	if len(report.Stages) != len(Stages) {
		t.Errorf("%d stages", len(report.Stages))
	}
	return report, *took
}

func outcomes(r *Report) string {
	var words []string
	for i, s := range r.Stages {
		if s.Stage != Stages[i] {
			words = append(words, "!"+s.Stage)
		}
		words = append(words, string(s.Outcome))
	}
	return strings.Join(words, " ")
}

func failing(code finding.Code) finding.Result {
	return finding.FailWith(finding.New(code, "it is so"))
}

func TestStraightLine(t *testing.T) {
	const host = "secret = \"env:X\"\nhost = \"10.0.0.1\"\n"
	for stage, want := range map[string]string{
		"":         "ok ok ok ok ok ok ok ok ok ok ok",
		"speak":    "ok ok ok ok ok fail skip skip skip skip skip",
		"tls":      "ok ok ok ok ok ok fail skip skip skip skip",
		"login":    "ok ok ok ok ok ok ok fail skip skip skip",
		"database": "ok ok ok ok ok ok ok ok fail skip skip",
		"session":  "ok ok ok ok ok ok ok ok ok fail skip",
	} {
		f := &fake{ends: map[string]finding.Result{stage: failing("speak.garbage")}}
		r, took := run(t, context.Background(), host, map[string]*fake{"10.0.0.1:5432": f}, nil, time.Second)
		if got := outcomes(r); got != want {
			t.Errorf("%s: %s", stage, got)
		}
		if early := stage == "speak" || stage == "tls"; early && took != 0 || !early && took != 1 {
			t.Errorf("%s fails: the secret was taken %d times", stage, took)
		}
	}
}

func TestFailOver(t *testing.T) {
	const hosts = "secret = \"env:X\"\nhosts = [\"10.0.0.1\", \"10.0.0.2\", \"10.0.0.3\"]\n"
	no, yes := false, true
	for _, c := range []struct {
		name   string
		target string
		first  *fake
		second *fake
		at     string
		want   string
		took   int
	}{
		{"the first serves", "", &fake{}, &fake{}, "10.0.0.1:5432", "ok ok ok ok ok ok ok ok ok ok ok", 1},
		{"the first is down", "", nil, &fake{}, "10.0.0.2:5432", "ok ok ok ok warn ok ok ok ok ok ok", 1},
		{"the first is starting", "", &fake{ends: map[string]finding.Result{"speak": failing("speak.starting")}}, &fake{}, "10.0.0.2:5432", "ok ok ok ok warn ok ok ok ok ok ok", 1},
		{"the first is full", "", &fake{ends: map[string]finding.Result{"login": failing("session.server-full")}}, &fake{}, "10.0.0.2:5432", "ok ok ok ok warn ok ok ok ok ok ok", 2},
		{"the first refuses the password", "", &fake{ends: map[string]finding.Result{"login": failing("login.password")}}, &fake{}, "10.0.0.1:5432", "ok ok ok ok ok ok ok fail skip skip skip", 1},
		{"the first is not what it says", "", &fake{ends: map[string]finding.Result{"tls": failing("tls.untrusted")}}, &fake{}, "10.0.0.1:5432", "ok ok ok ok ok ok fail skip skip skip skip", 0},
		{"the first is a standby", "target = \"writable\"\n", &fake{facts: engine.Facts{Writable: &no}}, &fake{facts: engine.Facts{Writable: &yes}}, "10.0.0.2:5432", "ok ok ok ok ok ok ok ok ok ok ok", 2},
		{"both are standbys", "target = \"writable\"\n", &fake{facts: engine.Facts{Writable: &no}}, &fake{facts: engine.Facts{Writable: &no}}, "10.0.0.2:5432", "ok ok ok ok fail skip skip skip skip skip skip", 2},
	} {
		fakes := map[string]*fake{"10.0.0.2:5432": c.second}
		if c.first != nil {
			fakes["10.0.0.1:5432"] = c.first
		}
		r, took := run(t, context.Background(), hosts+c.target, fakes, nil, time.Second)
		if got := outcomes(r); got != c.want || r.Facts.Route != c.at || took != c.took {
			t.Errorf("%s: %s at %s, secret taken %d times", c.name, got, r.Facts.Route, took)
		}
	}
}

// TestBudgetOfHosts: one host that hangs leaves the next its time, also after a
// question, and the time at the question is nobody's.
func TestBudgetOfHosts(t *testing.T) {
	asked := 0
	slow := func(context.Context, string) (secret.Value, error) {
		asked++
		time.Sleep(300 * time.Millisecond)
		return secret.NewValue("knot"), nil
	}
	for _, block := range []string{"speak", "login"} {
		hung := &fake{block: block, ends: map[string]finding.Result{block: failing("speak.silent")}}
		start := time.Now()
		r, _ := run(t, context.Background(), "secret = \"ask\"\nhosts = [\"10.0.0.1\", \"10.0.0.2\"]\n",
			map[string]*fake{"10.0.0.1:5432": hung, "10.0.0.2:5432": {}}, slow, 400*time.Millisecond)
		if r.Outcome != finding.Warn || r.Facts.Route != "10.0.0.2:5432" || r.MS > 400 {
			t.Errorf("%s hangs: %s at %s after %v ms (%s)", block, outcomes(r), r.Facts.Route, r.MS, time.Since(start))
		}
	}
	if asked != 2 {
		t.Errorf("asked %d times in two tests", asked)
	}
}

// TestBudget: a stage that hangs is ended, time at a question does not count.
func TestBudget(t *testing.T) {
	const host = "host = \"10.0.0.1\"\nsecret = \"ask\"\n"
	start := time.Now()
	fakes := func(block string) map[string]*fake {
		return map[string]*fake{"10.0.0.1:5432": {block: block, ends: map[string]finding.Result{block: failing("speak.silent")}}}
	}
	quick := func(context.Context, string) (secret.Value, error) { return secret.NewValue("knot"), nil }
	r, _ := run(t, context.Background(), host, fakes("speak"), quick, 80*time.Millisecond)
	if r.Outcome != finding.Fail || time.Since(start) > 2*time.Second {
		t.Errorf("%s after %s", r.Outcome, time.Since(start))
	}
	slow := func(context.Context, string) (secret.Value, error) {
		time.Sleep(250 * time.Millisecond)
		return secret.NewValue("knot"), nil
	}
	working := fakes("")
	working["10.0.0.1:5432"].work = 70 * time.Millisecond
	r, _ = run(t, context.Background(), host, working, slow, 150*time.Millisecond)
	if r.Outcome != finding.OK {
		t.Errorf("a slow answer to the question ended the test: %s", outcomes(r))
	}
	for _, s := range r.Stages {
		if s.Stage == "login" && s.MS > 200 {
			t.Errorf("the time at the question counts: %v ms", s.MS)
		}
	}
}

// TestVisible: an engine that forgot to clean a text does no harm.
func TestVisible(t *testing.T) {
	dirty := finding.New("login.refused", "a\x1b[2Jb").Saw("c\nd").Suggest("e\u202ef   # g")
	f := &fake{ends: map[string]finding.Result{"login": {Outcome: finding.Fail, Detail: "h\x07i", Finding: dirty}}}
	r, _ := run(t, context.Background(), "host = \"10.0.0.1\"\nsecret = \"env:X\"\n", map[string]*fake{"10.0.0.1:5432": f}, nil, time.Second)
	s := r.firstFailure()
	if got := strings.Join([]string{s.Detail, s.Finding.Cause, s.Finding.Seen[0], s.Finding.Try[0]}, "|"); got != "hi|a[2Jb|cd|ef   # g" {
		t.Errorf("%q", got)
	}
}

func TestInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(50*time.Millisecond, cancel)
	start := time.Now()
	r, _ := run(t, ctx, "host = \"10.0.0.1\"\nsecret = \"env:X\"\n", map[string]*fake{"10.0.0.1:5432": {block: "tls"}}, nil, 20*time.Second)
	if !r.Interrupted || r.Outcome != finding.Skip || time.Since(start) > 2*time.Second || !strings.HasPrefix(r.Verdict(), "stopped") {
		t.Errorf("%+v after %s", r, time.Since(start))
	}
	if got := outcomes(r); got != "ok ok ok ok ok ok skip skip skip skip skip" {
		t.Error(got)
	}
}

// TestStoppedBeforeSession: a conversation that was stopped before its session is asked for nothing more. Neither an
// administrator's look-up nor a comparison finds a login there.
func TestStoppedBeforeSession(t *testing.T) {
	wrong := map[string]finding.Result{"login": failing("login.password")}
	for _, stage := range []string{"speak", "login", "database", "session"} {
		ctx, cancel := context.WithCancel(t.Context())
		admin := &fake{block: stage}
		runner, p, _ := against(t, "host = \"10.0.0.1\"\nsecret = \"env:X\"\n",
			map[string]*fake{"10.0.0.1:5432": {ends: wrong}, "10.0.0.2:5432": admin}, nil)
		_, runner.Admin, _ = against(t, "host = \"10.0.0.2\"\nsecret = \"env:X\"\n",
			map[string]*fake{"10.0.0.2:5432": admin}, nil)
		runner.Timeout = time.Minute
		time.AfterFunc(50*time.Millisecond, cancel)
		if r := runner.Run(ctx, p); !r.Interrupted || admin.asked {
			t.Errorf("stopped at the administrator's %s: %+v, asked: %v", stage, r.Stages, admin.asked)
		}

		ctx, cancel = context.WithCancel(t.Context())
		other := &fake{block: stage}
		runner, p, _ = against(t, "host = \"10.0.0.1\"\nsecret = \"env:X\"\n",
			map[string]*fake{"10.0.0.1:5432": {}, "10.0.0.2:5432": other}, nil)
		_, q, _ := against(t, "host = \"10.0.0.2\"\nsecret = \"env:X\"\nexpect.tables = [\"ring\"]\n",
			map[string]*fake{"10.0.0.2:5432": other}, nil)
		time.AfterFunc(50*time.Millisecond, cancel)
		if c := runner.Compare(ctx, q, p); c.Verdict != Unknown || other.asked {
			t.Errorf("compared, and stopped at %s: %+v, asked: %v", stage, c, other.asked)
		}
	}
}

// TestLookUpOutlivesBudget: an administrator's look-up has a budget of its own, also where the test's ended while the
// server refused the login.
func TestLookUpOutlivesBudget(t *testing.T) {
	admin := &fake{}
	refused := &fake{ends: map[string]finding.Result{"login": failing("login.password")}, block: "login"}
	runner, p, _ := against(t, "host = \"10.0.0.1\"\nsecret = \"env:X\"\n",
		map[string]*fake{"10.0.0.1:5432": refused, "10.0.0.2:5432": admin}, nil)
	_, runner.Admin, _ = against(t, "host = \"10.0.0.2\"\nsecret = \"env:X\"\n",
		map[string]*fake{"10.0.0.2:5432": admin}, nil)
	runner.Timeout = 100 * time.Millisecond
	if r := runner.Run(t.Context(), p); r.Interrupted || !admin.asked {
		t.Errorf("%+v, asked: %v", r.Stages, admin.asked)
	}
}

func TestVersionHolds(t *testing.T) {
	for _, c := range []struct {
		terms, version string
		want           bool
	}{
		{"15", "15.18 (Debian 15.18-0+deb12u1)", true}, {"15.18", "15.18", true}, {"15.1", "15.18", false}, {"15.18.1", "15.18", false},
		{">= 14", "15.18", true}, {">=15.18", "15.18", true}, {"> 15", "15.18", false}, {"> 14", "15.18", true}, {"< 16", "15.18", true}, {"<= 15", "15.18", true},
		{"!= 15", "15.18", false}, {"== 15", "15.18", true}, {">= 14, < 15", "15.18", false}, {">= 14, < 16, != 15.3", "15.18", true},
		{">= 9.6", "17beta1", true}, {"17", "17beta1", true}, {">= 14", "", false}, {">= 9.6", "10.1", true}, {"< 9.6", "9.5.25", true},
	} {
		if got := versionHolds(c.terms, c.version); got != c.want {
			t.Errorf("%q for %q: %v", c.terms, c.version, got)
		}
	}
}

func ExampleDuration() {
	for _, ms := range []float64{0.04, 9.96, 12.3, 999, 1234, 12345} {
		fmt.Println(Duration(ms))
	}
	// Output:
	// 0.0 ms
	// 10.0 ms
	// 12 ms
	// 999 ms
	// 1.2 s
	// 12 s
}

// TestNotVouchedDoesNothing: of a project's profile that nobody vouched for no
// name is looked up, nothing dialled, no variable read and no secret located.
func TestNotVouchedDoesNothing(t *testing.T) {
	folder := t.TempDir()
	path := folder + "/gharbor.toml"
	text := "[profile.tides]\nengine = \"postgresql\"\nhost = \"${TOKEN}.evil.example\"\nuser = \"${TOKEN}\"\nsecret = \"env:TOKEN\"\ntls = \"verified\"\ntls-ca = \"ca.pem\"\n"
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	never := func(what string) { t.Errorf("something was done: %s", what) }
	silent := spoken(func(net.Conn, engine.Target) engine.Conversation { never("a conversation"); return nil })
	project, err := profile.LoadProject(silent, profile.Place{Path: path, Root: folder})
	if err != nil {
		t.Fatal(err)
	}
	user, _ := profile.Parse(silent, "profiles.toml", []byte("[profile.mine]\nlike = \"project:tides\"\n"))
	user.Attach(project)
	lookup := func(name string) (string, bool) { never("the variable " + name); return "", false }
	runner := &Runner{
		Network: route.Network{
			Resolve: func(context.Context, string) ([]netip.Addr, error) { never("a look-up"); return nil, errors.New("no") },
			Dial:    func(context.Context, string, string) (net.Conn, error) { never("a dial"); return nil, errors.New("no") },
		},
		Finder: &secret.Finder{Lookup: lookup, Terminal: true, Ask: func(context.Context, string) (secret.Value, error) { never("a question"); return secret.Value{}, nil }},
		Places: nearby.Places{Root: t.TempDir(), Dial: func(context.Context, string, string) (net.Conn, error) {
			never("a dial nearby")
			return nil, errors.New("no")
		}},
	}
	for _, name := range []string{"tides", "project:tides", "mine"} {
		p := resolve.Resolve(user, user.Lookup(name), nil, resolve.Environment{Lookup: lookup})
		if err := runner.PromptFirst(context.Background(), []*resolve.Profile{p}); err != nil {
			t.Error(err)
		}
		p.Values()
		r := runner.Run(context.Background(), p)
		if s := r.Stages[0]; s.Outcome != finding.Fail || s.Finding.Code != "profile.not-vouched" || outcomes(r) != "fail skip skip skip skip skip skip skip skip skip skip" {
			t.Errorf("%s: %s", name, outcomes(r))
		}
	}
}

// TestUntestableEngine: a profile of an engine that is only recognised is kept, and not tried.
func TestUntestableEngine(t *testing.T) {
	owls := schema.New(engine.NewSet(&engine.Spec{Word: "owl"}, keys.Engines().ByWord("postgresql")))
	f, err := profile.Parse(owls, "profiles.toml", []byte("[profile.x]\nengine = \"owl\"\nhost = \"127.0.0.1\"\nuser = \"u\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	p := resolve.Resolve(f, f.Lookup("x"), nil, resolve.Environment{})
	if found := Untestable(p); found == nil || found.Code != finding.ProfileEngine || !strings.Contains(found.Cause, "postgresql") {
		t.Errorf("%+v", found)
	}
}
