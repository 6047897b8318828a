package check

import (
	"maps"
	"slices"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
)

// Untestable says why a profile can't be tested: something is missing, or two values contradict each other. nil where
// it can be.
func Untestable(p *resolve.Profile) *finding.Finding {
	name, word, spec := p.Called, p.Text(key.Engine), p.Engine()
	engines := p.Schema().Engines()
	switch {
	case p.Problem() != nil:
		return p.Problem()
	case word == "":
		return finding.New(finding.ProfileIncomplete, "the profile does not say which engine the server is").
			Suggest("gharbor set %s engine=%s", name, engines.Example().Word)
	case spec == nil || spec.Begin == nil:
		return finding.New(finding.ProfileEngine, "this version can't test the engine %s yet, only %s", word,
			strings.Join(slices.Sorted(slices.Values(engines.Testable())), ", ")).
			Suggest("gharbor show %s", name)
	case !p.Address().Known():
		return noServer(p).Suggest("gharbor nearby   # the servers of this machine")
	case conflict(p) != nil:
		return conflict(p)
	case p.Text(key.User) == "" && !spec.Keys.OwnAccount && !mints(p):
		return finding.New(finding.ProfileIncomplete, "the profile does not say which user to log in as").
			Advise("name the user: gharbor set %s user=NAME", name)
	case !hasOneOf(p, spec.Keys.Needs):
		needs := spec.Keys.Needs
		also := ""
		if len(needs.Keys) > 1 {
			also = string("   # or " + needs.Keys[1] + "=NAME")
		}
		return finding.New(finding.ProfileIncomplete, "neither the profile nor its alias says %s", needs.What).
			Advise("name it: gharbor set %s %s=NAME%s", name, needs.Keys[0], also)
	}
	return nil
}

// mints reports whether the login is made at use, with a user of its own.
func mints(p *resolve.Profile) bool { return p.Text(key.Secret) == "cloud" }

// conflict says why a profile with its kind of address can't be tested, nil for nothing.
func conflict(p *resolve.Profile) *finding.Finding {
	if found := p.Address().Conflict; found != nil {
		return found(p)
	}
	return nil
}

// idleAddressKeys warns of keys that have a meaning with another kind of address only.
func idleAddressKeys(p *resolve.Profile) *finding.Finding {
	for _, kind := range address.All() {
		for _, k := range kind.Keys {
			if _, ok := p.Get(k); ok && kind != p.Address() {
				return finding.New(finding.ProfileConflict, "%s has no effect: the address is not a %s", k, kind.Key).
					Suggest("gharbor set %s %s=", p.Called, k)
			}
		}
	}
	return nil
}

// hasOneOf reports whether a profile has one of the keys that its engine needs.
func hasOneOf(p *resolve.Profile, needs engine.Need) bool {
	return len(needs.Keys) == 0 ||
		slices.ContainsFunc(needs.Keys, func(k key.Name) bool { return p.Text(k) != "" })
}

// idleTLS warns of keys without effect under the profile's TLS rule: who names an authority expects its protection.
func idleTLS(p *resolve.Profile) *finding.Finding {
	set, _ := p.Get(key.TLS)
	rule := set.Value.Text()
	var idle []string
	for _, k := range []key.Name{"tls-ca", "tls-name", "tls-cert"} {
		if _, ok := p.Get(k); !ok {
			continue
		}
		if rule == "off" || p.Address().OnMachine || k != "tls-cert" && rule != "verified" {
			idle = append(idle, string(k))
		}
	}
	if len(idle) == 0 {
		return nil
	}
	if p.Address().OnMachine {
		return finding.New(finding.ProfileConflict, "%s has no effect: a Unix socket is not encrypted",
			strings.Join(idle, " and ")).
			Suggest("gharbor set %s %s=", p.Called, strings.Join(idle, "= "))
	}
	return finding.New(finding.ProfileConflict, "%s has no effect: with tls = %q nothing is verified",
		strings.Join(idle, " and "), rule).
		Saw("tls is from %s", set.Origin).
		Suggest("gharbor set %s tls=verified", p.Called)
}

// idleKeys warns of keys that mean nothing to the profile's engine.
func idleKeys(p *resolve.Profile, spec *engine.Spec) *finding.Finding {
	for _, k := range slices.Sorted(maps.Keys(spec.Keys.Idle)) {
		if e, ok := p.Get(k); ok && e.Origin.Kind != resolve.FromEngine {
			return finding.New(finding.ProfileConflict, "%s has no effect on %s: %s", k, spec.Word, spec.Keys.Idle[k]).
				Suggest("gharbor set %s %s=", p.Called, k)
		}
	}
	engines := p.Schema().Engines()
	var idle []string
	for _, field := range p.Schema().Fields() {
		others := engines.WithKey(field.Name)
		if _, ok := p.Get(field.Name); !ok || len(others) == 0 || spec.Takes(field.Name) {
			continue
		}
		if len(idle) == 0 || slices.Equal(others, engines.WithKey(key.Name(idle[0]))) { // the rest waits its turn
			idle = append(idle, string(field.Name))
		}
	}
	if len(idle) == 0 {
		return nil
	}
	return finding.New(finding.ProfileConflict, "%s has no effect: it is for %s, and the engine is %s",
		strings.Join(idle, " and "), strings.Join(engines.WithKey(key.Name(idle[0])), " and "), spec.Word).
		Suggest("gharbor set %s %s=", p.Called, strings.Join(idle, "= "))
}
