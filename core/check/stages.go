package check

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// plan is what the stages before the first dial settled.
type plan struct {
	begin engine.Begin
	tls   *tlsrule.Plan
}

// checkProfile asks whether the profile is complete and consistent.
func (t *test) checkProfile(context.Context) finding.Result {
	p := t.profile
	name := p.Profile.Name
	if found := p.Problem(); found != nil {
		return finding.Failed(found)
	}
	word := p.Text("engine")
	begin := t.Engines[word]
	switch {
	case word == "":
		return finding.Failed(finding.New("profile.incomplete", "the profile does not say which engine the server is").
			Suggest("gharbor set %s engine=postgresql", name))
	case begin == nil:
		return finding.Failed(finding.New("profile.engine", "this version can't test the engine %s yet, only %s", word, strings.Join(engineWords(t.Engines), ", ")).
			Suggest("gharbor show %s", name))
	case p.AddressKind() == "":
		return finding.Failed(finding.New("profile.incomplete", "the profile does not say where the server is").
			Suggest("gharbor set %s host=HOST   # or socket=PATH", name).
			Suggest("gharbor nearby   # the servers of this machine"))
	case p.Text("user") == "":
		return finding.Failed(finding.New("profile.incomplete", "the profile does not say which user to log in as").
			Suggest("gharbor set %s user=NAME", name))
	}
	t.plan.begin = begin
	settings := tlsrule.Settings{Profile: name, Rule: tlsrule.Rule(p.Text("tls")), CA: p.Text("tls-ca"), Cert: p.Text("tls-cert"), Key: p.Text("tls-key")}
	var found *finding.Finding
	if t.plan.tls, found = tlsrule.Load(settings); found != nil {
		return finding.Failed(found)
	}
	detail := fmt.Sprintf("%s at %s, line %d", word, clean.Line(shortPath(p), 120), p.Profile.Line)
	if found := idleTLS(p); found != nil {
		return finding.Warned(found, "%s", detail)
	}
	return finding.Good("%s", detail)
}

func shortPath(p *profile.Resolved) string {
	for _, v := range p.Values() {
		if v.Origin.File != "" {
			return v.Origin.File[strings.LastIndexByte(v.Origin.File, '/')+1:]
		}
	}
	return "profiles.toml"
}

func engineWords(engines map[string]engine.Begin) []string {
	var words []string
	for word := range engines {
		words = append(words, word)
	}
	slices.Sort(words)
	return words
}

// idleTLS warns of keys that the TLS rule leaves without effect: a person who
// names an authority means to be protected by it.
func idleTLS(p *profile.Resolved) *finding.Finding {
	rule := p.Text("tls")
	var idle []string
	for _, key := range []string{"tls-ca", "tls-name", "tls-cert"} {
		if _, ok := p.Get(key); !ok {
			continue
		}
		if rule == "off" || p.AddressKind() == "socket" || key != "tls-cert" && rule != "verified" {
			idle = append(idle, key)
		}
	}
	if len(idle) == 0 {
		return nil
	}
	if p.AddressKind() == "socket" {
		return finding.New("profile.conflict", "%s has no effect: a Unix socket is not encrypted", strings.Join(idle, " and ")).
			Suggest("gharbor set %s %s=", p.Profile.Name, strings.Join(idle, "= "))
	}
	return finding.New("profile.conflict", "%s has no effect: with tls = %q nothing is verified", strings.Join(idle, " and "), rule).
		Saw("tls is from %s", mustGet(p, "tls").Origin).
		Suggest("gharbor set %s tls=verified", p.Profile.Name)
}

func mustGet(p *profile.Resolved, key string) profile.Effective {
	e, _ := p.Get(key)
	return e
}

// locateSecret finds where the password is for each server that the profile
// may mean (a password file may have a line for each), and reads none.
func (t *test) locateSecret(context.Context) finding.Result {
	candidates, found := route.Candidates(t.profile)
	if found != nil {
		return finding.Failed(found)
	}
	t.secrets = make(map[route.Candidate]*secret.Located, len(candidates))
	var shown *secret.Located // the first that there is
	var first, warning *finding.Finding
	for _, c := range candidates {
		located, found := t.Finder.Locate(t.secretQuery(c))
		switch {
		case located == nil && found.Code == "secret.no-match":
			t.secrets[c] = &secret.Located{Place: "none found", None: true, Tried: append([]string{found.Cause}, found.Seen...)}
		case located == nil:
			return finding.Failed(found)
		default:
			t.secrets[c] = located
			if shown == nil {
				shown, warning = located, found
			}
		}
		if first == nil {
			first = found
		}
	}
	if shown == nil {
		return finding.Failed(first)
	}
	detail := shown.Place
	if shown.None && len(shown.Tried) > 0 {
		detail = "none found; the server may want none"
	}
	t.report.Facts.SecretSource = shown.Place
	if warning != nil {
		return finding.Warned(warning, "%s", detail)
	}
	return finding.Good("%s", detail)
}

// secretQuery says for which connection a secret is wanted.
func (t *test) secretQuery(c route.Candidate) secret.Query {
	p := t.profile
	source, _ := secret.ParseSource(p.Text("secret"))
	return secret.Query{Profile: p.Profile.Name, Source: source, Engine: p.Text("engine"), Host: c.Host, Socket: c.Folder, Port: strconv.Itoa(c.Port),
		Database: p.Text("database"), User: p.Text("user"), Local: c.Local()}
}

// findRoute says what the address comes to.
func (t *test) findRoute() ([]route.Candidate, finding.Result) {
	candidates, found := route.Candidates(t.profile)
	if found != nil {
		return nil, finding.Failed(found)
	}
	if len(candidates) == 1 {
		return candidates, finding.Good("direct to %s", candidates[0])
	}
	words := make([]string, len(candidates))
	for i, c := range candidates {
		words[i] = c.String()
	}
	return candidates, finding.Good("%d hosts in order, %s: %s", len(candidates), t.profile.Text("target"), strings.Join(words, ", "))
}

// tryCandidates goes through the servers that a profile may mean. A host that
// can't be reached, does not serve or is not the target wanted gives way to
// the next; one that refuses the login does not: the next would be sent the
// same password.
func (t *test) tryCandidates(ctx context.Context, candidates []route.Candidate) {
	var passed []string
	for i, c := range candidates {
		last := i == len(candidates)-1
		if !last {
			t.hold()
		}
		end := t.budget.end
		t.budget.end = t.budget.share(len(candidates) - i)
		t.candidate(ctx, c, &passed)
		t.budget.end = end
		if last || !t.givesWay() {
			break
		}
		passed = append(passed, fmt.Sprintf("%s: %s", c, t.whyPassed()))
		t.drop()
		if t.conv != nil {
			t.conv.Close()
			t.conv = nil
		}
	}
	t.release()
}

// givesWay reports whether the stages held back end in a failure that another
// host may not have.
func (t *test) givesWay() bool {
	if len(t.held) == 0 || t.over {
		return false
	}
	last := t.held[len(t.held)-1]
	if last.Outcome != finding.Fail {
		return false
	}
	area, _, _ := strings.Cut(last.Finding.Code, ".")
	return area == "name" || area == "reach" || area == "speak" || last.Finding.Code == "session.server-full" || last.Finding.Code == "session.target"
}

func (t *test) whyPassed() string {
	f := t.held[len(t.held)-1].Finding
	return fmt.Sprintf("%s (%s)", f.Cause, f.Code)
}

// candidate runs the stages that need a server.
func (t *test) candidate(ctx context.Context, c route.Candidate, passed *[]string) {
	t.aim(c)
	t.secret = t.secrets[c]
	t.report.Facts.SecretSource = t.secret.Place
	reached, ok := t.reach(ctx, c, *passed)
	if !ok {
		return
	}
	t.report.Facts.Route = reached.Address
	if reached.Network == "unix" {
		t.report.Facts.Route = "socket " + reached.Address
	}
	t.conv = t.plan.begin(reached.Conn, t.target(c, reached))
	carried := t.conv.Facts()
	carried.Route, carried.SecretSource, carried.User, carried.Database = t.report.Facts.Route, t.report.Facts.SecretSource, t.report.Facts.User, t.report.Facts.Database
	t.report.Facts = carried
	if !t.stage(ctx, "speak", t.conv.Speak) {
		return
	}
	if !t.stage(ctx, "tls", func(ctx context.Context) finding.Result {
		facts, result := t.conv.Encrypt(ctx)
		if t.onTLS != nil && facts != nil {
			t.onTLS(facts)
		}
		return result
	}) {
		return
	}
	t.logIn(ctx, *passed)
}

// aim gives the TLS rule the name that this candidate's certificate must carry.
func (t *test) aim(c route.Candidate) {
	t.plan.tls.Name, t.plan.tls.NameKey = t.profile.Text("tls-name"), "tls-name"
	if t.plan.tls.Name == "" {
		t.plan.tls.Name, t.plan.tls.NameKey = c.Host, t.profile.AddressKind()
	}
}

// reach resolves and dials. The name's stage is told after the dial where only
// that can say whether the first of its addresses was the right one.
func (t *test) reach(ctx context.Context, c route.Candidate, passed []string) (*route.Reached, bool) {
	name := t.profile.Profile.Name
	var addrs []netip.Addr
	wasHolding := t.holding
	t.hold()
	ok := t.stage(ctx, "name", func(ctx context.Context) (result finding.Result) {
		addrs, result = t.Network.Names(ctx, name, c)
		return result
	})
	if !mixed(addrs) && !wasHolding {
		t.release()
	}
	var reached *route.Reached
	ok = ok && t.stage(ctx, "reach", func(ctx context.Context) finding.Result {
		var tried []route.Attempt
		if reached, tried = t.Network.Reach(ctx, c, addrs); reached == nil {
			return finding.Failed(t.unreached(ctx, c, tried, passed))
		}
		detail := reached.Address + " accepts"
		if len(passed) > 0 {
			found := finding.New("reach.passed-over", "%s serves after %d of the hosts before it did not", c, len(passed))
			for _, p := range passed {
				found.Saw("%s", p)
			}
			return finding.Warned(found.Suggest("gharbor show %s   # the order of its hosts", name), "%s", detail)
		}
		return finding.Good("%s", detail)
	})
	if reached != nil && reached.Mixed() {
		for i := range t.held {
			if t.held[i].Stage == "name" {
				t.held[i].Outcome, t.held[i].Finding = finding.Warn, reached.MixedFinding(name, c.Host)
			}
		}
	}
	if !wasHolding && t.holding {
		t.release()
	}
	if !ok && reached != nil {
		reached.Conn.Close()
	}
	return reached, ok
}

func mixed(addrs []netip.Addr) bool {
	six := slices.ContainsFunc(addrs, netip.Addr.Is6)
	four := slices.ContainsFunc(addrs, netip.Addr.Is4)
	return six && four
}

// unreached is the finding for a server that did not accept, with what answers
// nearby where the address is this machine's.
func (t *test) unreached(ctx context.Context, c route.Candidate, tried []route.Attempt, passed []string) *finding.Finding {
	found := route.Unreached(t.profile.Profile.Name, c, tried)
	for _, p := range passed {
		found.Saw("before it, %s", p)
	}
	refused := found.Code == "reach.refused" || found.Code == "reach.socket-missing"
	if refused && c.Local() && ctx.Err() == nil {
		t.hintNearby(ctx, c, found)
	}
	return found
}

// hintNearby adds what else of the engine's answers on this machine.
func (t *test) hintNearby(ctx context.Context, c route.Candidate, found *finding.Finding) {
	name, word := t.profile.Profile.Name, t.profile.Text("engine")
	servers := t.Places.Answering(ctx, word, c.String())
	for _, s := range servers {
		at := s.Address
		fix := fmt.Sprintf("gharbor set %s %sport=%d", name, hostPart(c, s), s.Port)
		if s.Socket != "" {
			at = "the socket " + s.Socket
			fix = fmt.Sprintf("gharbor set %s host= hosts= socket=%s", name, clean.Shell(s.Socket))
			if c.Socket != "" {
				fix = fmt.Sprintf("gharbor set %s socket=%s", name, clean.Shell(s.Socket))
			} else if t.profile.AddressKind() == "host" {
				fix = fmt.Sprintf("gharbor set %s host= port= socket=%s", name, clean.Shell(s.Socket))
			}
		}
		if s.State != "answers" {
			found.Saw("%s is %s", at, s.What)
			continue
		}
		found.Saw("%s answers at %s", s.What, at)
		if s.Engine == word {
			found.Suggest("%s", fix)
		}
	}
	if !slices.ContainsFunc(servers, func(s nearby.Server) bool { return s.State == "answers" && s.Engine == word }) {
		found.Saw("no %s answers on its usual port and sockets either", word)
	}
	for _, s := range t.Places.Stopped(servers, word) {
		found.Saw("%s: %s", clean.Quoted(s.Name), s.What)
		found.Suggest("%s", s.Start)
	}
	found.Suggest("gharbor nearby")
}

// hostPart is what besides the port must change to get from c to s.
func hostPart(c route.Candidate, s nearby.Server) string {
	host, _, _ := net.SplitHostPort(s.Address)
	switch {
	case c.Socket != "":
		return "socket= host=" + host + " "
	case c.Host == host || c.Host == "localhost":
		return ""
	}
	return "host=" + host + " "
}

// target is what the engine needs to know for this connection.
func (t *test) target(c route.Candidate, reached *route.Reached) engine.Target {
	return engine.Target{
		Profile: t.profile.Profile.Name, User: t.profile.Text("user"), Database: t.profile.Text("database"),
		Network: reached.Network, Address: reached.Address, TLS: t.plan.tls,
		PeerChecked: reached.Network == "unix" && route.PeerChecked(reached.Conn, c.Folder),
		NoSecret:    t.secret.None, NoSecretTried: t.secret.Tried,
		TakeSecret: func(ctx context.Context) (secret.Value, error) {
			t.budget.pause()
			defer t.budget.resume()
			return t.secret.Take(ctx)
		},
		Redial: func(ctx context.Context) (net.Conn, error) {
			return t.Network.Dial(ctx, reached.Network, reached.Address)
		},
	}
}

// logIn runs the stages from the login on.
func (t *test) logIn(ctx context.Context, passed []string) {
	ok := t.stage(ctx, "login", func(ctx context.Context) finding.Result {
		login := t.conv.Login(ctx)
		if login.Outcome == finding.Fail && t.Admin != nil {
			t.lookUp(ctx, login.Finding)
		}
		return login
	})
	if !ok || !t.stage(ctx, "database", t.conv.Database) {
		return
	}
	if t.stage(ctx, "session", func(ctx context.Context) finding.Result { return t.judgeSession(ctx, passed) }) {
		t.stage(ctx, "expect", t.expect)
	}
}

// judgeSession weighs whether the session may write against what is wanted.
func (t *test) judgeSession(ctx context.Context, passed []string) finding.Result {
	result := t.conv.Session(ctx)
	f := t.conv.Facts()
	if result.Outcome == finding.Fail || f.Writable == nil {
		return result
	}
	name, target := t.profile.Profile.Name, t.profile.Text("target")
	have := map[bool]string{true: "writable", false: "read-only"}[*f.Writable]
	if (target == "writable" || target == "read-only") && have != target {
		found := finding.New("session.target", "the server at %s is %s, and target is %s", f.Route, have, target)
		for _, p := range passed {
			found.Saw("before it, %s", p)
		}
		return finding.Failed(found.Suggest("gharbor show %s   # its hosts and target", name))
	}
	if _, expected := t.profile.Get("expect.writable"); !*f.Writable && !expected && target != "read-only" {
		why := "the role or the database is set to read-only transactions"
		if f.InRecovery != nil && *f.InRecovery {
			why = "the server is a standby, or in recovery"
		}
		return finding.Warned(finding.New("session.read-only", "nothing can be written in this session: %s", why).
			Saw("transaction_read_only is on, pg_is_in_recovery() is %v", f.InRecovery != nil && *f.InRecovery).
			Suggest("gharbor set %s expect.writable=false   # if that is meant", name), "%s", result.Detail)
	}
	return result
}

// lookUp lets an administrator's profile find out what the server would not
// say, and says so.
func (t *test) lookUp(ctx context.Context, found *finding.Finding) {
	if found.Code != "login.password" && found.Code != "login.empty-password" {
		return
	}
	admin := *t.Runner
	admin.Admin, admin.Progress, admin.until = nil, nil, "session"
	name := t.Admin.Profile.Name
	t.budget.pause() // the look-up has a budget of its own, and may ask for a password
	report, conv := admin.run(ctx, t.Admin)
	t.budget.resume()
	if conv == nil || report.Outcome == finding.Fail {
		found.Saw("could not be looked up with the profile %s: %s", name, report.firstFailure().code())
		found.Suggest("gharbor test %s", name)
		return
	}
	defer conv.Close()
	bound, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	user := t.profile.Text("user")
	account, err := conv.Account(bound, user)
	if err != nil {
		found.Saw("could not be looked up with the profile %s: %s", name, clean.Line(err.Error(), 200))
		return
	}
	explainAccount(found, account, clean.Quoted(user), fmt.Sprintf("looked up with the profile %s at %s: ", name, report.Facts.Route), t.profile.Profile.Name)
}

func (s Stage) code() string {
	if s.Finding == nil {
		return "its test did not end"
	}
	return s.Finding.Code + ", " + s.Finding.Cause
}

// explainAccount makes the general refusal the particular one.
func explainAccount(found *finding.Finding, a *engine.Account, user, by, profileName string) {
	quoted := strings.ReplaceAll(strings.Trim(user, `"`), `"`, `""`)
	switch {
	case !a.Exists:
		found.Code, found.Cause = "login.no-such-role", fmt.Sprintf("there is no role %s on this server", user)
		found.Saw("%sno such role", by)
		if len(a.Near) > 0 {
			found.Saw("roles alike that may log in: %s", clean.Quoted(strings.Join(a.Near, ", ")))
		}
		found.Try = []string{fmt.Sprintf("gharbor set %s user=NAME", profileName), fmt.Sprintf(`as an administrator: CREATE ROLE "%s" LOGIN`, quoted)}
	case !a.MayLogIn:
		found.Code, found.Cause = "login.no-login-right", fmt.Sprintf("the role %s exists and may not log in", user)
		found.Saw("%sthe role has no LOGIN", by)
		found.Try = []string{fmt.Sprintf(`as an administrator: ALTER ROLE "%s" LOGIN`, quoted)}
	case a.ValidUntil != nil && time.Now().After(*a.ValidUntil):
		found.Code, found.Cause = "login.expired", fmt.Sprintf("the password of %s expired on %s", user, a.ValidUntil.Format(time.DateTime+" MST"))
		found.Saw("%sVALID UNTIL is %s", by, a.ValidUntil.Format(time.RFC3339))
		found.Try = []string{fmt.Sprintf(`as an administrator: ALTER ROLE "%s" VALID UNTIL 'infinity'`, quoted)}
	case a.Password != nil && !*a.Password:
		found.Code, found.Cause = "login.no-password-set", fmt.Sprintf("the role %s has no password, so none can be right", user)
		found.Saw("%sno password is stored", by)
		found.Try = []string{fmt.Sprintf(`as an administrator: ALTER ROLE "%s" PASSWORD 'NEW-PASSWORD'   # in a session, not in a shell's history`, quoted)}
	default:
		found.Cause = fmt.Sprintf("the password sent for %s is wrong", user)
		found.Saw("%sthe role exists, may log in and has not expired, so it is the password", by)
	}
}
