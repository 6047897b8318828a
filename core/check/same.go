package check

import (
	"context"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"

	"gentleharbor/core/address"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
)

// Reach tests a profile up to the stage tls, without a login, and calls seen with the facts while the connection is
// open. The server may count it as a connection that was broken off.
func (r *Runner) Reach(ctx context.Context, p *resolve.Profile, seen func(*engine.Facts)) *Report {
	one := *r
	one.Progress, one.until = nil, "tls"
	t := one.test(ctx, p)
	defer t.end()
	if t.stages.report.Reached("tls") {
		seen(t.conversation().Facts())
	}
	return t.stages.report
}

// SameServer reports whether two profiles lead to one server, by their addresses alone: SameInstance, Unknown, or
// Different for two engines without a common protocol.
func (r *Runner) SameServer(ctx context.Context, a, b *resolve.Profile) (Kinship, *finding.Finding) {
	if !a.Schema().Engines().SameFamily(a.Text(key.Engine), b.Text(key.Engine)) {
		return Different, nil
	}
	first, found := r.forProfile(a).candidates(ctx, a)
	if found != nil {
		return Unknown, found
	}
	second, found := r.forProfile(b).candidates(ctx, b)
	if found != nil {
		return Unknown, found
	}
	if !slices.Equal(a.HopWords(), b.HopWords()) {
		return Unknown, nil
	}
	spec := a.Engine()
	for _, c := range first {
		for _, d := range second {
			if spec != nil && r.one(ctx, spec, c, d) {
				return SameInstance, nil
			}
		}
	}
	return Unknown, nil
}

// one reports whether two addresses behind the same hops are one.
func (r *Runner) one(ctx context.Context, spec *engine.Spec, a, b address.Candidate) bool {
	switch {
	case a.Socket != "" && b.Socket != "":
		return realPath(a.Socket) == realPath(b.Socket)
	case a.Socket != "":
		port := spec.Sockets.PortIn(filepath.Base(a.Socket))
		return port != "" && port == strconv.Itoa(b.Port) && r.loops(ctx, b)
	case b.Socket != "":
		return r.one(ctx, spec, b, a)
	case a.Port != b.Port:
		return false
	case a.Host == b.Host:
		return true
	case a.ViaHop: // names are the last hop's
		return false
	}
	return slices.ContainsFunc(r.addresses(ctx, a.Host), func(ip netip.Addr) bool {
		return slices.Contains(r.addresses(ctx, b.Host), ip)
	}) || r.loops(ctx, a) && r.loops(ctx, b)
}

// realPath is a path without symbolic links, as far as it can be read.
func realPath(path string) string {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		return real
	}
	return filepath.Clean(path)
}

// addresses are those of a host.
func (r *Runner) addresses(ctx context.Context, host string) []netip.Addr {
	if ip, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{ip.Unmap()}
	}
	all, _ := r.Network.Resolve(ctx, host)
	for i := range all {
		all[i] = all[i].Unmap()
	}
	return all
}

// loops reports whether a host is this machine's loopback.
func (r *Runner) loops(ctx context.Context, c address.Candidate) bool {
	all := r.addresses(ctx, c.Host)
	return !c.ViaHop && len(all) > 0 && !slices.ContainsFunc(all, func(ip netip.Addr) bool { return !ip.IsLoopback() })
}
