package cloud

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/cloud/tokens"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/secret"
)

// Accounts are the cloud accounts of a user, for one run of the program. It is an address.Clouds, and may be used by
// several goroutines.
type Accounts struct {
	File *profile.File
	Home string // the user's home folder

	// Vouch judges an account of a project's file, and gives the bytes of the files that it names as they were hashed.
	Vouch func(*profile.Cloud) (map[string][]byte, *finding.Finding)
	// Dial connects to host:port.
	Dial    func(ctx context.Context, network, address string) (net.Conn, error)
	Tokens  tokens.Store
	Secrets *secret.Finder

	// Once: what a service says of an instance that serves holds for the whole run.
	Once bool

	mu       sync.Mutex
	sessions map[string]*Session // by the account's name
	wanted   map[string][]string // instances that the run will ask for, by account
}

// Session prepares a session of the account of that name. It asks nothing yet.
func (a *Accounts) Session(name string) (*Session, *finding.Finding) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if s := a.sessions[name]; s != nil {
		return s, nil
	}
	table := a.File.FindCloud(name)
	if table == nil {
		return nil, finding.New(finding.CloudUnknownAccount, "there is no cloud account %s", name).
			Suggest("gharbor cloud list").
			Advise("define it: gharbor cloud add %s service=URL issuer=URL client=ID", name)
	}
	account := AccountOf(table, a.Home)
	if table.InProject() {
		pinned, found := a.Vouch(table)
		if found != nil {
			return nil, found
		}
		account.pinned = pinned
	}
	s, err := a.newSession(account)
	if err != nil {
		return nil, finding.New(finding.CloudBroken, "the cloud account %s can't be used", account.Called).
			Saw("%s", clean.Line(err.Error(), reasonAbout)).
			Advise("name the file: gharbor cloud set %s tls-ca=PATH", account.Called)
	}
	if a.sessions == nil {
		a.sessions = make(map[string]*Session)
	}
	a.sessions[name] = s
	return s, nil
}

// Expect notes which instances a run will ask for, so that one request asks for all of them.
func (a *Accounts) Expect(refs []cloudref.Ref) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.wanted == nil {
		a.wanted = make(map[string][]string)
	}
	for _, ref := range refs {
		if all := a.wanted[ref.Account]; ref.Instance != "" && !slices.Contains(all, ref.Instance) {
			a.wanted[ref.Account] = append(all, ref.Instance)
		}
	}
}

// expectedInstances are the instances of an account that the run will ask for, one of them first.
func (a *Accounts) expectedInstances(account, first string) []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	names := []string{first}
	for _, name := range a.wanted[account] {
		if name != first {
			names = append(names, name)
		}
	}
	return names
}

// Service is an address.Clouds' Service.
func (a *Accounts) Service(p address.Profile) (string, *finding.Finding) {
	s, found := a.sessionOf(p)
	if found != nil {
		return "", found
	}
	id, err := s.serviceID()
	if err != nil {
		return "", finding.New(finding.CloudBroken, "the cloud account %s can't be used", s.Called).
			Saw("%s", clean.Line(err.Error(), reasonAbout)).
			Advise("name the file: gharbor cloud set %s tls-ca=PATH", s.Called)
	}
	return id, nil
}

// sessionOf is the account of a profile's address.
func (a *Accounts) sessionOf(p address.Profile) (*Session, *finding.Finding) {
	return a.Session(address.CloudOf(p).Account)
}

// instanceCache keeps what a service said about instances.
type instanceCache struct {
	mu   sync.Mutex
	all  map[string]*wire.Instance // nil for one that the service does not know
	when map[string]time.Time

	trouble *finding.Finding // why the service gave no answer the last time; nil where it did
	since   time.Time
}

// How long an answer is used in one run: what changes by itself is asked for again at each try of a wait.
const (
	steadyFor   = 5 * time.Second
	changingFor = 300 * time.Millisecond
)

// instance is what the service says about an instance, at most a moment ago.
func (s *Session) instance(ctx context.Context, about Subject) (*wire.Instance, *finding.Finding) {
	s.known.mu.Lock()
	defer s.known.mu.Unlock()
	name := about.Ref.Instance
	if i, ok := s.known.all[name]; ok && s.fresh(i, time.Since(s.known.when[name])) {
		return i, nil
	}
	if s.known.trouble != nil && (s.from.Once || time.Since(s.known.since) < changingFor) {
		return nil, copyOf(s.known.trouble)
	}
	names := s.from.expectedInstances(about.Ref.Account, name)
	if s.known.all == nil {
		s.known.all, s.known.when = make(map[string]*wire.Instance), make(map[string]time.Time)
	} else if _, again := s.known.all[name]; again {
		names = names[:1]
	}
	got := make(map[string]*wire.Instance, len(names))
	found := s.Instances(ctx, names, func(i *wire.Instance) bool {
		if slices.Contains(names, i.Name) {
			got[i.Name] = i
		}
		return true
	})
	if s.known.trouble, s.known.since = found, time.Now(); found != nil {
		return nil, copyOf(found)
	}
	for _, one := range names {
		s.known.all[one], s.known.when[one] = got[one], time.Now()
	}
	return got[name], nil
}

// copyOf copies a finding, as each profile's test adds to its own.
func copyOf(found *finding.Finding) *finding.Finding {
	one := *found
	one.Seen, one.Try, one.Do = slices.Clone(found.Seen), slices.Clone(found.Try), slices.Clone(found.Do)
	return &one
}

// fresh reports whether the service's last answer about an instance is recent enough to use.
func (s *Session) fresh(i *wire.Instance, age time.Duration) bool {
	switch {
	case i == nil || !settled(&i.Place),
		slices.ContainsFunc(i.Branches, func(b wire.Branch) bool { return !settled(&b.Place) }):
		return age < changingFor
	case s.from.Once:
		return true
	}
	return age < steadyFor
}

// settled reports whether a place serves, by what its service says.
func settled(p *wire.Place) bool {
	return p.State == wire.Running && (p.Access == nil || p.Access.Rule == wire.InForce) && MissingFeature(p) == ""
}

// Place is an address.Clouds' Place.
func (a *Accounts) Place(ctx context.Context, p address.Profile) (*address.CloudAddress, *finding.Finding) {
	s, found := a.sessionOf(p)
	if found != nil {
		return nil, found
	}
	about := Subject{Ref: address.CloudOf(p), Profile: p.Name()}
	i, found := s.instance(ctx, about)
	switch {
	case found != nil:
		return nil, found
	case i == nil:
		return nil, s.missing(ctx, about)
	}
	place, found := s.placeOf(about, i)
	if found != nil {
		return nil, found
	}
	if found := unready(about, place, p.BehindHops()); found != nil {
		return nil, found
	}
	to, found := chooseAddress(about, place, p)
	if found != nil {
		return nil, found
	}
	id, found := a.Service(p)
	if found != nil {
		return nil, found
	}
	at := &address.CloudAddress{
		Ref:         about.Ref,
		Service:     id,
		Host:        to.Host,
		Port:        to.Port,
		Name:        to.TLSName,
		Detail:      detail(i, about.Ref, to),
		Certificate: place.Login == wire.ByCertificate,
		Explain:     explain(about, place),
	}
	if at.Name == "" {
		at.Name = to.Host
	}
	if place.Authority != "" {
		at.Authority = []byte(place.Authority)
	}
	if place.Login != "" {
		at.Mint = func(ctx context.Context) (*secret.Login, error) { return s.mint(ctx, about, place.Login, p) }
	}
	return at, nil
}

// missing is the finding for an instance that the service does not know, with near names where the list is short.
func (s *Session) missing(ctx context.Context, about Subject) *finding.Finding {
	const most = 1000
	var names []string
	found := s.Instances(ctx, nil, func(i *wire.Instance) bool {
		names = append(names, i.Name)
		return len(names) < most
	})
	if found != nil {
		names = nil
	}
	ref := about.Ref
	ref.Branch = ""
	return s.explainUnknown(Subject{ref, about.Profile}, names)
}

// unready is the finding for an instance that takes no connection yet, nil for one that does.
func unready(about Subject, p *wire.Place, behindHops bool) *finding.Finding {
	switch p.State {
	case wire.Paused, wire.Stopped:
		return explainPause(about, p.State)
	case wire.Starting:
		return starting(about)
	case wire.Failed:
		return finding.New(finding.CloudFailed, "the service says that the %s has failed", describe(about)).
			Suggest("gharbor cloud instances %s", about.Ref.Account)
	}
	if feature := MissingFeature(p); feature != "" {
		return featureOff(about, feature)
	}
	if p.Access == nil || behindHops { // which of its addresses the service sees is the hop's then
		return nil
	}
	switch p.Access.Rule {
	case wire.NoRule:
		return notAllowed(about, p.Access.Address)
	case wire.Pending:
		return rulePending(about, p.Access.Address)
	}
	return nil
}

// chooseAddress returns the address to dial: the public one, or behind hops the private one.
func chooseAddress(about Subject, place *wire.Place, p address.Profile) (*wire.Address, *finding.Finding) {
	kind := wire.Public
	if p.BehindHops() {
		kind = wire.Private
	}
	for i := range place.Addresses {
		to := &place.Addresses[i]
		if to.Kind != kind {
			continue
		}
		if _, given := p.HostEntry(to.Host); !given {
			if found := new(address.CloudAddress).CheckHost(p, to.Host); found != nil {
				return nil, found
			}
		}
		return to, nil
	}
	found := finding.New(finding.CloudNoAddress, "the %s has no %s address", describe(about), kind)
	if kind == wire.Public {
		return nil, found.Advise("reach its private one: gharbor hop add %s host=JUMP-HOST user=NAME", about.Profile)
	}
	return nil, found.Suggest("gharbor cloud instances %s   # its addresses", about.Ref.Account)
}

// detail says what an instance is and how it is reached.
func detail(i *wire.Instance, ref cloudref.Ref, to *wire.Address) string {
	text := "instance " + i.Name
	if ref.Branch != "" {
		text = "branch " + ref.Branch + " of " + text
	}
	if i.Region != "" {
		text += " in " + clean.Line(i.Region, 60)
	}
	return fmt.Sprintf("%s, %s address %s:%d", text, to.Kind, to.Host, to.Port)
}

// explain adds to the finding of a failed connection what the service says about the network.
func explain(about Subject, place *wire.Place) func(context.Context, *finding.Finding) *finding.Finding {
	return func(_ context.Context, found *finding.Finding) *finding.Finding {
		switch {
		case !found.Is(finding.ReachTimeout, finding.ReachRefused):
		case place.Access != nil && place.Access.Rule == wire.InForce:
			found.Saw("the service says that the instance runs, and that a rule lets %s in", place.Access.Address)
		default:
			found.Saw("the service says that the instance runs, and that its network is open")
		}
		return found
	}
}

// errOther refuses a login that is for another instance.
var errOther = errors.New("it was asked for a login at one instance and answers with another's")
