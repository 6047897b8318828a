package alias

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/route"
	"gentleharbor/core/tlsrule"
)

// MaxKnocks bounds the knocks at one address: a server may count each as a failed
// connection, and block a client that makes too many (max_connect_errors: 100
// by default).
const MaxKnocks = 20

// What a listener says of a service.
const (
	ServiceKnown      = "known"
	ServiceUnknown    = "unknown"
	ServiceBlocked    = "known, lets nobody in"
	ServiceElsewhere  = "redirects"
	ServiceNotOffered = "" // this engine's listener can't be asked
)

// Knock is what one address answered.
type Knock struct {
	Address string           `json:"address"`          // as written
	At      string           `json:"at,omitempty"`     // as dialled
	Answers bool             `json:"answers"`          // something that was recognised
	Engine  string           `json:"engine,omitempty"` // its word, "" for what is no database server
	What    string           `json:"what,omitempty"`   // in words
	Service string           `json:"service,omitempty"`
	Said    string           `json:"said,omitempty"` // of the service, by the listener
	Knocks  int              `json:"knocks"`         // connections that were made
	Min     float64          `json:"min_ms,omitempty"`
	Median  float64          `json:"median_ms,omitempty"`
	Max     float64          `json:"max_ms,omitempty"`
	Finding *finding.Finding `json:"finding,omitempty"` // why it does not answer, or not as wanted
}

// Knocker knocks at the addresses of an alias, without logging in.
type Knocker struct {
	Network  route.Network
	Name     string // of the alias
	Engines  engine.Set
	Engine   string // that it names, "" for none
	Service  string
	Instance string
	TLS      *tlsrule.Plan // for a listener that speaks within TLS; nil for none
	Timeout  time.Duration // of each knock
}

// At knocks count times at one address.
func (k Knocker) At(ctx context.Context, c address.Candidate, count int) Knock {
	result := Knock{Address: c.String()}
	addrs, named := k.Network.Names(ctx, k.Name, c)
	if named.Outcome == finding.Fail {
		result.Finding = retry(named.Finding, k.Name)
		return result
	}
	var times []time.Duration
	var service greeting.Service
	word := k.Engine
	for range min(count, MaxKnocks) {
		var took time.Duration
		var found *finding.Finding
		if took, service, found = k.once(ctx, c, &result, addrs, word); found != nil {
			result.Finding = found
			return result
		}
		times = append(times, took)
		result.Answers, result.Engine, result.What = true, service.Engine, service.What
		if ctx.Err() != nil {
			break
		}
		if service.Engine != "" { // asked in its own way, it answers at once
			word = service.Engine
		}
	}
	slices.Sort(times)
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	result.Min, result.Median, result.Max = ms(times[0]), ms(times[len(times)/2]), ms(times[len(times)-1])
	if spec := k.Engines.ByWord(k.Engine); spec != nil && spec.Listener != nil && service.TLS {
		result.Finding = finding.New(finding.SpeakTLSOnly,
			"the listener at %s speaks TLS from the first byte; the alias does not say so", c).
			Suggest("gharbor alias set %s tls=verified", k.Name)
		return result
	}
	if k.Engine != "" && result.Engine != k.Engine && !k.Engines.SameFamily(k.Engine, result.Engine) {
		result.Finding = finding.New(finding.SpeakOtherEngine,
			"%s answers at %s, but the alias says %s", result.What, c,
			k.Engine).
			Suggest("gharbor alias show %s   # are its addresses right?", k.Name)
		return result
	}
	if spec := k.Engines.ByWord(result.Engine); spec != nil && spec.Listener != nil && k.Service+k.Instance != "" {
		k.ask(ctx, c, addrs, spec.Listener, &result)
	}
	return result
}

// retry replaces a finding's suggestions by those for an alias.
func retry(found *finding.Finding, name string) *finding.Finding {
	found.Try = []string{"gharbor alias show " + name + "   # are its addresses right?"}
	return found
}

// dial connects to the first of a candidate's addresses that accepts, with TLS where the listener speaks only that.
func (k Knocker) dial(ctx context.Context, c address.Candidate, addrs []netip.Addr,
	result *Knock) (net.Conn, *finding.Finding) {
	reached, tried := k.Network.Reach(ctx, c, addrs)
	if reached == nil {
		return nil, retry(route.ExplainUnreached(k.Name, c, tried), k.Name)
	}
	result.Knocks++
	result.At = reached.Address
	// It ends with ctx, for whoever reads from it.
	context.AfterFunc(ctx, func() { reached.Conn.SetDeadline(time.Unix(1, 0)) })
	if k.TLS == nil {
		return reached.Conn, nil
	}
	secure, _, handshake, err := k.TLS.Handshake(ctx, reached.Conn)
	if err != nil || handshake.Outcome == finding.Fail {
		reached.Conn.Close()
		found := handshake.Finding
		if err != nil {
			setting := ""
			if spec := k.Engines.ByWord(k.Engine); spec != nil && spec.Listener != nil {
				setting = spec.Listener.TLSSetting
			}
			found = tlsrule.Diagnose(err, k.Name, reached.Address, setting)
		}
		return nil, retry(found, k.Name)
	}
	return secure, nil
}

// once knocks once, and measures the time to the answer: from our first bytes, or from the connection where the
// server speaks first.
func (k Knocker) once(ctx context.Context, c address.Candidate, result *Knock, addrs []netip.Addr,
	word string) (time.Duration, greeting.Service, *finding.Finding) {
	if word == "" {
		return k.identify(ctx, c, addrs, result)
	}
	bound, cancel := context.WithTimeout(ctx, k.Timeout)
	defer cancel()
	conn, found := k.dial(bound, c, addrs, result)
	if found != nil {
		return 0, greeting.Service{}, found
	}
	defer conn.Close()
	before := time.Now()
	if opening := k.Engines.Greetings().Opening(word); opening != nil {
		conn.Write(opening)
	}
	reply := make([]byte, 4096)
	n, err := conn.Read(reply)
	took := time.Since(before)
	service, ok := k.Engines.Greetings().Recognise(reply[:n])
	if ok {
		return took, service, nil
	}
	if n == 0 && err != nil { // silent, or it closed: another question may be the right one
		if took, service, found := k.identify(ctx, c, addrs, result); found == nil {
			return took, service, nil
		}
	}
	silent := finding.New(finding.SpeakSilent, "%s accepts the connection, and its answer is unknown", c)
	if n > 0 {
		silent.Saw("its first bytes: %s", clean.Bytes(reply[:n], 32))
	}
	return 0, greeting.Service{}, retry(silent, k.Name)
}

// identify asks in the ways of all engines.
func (k Knocker) identify(ctx context.Context, c address.Candidate, addrs []netip.Addr,
	result *Knock) (time.Duration, greeting.Service, *finding.Finding) {
	ctx, cancel := context.WithTimeout(ctx, k.Timeout)
	defer cancel()
	var refused *finding.Finding
	var began time.Time
	dial := func(ctx context.Context) (net.Conn, error) {
		conn, found := k.dial(ctx, c, addrs, result)
		if found != nil {
			refused = found
			return nil, errors.New(found.Cause)
		}
		began = time.Now()
		return conn, nil
	}
	greetings := k.Engines.Greetings()
	service, _, ok := greetings.Identify(ctx, dial, greetings.Probes("", true)...)
	if !ok && refused == nil {
		refused = retry(finding.New(finding.SpeakSilent, "%s accepts the connection, and its answer is unknown",
			c), k.Name)
	}
	return time.Since(began), service, refused
}

// ask asks a listener for the service.
func (k Knocker) ask(ctx context.Context, c address.Candidate, addrs []netip.Addr, listener *engine.Listener,
	result *Knock) {
	ctx, cancel := context.WithTimeout(ctx, k.Timeout)
	defer cancel()
	conn, found := k.dial(ctx, c, addrs, result)
	if found != nil {
		result.Finding = found
		return
	}
	defer conn.Close()
	name := k.Service
	if name == "" {
		name = k.Instance
	}
	answer, err := listener.Ask(conn, engine.ServiceQuestion{
		Host:     c.Host,
		Port:     c.Port,
		Service:  k.Service,
		Instance: k.Instance,
		Secure:   k.TLS != nil,
	})
	if err != nil {
		result.Finding = retry(finding.New(finding.SpeakGarbage,
			"the listener at %s gives an unknown answer about %s", c, clean.Quote(name)),
			k.Name)
		return
	}
	result.Said = answer.Said
	switch answer.State {
	case engine.ServiceKnown:
		result.Service = ServiceKnown
	case engine.ServiceElsewhere:
		result.Service = ServiceElsewhere
		result.Said = "to " + clean.Quote(net.JoinHostPort(answer.Host, strconv.Itoa(answer.Port)))
	case engine.ServiceBlocked:
		result.Service = ServiceBlocked
	default:
		result.Service = ServiceUnknown
		result.Finding = finding.New(finding.SpeakServiceUnknown, "the listener at %s is up, but does not know %s", c,
			clean.Quote(name)).
			Saw("the listener said %s", result.Said).
			Suggest("gharbor alias show %s   # where the name stands", k.Name).
			Advise("%s", listener.UnknownDo)
	}
}

// Candidates are the servers that a chain leads to.
func (b *Book) Candidates(ctx context.Context, n route.Network,
	chain *address.Chain) ([]address.Candidate, *finding.Finding) {
	sets := []schema.Override{{Field: b.Schema.Field(key.Alias), Value: schema.TextValue(chain.Links[0].FullName())}}
	return n.Candidates(ctx,
		resolve.Values(b.Schema, chain.Links[0].Name, sets, resolve.Environment{Lookup: b.Lookup, Home: b.Home, Aliases: b}))
}
