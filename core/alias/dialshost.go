package alias

import (
	"slices"
	"strings"

	"gentleharbor/core/hostname"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
)

// DialsHost reports whether a project's file itself names a host (in small letters), for a sealed profile of that
// file or, where p is nil, for an alias. Where the environment or DNS gives the name, any host may be one. Vouching
// shows these hosts, so that a project's [hosts] can't change a name of the user's own files.
func DialsHost(project *profile.File, p *resolve.Profile, word string) func(host string) bool {
	var names []string
	all := false
	add := func(items ...string) {
		for _, item := range items {
			host, _ := hostname.SplitPort(item)
			names = append(names, strings.ToLower(strings.TrimSuffix(host, ".")))
			all = all || strings.Contains(item, "$")
		}
	}
	if p != nil {
		for _, k := range []key.Name{"host", "hosts"} {
			v, _ := p.WrittenValue(k)
			add(v.List()...)
		}
		for _, h := range p.Hops() {
			e, _ := h.WrittenValue(key.Host)
			add(e.Value.Text())
		}
		v, _ := p.WrittenValue(key.Alias)
		word = v.Text()
		_, told := p.WrittenValue(key.Cloud) // its service says the host
		all = all || told
	}
	for _, a := range Within(project, word) {
		e, _ := a.OwnValue(key.Addresses)
		add(e.Value.List()...)
		all = all || a.Text(key.SRV) != ""
	}
	return func(host string) bool { return all || slices.Contains(names, host) }
}
