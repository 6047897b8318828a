package address

import (
	"context"
	"errors"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/syntax"
)

// alias is the name of a service: its alias says where it lives.
var alias = &Kind{
	Key:     key.Alias,
	Follows: true,
	Asked:   true,
	Several: func(p Profile) bool { return len(serviceHosts(p)) != 1 && p.Service().Text(key.Socket) == "" },
	Hosts:   serviceHosts,
	Local: func(p Profile) bool {
		return p.Service().Text(key.Socket) != "" || allLocal(serviceHosts(p))
	},
	Locate: func(ctx context.Context, from Sources, p Profile) ([]Candidate, *finding.Finding) {
		if p.Service().Text(key.Socket) != "" {
			return locateSocket(p)
		}
		var list []Candidate
		if name := p.Service().Text(key.SRV); name != "" {
			_, link, _ := p.Service().OwnValue(key.SRV)
			var found *finding.Finding
			if list, found = records(ctx, from, name, srvOwner{"alias", link.FullName()}); found != nil {
				return nil, found
			}
		}
		return append(completeCandidates(p, list), hostCandidates(p, serviceHosts(p))...), nil
	},
	Bind: func(ctx context.Context, from Sources, p Profile) (Binding, *finding.Finding) {
		if PortOverride(p) { // with a port of its own it is an address that counts
			return bindAsWritten(ctx, from, p)
		}
		return Binding{Alias: p.Service().Links[0]}, nil
	},
	UnknownName: func(p Profile, found *finding.Finding) {
		found.Suggest("gharbor alias show %s   # are its addresses right?", p.Text(key.Alias))
	},
	Short: func(_ Profile, shown func(key.Name) string) string { return "alias " + shown(key.Alias) },
}

func serviceHosts(p Profile) []HostPort { return p.Service().Addresses(p.Port()) }

// PortOverride reports whether the profile sets a port itself, and its alias has an address without a port, which
// gets it.
func PortOverride(p Profile) bool {
	if p.Address().Key != key.Alias || !p.OwnPort() {
		return false
	}
	listed, _, ok := p.Service().OwnValue(key.Addresses)
	if !ok {
		return p.Service().Text(key.Socket) != "" // whose name ends with it; with srv DNS says it
	}
	return slices.ContainsFunc(listed.Value.List(), func(item string) bool {
		_, port := hostname.SplitPort(item)
		return port == ""
	})
}

// SRVDomain is the domain of a name with SRV records. A certificate of the service must be for it, as the servers'
// own names come from DNS.
func SRVDomain(srv string) string {
	parts := strings.SplitN(strings.TrimSuffix(srv, "."), ".", 3)
	return parts[len(parts)-1]
}

// Chain is an alias, and the aliases that it leads to in turn. The last one says where the service lives.
type Chain struct {
	Links   []*profile.Alias
	Ignored []string // options of a service file that have no meaning here

	Pinned map[string][]byte // the files of project's aliases, as they were vouched for, by path
}

// OwnValue returns what the first link that sets a key sets it to.
func (c *Chain) OwnValue(name key.Name) (profile.Entry, *profile.Alias, bool) {
	if c == nil {
		return profile.Entry{}, nil, false
	}
	for _, link := range c.Links {
		if e, ok := link.OwnValue(name); ok {
			return e, link, true
		}
	}
	return profile.Entry{}, nil, false
}

// Text is the value of a key as text, "" where no link sets it.
func (c *Chain) Text(name key.Name) string {
	e, _, _ := c.OwnValue(name)
	return e.Value.Text()
}

// Names are the links' names, as FullName gives them.
func (c *Chain) Names() []string {
	if c == nil {
		return nil
	}
	names := make([]string, len(c.Links))
	for i, link := range c.Links {
		names[i] = link.FullName()
	}
	return names
}

// ConnectTimeout is how long one address may take to accept; 0 where no link sets it.
func (c *Chain) ConnectTimeout() time.Duration {
	d, _ := time.ParseDuration(c.Text(key.ConnectTimeout))
	return d
}

// Retries is how often all addresses are tried again.
func (c *Chain) Retries() int {
	n, _ := strconv.Atoi(c.Text(key.Retries))
	return n
}

// Addresses are the servers that the chain lists itself. port is for those without
// one of their own.
func (c *Chain) Addresses(port int) []HostPort {
	e, _, ok := c.OwnValue(key.Addresses)
	if !ok {
		return nil
	}
	return hostPorts(e.Value.List(), port)
}

// maxRecords bounds the servers of one SRV name: a service with more is not one that
// a person tests.
const maxRecords = 32

// records are the servers that DNS lists for a service, in the order in which a client tries them (RFC 2782). Their
// certificates must be for the domain that was asked for: the servers' own names come from DNS.
func records(ctx context.Context, from Sources, srv string, by srvOwner) ([]Candidate, *finding.Finding) {
	records, err := from.Services(ctx, srv)
	var dns *net.DNSError
	switch {
	case ctx.Err() != nil || errors.As(err, &dns) && dns.IsTimeout:
		return nil, by.again(finding.New(finding.AliasSRVTimeout,
			"the name servers did not answer about the SRV records of %s in time", srv).
			Suggest("cat /etc/resolv.conf"))
	case len(records) == 0 && errors.As(err, &dns) && !dns.IsNotFound:
		return nil, by.again(finding.New(finding.AliasSRVTimeout,
			"the name servers gave no usable answer about the SRV records of %s", srv).
			Saw("%s", LookUpReason(err)).Suggest("cat /etc/resolv.conf"))
	case len(records) == 1 && strings.TrimSuffix(records[0].Target, ".") == "":
		return nil, by.another(finding.New(finding.AliasSRVNone,
			"DNS says that the service %s does not exist here (its SRV record points to the root)", srv))
	case len(records) == 0:
		found := finding.New(finding.AliasSRVUnknown, "DNS has no SRV records for %s", srv)
		if err != nil {
			found.Saw("%s", LookUpReason(err))
		}
		return nil, by.another(found)
	}
	var list []Candidate
	for _, r := range records[:min(len(records), maxRecords)] {
		host := strings.ToLower(strings.TrimSuffix(r.Target, "."))
		if !syntax.ValidHost(host) || r.Port == 0 {
			return nil, by.another(finding.New(finding.AliasSRVUnknown,
				"an SRV record of %s has no usable host and port", srv).
				Saw("its target is %s, its port %d", clean.Quote(r.Target), r.Port))
		}
		c := Candidate{Host: host, Port: int(r.Port), Source: "an SRV record of " + srv, Name: SRVDomain(srv)}
		if !slices.ContainsFunc(list, func(o Candidate) bool { return o.Host == c.Host && o.Port == c.Port }) {
			list = append(list, c)
		}
	}
	return list, nil
}

// LookUpReason returns why a look-up failed, and which name server was asked.
func LookUpReason(err error) string {
	why := err.Error()
	var dns *net.DNSError
	if errors.As(err, &dns) {
		if why = dns.Err; dns.Server != "" {
			why += ", asked " + dns.Server
		}
	}
	return clean.Line(why, 0)
}
