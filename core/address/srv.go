package address

import (
	"context"

	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
)

// srv is the name of a service in DNS, whose SRV records list the servers (RFC 2782).
var srv = &Kind{
	Key:     key.SRV,
	Replace: "srv=",
	Asked:   true,
	Several: func(Profile) bool { return true },
	Hosts:   func(Profile) []HostPort { return nil },
	Local:   func(Profile) bool { return false },
	// Anybody may have written an answer of DNS: only a certificate for the domain that was asked for proves a
	// server.
	Conflict: func(p Profile) *finding.Finding {
		if p.Text(key.TLS) == "verified" {
			return nil
		}
		return finding.New(finding.ProfileConflict, "servers that DNS names are connected to with tls = \"verified\" only").
			Suggest("gharbor set %s tls=verified", p.Name())
	},
	Locate: func(ctx context.Context, from Sources, p Profile) ([]Candidate, *finding.Finding) {
		list, found := records(ctx, from, p.Text(key.SRV), srvOwner{"profile", p.Name()})
		if found != nil {
			return nil, found
		}
		return completeCandidates(p, list), nil
	},
	Bind: bindAsWritten,
	UnknownName: func(p Profile, found *finding.Finding) {
		found.Suggest("gharbor show %s   # is its srv right?", p.Name())
	},
	Short: func(_ Profile, shown func(key.Name) string) string { return "srv " + shown(key.SRV) },
}

// srvOwner is the alias or profile that has the SRV name, for lines to try.
type srvOwner struct{ what, name string }

// another advises to name other records.
func (a srvOwner) another(found *finding.Finding) *finding.Finding {
	command := "set"
	if a.what == "alias" {
		command = "alias set"
	}
	return found.Advise("name the records that there are: gharbor %s %s srv=_SERVICE._tcp.DOMAIN", command, a.name)
}

// again suggests how to see what DNS says.
func (a srvOwner) again(found *finding.Finding) *finding.Finding {
	if a.what == "alias" {
		return found.Suggest("gharbor alias resolve %s", a.name)
	}
	return found.Suggest("gharbor test %s -timeout 30s", a.name)
}
