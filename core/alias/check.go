package alias

import (
	"context"
	"net/netip"

	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/route"
)

// CheckResult is what Check found of one alias.
type CheckResult struct {
	Alias   string           `json:"alias"`
	File    string           `json:"file"`
	Line    int              `json:"line"`
	Outcome finding.Outcome  `json:"outcome"`
	Finding *finding.Finding `json:"finding,omitempty"`
}

// Check checks each alias: where its chain leads, whether its hosts are known, and whether a profile of the files
// names it. It looks each name up once, and dials nothing.
func (b *Book) Check(ctx context.Context, network route.Network, files ...*profile.File) []CheckResult {
	network.Others = nil // thousands of names are asked of DNS alone
	network.Resolve = once(network.Resolve)
	used := b.UsedAliases(files...)
	all := []CheckResult{}
	for _, a := range b.All() {
		one := CheckResult{Alias: b.ShortName(a), File: a.Path(), Line: a.Line}
		one.Finding, one.Outcome = b.check(ctx, network, a)
		if one.Finding == nil && !used[a] {
			one.Outcome = finding.Warn
			one.Finding = finding.New(finding.AliasUnused, "nothing uses the alias %s",
				one.Alias).
				Suggest("gharbor alias used %s   # wallet entries too", one.Alias)
		}
		all = append(all, one)
	}
	return all
}

// once remembers what was answered for a name.
func once(resolve func(context.Context, string) ([]netip.Addr, error)) func(context.Context,
	string) ([]netip.Addr, error) {
	type answer struct {
		addrs []netip.Addr
		err   error
	}
	known := make(map[string]answer)
	return func(ctx context.Context, host string) ([]netip.Addr, error) {
		a, ok := known[host]
		if !ok {
			a.addrs, a.err = resolve(ctx, host)
			known[host] = a
		}
		return a.addrs, a.err
	}
}

func (b *Book) check(ctx context.Context, network route.Network, a *profile.Alias) (*finding.Finding, finding.Outcome) {
	chain, found := b.Follow(a.FullName())
	if found != nil {
		return found, finding.Fail
	}
	for _, link := range chain.Links {
		if _, found := b.Judge(link); found != nil {
			return found, finding.Warn // nothing of it is looked up
		}
	}
	candidates, found := b.Candidates(ctx, network, chain)
	if found != nil {
		return found, finding.Fail
	}
	var unknown *finding.Finding
	for _, one := range candidates {
		if _, result := network.Names(ctx, a.FullName(), one); result.Outcome == finding.Fail {
			if unknown == nil {
				unknown = finding.New(finding.AliasUnknownHost, "some hosts of the alias are unknown").
					Suggest("gharbor alias resolve %s", b.ShortName(a))
			}
			unknown.Saw("%s", result.Finding.Cause)
		}
	}
	if unknown != nil {
		return unknown, finding.Fail
	}
	return nil, finding.OK
}
