package cloud

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/cloud/oauth"
	"gentleharbor/core/cloud/tokens"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
	"gentleharbor/internal/testkit/allkeys"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/cloud"
)

// rental is a simulated provider, and accounts that are at it.
type rental struct {
	*cloud.Provider
	*Accounts
	t   *testing.T
	dir string
}

// someInstances are three: one behind rules, with a branch; one paused; one with a private address alone.
func someInstances() []*cloud.Instance {
	members := cloud.MySQL("members", "member")
	return []*cloud.Instance{
		{Name: "estuary-members", Engine: "mysql", Region: "north-1", Place: cloud.Place{Access: true, Login: wire.ByPassword, Database: "members", Start: members,
			Features: []wire.Feature{{Name: "export", On: true}}},
			Branches: map[string]*cloud.Place{"spring": {Login: wire.ByPassword, Database: "members", Start: members}}},
		{Name: "estuary-asleep", Engine: "mysql", Place: cloud.Place{State: wire.Paused, Start: members}},
		{Name: "estuary-shut", Engine: "mysql", Place: cloud.Place{Features: []wire.Feature{{Name: "remote", Needed: true}}, Start: members}},
		{Name: "estuary-deep", Engine: "mysql", Place: cloud.Place{NoPublic: true, Private: true, Start: members}},
		{Name: "estuary-first", Engine: "mysql", Place: cloud.Place{First: "keeper", Database: "members", Start: members}},
	}
}

func rent(t *testing.T, c cloud.Config, more string) *rental {
	t.Helper()
	root, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	c.Authority, c.Interval = root, 1
	if c.Instances == nil {
		c.Instances = someInstances()
	}
	p, err := cloud.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	r := &rental{Provider: p, t: t, dir: t.TempDir()}
	os.WriteFile(filepath.Join(r.dir, "ca.pem"), root.PEM, 0o600)
	path := filepath.Join(r.dir, "profiles.toml")
	text := "[cloud.station]\nservice = \"" + p.Service() + "\"\nissuer = \"" + p.URL() + "\"\nclient = \"" + cloud.Client + "\"\ntls-ca = \"ca.pem\"\n" + strings.ReplaceAll(more, "SERVICE", p.Service())
	file, err := profile.Parse(allkeys.Keys, path, []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	key := tokens.NewKey()
	r.Accounts = &Accounts{
		File:    file,
		Secrets: &secret.Finder{Lookup: func(string) (string, bool) { return cloud.JobSecret, true }},
		Dial: func(ctx context.Context, network, at string) (net.Conn, error) {
			host, port, _ := net.SplitHostPort(at)
			if host != cloud.Host {
				t.Errorf("%s is dialled", at)
			}
			return (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort("127.0.0.1", port))
		},
		Tokens: tokens.Store{
			Folder: filepath.Join(r.dir, "cloud"),
			Key:    func(context.Context, tokens.Owner, tokens.KeyPlace) (secret.Value, error) { return key, nil },
			Memory: func(context.Context) tokens.Memory { return nil },
		},
	}
	return r
}

// again are the same accounts in another process.
func (r *rental) again() *Accounts {
	return &Accounts{File: r.File, Secrets: r.Secrets, Dial: r.Dial, Tokens: r.Accounts.Tokens}
}

func (r *rental) session(name string) *Session {
	r.t.Helper()
	s, found := r.Session(name)
	if found != nil {
		r.t.Fatal(found.Cause)
	}
	return s
}

// signIn signs in: a person confirms at once.
func (r *rental) signIn() *Session {
	r.t.Helper()
	s := r.session("station")
	d, found := s.SignIn(r.t.Context())
	if found != nil {
		r.t.Fatal(found.Cause, found.Seen)
	}
	if !r.Confirm(d.Code) {
		r.t.Fatal("the code is not the issuer's")
	}
	got, err := d.Wait(r.t.Context())
	if err != nil {
		r.t.Fatal(err)
	}
	if found := s.KeepToken(r.t.Context(), got, tokens.Place{Key: tokens.KeyPlace{Source: "wallet", Entry: "x"}}); found != nil {
		r.t.Fatal(found.Cause, found.Seen)
	}
	return s
}

// profileOf is a profile at an instance.
func (r *rental) profileOf(at, more string) *resolve.Profile {
	r.t.Helper()
	file, err := profile.Parse(allkeys.Keys, "profiles.toml", []byte("[profile.p]\nengine = \"mysql\"\ncloud = \""+at+"\"\n"+more))
	if err != nil {
		r.t.Fatal(err)
	}
	return resolve.Resolve(file, file.Lookup("p"), nil, resolve.Environment{Aliases: given{}})
}

// given has no aliases, and an address for every host of the provider.
type given struct{}

func (given) Chain(string, *resolve.Profile) (*address.Chain, *finding.Finding) { return nil, nil }
func (given) HostEntry(host string, _ *resolve.Profile) (profile.HostEntry, bool) {
	return profile.HostEntry{Name: host, Addresses: []netip.Addr{netip.MustParseAddr("127.0.0.1")}}, strings.HasSuffix(host, "saltmarsh.example")
}

func about(at string) Subject {
	ref, _ := cloudref.Parse(at)
	return Subject{Ref: ref}
}

// TestAccount: signed in, asked, let in, and signed out again.
func TestAccount(t *testing.T) {
	t.Parallel()
	r := rent(t, cloud.Config{RuleAfter: 50 * time.Millisecond, WakeAfter: 50 * time.Millisecond, Page: 2}, "")
	if _, _, found := r.session("station").ReadAccount(t.Context()); !found.Is(finding.CloudNotSignedIn) || found.Try[0] != "gharbor cloud sign-in station" {
		t.Fatalf("%+v", found)
	}
	s := r.signIn()
	who, until, found := s.ReadAccount(t.Context())
	if found != nil || who.Account != "warden@saltmarsh.example" || time.Until(until) <= 0 {
		t.Fatalf("%+v %v %+v", who, until, found)
	}
	var names []string
	s.Instances(t.Context(), nil, func(i *wire.Instance) bool { names = append(names, i.Name); return true })
	if len(names) != 5 {
		t.Errorf("%q", names)
	}
	members := about("station/estuary-members")
	rule, found := s.Allow(t.Context(), members, netip.Prefix{}, time.Minute, "a note")
	if found != nil || rule.Range != "127.0.0.1/32" || rule.State != wire.Pending || rule.Note != "a note" {
		t.Fatalf("%+v %+v", rule, found)
	}
	time.Sleep(100 * time.Millisecond)
	if rule, found = s.RuleNow(t.Context(), members, rule.ID); found != nil || rule.State != wire.InForce {
		t.Errorf("%+v %+v", rule, found)
	}
	if rules, _ := s.Rules(t.Context(), members); len(rules) != 1 {
		t.Errorf("%+v", rules)
	}
	if found := s.Disallow(t.Context(), members, rule.ID); found != nil {
		t.Errorf("%+v", found)
	}
	if _, found := s.RuleNow(t.Context(), members, rule.ID); !found.Is(finding.CloudUnknownInstance) {
		t.Errorf("%+v", found)
	}
	if f, found := s.Switch(t.Context(), members, "export", false); found != nil || f.On {
		t.Errorf("%+v %+v", f, found)
	}
	if user, v, found := s.FirstPassword(t.Context(), about("station/estuary-first")); found != nil || user != "keeper" || !v.Present() {
		t.Errorf("%s %+v", user, found)
	}
	if _, _, found := s.FirstPassword(t.Context(), about("station/estuary-first")); !found.Is(finding.CloudNoRight) {
		t.Errorf("twice: %+v", found)
	}
	if found := s.Wake(t.Context(), about("station/estuary-asleep")); found != nil {
		t.Errorf("%+v", found)
	}
	if _, _, found := s.Find(t.Context(), about("station/estuary-nothing")); !found.Is(finding.CloudUnknownInstance) {
		t.Errorf("%+v", found)
	}
	if _, _, found := s.Find(t.Context(), about("station/estuary-members/spri")); !found.Is(finding.CloudUnknownInstance) {
		t.Errorf("%+v", found)
	}
	had, revoked, why, found := s.SignOut(t.Context())
	if !had || !revoked || found != nil || len(r.Provider.Tokens()) > 0 {
		t.Errorf("%v %v %s %+v, %d tokens", had, revoked, why, found, len(r.Provider.Tokens()))
	}
	if had, _, _, _ := s.SignOut(t.Context()); had {
		t.Error("signed out twice")
	}
	if _, found := r.Session("nobody"); !found.Is(finding.CloudUnknownAccount) {
		t.Errorf("%+v", found)
	}
}

// TestRefresh: a token that has ended is refreshed, once for all processes, and a sign-in that has ended is told of.
func TestRefresh(t *testing.T) {
	t.Parallel()
	r := rent(t, cloud.Config{}, "")
	r.signIn()
	r.EndTokens()
	var group sync.WaitGroup
	troubles := make(chan string, 20)
	for range 20 {
		group.Go(func() {
			s, _ := r.again().Session("station")
			if _, _, found := s.ReadAccount(t.Context()); found != nil {
				troubles <- found.Cause + strings.Join(found.Seen, "; ")
			}
		})
	}
	group.Wait()
	close(troubles)
	for text := range troubles {
		t.Error(text)
	}
	if r.Refreshes != 1 {
		t.Errorf("refreshed %d times", r.Refreshes)
	}
	r.EndSignIns()
	s, _ := r.again().Session("station")
	if _, _, found := s.ReadAccount(t.Context()); !found.Is(finding.CloudSignInExpired) || found.Try[0] != "gharbor cloud sign-in station" {
		t.Errorf("%+v", found)
	}
}

// TestShort: a token that ends soon is refreshed before it does.
func TestShort(t *testing.T) {
	t.Parallel()
	r := rent(t, cloud.Config{TokenFor: 10 * time.Second}, "")
	s := r.signIn()
	if _, _, found := s.ReadAccount(t.Context()); found != nil || r.Refreshes != 1 {
		t.Errorf("%+v, refreshed %d times", found, r.Refreshes)
	}
}

// TestOtherIdentity: a token goes to the service that it was made for, and to no other.
func TestOtherIdentity(t *testing.T) {
	t.Parallel()
	r := rent(t, cloud.Config{}, "")
	r.signIn()
	for name, change := range map[string]func(*Account){
		"service":   func(a *Account) { a.Service += "/other" },
		"issuer":    func(a *Account) { a.Issuer += "/other" },
		"client":    func(a *Account) { a.Client = "other" },
		"authority": func(a *Account) { a.Authority = "" },
		"command":   func(a *Account) { a.Command = []string{"x"} },
	} {
		a := AccountOf(r.File.CloudNamed("station"), "")
		change(&a)
		s, err := r.newSession(a)
		if err != nil {
			t.Fatal(err)
		}
		if _, found := s.access(t.Context(), secret.Value{}); !found.Is(finding.CloudNotSignedIn) {
			t.Errorf("with another %s: %+v", name, found)
		}
	}
	a := AccountOf(r.File.CloudNamed("station"), "")
	id, _ := a.serviceID()
	a.Authority = ""
	if other, _ := a.serviceID(); other == id || other != a.Service {
		t.Errorf("without its own authority the service is %q, with it %q", other, id)
	}
}

// TestPlaces: where an instance is, or why it can't be used.
func TestPlaces(t *testing.T) {
	t.Parallel()
	r := rent(t, cloud.Config{RuleAfter: time.Hour}, "")
	s := r.signIn()
	hop := "[[profile.p.hop]]\nhost = \"gate\"\n"
	for _, c := range []struct {
		at, more string
		code     finding.Code // "" for a place
		try      string
	}{
		{"station/estuary-members", "", finding.CloudNotAllowed, "gharbor cloud allow p"},
		{"station/estuary-members/spring", "", "", ""},
		{"station/estuary-members/sprong", "", finding.CloudUnknownInstance, "gharbor set p cloud=station/estuary-members/spring"},
		{"station/estuary-member", "", finding.CloudUnknownInstance, "gharbor set p cloud=station/estuary-members"},
		{"station/estuary-asleep", "", finding.CloudPaused, "gharbor cloud wake p"},
		{"station/estuary-shut", "", finding.CloudFeatureOff, "gharbor cloud switch-on p remote"},
		{"station/estuary-deep", "", finding.CloudNoAddress, ""},
		{"station/estuary-deep", hop, "", ""},
		{"station/estuary-members/spring", hop, finding.CloudNoAddress, ""},
		{"nobody/estuary", "", finding.CloudUnknownAccount, "gharbor cloud list"},
	} {
		p := r.profileOf(c.at, c.more)
		at, found := r.Place(t.Context(), p)
		switch {
		case c.code == "" && found != nil:
			t.Errorf("%s: %+v", c.at, found)
		case c.code != "" && !found.Is(c.code):
			t.Errorf("%s: %+v", c.at, found)
		case c.code != "" && c.try != "" && !strings.HasPrefix(strings.Join(found.Try, "\n"), c.try):
			t.Errorf("%s: %q", c.at, found.Try)
		case c.code == "" && (at.Name == "" || at.Authority == nil || at.Service == ""):
			t.Errorf("%s: %+v", c.at, at)
		}
	}
	if _, found := s.Allow(t.Context(), about("station/estuary-members"), netip.Prefix{}, time.Hour, ""); found != nil {
		t.Fatal(found.Cause)
	}
	time.Sleep(changingFor)
	if _, found := r.Place(t.Context(), r.profileOf("station/estuary-members", "")); !found.Is(finding.CloudRulePending) {
		t.Errorf("%+v", found)
	}
}

// TestLogins: a login is made at use, kept in memory, and is of this instance alone.
func TestLogins(t *testing.T) {
	t.Parallel()
	r := rent(t, cloud.Config{LoginFor: leastLife + 400*time.Millisecond}, "")
	r.signIn()
	p := r.profileOf("station/estuary-members/spring", "")
	at, found := r.Place(t.Context(), p)
	if found != nil {
		t.Fatal(found.Cause)
	}
	one, err := at.Mint(t.Context())
	if err != nil || !one.Password.Present() || one.User == "" {
		t.Fatalf("%v", err)
	}
	if again, _ := at.Mint(t.Context()); again.User != one.User {
		t.Error("a login that lasts was made again")
	}
	if until := r.Lasts(p); !until.Equal(one.Until) {
		t.Errorf("%s", until)
	}
	time.Sleep(500 * time.Millisecond)
	if later, err := at.Mint(t.Context()); err != nil || later.User == one.User {
		t.Errorf("a login that ends is used still (%v)", err)
	}
	named := r.profileOf("station/estuary-members/spring", "user = \"bander\"\n")
	at, _ = r.Place(t.Context(), named)
	if login, err := at.Mint(t.Context()); err != nil || login.User != "bander" {
		t.Errorf("%v", err)
	}
	s := r.session("station")
	good := wire.Login{Instance: "i", User: "u", Password: "p", Until: time.Now().Add(time.Minute)}
	for name, change := range map[string]func(*wire.Login){
		"":                 func(*wire.Login) {},
		"another instance": func(l *wire.Login) { l.Instance = "j" },
		"a branch":         func(l *wire.Login) { l.Branch = "b" },
		"another user":     func(l *wire.Login) { l.User = "v" },
		"ended":            func(l *wire.Login) { l.Until = time.Now().Add(-time.Second) },
		"too long":         func(l *wire.Login) { l.Until = time.Now().Add(48 * time.Hour) },
		"a certificate":    func(l *wire.Login) { l.Password, l.Certificate, l.Key = "", "c", "k" },
	} {
		login := good
		change(&login)
		if _, err := s.loginOf(about("station/i"), wire.ByPassword, "u", &login); (err == nil) != (name == "") {
			t.Errorf("%s: %v", name, err)
		}
	}
	login := wire.Login{Instance: "i", User: "u", Certificate: "knot", Key: "knot", Until: time.Now().Add(time.Minute)}
	if _, err := s.loginOf(about("station/i"), wire.ByCertificate, "u", &login); err == nil || strings.Contains(err.Error(), "knot") {
		t.Errorf("%v", err)
	}
}

// TestOnce: of many profiles that a run expects, the service is asked once.
func TestOnce(t *testing.T) {
	t.Parallel()
	r := rent(t, cloud.Config{More: 300, Page: 20}, "")
	r.signIn()
	var profiles []*resolve.Profile
	for _, at := range []string{"station/estuary-members/spring", "station/estuary-asleep", "station/estuary-shut", "station/creek-0007", "station/creek-0290"} {
		profiles = append(profiles, r.profileOf(at, ""))
		ref, _ := cloudref.Parse(at)
		r.Expect([]cloudref.Ref{ref})
	}
	r.Once = true
	count := func() (n int) {
		for _, request := range r.Requests() {
			if strings.Contains(request, "/instances") {
				n++
			}
		}
		return n
	}
	before := count()
	var group sync.WaitGroup
	for range 3 {
		for _, p := range profiles {
			group.Go(func() { r.Place(t.Context(), p) })
		}
	}
	group.Wait()
	if n := count() - before; n != 1 {
		t.Errorf("asked %d times", n)
	}
}

// TestJobs: a client of its own, and a token file, sign in without anybody.
func TestJobs(t *testing.T) {
	t.Parallel()
	r := rent(t, cloud.Config{}, "[cloud.file]\nservice = \"SERVICE\"\ntls-ca = \"ca.pem\"\ntoken-file = \"token\"\n[cloud.bare]\nservice = \"SERVICE\"\ntls-ca = \"ca.pem\"\n")
	if _, _, found := r.session("file").ReadAccount(t.Context()); !found.Is(finding.SecretMissing) {
		t.Errorf("%+v", found)
	}
	path := filepath.Join(r.dir, "token")
	os.WriteFile(path, []byte("knot\n"), 0o600)
	if _, _, found := r.session("file").ReadAccount(t.Context()); !found.Is(finding.CloudSignInExpired) || strings.Contains(strings.Join(found.Seen, ""), "knot") {
		t.Errorf("%+v", found)
	}
	s := r.signIn()
	token, _ := s.access(t.Context(), secret.Value{})
	os.WriteFile(path, []byte(token.Disclose()+"\n"), 0o600)
	if _, _, found := r.session("file").ReadAccount(t.Context()); found != nil {
		t.Errorf("%+v", found)
	}
	os.Chmod(path, 0o644)
	if _, _, found := r.session("file").ReadAccount(t.Context()); !found.Is(finding.SecretPermissions) {
		t.Errorf("%+v", found)
	}
	if _, _, found := r.session("bare").ReadAccount(t.Context()); !found.Is(finding.CloudNotSignedIn) || len(found.Do) != 2 {
		t.Errorf("%+v", found)
	}
	if found := r.session("bare").KeepToken(t.Context(), &oauth.Token{Access: token}, tokens.Place{Key: tokens.KeyPlace{Source: "wallet", Entry: "x"}}); found != nil {
		t.Errorf("%+v", found)
	}
	if _, _, found := r.session("bare").ReadAccount(t.Context()); found != nil {
		t.Errorf("a token that was given: %+v", found)
	}
	job := rent(t, cloud.Config{}, "")
	table := job.File.CloudNamed("station")
	a := AccountOf(table, "")
	a.Client, a.ClientSecret = cloud.Job, secret.Source{Kind: "env", Arg: "JOB"}
	session, err := job.newSession(a)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, found := session.ReadAccount(t.Context()); found != nil {
		t.Errorf("%+v", found)
	}
	job.EndTokens()
	if _, _, found := session.ReadAccount(t.Context()); found != nil {
		t.Errorf("its token has ended: %+v", found)
	}
}

// TestUnknown: whatever is asked of an instance, branch or feature that there is not, a near name is told.
func TestUnknown(t *testing.T) {
	t.Parallel()
	s := rent(t, cloud.Config{}, "").signIn()
	ctx := t.Context()
	for what, ask := range map[string]func(Subject) *finding.Finding{
		"find":     func(a Subject) *finding.Finding { _, _, found := s.Find(ctx, a); return found },
		"switch":   func(a Subject) *finding.Finding { _, found := s.Switch(ctx, a, "remote-access", true); return found },
		"rules":    func(a Subject) *finding.Finding { _, found := s.Rules(ctx, a); return found },
		"disallow": func(a Subject) *finding.Finding { return s.Disallow(ctx, a, "rule-1") },
		"wake":     func(a Subject) *finding.Finding { return s.Wake(ctx, a) },
		"allow": func(a Subject) *finding.Finding {
			_, found := s.Allow(ctx, a, netip.Prefix{}, time.Minute, "")
			return found
		},
		"first password": func(a Subject) *finding.Finding { _, _, found := s.FirstPassword(ctx, a); return found },
	} {
		for typed, near := range map[string]string{"estuary-membrs": "estuary-members",
			"estuary-members/sprng": "estuary-members/spring", "quay": ""} {
			found := ask(about("station/" + typed))
			if !found.Is(finding.CloudUnknownInstance) || strings.Contains(found.Cause, "did you mean") != (near != "") ||
				!strings.HasSuffix(found.Cause, near+"?") && near != "" {
				t.Errorf("%s of %s: %+v", what, typed, found)
			}
		}
	}
	_, found := s.Switch(ctx, about("station/estuary-shut"), "remte", true)
	if !found.Is(finding.CloudUnknownInstance) ||
		found.Cause != "the instance estuary-shut has no feature remte; did you mean remote?" {
		t.Errorf("%+v", found)
	}
	if found := s.Disallow(ctx, about("station/estuary-members"), "rule-1"); !found.Is(finding.CloudUnknownInstance) ||
		strings.Contains(found.Cause, "knows no instance") {
		t.Errorf("%+v", found)
	}
}

// hurried has never more than 0.4 s left, and does not end: a busy machine may take longer for a request.
type hurried struct{ context.Context }

func (hurried) Deadline() (time.Time, bool) { return time.Now().Add(400 * time.Millisecond), true }

// TestPutOff: a service that wants fewer requests, or is not there for a moment, is asked again.
func TestPutOff(t *testing.T) {
	t.Parallel()
	for fault, code := range map[cloud.Fault]finding.Code{cloud.TooMany: finding.CloudTooManyRequests, cloud.Unavailable: finding.CloudUnreachable} {
		r := rent(t, cloud.Config{Faults: []cloud.Fault{fault}}, "")
		s := r.signIn()
		if _, _, found := s.ReadAccount(t.Context()); found != nil {
			t.Errorf("%s: %+v", fault, found)
		}
		if _, _, found := s.ReadAccount(hurried{t.Context()}); !found.Is(code) {
			t.Errorf("%s: there is no time: %+v", fault, found)
		}
	}
	for text, want := range map[string]time.Duration{"3": 3 * time.Second, "": 0, "-1": 0, "x": 0, "999999": time.Hour, "Mon, 02 Jan 2006 15:04:15 GMT": 10 * time.Second, "Mon, 02 Jan 2006 15:04:00 GMT": 0} {
		if got := retryAfter(text, time.Date(2006, 1, 2, 15, 4, 5, 0, time.UTC)); got != want {
			t.Errorf("%q: %s", text, got)
		}
	}
}

// TestHostile: a service that does what none may do leads nowhere, and shows no token.
func TestHostile(t *testing.T) {
	t.Parallel()
	for fault, code := range map[cloud.Fault]finding.Code{
		cloud.Huge: finding.CloudBroken, cloud.Redirect: finding.CloudBroken, cloud.NextElsewhere: finding.CloudBroken, cloud.Garbage: finding.CloudBroken,
		cloud.EscapeNames: finding.CloudBroken, cloud.Refuses: finding.CloudSignInExpired, cloud.EndlessPages: finding.CloudBroken,
	} {
		t.Run(string(fault), func(t *testing.T) {
			t.Parallel()
			r := rent(t, cloud.Config{Faults: []cloud.Fault{fault}}, "")
			s := r.signIn()
			all := slices.Clone(r.Provider.Tokens())
			found := s.Instances(t.Context(), nil, func(*wire.Instance) bool { return true })
			all = append(all, r.Provider.Tokens()...)
			if !found.Is(code) {
				t.Fatalf("%+v", found)
			}
			for _, token := range all {
				if text := found.Cause + strings.Join(found.Seen, ""); strings.Contains(text, token) || strings.ContainsAny(text, "\x1b\x07") {
					t.Errorf("%q", text)
				}
			}
		})
	}
	for fault, code := range map[cloud.Fault]finding.Code{cloud.Loopback: finding.CloudNoAddress, cloud.LinkLocal: finding.CloudNoAddress} {
		r := rent(t, cloud.Config{Faults: []cloud.Fault{fault}}, "")
		r.signIn()
		if _, found := r.Place(t.Context(), r.profileOf("station/estuary-members/spring", "")); !found.Is(code) {
			t.Errorf("%s: %+v", fault, found)
		}
	}
	r := rent(t, cloud.Config{Faults: []cloud.Fault{cloud.OtherLogin}}, "")
	r.signIn()
	at, _ := r.Place(t.Context(), r.profileOf("station/estuary-members/spring", ""))
	var failure *secret.Failure
	if _, err := at.Mint(t.Context()); !errors.As(err, &failure) || !failure.Found.Is(finding.CloudBroken) {
		t.Errorf("%v", err)
	}
	for fault, code := range map[cloud.Fault]finding.Code{cloud.OtherIssuer: finding.CloudBroken, cloud.OtherToken: finding.CloudBroken, cloud.PlainPage: finding.CloudBroken,
		cloud.EscapeCode: finding.CloudBroken, cloud.NoMetadata: finding.CloudBroken} {
		r := rent(t, cloud.Config{Faults: []cloud.Fault{fault}}, "")
		if _, found := r.session("station").SignIn(t.Context()); !found.Is(code) {
			t.Errorf("%s: %+v", fault, found)
		}
	}
}
