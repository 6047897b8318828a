// Package address describes the kinds of address that a profile can have. For each kind it says which key sets it,
// which servers it leads to, and what a secret for them is bound to. A new kind is one file and one line in All.
//
// In the order profile, resolve, route, check, report it stands between resolve, which knows the values, and route,
// which dials. Start with Kind.
package address

import (
	"context"
	"net"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// Kind is one kind of address. A nil function means that the kind has nothing of that sort.
type Kind struct {
	Key  key.Name   // the key that says it
	Keys []key.Name // other keys, which mean something with this kind alone

	// Follows: the value is the name of an alias, which is followed before anything else.
	Follows bool
	// Asked: the servers are found by asking something (DNS, a container engine, a service). Where that fails, they
	// are not known yet.
	Asked bool
	// OnMachine: the servers are on no network. Nothing is encrypted, and an account may need no password.
	OnMachine bool

	// TellsPort: the answer has the port of each server, so the engine's usual port never counts.
	TellsPort bool
	// PortPlace says where the engine's usual port counts, "" for the host's.
	PortPlace string
	// Replace are the words of set that take the address out of a profile, for a hint of another one.
	Replace string

	// Several reports whether the address may lead to several servers.
	Several func(p Profile) bool
	// Hosts are the servers as written.
	Hosts func(p Profile) []HostPort
	// Local reports whether everything that may be dialled is written as an address of the machine that dials.
	Local func(p Profile) bool
	// TLS is the rule for a profile that sets none, and why; nil where it follows from Local.
	TLS func(p Profile) (rule, reason string)
	// Conflict says why a profile with this address can't be tested.
	Conflict func(p Profile) *finding.Finding
	// Locate finds the servers, in the order in which they are written or in which DNS gives them.
	Locate func(ctx context.Context, from Sources, p Profile) ([]Candidate, *finding.Finding)
	// Bind says what a secret for the address is bound to.
	Bind func(ctx context.Context, from Sources, p Profile) (Binding, *finding.Finding)
	// UnknownName adds what to try where the name of a host is not known.
	UnknownName func(p Profile, found *finding.Finding)
	// Short is the address in one word, of the values as they are shown.
	Short func(p Profile, shown func(key.Name) string) string
}

// Profile is what a kind asks of a profile.
type Profile interface {
	Name() string
	Address() *Kind                                  // the kind of its address, None for none
	Text(key.Name) string                            // the effective value, "" for none
	Value(key.Name) (value schema.Value, has bool)   // the effective value
	Port() int                                       // what the profile or its engine says, 0 for neither
	OwnPort() bool                                   // the profile itself says the port
	Engine() *engine.Spec                            // nil for none
	BehindHops() bool                                // hops stand before the address
	Service() *Chain                                 // what its alias leads to, nil without one
	HostEntry(host string) (profile.HostEntry, bool) // what [hosts] has for a host
	Variable(name string) string                     // a variable of the machine, "" where none may be used
}

// Sources look up addresses that are not written in a file.
type Sources struct {
	// Services asks DNS for the SRV records of a name, sorted by priority and, within one, at random by weight
	// (RFC 2782).
	Services func(ctx context.Context, name string) ([]*net.SRV, error)
	// Primary asks a server that watches others, at HOST:PORT, for the primary of a name.
	Primary func(ctx context.Context, spec *engine.Spec, at, name string) (host string, port int, err error)
	// Containers finds the servers that are in containers; nil where none are looked for.
	Containers Containers
	// Clouds finds the servers that are instances of a cloud account; nil where none are looked for.
	Clouds Clouds
}

// Binding is what a secret for an address is bound to: one of an alias, a container, a cloud instance, or addresses as
// written.
type Binding struct {
	Alias     *profile.Alias
	Container string // its name, or PROJECT/SERVICE
	Endpoint  string // of the container engine that has it
	Instance  string // INSTANCE, or INSTANCE/BRANCH
	Service   string // of the instance service that has it
	Addresses []string
}

// None is the address of a profile that has none.
var None = &Kind{
	Hosts: func(Profile) []HostPort { return nil },
	Local: func(Profile) bool { return false },
	Locate: func(context.Context, Sources, Profile) ([]Candidate, *finding.Finding) {
		return nil, nil
	},
	Short: func(Profile, func(key.Name) string) string { return "-" },
}

// All lists the kinds.
func All() []*Kind { return []*Kind{host, hosts, srv, sentinel, socket, alias, container, cloud} }

// ByKey is the kind whose key has a name, None for no such kind.
func ByKey(name key.Name) *Kind {
	for _, k := range All() {
		if k.Key == name {
			return k
		}
	}
	return None
}

// Written reports whether two profiles say the same address by the same values, whatever that leads to.
func Written(a, b Profile) bool {
	if !a.Address().Known() || a.Address() != b.Address() || a.Port() != b.Port() {
		return false
	}
	for _, k := range append([]key.Name{a.Address().Key}, a.Address().Keys...) {
		one, _ := a.Value(k)
		other, _ := b.Value(k)
		if !one.Equal(other) {
			return false
		}
	}
	return true
}

// Known reports whether there is an address.
func (k *Kind) Known() bool { return k != None }
