package cloud

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"iter"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/cloud/wire"
	"gentleharbor/standin/authority"
)

// splitSlash splits the name of an instance and its branch.
func splitSlash(name string) iter.Seq[string] { return strings.SplitSeq(name, "/") }

// ServeHTTP answers the issuer's requests and the service's.
func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.requests = append(p.requests, r.Method+" "+r.URL.RequestURI())
	path := r.URL.Path
	switch {
	case path == "/.well-known/oauth-authorization-server":
		p.metadata(w)
	case path == "/device" && r.Method == http.MethodPost:
		p.device(w, r)
	case path == "/token" && r.Method == http.MethodPost:
		p.token(w, r)
	case path == "/revoke" && r.Method == http.MethodPost && !p.NoRevoke:
		p.revoke(w, r)
	case path == "/confirm":
		p.confirmPage(w, r)
	case strings.HasPrefix(path, "/v1/"):
		if !p.misbehave(w, r) {
			p.answer(w, r)
		}
	default:
		http.NotFound(w, r)
	}
}

// misbehave commits the service's faults.
func (p *Provider) misbehave(w http.ResponseWriter, r *http.Request) bool {
	p.count++
	switch {
	case p.has(Huge):
		w.Header().Set("Content-Type", "application/json")
		for range 4 << 10 {
			if _, err := w.Write(bytes.Repeat([]byte("ebb and flow "), 100)); err != nil {
				break
			}
		}
	case p.has(Slow):
		w.WriteHeader(http.StatusOK)
		for range 20 {
			w.Write([]byte(" "))
			http.NewResponseController(w).Flush()
			time.Sleep(time.Second)
		}
	case p.has(Redirect):
		http.Redirect(w, r, "https://elsewhere.saltmarsh.example/v1"+r.URL.Path, http.StatusFound)
	case p.has(Garbage):
		w.Write([]byte("tide\x1b]0;gone\x07 table"))
	case p.has(TooMany) && p.count%2 == 1:
		w.Header().Set("Retry-After", "1")
		problem(w, http.StatusTooManyRequests, wire.TooMany, wire.Problem{})
	case p.has(Unavailable) && p.count%2 == 1, p.has(Gone):
		w.WriteHeader(http.StatusServiceUnavailable)
	default:
		return false
	}
	return true
}

func problem(w http.ResponseWriter, status int, kind wire.Kind, p wire.Problem) {
	p.Type, p.Status = wire.Prefix+string(kind), status
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(p)
}

// answer answers a request of the service.
func (p *Provider) answer(w http.ResponseWriter, r *http.Request) {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	trusted := p.valid(token) || p.Trusts != nil && p.Trusts(token)
	if p.has(Refuses) || !trusted {
		detail := ""
		if p.has(Refuses) {
			detail = "not valid: " + token
		}
		problem(w, http.StatusUnauthorized, wire.NotSignedIn, wire.Problem{Detail: detail})
		return
	}
	key := r.Header.Get("Idempotency-Key")
	if done, ok := p.done[key]; ok && key != "" { // it was done: the same answer again
		w.Header().Set("Content-Type", "application/json")
		w.Write(done)
		return
	}
	if r.Method != http.MethodGet && key == "" {
		problem(w, http.StatusBadRequest, wire.Invalid, wire.Problem{Detail: "a change needs an Idempotency-Key"})
		return
	}
	p.settle()
	kept := &recordingWriter{ResponseWriter: w}
	p.route(kept, r, strings.Split(strings.TrimPrefix(r.URL.Path, "/v1/"), "/"))
	if key != "" && kept.status < 300 {
		p.done[key] = kept.body.Bytes()
	}
}

// recordingWriter notes what is answered.
type recordingWriter struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (k *recordingWriter) WriteHeader(status int) {
	k.status = status
	k.ResponseWriter.WriteHeader(status)
}

func (k *recordingWriter) Write(data []byte) (int, error) {
	if k.status == 0 {
		k.status = http.StatusOK
	}
	k.body.Write(data)
	return k.ResponseWriter.Write(data)
}

// settle ends rules whose time has come. The caller holds the lock.
func (p *Provider) settle() {
	now := time.Now()
	for _, place := range p.places {
		place.rules = slices.DeleteFunc(place.rules, func(r *rule) bool { return !r.Until.IsZero() && now.After(r.Until) })
		p.setGate(place)
	}
}

// later does something after a time, under the lock, unless the provider is closed by then.
func (p *Provider) later(after time.Duration, do func()) {
	time.AfterFunc(after, func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if !p.closed {
			do()
		}
	})
}

// lacks answers a request that needs a right which the account lacks.
func (p *Provider) lacks(w http.ResponseWriter, right string) bool {
	if slices.Contains(p.Rights, right) {
		return false
	}
	problem(w, http.StatusForbidden, wire.NoRight, wire.Problem{Right: right})
	return true
}

// route finds what a path is about.
func (p *Provider) route(w http.ResponseWriter, r *http.Request, path []string) {
	switch {
	case path[0] == "account" && len(path) == 1:
		reply(w, http.StatusOK, wire.Account{
			Format:   wire.Format,
			Account:  p.Account,
			Rights:   p.Rights,
			Address:  clientAddress(r),
			Features: p.Features,
		})
		return
	case path[0] == "features" && len(path) == 2:
		p.feature(w, r, p.Features, path[1])
		return
	case path[0] != "instances":
		problem(w, http.StatusNotFound, wire.Unknown, wire.Problem{})
		return
	case p.lacks(w, "look"):
		return
	case len(path) == 1:
		p.list(w, r)
		return
	}
	name, rest := path[1], path[2:]
	if len(rest) > 1 && rest[0] == "branches" {
		name, rest = name+"/"+rest[1], rest[2:]
	}
	place := p.places[name]
	switch {
	case place == nil:
		problem(w, http.StatusNotFound, wire.Unknown, wire.Problem{})
	case len(rest) == 0:
		for _, i := range p.Instances {
			if i.Name == path[1] {
				reply(w, http.StatusOK, p.describe(i, r))
			}
		}
	default:
		p.within(w, r, place, rest)
	}
}

// within answers requests about the parts of an instance.
func (p *Provider) within(w http.ResponseWriter, r *http.Request, place *Place, rest []string) {
	switch {
	case rest[0] == "features" && len(rest) == 2:
		p.feature(w, r, place.Features, rest[1])
		p.setGate(place)
	case rest[0] == "rules":
		p.rulesOf(w, r, place, rest[1:])
	case rest[0] == "wake" && len(rest) == 1:
		if !p.lacks(w, "wake") {
			p.wake(w, place)
		}
	case rest[0] == "logins" && len(rest) == 1:
		if !p.lacks(w, "login") {
			p.login(w, r, place)
		}
	case rest[0] == "first-password" && len(rest) == 1:
		if !p.lacks(w, "first-password") {
			p.first(w, place)
		}
	default:
		problem(w, http.StatusNotFound, wire.Unknown, wire.Problem{})
	}
}

// clientAddress is the address that a request comes from.
func clientAddress(r *http.Request) string {
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	return host
}

// list answers a page of instances.
func (p *Provider) list(w http.ResponseWriter, r *http.Request) {
	wanted := r.URL.Query()["name"]
	var all []wire.Instance
	for _, i := range p.Instances {
		if len(wanted) == 0 || slices.Contains(wanted, i.Name) {
			all = append(all, p.describe(i, r))
		}
	}
	for n := range p.More {
		i := wire.Instance{Name: fmt.Sprintf("creek-%04d", n+1), Engine: "postgresql", Version: "16.2", Region: "north-1",
			Place: wire.Place{State: wire.Paused}}
		if len(wanted) == 0 || slices.Contains(wanted, i.Name) {
			all = append(all, i)
		}
	}
	from, _ := strconv.Atoi(r.URL.Query().Get("after"))
	from = min(max(from, 0), len(all))
	to := min(from+p.Page, len(all))
	switch {
	case p.has(NextElsewhere):
		w.Header().Set("Link", `<https://elsewhere.saltmarsh.example/v1/instances?after=1>; rel="next"`)
	case p.has(EndlessPages):
		w.Header().Set("Link", `</v1/instances?after=0>; rel="next"`)
	case to < len(all):
		query := r.URL.Query()
		query.Set("after", strconv.Itoa(to))
		w.Header().Set("Link", fmt.Sprintf("<%s?%s>; rel=\"next\"", r.URL.Path, query.Encode()))
	}
	reply(w, http.StatusOK, wire.Instances{Format: wire.Format, Instances: all[from:to]})
}

// describe returns an instance as the service shows it.
func (p *Provider) describe(i *Instance, r *http.Request) wire.Instance {
	shown := wire.Instance{Name: i.Name, Engine: i.Engine, Version: i.Version, Region: i.Region,
		Place: p.describePlace(&i.Place, r)}
	if p.has(EscapeNames) {
		shown.Name = "estuary\x1b]0;gone\x07-members"
	}
	var names []string
	for name := range i.Branches {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		shown.Branches = append(shown.Branches, wire.Branch{Name: name, Place: p.describePlace(i.Branches[name], r)})
	}
	return shown
}

func (p *Provider) describePlace(place *Place, r *http.Request) wire.Place {
	shown := wire.Place{State: place.State, Login: place.Login, Features: place.Features, Database: place.Database,
		Authority: string(p.Authority.PEM)}
	if p.has(OtherAuthority) {
		if other, err := authority.New(); err == nil {
			shown.Authority = string(other.PEM)
		}
	}
	host := place.host
	switch {
	case p.has(Loopback):
		host = "127.0.0.1"
	case p.has(LinkLocal):
		host = "169.254.169.254"
	}
	if !place.NoPublic {
		shown.Addresses = append(shown.Addresses, wire.Address{Kind: wire.Public, Host: host, Port: place.gate.address.Port})
	}
	if place.Private && place.server != nil {
		inner, port := place.private()
		shown.Addresses = append(shown.Addresses, wire.Address{Kind: wire.Private, Host: inner, Port: port,
			TLSName: place.host})
	}
	if place.First != "" {
		shown.FirstPassword = wire.FirstUnset
		if place.firstSet {
			shown.FirstPassword = "set"
		}
	}
	if place.Access {
		shown.Access = &wire.Access{Address: clientAddress(r), Rule: wire.NoRule}
		for _, one := range place.rules {
			if shown.Access.Rule != wire.InForce {
				shown.Access.Rule = one.State
			}
		}
	}
	return shown
}

// private is the private address of a place, which a jump host in the provider's network knows.
func (place *Place) private() (host string, port int) {
	_, text, _ := net.SplitHostPort(place.server.Address())
	port, _ = strconv.Atoi(text)
	return "inner." + place.host, port
}

// Inner are the private addresses, "host:port", each with its loopback address.
func (p *Provider) Inner() map[string]string {
	p.mu.Lock()
	defer p.mu.Unlock()
	all := make(map[string]string)
	for _, place := range p.places {
		if place.Private && place.server != nil {
			host, port := place.private()
			all[net.JoinHostPort(host, strconv.Itoa(port))] = place.server.Address()
		}
	}
	return all
}

// feature switches one on or off.
func (p *Provider) feature(w http.ResponseWriter, r *http.Request, all []wire.Feature, name string) {
	var body struct {
		On *bool `json:"on"`
	}
	at := slices.IndexFunc(all, func(f wire.Feature) bool { return f.Name == name })
	switch {
	case r.Method != http.MethodPut || json.NewDecoder(r.Body).Decode(&body) != nil || body.On == nil:
		problem(w, http.StatusBadRequest, wire.Invalid, wire.Problem{Detail: "expected PUT with on"})
	case at < 0:
		problem(w, http.StatusNotFound, wire.Unknown, wire.Problem{Feature: name})
	case !p.lacks(w, "switch"):
		all[at].On = *body.On
		reply(w, http.StatusOK, all[at])
	}
}

// rulesOf lists, makes and removes rules.
func (p *Provider) rulesOf(w http.ResponseWriter, r *http.Request, place *Place, rest []string) {
	if len(rest) == 0 && r.Method == http.MethodGet {
		page := wire.Rules{Format: wire.Format, Rules: []wire.Rule{}}
		for _, one := range place.rules {
			page.Rules = append(page.Rules, one.Rule)
		}
		reply(w, http.StatusOK, page)
		return
	}
	if r.Method != http.MethodGet && p.lacks(w, "allow") {
		return
	}
	if len(rest) == 0 {
		p.allow(w, r, place)
		return
	}
	at := slices.IndexFunc(place.rules, func(one *rule) bool { return one.ID == rest[0] })
	switch {
	case at < 0:
		problem(w, http.StatusNotFound, wire.Unknown, wire.Problem{})
	case r.Method == http.MethodDelete:
		place.rules = slices.Delete(place.rules, at, at+1)
		p.setGate(place)
		w.WriteHeader(http.StatusNoContent)
	default:
		reply(w, http.StatusOK, place.rules[at].Rule)
	}
}

// allow makes a rule, which comes into force a while later.
func (p *Provider) allow(w http.ResponseWriter, r *http.Request, place *Place) {
	var body struct {
		Range   string `json:"range"`
		Seconds int    `json:"seconds"`
		Note    string `json:"note"`
	}
	if json.NewDecoder(r.Body).Decode(&body) != nil {
		problem(w, http.StatusBadRequest, wire.Invalid, wire.Problem{Detail: "no JSON"})
		return
	}
	if body.Range == "" {
		body.Range = clientAddress(r) + "/32"
	}
	prefix, err := netip.ParsePrefix(body.Range)
	if err != nil {
		problem(w, http.StatusUnprocessableEntity, wire.Invalid, wire.Problem{Detail: "range is no range"})
		return
	}
	one := &rule{Rule: wire.Rule{ID: "rule-" + strings.ToLower(rand.Text()[:8]), Range: prefix.String(),
		State: wire.Pending,
		By:    p.Account, Note: body.Note}}
	if body.Seconds > 0 {
		one.Until = time.Now().Add(time.Duration(body.Seconds) * time.Second).UTC().Truncate(time.Second)
	}
	place.rules = append(place.rules, one)
	force := func() {
		one.State = wire.InForce
		p.setGate(place)
	}
	if p.RuleAfter == 0 {
		force()
	} else {
		p.later(p.RuleAfter, force)
	}
	reply(w, http.StatusCreated, one.Rule)
}

// wake starts a paused instance.
func (p *Provider) wake(w http.ResponseWriter, place *Place) {
	if place.State == wire.Paused || place.State == wire.Stopped {
		place.State = wire.Starting
		p.later(p.WakeAfter, func() {
			place.State = wire.Running
			p.serve(place)
		})
	}
	reply(w, http.StatusAccepted, map[string]any{"state": place.State})
}

// login makes a login that ends by itself.
func (p *Provider) login(w http.ResponseWriter, r *http.Request, place *Place) {
	var body struct{ User, Database string }
	json.NewDecoder(r.Body).Decode(&body)
	switch {
	case place.State == wire.Paused || place.State == wire.Stopped:
		problem(w, http.StatusConflict, wire.PausedProblem, wire.Problem{})
		return
	case place.State == wire.Starting || place.server == nil:
		problem(w, http.StatusConflict, wire.StartingProblem, wire.Problem{})
		return
	case place.Login == "":
		problem(w, http.StatusNotFound, wire.Unknown, wire.Problem{})
		return
	}
	user := body.User
	if user == "" {
		user = "brief-" + strings.ToLower(rand.Text()[:10])
	}
	name, branch, _ := strings.Cut(place.name, "/")
	if p.has(OtherLogin) {
		name = "estuary-other"
	}
	until := time.Now().Add(p.LoginFor)
	made := wire.Login{Instance: name, Branch: branch, User: user, Until: until.UTC()}
	if place.Login == wire.ByCertificate {
		_, cert, key, err := p.Authority.Issue(user, []string{user}, time.Now().Add(-time.Minute), until)
		if err != nil {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		made.Certificate, made.Key = string(cert), string(key)
		place.server.Allow(user, "", place.Database)
	} else {
		made.Password = "brief-" + rand.Text()
		p.made = append(p.made, made.Password)
		place.server.Allow(user, made.Password, place.Database)
	}
	server := place.server
	p.later(p.LoginFor, func() { server.Forbid(user) })
	reply(w, http.StatusCreated, made)
}

// first sets the first password of the administrator, and returns it once.
func (p *Provider) first(w http.ResponseWriter, place *Place) {
	switch {
	case place.First == "":
		problem(w, http.StatusNotFound, wire.Unknown, wire.Problem{})
	case place.firstSet:
		problem(w, http.StatusConflict, wire.AlreadySet, wire.Problem{})
	case place.server == nil:
		problem(w, http.StatusConflict, wire.PausedProblem, wire.Problem{})
	default:
		place.firstSet = true
		name, branch, _ := strings.Cut(place.name, "/")
		password := "first-" + rand.Text()
		p.made = append(p.made, password)
		place.server.Allow(place.First, password, place.Database)
		reply(w, http.StatusCreated, wire.First{Instance: name, Branch: branch, User: place.First, Password: password})
	}
}
