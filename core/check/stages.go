package check

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// testPlan has what the stages before the first dial found.
type testPlan struct {
	begin engine.Begin
	tls   *tlsrule.Plan
}

// checkProfile asks whether the profile is complete and consistent.
func (t *test) checkProfile(ctx context.Context) finding.Result {
	p := t.profile
	name := p.Called
	if found := p.Problem(); found != nil {
		return finding.FailWith(found)
	}
	if p.AliasProblem() != nil {
		return finding.Good("%s, line %d (its alias is not looked up yet)", clean.Line(filepath.Base(p.Path()), 120),
			p.Profile.Line)
	}
	if found := Untestable(p); found != nil {
		return finding.FailWith(found)
	}
	word, spec := p.Text(key.Engine), p.Engine()
	t.plan.begin = spec.Begin
	settings := tlsrule.Settings{
		Profile: name,
		Rule:    tlsrule.Rule(p.Text(key.TLS)),
		CA:      p.Text(key.TLSCA),
		Cert:    p.Text(key.TLSCert),
		Key:     p.Text(key.TLSKey),
		CRL:     p.Text(key.TLSCRL),
		Pinned:  p.PinnedFiles(),

		KeyPassphrase: t.keyPassphrase(p),
	}
	var found *finding.Finding
	if t.plan.tls, found = tlsrule.Load(ctx, settings); found != nil {
		return finding.FailWith(found)
	}
	detail := word
	if p.Path() != "" {
		detail = fmt.Sprintf("%s at %s, line %d", word, clean.Line(filepath.Base(p.Path()), 120), p.Profile.Line)
	}
	if found := idleAddressKeys(p); found != nil {
		return finding.WarnWith(found, "%s", detail)
	}
	if found := idleTLS(p); found != nil {
		return finding.WarnWith(found, "%s", detail)
	}
	if found := idleKeys(p, spec); found != nil {
		return finding.WarnWith(found, "%s", detail)
	}
	if secret, _ := p.Get(key.Secret); secret.Value.Text() != "command" {
		if _, ok := p.Get(key.Command); ok {
			return finding.WarnWith(finding.New(finding.ProfileConflict, "command has no effect: secret says %s",
				clean.Quote(secret.Value.Text())).
				Saw("secret is from %s", secret.Origin).
				Suggest("gharbor set %s secret=command", name), "%s", detail)
		}
	}
	return finding.Good("%s", detail)
}

// locateSecret finds the place of the password for each server of the profile (a password file may have a line for
// each). It reads no password.
func (t *test) locateSecret(ctx context.Context) finding.Result {
	candidates, found := t.servers(ctx)
	if found != nil && t.profile.Address().Asked {
		return finding.Result{Outcome: finding.Skip, Detail: "not read yet"}
	}
	if found != nil {
		return finding.FailWith(found)
	}
	places, found := locate(ctx, t.Finder, t.profile, candidates)
	if places == nil {
		return finding.FailWith(found)
	}
	t.secrets = places.at
	shown, warning := places.first, found
	detail := shown.Place
	if shown.None && len(shown.Tried) > 0 {
		detail = "none found (the server may want none)"
	}
	t.stages.report.Facts.SecretSource = shown.Place
	said, hopFound := t.locateHopSecrets(ctx)
	if hopFound != nil {
		return finding.FailWith(hopFound)
	}
	detail += said
	if warning != nil {
		return finding.WarnWith(warning, "%s", detail)
	}
	return finding.Good("%s", detail)
}

// secretPlaces are the places of each server's secret.
type secretPlaces struct {
	at    map[address.Candidate]*secret.Location
	first *secret.Location // of the first server that has one
}

// locate finds where the secret of each server is. The finding is nil or a warning where there are places.
func locate(ctx context.Context, finder *secret.Finder, p *resolve.Profile,
	candidates []address.Candidate) (*secretPlaces, *finding.Finding) {
	all := &secretPlaces{at: make(map[address.Candidate]*secret.Location, len(candidates))}
	var first, warning *finding.Finding
	for _, c := range candidates {
		located, found := finder.Locate(ctx, secretQuery(p, c))
		switch {
		case located == nil && found.Code == finding.SecretNoMatch:
			all.at[c] = &secret.Location{Place: "none found", None: true, Tried: append([]string{found.Cause}, found.Seen...)}
		case located == nil:
			return nil, found
		case all.first != nil && located.Place == all.first.Place:
			all.at[c] = all.first
		default:
			all.at[c] = located
			if all.first == nil || all.first.None && !located.None {
				all.first, warning = located, found
			}
		}
		if first == nil {
			first = found
		}
	}
	if all.first == nil {
		return nil, first
	}
	return all, warning
}

// secretQuery says for which connection a secret is wanted.
func secretQuery(p *resolve.Profile, c address.Candidate) secret.Query {
	source, _ := secret.ParseSource(p.Text(key.Secret))
	q := secret.Query{
		Profile:      p.Called,
		Source:       source,
		Command:      p.Command(),
		Folder:       p.SecretFolder(),
		Hops:         p.BoundHops(),
		Engine:       p.Text(key.Engine),
		Family:       p.Schema().Engines().FamilyOf(p.Text(key.Engine)),
		Credentials:  credentials(p),
		Host:         c.Host,
		Socket:       c.Folder,
		Port:         strconv.Itoa(c.Port),
		Database:     p.Text(key.Database),
		User:         p.Text(key.User),
		Local:        c.Local(),
		Address:      c.String(),
		TLS:          p.Text(key.TLS),
		TLSAuthority: p.Text(key.TLSCA),
		TLSName:      p.Text(key.TLSName),
		ServerKey:    p.Text(key.ServerKey),
		Project:      !p.Own(),
		Pinned:       p.PinnedFiles(),
		Recheck:      p.Recheck(),
		Aliases:      links(p),
		PortOverride: address.PortOverride(p),
		Told:         c.AnsweredBy(),
	}
	if c.Cloud != nil {
		q.Instance, q.Service, q.Mint = c.Cloud.Ref.Within(), c.Cloud.Service, c.Cloud.Mint
	}
	if c.Container != nil {
		q.Container, q.Endpoint, q.Declared = c.Container.Ref.String(), c.Container.Endpoint, c.Container.Declared
	}
	return q
}

// credentials is the file in which the own clients of the profile's engine keep passwords; nil for none.
func credentials(p *resolve.Profile) secret.CredentialFile {
	if spec := p.Engine(); spec != nil {
		return spec.Credentials
	}
	return nil
}

// findRoute says where the address leads.
func (t *test) findRoute(ctx context.Context) finding.Result {
	candidates, found := t.servers(ctx)
	if found != nil {
		return finding.FailWith(found)
	}
	if in := candidates[0].Container; in != nil {
		return t.routeIn(in)
	}
	result := t.describeRoute(candidates)
	if t.profile.Service() != nil && result.Outcome == finding.OK {
		return t.routeByAlias(result.Detail)
	}
	return result
}

// describeRoute says how the candidates are reached.
func (t *test) describeRoute(candidates []address.Candidate) finding.Result {
	if len(t.profile.Hops()) > 0 {
		return t.planHops(candidates)
	}
	if in := candidates[0].Cloud; in != nil {
		return finding.Good("%s", in.Detail)
	}
	if len(candidates) == 1 {
		told := candidates[0].Source
		if told != "" {
			told = ", by " + told
		}
		return finding.Good("direct to %s%s%s", candidates[0], told, t.overTCP(candidates[0]))
	}
	words := make([]string, len(candidates))
	for i, c := range candidates {
		words[i] = c.String()
	}
	order := map[string]string{"random": "at random", "fastest": "fastest first"}[t.pick()]
	if order == "" {
		order = "in order"
	}
	return finding.Good("%d hosts %s, %s: %s", len(candidates), order, t.targetText(), strings.Join(words, ", "))
}

// targetText is which of several servers will do.
func (t *test) targetText() string {
	target := t.profile.Text(key.Target)
	if t.Writes && len(t.candidates) > 1 && (target == "" || target == "any") {
		return "writable"
	}
	return target
}

// overTCP says that localhost means TCP here, where the engine's own clients would use the socket.
func (t *test) overTCP(c address.Candidate) string {
	if c.Host == "localhost" && t.profile.Engine().Sockets.Localhost {
		return ", over TCP (for the Unix socket set socket)"
	}
	return ""
}

// target is what the engine needs to know for this connection.
func (a *attempt) target(reached *route.Connection) engine.Target {
	t, by := a.test, a.aliasOrigin("service", "instance")
	admin := ""
	var helper func() string
	switch {
	case t.Admin != nil:
		admin = t.Admin.Called
	case t.Administrator != nil:
		helper = func() string { return t.Administrator(t.profile) }
	}
	return engine.Target{
		Admin:       admin,
		Helper:      helper,
		Rotates:     a.rotates(),
		Alias:       by.Alias,
		AliasAt:     by.String(),
		Profile:     t.profile.Called,
		User:        t.profile.Text(key.User),
		Database:    t.database(),
		Parameters:  t.parameters(),
		ReadOnly:    t.readOnly,
		Network:     reached.Network,
		Address:     reached.Address,
		TLS:         t.plan.tls,
		TLSDirect:   t.profile.Text(key.TLSStart) == "direct",
		ServerKey:   t.profile.Text(key.ServerKey),
		Pinned:      t.profile.PinnedFiles(),
		PeerChecked: reached.Network == "unix" && !a.at.ViaHop && route.PeerChecked(reached.Conn, a.at.Folder),
		ListenerChecked: func() bool {
			return reached.Network == "tcp" && !a.at.ViaHop && (a.at.Container != nil || route.LoopbackChecked(reached.Conn))
		},
		AuthDatabase:  t.profile.Text(key.AuthDatabase),
		Greetings:     t.profile.Schema().Engines().Greetings(),
		Thorough:      t.thorough,
		ForStatements: t.statements,
		NoSecret:      a.secret.None,
		Typed:         a.secret.Typed,
		NoSecretTried: a.secret.Tried,
		Service:       t.profile.Text(key.Service),
		Instance:      t.profile.Text(key.Instance),
		As:            t.profile.Text(key.As),
		Follow:        a.follow,
		TakeSecret: func(ctx context.Context) (secret.Value, error) {
			t.budget.pause()
			defer t.budget.resume()
			value, err := a.secret.Take(ctx)
			a.taken = err == nil && value.Present()
			return value, err
		},
		Redial: t.redial(reached),
	}
}

// rotates reports whether a new password can be written to the profile's source.
func (a *attempt) rotates() bool {
	q := secretQuery(a.profile, a.at)
	return q.Source.Kind != "default" && a.Finder != nil && a.Finder.CanPut(q) == nil
}

// redial makes further connections to the same address; nil where there may be none.
func (t *test) redial(reached *route.Connection) func(context.Context) (net.Conn, error) {
	if t.single && t.request == nil { // a program may cancel by another connection
		return nil
	}
	if t.link != nil {
		return func(ctx context.Context) (net.Conn, error) { return t.link.Dial(ctx, reached.Network, reached.Address) }
	}
	return func(ctx context.Context) (net.Conn, error) {
		return t.Network.Dial(ctx, reached.Network, reached.Address)
	}
}

// logIn runs the stage login.
func (a *attempt) logIn(ctx context.Context) finding.Result {
	minted, found := a.mint(ctx)
	if found != nil {
		return finding.FailWith(found)
	}
	login := a.conv.Login(ctx)
	switch {
	case minted == nil:
	case login.Outcome == finding.Fail:
		login.Finding.Saw("the login %s was made by the service of the cloud, and ends at %s",
			clean.Quote(minted.User), minted.Until.Local().Format(time.TimeOnly))
	default:
		login.Detail = fmt.Sprintf("expires at %s; %s", minted.Until.Local().Format(time.TimeOnly), login.Detail)
	}
	if login.Outcome == finding.Fail && a.Admin != nil {
		a.lookUp(login.Finding)
	}
	if name := a.profile.Called; login.Outcome == finding.Fail && a.Rotating != nil && a.Rotating(name) {
		login.Finding.Saw("a rotation of its password was broken off: the server may have the new one already")
		login.Finding.Try = append([]string{"gharbor secret rotate " + name + " -resume"}, login.Finding.Try...)
	}
	a.conv.Facts().SecretTaken, a.conv.Facts().SecretTyped = a.taken, a.taken && a.secret.Typed
	return a.explainAddress(ctx, login)
}

// mint lets the profile's cloud make a login, and logs in as its user; nil where the secret has another source.
func (a *attempt) mint(ctx context.Context) (*secret.Login, *finding.Finding) {
	if a.secret.Mint == nil {
		return nil, nil
	}
	login, err := a.secret.Mint(ctx)
	var failure *secret.Failure
	switch {
	case errors.As(err, &failure):
		return nil, failure.Found
	case err != nil:
		return nil, finding.New(finding.CloudUnreachable, "the service made no login").
			Saw("%s", clean.Line(err.Error(), 200)).
			Suggest("gharbor test %s", a.profile.Called)
	}
	a.conv.LogInAs(login.User)
	a.conv.Facts().User = login.User
	return login, nil
}

// openDatabase runs the stage database.
func (a *attempt) openDatabase(ctx context.Context) finding.Result {
	opened := a.conv.Database(ctx)
	if opened.Outcome == finding.Fail && a.Admin != nil {
		a.lookUp(opened.Finding)
	}
	return opened
}

// judgeSession compares whether the session may write with what the profile wants.
func (a *attempt) judgeSession(ctx context.Context) finding.Result {
	result := a.conv.Session(ctx)
	f := a.conv.Facts()
	if result.Outcome == finding.Fail || f.Writable == nil {
		return result
	}
	name, target := a.profile.Called, a.targetText()
	have := map[bool]string{true: "writable", false: "read-only"}[*f.Writable]
	if (target == "writable" || target == "read-only") && have != target {
		found := finding.New(finding.SessionTarget, "the server at %s is %s, but target is %s", f.Route, have, target)
		a.sawPassed(found)
		return finding.FailWith(found.Suggest("gharbor show %s   # its hosts and target", name))
	}
	if result.Outcome == finding.Warn { // what the engine says is graver
		return result
	}
	if _, expected := a.profile.Get(key.ExpectWritable); !*f.Writable && !expected && target != "read-only" {
		return finding.WarnWith(finding.New(finding.SessionReadOnly, "this session is read-only").
			Saw("%s", f.ReadOnlyBy).
			Suggest("gharbor set %s expect.writable=false   # if that is intended", name), "%s", result.Detail)
	}
	return result
}
