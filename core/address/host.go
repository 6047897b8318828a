package address

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/key"
)

// host is one host with the profile's port.
var host = &Kind{
	Key:     key.Host,
	Replace: "host= port=",
	Hosts:   oneHost,
	Local:   func(p Profile) bool { return allLocal(oneHost(p)) },
	Locate: func(_ context.Context, _ Sources, p Profile) ([]Candidate, *finding.Finding) {
		return hostCandidates(p, oneHost(p)), nil
	},
	Bind: bindAsWritten,
	UnknownName: func(p Profile, found *finding.Finding) {
		found.Advise("name the host: gharbor set %s host=NAME", p.Name())
	},
	Short: func(_ Profile, shown func(key.Name) string) string {
		name := shown(key.Host)
		if strings.Contains(name, ":") && !strings.Contains(name, "$") {
			name = "[" + name + "]"
		}
		return name + ":" + shown(key.Port)
	},
}

// OneHost reports whether it is one host as written. A container's published port may take its place.
func (k *Kind) OneHost() bool { return k.Key == key.Host }

func oneHost(p Profile) []HostPort { return []HostPort{{p.Text(key.Host), p.Port()}} }

// hosts are several servers, each with a port of its own or the profile's.
var hosts = &Kind{
	Key:     key.Hosts,
	Several: func(Profile) bool { return true },
	Hosts:   listedHosts,
	Local:   func(p Profile) bool { return allLocal(listedHosts(p)) },
	Locate: func(_ context.Context, _ Sources, p Profile) ([]Candidate, *finding.Finding) {
		return hostCandidates(p, listedHosts(p)), nil
	},
	Bind: bindAsWritten,
	UnknownName: func(p Profile, found *finding.Finding) {
		found.Suggest("gharbor show %s   # are its hosts right?", p.Name())
	},
	Short: func(p Profile, _ func(key.Name) string) string {
		all := listedHosts(p)
		return fmt.Sprintf("%s:%d and %d more", clean.Line(all[0].Host, 60), all[0].Port, len(all)-1)
	},
}

func listedHosts(p Profile) []HostPort {
	value, _ := p.Value(key.Hosts)
	return hostPorts(value.List(), p.Port())
}

// HostPort is one server to try.
type HostPort struct {
	Host string
	Port int
}

// hostPorts are the items of a list; port is for those that have none of their own.
func hostPorts(items []string, port int) []HostPort {
	var all []HostPort
	for _, item := range items {
		name, own := hostname.SplitPort(item)
		n, err := strconv.Atoi(own)
		if err != nil {
			n = port
		}
		all = append(all, HostPort{name, n})
	}
	return all
}

// allLocal reports whether all hosts are written as this machine's; it is false for an empty list.
func allLocal(all []HostPort) bool {
	for _, h := range all {
		if !hostname.Local(h.Host) {
			return false
		}
	}
	return len(all) > 0
}

// hostCandidates are hosts as candidates.
func hostCandidates(p Profile, all []HostPort) []Candidate {
	var list []Candidate
	for _, h := range all {
		list = append(list, Candidate{Host: h.Host, Port: h.Port})
	}
	return completeCandidates(p, list)
}

// completeCandidates adds the profile's own values to candidates that have a host.
func completeCandidates(p Profile, list []Candidate) []Candidate {
	for i := range list {
		list[i].ViaHop = p.BehindHops()
		if given, ok := p.HostEntry(list[i].Host); ok {
			list[i].StaticHost = &given
		}
	}
	return list
}

// bindAsWritten binds to the addresses that are written.
func bindAsWritten(ctx context.Context, from Sources, p Profile) (Binding, *finding.Finding) {
	list, found := p.Address().Locate(ctx, from, p)
	if found != nil {
		return Binding{}, found
	}
	var b Binding
	for _, c := range list {
		b.Addresses = append(b.Addresses, c.String())
	}
	return b, nil
}
