package resolve

import (
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
)

// Aliases are the aliases and given hosts that profiles may name.
type Aliases interface {
	// Chain follows an alias. The profile that names it is for messages.
	Chain(word string, by *Profile) (*address.Chain, *finding.Finding)
	// HostEntry is the line of [hosts] for a host name that a profile dials. A project's [hosts] counts only for what
	// that project's file names.
	HostEntry(host string, by *Profile) (profile.HostEntry, bool)
}

// follow finds what the profile's alias leads to.
func (r *Profile) follow() {
	if !r.address.Follows || r.notVouched != nil {
		return
	}
	word, _ := r.lookUp(r.Schema().Field(r.address.Key))
	if r.env.Aliases == nil {
		r.aliasProblem = finding.New(finding.AliasUnknown, "there are no aliases here").Suggest("gharbor show %s", r.Called)
		return
	}
	r.service, r.aliasProblem = r.env.Aliases.Chain(word.Value.Text(), r)
	if r.service != nil && len(r.service.Pinned) > 0 {
		all := maps.Clone(r.service.Pinned)
		maps.Copy(all, r.pinned)
		r.pinned = all
	}
}

// Service is what the profile's alias leads to, nil without one.
func (r *Profile) Service() *address.Chain { return r.service }

// LinkPath is the path that a chain of aliases gives for a key, made absolute; "" for none.
func (r *Profile) LinkPath(c *address.Chain, k string) string {
	e, link, ok := c.OwnValue(key.Name(k))
	if !ok {
		return ""
	}
	return e.Field.AbsolutePath(e.Value.Text(), filepath.Dir(link.Path()), r.env.Home)
}

// AliasProblem says why the profile's alias leads to no address, nil where it leads to one.
func (r *Profile) AliasProblem() *finding.Finding { return r.aliasProblem }

// HostEntry is what [hosts] of a file has for a host name that the profile dials.
func (r *Profile) HostEntry(host string) (profile.HostEntry, bool) {
	if r.env.Aliases == nil || r.notVouched != nil {
		return profile.HostEntry{}, false
	}
	return r.env.Aliases.HostEntry(host, r)
}

// Lists reports whether an address is one that the profile or its alias lists, as
// host and port.
func (r *Profile) Lists(host string, port int) bool {
	return slices.ContainsFunc(r.Hosts(),
		func(h address.HostPort) bool { return strings.EqualFold(h.Host, host) && h.Port == port })
}
