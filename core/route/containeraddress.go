package route

import (
	"context"
	"net/netip"

	"gentleharbor/core/finding"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
)

// Containers finds where the server of a profile is whose address is a container.
type Containers interface {
	// Place asks the container engine where the container is now.
	Place(ctx context.Context, r *resolve.Profile) (*ContainerAddress, *finding.Finding)

	// Endpoint is the engine that the profile's container is looked for at, in the
	// form in which a wallet's bindings keep it.
	Endpoint(ctx context.Context, r *resolve.Profile) (string, *finding.Finding)

	// Nearby are the containers of this machine that are servers of an engine's kind.
	Nearby(ctx context.Context, engine string) []NearbyContainer
}

// NearbyContainer is a container on this machine with a server in it.
type NearbyContainer struct {
	Ref            schema.Container // as a profile would name it
	Name           string           // its own name
	State          string           // "running", "exited"
	Port           int              // of loopback at which it is published, 0 for none
	PublishedPorts []int            // the ports at which it would be, where it does not run
}

// ContainerAddress is a container, and where its server is reached just now.
type ContainerAddress struct {
	Ref      schema.Container // as the profile names it
	Name     string           // its own name
	Endpoint string           // of the engine that has it, as Containers.Endpoint gives it
	Host     string
	Port     int

	Detail   string           // how it is reached, for the route stage
	Warning  *finding.Finding // what is not as it could be, nil for nothing
	Gateways []netip.Addr     // from where its server sees connections that come through the engine

	// Explain is what is to be said of a server in it that did not answer, of which found
	// is what the connection says: that the container has ended since, or that its server
	// still starts, where the engine or the container's log says so; else found, with what
	// is known of the container.
	Explain func(ctx context.Context, found *finding.Finding) *finding.Finding

	// Declared finds the password that a variable of the container's environment has,
	// or that is in the file which it names.
	Declared func(q secret.Query) (*secret.Located, *finding.Finding)
}

// candidate is the server in the container.
func (p *ContainerAddress) candidate() Candidate {
	return Candidate{Host: p.Host, Port: p.Port, Container: p}
}
