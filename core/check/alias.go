package check

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
)

// servers are the profile's candidates. They are found once: DNS or a container engine may have to be asked.
func (t *test) servers(ctx context.Context) ([]address.Candidate, *finding.Finding) {
	if t.only != nil {
		t.candidates = t.only
	}
	if t.candidates == nil && t.noCandidates == nil {
		start, before := time.Now(), t.budget.pausedFor()
		paused := secret.WithPause(ctx, func() func() {
			t.budget.pause()
			return t.budget.resume
		})
		t.candidates, t.noCandidates = t.Network.Candidates(paused, t.profile)
		t.resolveTime = time.Since(start) - (t.budget.pausedFor() - before)
	}
	return t.candidates, t.noCandidates
}

// links are the aliases that lead to the profile's address, in the form of a wallet's bindings.
func links(p *resolve.Profile) []secret.Link {
	chain := p.Service()
	if chain == nil {
		return nil
	}
	all := make([]secret.Link, len(chain.Links))
	for i, link := range chain.Links {
		from := address.Chain{Links: chain.Links[i:]} // this alias and those that it names
		all[i] = secret.Link{Name: link.Name, Engine: from.Text(key.Engine), TLS: from.Text(key.TLS),
			TLSAuthority: p.LinkPath(&from, "tls-ca"), TLSName: from.Text(key.TLSName)}
		if link.InProject() {
			all[i].File = link.Path()
		}
	}
	return all
}

// chainWords says over which aliases an address was found, with their places: "alias
// archive (aliases.toml:12) is alias saltmarsh (aliases.toml:5)".
func chainWords(chain *address.Chain) string {
	words := make([]string, len(chain.Links))
	for i, link := range chain.Links {
		words[i] = fmt.Sprintf("%s (%s:%d)", link.FullName(), clean.Line(filepath.Base(link.Path()), 80), link.Line)
	}
	return "alias " + strings.Join(words, ", which is ")
}

// routeByAlias is the result of the route stage for a profile with an alias.
func (t *test) routeByAlias(detail string) finding.Result {
	chain := t.profile.Service()
	if srv := chain.Text(key.SRV); srv != "" {
		detail += ", by the SRV records of " + srv
	}
	detail = chainWords(chain) + ": " + detail
	if len(chain.Ignored) == 0 {
		return finding.Good("%s", detail)
	}
	found := finding.New(finding.AliasIgnored,
		"the section %s of the service file has settings that gharbor does not use",
		clean.Quote(strings.TrimPrefix(chain.Links[0].Name, syntax.ServicePrefix)))
	for _, word := range chain.Ignored[:min(len(chain.Ignored), 8)] {
		found.Saw("%s", clean.Line(word, 100))
	}
	return finding.WarnWith(found.Suggest("gharbor show %s   # what is taken from it", t.profile.Called), "%s", detail)
}

// aliasOrigin is the origin of the first of some keys that has a value, where that is an
// alias.
func (t *test) aliasOrigin(keys ...string) resolve.Origin {
	for _, k := range keys {
		e, ok := t.profile.Get(key.Name(k))
		if ok && e.Origin.Kind == resolve.FromAlias {
			return e.Origin
		}
		if ok {
			break
		}
	}
	return resolve.Origin{}
}

// pick is the order in which the addresses are tried; "" for the order in which they are written.
func (t *test) pick() string { return t.profile.Service().Text(key.Pick) }

// arrange puts the candidates into the order in which they are tried.
func (t *test) arrange(ctx context.Context, candidates []address.Candidate) []address.Candidate {
	if len(candidates) < 2 {
		return candidates
	}
	switch t.pick() {
	case "random":
		candidates = slices.Clone(candidates)
		rand.Shuffle(len(candidates), func(i, j int) { candidates[i], candidates[j] = candidates[j], candidates[i] })
	case "fastest":
		candidates = t.sortByConnectTime(ctx, candidates)
	}
	return candidates
}

// sortByConnectTime sorts candidates by how soon each accepts a connection, which it closes at once. One that accepts
// none comes last.
func (t *test) sortByConnectTime(ctx context.Context, candidates []address.Candidate) []address.Candidate {
	const longest = time.Second // of waiting for the slowest: those that took longer come last
	ctx, cancel := context.WithTimeout(ctx, min(longest, time.Until(t.budget.end)/3))
	defer cancel()
	took := make(map[address.Candidate]time.Duration, len(candidates))
	var mu sync.Mutex
	var group defect.Group
	for _, c := range candidates {
		took[c] = time.Hour
		group.Go(func() {
			start := time.Now()
			if conn, err := t.dialAny(ctx, c); err == nil {
				mu.Lock()
				took[c] = time.Since(start)
				mu.Unlock()
				conn.Close()
			}
		})
	}
	group.Wait()
	sorted := slices.Clone(candidates)
	slices.SortStableFunc(sorted, func(a, b address.Candidate) int { return int(took[a] - took[b]) })
	return sorted
}

// dialAny connects to the first address of a candidate that accepts.
func (t *test) dialAny(ctx context.Context, c address.Candidate) (net.Conn, error) {
	if t.link != nil {
		var last error
		for _, address := range c.HopTargets() {
			conn, err := t.link.Dial(ctx, "tcp", address)
			if err == nil {
				return conn, nil
			}
			last = err
		}
		return nil, last
	}
	addrs, result := t.Network.Names(ctx, t.profile.Called, c)
	if result.Outcome == finding.Fail {
		return nil, errors.New(result.Finding.Cause)
	}
	reached, tried := t.Network.Reach(ctx, c, addrs)
	if reached == nil {
		return nil, tried[len(tried)-1].Err
	}
	return reached.Conn, nil
}

// follow connects to an address that the server sent the client to, if the profile or its alias lists it. The secret
// is then that server's.
func (a *attempt) follow(ctx context.Context, host string, port int) (net.Conn, string, bool, error) {
	i := slices.IndexFunc(a.candidates, func(c address.Candidate) bool {
		return strings.EqualFold(strings.TrimSuffix(c.Host, "."), strings.TrimSuffix(host, ".")) && c.Port == port &&
			c.Source == ""
	})
	if i < 0 {
		return nil, "", false, nil
	}
	c := a.candidates[i]
	conn, err := a.dialAny(ctx, c)
	if err != nil {
		return nil, "", true, err
	}
	a.setTLSName(c)
	a.secret = a.secrets[c]
	a.stages.report.Facts.SecretSource = a.secret.Place
	address := net.JoinHostPort(c.Host, strconv.Itoa(c.Port))
	if a.link == nil && conn.RemoteAddr() != nil {
		address = conn.RemoteAddr().String()
	}
	return conn, address, true, nil
}
