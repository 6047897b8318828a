package route

import (
	"context"
	"errors"
	"net"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
)

// maxRecords bounds the servers of one SRV name: a service with more is not one that
// a person tests.
const maxRecords = 32

// records are the servers that DNS lists for a service, in the order in which RFC
// 2782 has a client try them. Their certificates must be for the domain that was
// asked: the servers' own names are what DNS said.
func (n Network) records(ctx context.Context, srv string, chain *resolve.Chain) ([]Candidate, *finding.Finding) {
	records, err := n.Services(ctx, srv)
	_, link, _ := chain.Own(key.SRV)
	name := link.Called()
	var dns *net.DNSError
	switch {
	case ctx.Err() != nil || errors.As(err, &dns) && dns.IsTimeout:
		return nil, finding.New(finding.AliasSRVTimeout,
			"the name servers did not answer about the SRV records of %s in time", srv).
			Suggest("cat /etc/resolv.conf").Suggest("gharbor alias resolve %s", name)
	case len(records) == 1 && strings.TrimSuffix(records[0].Target, ".") == "":
		return nil, finding.New(finding.AliasSRVNone,
			"DNS says that %s is decidedly not offered: its SRV record's target is the root", srv).
			Suggest("gharbor alias set %s srv=_SERVICE._tcp.DOMAIN", name)
	case len(records) == 0:
		found := finding.New(finding.AliasSRVUnknown, "DNS has no SRV records for %s", srv)
		if err != nil {
			found.Saw("%s", lookUpReason(err))
		}
		return nil, found.Suggest("gharbor alias set %s srv=_SERVICE._tcp.DOMAIN", name)
	}
	var list []Candidate
	for _, r := range records[:min(len(records), maxRecords)] {
		host := strings.ToLower(strings.TrimSuffix(r.Target, "."))
		if !schema.ValidHost(host) || r.Port == 0 {
			return nil, finding.New(finding.AliasSRVUnknown,
				"an SRV record of %s names no host and port that could be dialled", srv).
				Saw("its target is %s, its port %d", clean.Quoted(r.Target), r.Port).
				Suggest("gharbor alias set %s srv=_SERVICE._tcp.DOMAIN", name)
		}
		c := Candidate{Host: host, Port: int(r.Port), Source: "an SRV record of " + srv, Name: resolve.SRVDomain(srv)}
		if !slices.ContainsFunc(list, func(o Candidate) bool { return o.Host == c.Host && o.Port == c.Port }) {
			list = append(list, c)
		}
	}
	return list, nil
}
