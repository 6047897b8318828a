package address

import (
	"context"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/secret"
)

// cloud is an instance of a cloud account, or a branch of one, found by asking its service.
var cloud = &Kind{
	Key:       key.Cloud,
	Replace:   "cloud=",
	Asked:     true,
	TellsPort: true,
	Hosts:     func(Profile) []HostPort { return nil },
	Local:     func(Profile) bool { return false },
	TLS: func(Profile) (rule, reason string) {
		return "verified", "the server is an instance of a cloud"
	},
	// The service sets the name and the authority: others would prove another server.
	Conflict: func(p Profile) *finding.Finding {
		for _, k := range []key.Name{key.TLS, key.TLSCA, key.TLSName, key.Port} {
			if value, ok := p.Value(k); ok && !(k == key.TLS && value.Text() == "verified") && !(k == key.Port && !p.OwnPort()) {
				return finding.New(finding.ProfileConflict,
					"%s can't be set with a cloud instance as the address: its service says it", k).
					Suggest("gharbor set %s %s=", p.Name(), k)
			}
		}
		return nil
	},
	Locate: func(ctx context.Context, from Sources, p Profile) ([]Candidate, *finding.Finding) {
		if from.Clouds == nil {
			return nil, finding.New(finding.CloudUnreachable, "no cloud is asked in this command")
		}
		at, found := from.Clouds.Place(ctx, p)
		if found != nil {
			return nil, found
		}
		c := Candidate{
			Host:   at.Host,
			Port:   at.Port,
			Source: "the instance service of " + at.Ref.Account,
			Name:   at.Name,
			Cloud:  at,
		}
		return completeCandidates(p, []Candidate{c}), nil
	},
	Bind: func(_ context.Context, from Sources, p Profile) (Binding, *finding.Finding) {
		if from.Clouds == nil {
			return Binding{}, finding.New(finding.CloudUnreachable, "no cloud is asked in this command")
		}
		service, found := from.Clouds.Service(p)
		return Binding{Instance: CloudOf(p).Within(), Service: service}, found
	},
	UnknownName: func(p Profile, found *finding.Finding) {
		found.Suggest("gharbor cloud instances %s   # what its service says", CloudOf(p).Account)
	},
	Short: func(_ Profile, shown func(key.Name) string) string { return "cloud " + shown(key.Cloud) },
}

// CloudOf is the instance that a profile's address is, the zero value for another kind of address.
func CloudOf(p Profile) cloudref.Ref {
	ref, _ := cloudref.Parse(p.Text(key.Cloud))
	return ref
}

// InCloud reports whether the address is an instance of a cloud account.
func (k *Kind) InCloud() bool { return k == cloud }

// Clouds finds the server of a profile whose address is an instance of a cloud account.
type Clouds interface {
	// Place asks the service of the profile's account where the instance is now.
	Place(ctx context.Context, p Profile) (*CloudAddress, *finding.Finding)

	// Service is the service of the profile's account, in the form in which a wallet's bindings keep it.
	Service(p Profile) (string, *finding.Finding)
}

// CloudAddress is an instance of a cloud account, and where it is reached.
type CloudAddress struct {
	Ref       cloudref.Ref // as the profile names it
	Service   string       // as Clouds.Service gives it
	Host      string
	Port      int
	Name      string // that its certificate must be for, "" for the host
	Authority []byte // PEM of the certificates to trust, nil for the system's authorities

	Detail      string // what it is and how it is reached, for the route stage
	Certificate bool   // a login is a client certificate, which the TLS handshake needs

	// Mint makes a login; nil where the service makes none.
	Mint secret.Mint
	// Explain adds to found, the finding of a connection that failed, what the service knows of the instance.
	Explain func(ctx context.Context, found *finding.Finding) *finding.Finding
}

// CheckHost returns the finding for a host that the service gave and that may not be dialled; nil for one that may.
func (a *CloudAddress) CheckHost(p Profile, host string) *finding.Finding {
	if hostname.Elsewhere(host) {
		return nil
	}
	return finding.New(finding.CloudNoAddress,
		"the service says that the instance is at %s, which is this machine or its own network: it is not dialled",
		clean.Quote(host)).
		Suggest("gharbor cloud instances %s   # what its service says", CloudOf(p).Account)
}
