package check

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
)

// tryCandidates tries the servers of a profile in order. It goes on to the next where a host can't be reached, does
// not serve, or is not the wanted target. It stops where a login is refused: the next server would get the same
// password. An alias may set that all are tried again.
func (t *test) tryCandidates(ctx context.Context) {
	candidates := t.arrange(ctx, t.candidates)
	round := candidates
	for range t.profile.Service().Retries() {
		candidates = append(slices.Clip(candidates), round...)
	}
	whole := t.budget
	for i, c := range candidates {
		if i > 0 && i%len(round) == 0 {
			t.pauseBeforeRetry()
		}
		if i == len(candidates)-1 {
			t.attempt(ctx, c)
			return
		}
		t.stages.begin()
		t.budget = whole.part(len(candidates) - i)
		t.attempt(ctx, c)
		t.budget.stop()
		t.budget = whole
		why := t.stages.failure()
		if why == nil || t.stopped || !why.Code.GivesWay() {
			t.stages.commit()
			return
		}
		t.passOver(c, why)
	}
}

// pauseBeforeRetry waits a moment before all addresses are tried again.
func (t *test) pauseBeforeRetry() {
	const pause = 300 * time.Millisecond
	select {
	case <-t.budget.context().Done():
	case <-time.After(pause):
	}
}

// passedHost is a host that failed, and after which the next was tried.
type passedHost struct {
	host    address.Candidate
	why     *finding.Finding
	trouble bool // it should have served; else it was only not the target
}

func (p passedHost) String() string {
	return fmt.Sprintf("%s: %s (%s)", p.host, p.why.Cause, p.why.Code)
}

// passOver drops the attempt at a server, and keeps the reason.
func (t *test) passOver(c address.Candidate, why *finding.Finding) {
	t.stages.discard()
	t.passed = slices.DeleteFunc(t.passed, func(p passedHost) bool { return p.host == c }) // of a round before
	t.passed = append(t.passed, passedHost{c, why, why.Code != finding.SessionTarget})
	t.last.close()
}

// attempt is the try of one server that the profile may mean.
type attempt struct {
	*test
	at      address.Candidate
	secret  *secret.Location
	taken   bool                // the secret was asked for, and handed over
	conv    engine.Conversation // nil before a connection is there
	network string              // of conv: "tcp" or "unix"
	from    string              // the address of its end here, "" for a socket
}

// attempt runs the stages that need a server.
func (t *test) attempt(ctx context.Context, c address.Candidate) {
	a := &attempt{test: t, at: c, secret: t.secrets[c]}
	t.last = a
	t.setTLSName(c)
	t.stages.report.Facts.SecretSource = a.secret.Place
	reached, ok := t.reach(ctx, c)
	if !ok {
		return
	}
	a.converse(reached)
	t.runSteps(ctx, []step{
		{"speak", func(ctx context.Context) finding.Result {
			return a.greetProgram(a.explainAddress(ctx, a.conv.Speak(ctx)))
		}},
		{"tls", a.encrypt},
		{"login", a.logIn},
		{"database", a.openDatabase},
		{"session", a.judgeSession},
		{"expect", a.expect},
	})
}

// close ends the attempt's conversation.
func (a *attempt) close() {
	if a.conv != nil {
		a.conv.Close()
		a.conv = nil
	}
}

// converse begins the conversation on a connection.
func (a *attempt) converse(reached *route.Connection) {
	known := a.stages.report.Facts
	known.Route = reached.Address
	if reached.Network == "unix" {
		known.Route = "socket " + reached.Address
	}
	known.Route += a.describeHops()
	if a.at.Container != nil {
		known.Route += " in container " + a.at.Container.Name
	}
	a.conv, a.network = a.plan.begin(reached.Conn, a.target(reached)), reached.Network
	if host, _, err := net.SplitHostPort(reached.Conn.LocalAddr().String()); err == nil && a.link == nil {
		a.from = host
	}
	carried := a.conv.Facts()
	carried.Route, carried.SecretSource = known.Route, known.SecretSource
	carried.User, carried.Database = known.User, known.Database
	a.stages.report.Facts = carried
}

// encrypt runs the stage tls.
func (a *attempt) encrypt(ctx context.Context) finding.Result {
	if in := a.at.Cloud; in != nil && in.Certificate && a.secret.Mint != nil { // the handshake needs it
		minted, found := a.mint(ctx)
		if found != nil {
			return finding.FailWith(found)
		}
		a.plan.tls.Present(minted.Certificate)
	}
	facts, result := a.conv.Encrypt(ctx)
	if a.onTLS != nil && facts != nil {
		a.onTLS(facts)
	}
	return result
}

// setTLSName sets the name that this candidate's certificate must have.
func (t *test) setTLSName(c address.Candidate) {
	t.plan.tls.Name, t.plan.tls.NameKey = t.profile.Text(key.TLSName), "tls-name"
	if t.plan.tls.Name == "" {
		t.plan.tls.Name, t.plan.tls.NameKey = c.CertificateName(), string(t.profile.Address().Key)
	}
	if c.Cloud != nil && c.Cloud.Authority != nil {
		t.plan.tls.Trust(c.Cloud.Authority)
	}
}

// reach resolves and dials. A name with several addresses is recorded after the dial: only then is it known whether
// its first address was the right one.
func (t *test) reach(ctx context.Context, c address.Candidate) (*route.Connection, bool) {
	if t.link != nil {
		return t.reachThrough(ctx, c)
	}
	profileName := t.profile.Called
	var addrs []netip.Addr
	name, ok := t.run(ctx, step{"name", func(ctx context.Context) (result finding.Result) {
		addrs, result = t.Network.Names(ctx, profileName, c)
		if result.Outcome != finding.Fail && c.Cloud != nil && c.StaticHost == nil {
			result = t.refuseLocal(c.Cloud, addrs, result)
		}
		if result.Outcome == finding.Fail {
			t.addHosts(result.Finding)
		}
		return result
	}})
	unsettled := ok && hasBothFamilies(addrs)
	if name.Stage != "" && !unsettled {
		t.stages.record(name)
	}
	if !ok {
		return nil, false
	}
	var reached *route.Connection
	end, ok := t.run(ctx, step{"reach", func(ctx context.Context) finding.Result {
		ctx, cancel := t.patience(ctx)
		defer cancel()
		var tried []route.Attempt
		if reached, tried = t.Network.Reach(ctx, c, addrs); reached == nil {
			return finding.FailWith(t.explainContained(ctx, c, t.explainUnreached(ctx, c, tried)))
		}
		return t.reachResult(c, reached)
	}})
	if reached != nil && reached.FellBack() {
		name.Outcome, name.Finding = finding.Warn, reached.MixedFinding(profileName, c)
	}
	if unsettled {
		t.stages.record(name)
	}
	t.stages.record(end)
	if !ok && reached != nil {
		reached.Conn.Close()
	}
	return reached, ok
}

// refuseLocal refuses a name from a cloud's service that resolves to this machine.
func (t *test) refuseLocal(in *address.CloudAddress, addrs []netip.Addr, result finding.Result) finding.Result {
	for _, addr := range addrs {
		if found := in.CheckHost(t.profile, addr.String()); found != nil {
			return finding.FailWith(found)
		}
	}
	return result
}

// patience bounds how long one address may take to accept, where the alias says so.
func (t *test) patience(ctx context.Context) (context.Context, context.CancelFunc) {
	if limit := t.profile.Service().ConnectTimeout(); limit > 0 {
		return context.WithTimeout(ctx, limit)
	}
	return ctx, func() {}
}

// reachResult is the result for a server that took the connection, with the hosts that failed before it.
func (t *test) reachResult(c address.Candidate, reached *route.Connection) finding.Result {
	detail := reached.Address + " accepts"
	if len(t.passed) == 0 {
		if found := t.otherAddresses(c, reached); found != nil {
			return finding.WarnWith(found, "%s", detail)
		}
		return finding.Good("%s", detail)
	}
	var down []string
	for _, p := range t.passed {
		if p.trouble {
			down = append(down, p.host.String())
		}
	}
	if len(down) == 0 { // a standby before the primary is as it is meant to be
		return finding.Good("%s, host number %d: the ones before are not %s", detail, len(t.passed)+1,
			t.targetText())
	}
	verb := "are"
	if len(down) == 1 {
		verb = "is"
	}
	found := finding.New(finding.ReachPassedOver, "%s %s down; %s was used", strings.Join(down, ", "), verb, c)
	for _, p := range t.passed {
		found.Saw("%s", p)
	}
	return finding.WarnWith(found.Suggest("gharbor show %s   # the order of its hosts", t.profile.Called), "%s",
		detail)
}

// otherAddresses is the warning for a name with an earlier address that does not serve; nil for none. The stage name
// warns where they are of two families.
func (t *test) otherAddresses(c address.Candidate, reached *route.Connection) *finding.Finding {
	if len(reached.Refused) == 0 || reached.FellBack() {
		return nil
	}
	found := finding.New(finding.ReachPassedOver, "the name %s has an address that does not serve: %s; %s was used",
		clean.Quote(c.Host), reached.Refused[0].Address, reached.Address)
	for _, a := range reached.Refused {
		found.Saw("%s: %s", a.Address, route.Reason(a.Err))
	}
	return found.Saw("a program that takes one of the addresses fails whenever it takes another").
		Suggest("gharbor show %s   # the host and where it is from", t.profile.Called)
}

// addHosts adds to a host name's finding what the hosts before it said, and where the
// name is written.
func (t *test) addHosts(found *finding.Finding) {
	t.sawPassed(found)
	if found.Code != finding.NameUnknown {
		return
	}
	if suggest := t.profile.Address().UnknownName; suggest != nil {
		suggest(t.profile, found)
	}
}

// sawPassed adds why the hosts before it failed.
func (t *test) sawPassed(found *finding.Finding) {
	for _, p := range t.passed {
		found.Saw("before it, %s", p)
	}
}

func hasBothFamilies(addrs []netip.Addr) bool {
	six := slices.ContainsFunc(addrs, netip.Addr.Is6)
	four := slices.ContainsFunc(addrs, netip.Addr.Is4)
	return six && four
}

// explainUnreached returns the finding for a server that did not accept, with what answers
// nearby where the address is this machine's.
func (t *test) explainUnreached(ctx context.Context, c address.Candidate, tried []route.Attempt) *finding.Finding {
	found := route.ExplainUnreached(t.profile.Called, c, tried)
	if limit := t.profile.Service().Text(key.ConnectTimeout); limit != "" && found.Code == finding.ReachTimeout {
		found.Saw("the alias gives an address %s to accept (connect-timeout)", limit)
	}
	t.sawPassed(found)
	if step := t.profile.Engine().RefusedDo; found.Code == finding.ReachRefused && step != "" {
		found.Advise("%s", step)
	}
	refused := found.Code == finding.ReachRefused || found.Code == finding.ReachSocketMissing
	if refused && c.Local() && !c.IsAnswered() && !t.single && ctx.Err() == nil {
		t.hintNearby(ctx, c, found)
	}
	return found
}

// hintNearby adds the engine's servers that answer on this machine.
func (t *test) hintNearby(ctx context.Context, c address.Candidate, found *finding.Finding) {
	name, word := t.profile.Called, t.profile.Text(key.Engine)
	if t.hintLoopback(ctx, c, found) {
		return
	}
	servers := t.answering(ctx, word, c.String())
	for _, s := range servers {
		at := s.Address
		fix := fmt.Sprintf("gharbor set %s %sport=%d", name, hostPart(c, s), s.Port)
		if s.Socket != "" {
			at = "the socket " + s.Socket
			fix = fmt.Sprintf("gharbor set %s %s socket=%s", name, cmp.Or(t.profile.Address().Replace, "host= hosts="),
				clean.Shell(s.Socket))
			if c.Socket != "" {
				fix = fmt.Sprintf("gharbor set %s socket=%s", name, clean.Shell(s.Socket))
			}
		}
		if s.State != "answers" {
			found.Saw("%s is %s", at, s.What)
			continue
		}
		found.Saw("%s answers at %s", s.What, at)
		if t.profile.Schema().Engines().SameFamily(s.Engine, word) {
			found.Suggest("%s", fix)
		}
	}
	if !slices.ContainsFunc(servers,
		func(s nearby.Server) bool {
			return s.State == "answers" && t.profile.Schema().Engines().SameFamily(s.Engine, word)
		}) {
		found.Saw("no %s server answers on the usual port and sockets either", word)
	}
	t.hintContainers(ctx, c, found)
	for _, p := range t.Places.JustStarted(word) {
		found.Saw("the process %s (%d) started %s ago: the server may still be starting, or not listen here",
			p.Name, p.PID, p.Age)
	}
	for _, s := range t.Places.StoppedServices(servers, word) {
		found.Saw("%s: %s", clean.Quote(s.Name), s.What)
		found.Suggest("%s", s.Start)
	}
	found.Suggest("gharbor nearby")
}

// hintLoopback adds that the other loopback address answers at the same port: a server may listen on one of the two.
func (t *test) hintLoopback(ctx context.Context, c address.Candidate, found *finding.Finding) bool {
	other := map[string]string{"127.0.0.1": "::1", "::1": "127.0.0.1"}[c.Host]
	if other == "" {
		return false
	}
	at := net.JoinHostPort(other, strconv.Itoa(c.Port))
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	conn, err := t.Network.Dial(ctx, "tcp", at)
	if err != nil {
		return false
	}
	conn.Close()
	found.Saw("%s accepts: the server listens only on that address", at)
	found.Suggest("gharbor test %s -override host=%s", t.profile.Called, other)
	found.Suggest("gharbor set %s host=%s", t.profile.Called, other)
	return true
}

// hostPart are the changes besides the port that lead from c to s.
func hostPart(c address.Candidate, s nearby.Server) string {
	host, _, _ := net.SplitHostPort(s.Address)
	switch {
	case c.Socket != "":
		return "socket= host=" + host + " "
	case c.Host == host || c.Host == "localhost":
		return ""
	}
	return "host=" + host + " "
}
