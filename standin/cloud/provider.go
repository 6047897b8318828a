// Package cloud is a simulated provider of databases for the demo and for tests: an OAuth 2.0 server that signs
// people in by a code, an instance service, and instances with simulated servers behind a network that drops what no
// rule lets in. All of it is on loopback, over TLS with certificates of its own, and keeps nothing after it is
// closed.
package cloud

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/defect"
	"gentleharbor/standin/authority"
)

// Host is the name of issuer and service. A caller maps it to 127.0.0.1.
const Host = "account.saltmarsh.example"

// Fault is an error of a provider.
type Fault string

// The faults, of the issuer, then of the service.
const (
	OtherIssuer    Fault = "other-issuer"    // metadata that name another issuer
	OtherToken     Fault = "other-token"     // a token endpoint at another host
	PlainPage      Fault = "plain-page"      // a page of the sign-in without TLS
	EscapeCode     Fault = "escape-code"     // control sequences in the code
	NoMetadata     Fault = "no-metadata"     // 404
	TokenInError   Fault = "token-in-error"  // repeats what it was sent in its errors
	RedirectIssuer Fault = "redirect-issuer" // redirects the token request elsewhere
	Huge           Fault = "huge"            // answers without end
	Slow           Fault = "slow"            // answers a byte a second
	Redirect       Fault = "redirect"        // redirects to another host
	NextElsewhere  Fault = "next-elsewhere"  // a next page at another host
	Garbage        Fault = "garbage"         // no JSON
	Loopback       Fault = "loopback"        // instances at 127.0.0.1
	LinkLocal      Fault = "link-local"      // instances at 169.254.169.254
	EscapeNames    Fault = "escape-names"    // names with control sequences
	OtherAuthority Fault = "other-authority" // instances with another's authority
	OtherLogin     Fault = "other-login"     // logins for another instance
	TooMany        Fault = "too-many"        // 429 to every second request, with Retry-After
	Unavailable    Fault = "unavailable"     // 503 to every second request, without Retry-After
	Gone           Fault = "gone"            // 503 always
	Refuses        Fault = "refuses"         // 401 to every token
	EndlessPages   Fault = "endless-pages"   // each page has a next one
)

// Server is the simulated database server of an instance or a branch.
type Server interface {
	Address() string // host:port
	Allow(user, password, database string)
	Forbid(user string)
	Close()
}

// Place is an instance or a branch of one.
type Place struct {
	State    wire.State // Running where it is ""
	Features []wire.Feature
	Access   bool           // a rule must let an address in
	Login    wire.LoginKind // what can be minted
	First    string         // the administrator whose first password can be set, "" for none
	Private  bool           // it has a private address beside the public one
	NoPublic bool
	Database string
	// Start starts the server with a certificate for a name.
	Start func(secure *tls.Config) (Server, error)

	name     string // "estuary-members", or "estuary-members/spring"
	host     string
	server   Server
	gate     *gate
	rules    []*rule
	firstSet bool
}

// Instance is an instance with its branches.
type Instance struct {
	Name    string
	Engine  string
	Version string
	Region  string
	Place
	Branches map[string]*Place
}

// rule lets addresses in.
type rule struct{ wire.Rule }

// Config is what a provider has.
type Config struct {
	Authority *authority.Authority
	Instances []*Instance
	More      int // further instances, paused, to fill pages
	Page      int // instances of a page, 100 where it is 0
	Account   string
	Rights    []string      // all where it is nil
	RuleAfter time.Duration // until a rule is in force
	WakeAfter time.Duration // until an instance that was woken serves
	LoginFor  time.Duration // 5 minutes where it is 0
	TokenFor  time.Duration // 10 minutes where it is 0
	CodeFor   time.Duration // 10 minutes where it is 0
	Interval  int           // seconds between two questions whether a code was confirmed, 5 where it is 0
	NoPKCE    bool
	Trusts    func(token string) bool // tokens of another issuer that the service takes; nil for none
	NoRevoke  bool
	Features  []wire.Feature // of the account
	Faults    []Fault
}

// Provider is a running simulated provider.
type Provider struct {
	Config
	*issuer

	listener net.Listener
	server   *http.Server
	group    defect.Group

	mu       sync.Mutex
	places   map[string]*Place
	requests []string
	done     map[string][]byte // answers by idempotency key
	count    int
	made     []string // passwords of logins, and first passwords
	closed   bool
}

// Start starts a provider; Close ends it.
func Start(c Config) (*Provider, error) {
	if c.Account == "" {
		c.Account = "warden@saltmarsh.example"
	}
	if c.Rights == nil {
		c.Rights = wire.Rights
	}
	for at, usual := range map[*time.Duration]time.Duration{&c.LoginFor: 5 * time.Minute, &c.TokenFor: 10 * time.Minute,
		&c.CodeFor: 10 * time.Minute} {
		if *at == 0 {
			*at = usual
		}
	}
	if c.Interval == 0 {
		c.Interval = 5
	}
	if c.Page == 0 {
		c.Page = 100
	}
	secure, err := c.Authority.TLS([]string{Host, "127.0.0.1"}, 300*24*time.Hour)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &Provider{Config: c, listener: listener, places: make(map[string]*Place), done: make(map[string][]byte)}
	p.issuer = newIssuer(p)
	for _, i := range c.Instances {
		if err := p.add(i.Name, &i.Place); err != nil {
			p.Close()
			return nil, err
		}
		for name, branch := range i.Branches {
			if err := p.add(i.Name+"/"+name, branch); err != nil {
				p.Close()
				return nil, err
			}
		}
	}
	p.server = &http.Server{Handler: p, ReadHeaderTimeout: 10 * time.Second}
	p.group.Go(func() { p.server.Serve(tls.NewListener(listener, secure)) })
	return p, nil
}

// add prepares an instance or a branch.
func (p *Provider) add(name string, place *Place) (err error) {
	if place.State == "" {
		place.State = wire.Running
	}
	place.name, place.host = name, hostOf(name)
	p.places[name] = place
	if place.gate, err = newGate(); err != nil {
		return err
	}
	if place.State != wire.Running {
		return nil
	}
	return p.serve(place)
}

// hostOf is the host name of an instance or a branch: "spring.estuary-members.cloud.saltmarsh.example".
func hostOf(name string) string {
	host := "cloud.saltmarsh.example"
	for part := range splitSlash(name) {
		host = part + "." + host
	}
	return host
}

// serve starts the server of a place, and opens its gate where no rules guard it.
func (p *Provider) serve(place *Place) error {
	if place.Start == nil {
		return nil
	}
	secure, err := p.Authority.TLS([]string{place.host}, 200*24*time.Hour)
	if err != nil {
		return err
	}
	if place.Login == wire.ByCertificate {
		secure.ClientAuth = tls.RequestClientCert
	}
	if place.server, err = place.Start(secure); err != nil {
		return err
	}
	p.setGate(place)
	return nil
}

// setGate opens or closes the gate of a place. The caller holds the lock, or nobody else has the provider yet.
func (p *Provider) setGate(place *Place) {
	open := place.server != nil && !place.Access
	for _, r := range place.rules {
		open = open || place.server != nil && r.State == wire.InForce
	}
	for _, f := range place.Features {
		open = open && (f.On || !f.Needed)
	}
	to := ""
	if place.server != nil {
		to = place.server.Address()
	}
	place.gate.set(open, to)
}

// URL is the URL of the issuer.
func (p *Provider) URL() string { return fmt.Sprintf("https://%s:%d", Host, p.Port()) }

// Service is the URL of the instance service.
func (p *Provider) Service() string { return p.URL() + "/v1" }

// Port is the port on 127.0.0.1 of both.
func (p *Provider) Port() int { return p.listener.Addr().(*net.TCPAddr).Port }

// Hosts are the lines of a [hosts] table for all names of the provider.
func (p *Provider) Hosts() string {
	names := []string{Host}
	for name := range p.places {
		names = append(names, hostOf(name))
	}
	slices.Sort(names)
	text := ""
	for _, name := range names {
		text += strconv.Quote(name) + " = [\"127.0.0.1\"]\n"
	}
	return text
}

// Requests are the requests so far, "POST /token".
func (p *Provider) Requests() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.requests)
}

// MadePasswords are the passwords that the service made.
func (p *Provider) MadePasswords() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.made)
}

// has reports whether the provider has a fault.
func (p *Provider) has(f Fault) bool { return slices.Contains(p.Faults, f) }

// Close ends the provider, its instances and their networks.
func (p *Provider) Close() {
	p.mu.Lock()
	if p.closed {
		p.mu.Unlock()
		return
	}
	p.closed = true
	p.mu.Unlock()
	if p.server != nil {
		p.server.Close()
	}
	p.listener.Close()
	p.group.Wait()
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, place := range p.places {
		if place.gate != nil {
			place.gate.close()
		}
		if place.server != nil {
			place.server.Close()
		}
	}
}
