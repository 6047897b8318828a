package address

import (
	"context"
	"net/netip"
	"net/url"

	"gentleharbor/core/finding"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
)

// container is a container, found by asking its engine.
var container = &Kind{
	Key:       key.Container,
	Keys:      []key.Name{key.Endpoint},
	Asked:     true,
	PortPlace: ", inside the container",
	Hosts:     func(Profile) []HostPort { return nil },
	Local:     localEngine,
	TLS: func(p Profile) (rule, reason string) {
		if localEngine(p) {
			return "offered", "the container's engine is on this machine"
		}
		return "verified", "the container's engine is not on this machine"
	},
	Conflict: func(p Profile) *finding.Finding {
		if !p.BehindHops() {
			return nil
		}
		return finding.New(finding.ProfileConflict,
			"container works only for an engine that this machine reaches, and the profile has hops").
			Advise("name the host: gharbor set %s container= host=HOST (as the last hop sees it)", p.Name()).
			Suggest("gharbor hop remove %s 1   # where the container's engine is on this machine", p.Name())
	},
	Locate: func(ctx context.Context, from Sources, p Profile) ([]Candidate, *finding.Finding) {
		if from.Containers == nil {
			return nil, finding.New(finding.ContainerNoEngine, "no container engine is asked in this command")
		}
		in, found := from.Containers.Place(ctx, p)
		if found != nil {
			return nil, found
		}
		return []Candidate{{Host: in.Host, Port: in.Port, Container: in}}, nil
	},
	Bind: func(ctx context.Context, from Sources, p Profile) (Binding, *finding.Finding) {
		in, _ := ContainerOf(p)
		endpoint, found := from.Containers.Endpoint(ctx, p)
		if found != nil {
			found.Saw("a saved password is tied to the container's engine, so the engine has to answer")
		}
		return Binding{Container: in.String(), Endpoint: endpoint}, found
	},
	UnknownName: func(p Profile, found *finding.Finding) {
		found.Advise("name the host: gharbor set %s host=NAME", p.Name())
	},
	Short: func(_ Profile, shown func(key.Name) string) string { return "container " + shown(key.Container) },
}

// EndpointVariable names the container engine that its own clients talk to.
const EndpointVariable = "DOCKER_HOST"

// ContainerOf is the container that a profile's address is, if it is one.
func ContainerOf(p Profile) (schema.Container, bool) {
	value, ok := p.Value(key.Container)
	return value.Container(), ok
}

// localEngine reports whether the container engine is written as one of this machine: by the profile, or by the
// variable where the profile names none.
func localEngine(p Profile) bool {
	endpoint := p.Text(key.Endpoint)
	if endpoint == "" {
		endpoint = p.Variable(EndpointVariable)
	}
	return LocalEndpoint(endpoint)
}

// LocalEndpoint reports whether an endpoint is written as one of this machine.
func LocalEndpoint(endpoint string) bool {
	u, err := url.Parse(endpoint)
	return err != nil || u.Scheme != "tcp" || hostname.Local(u.Hostname())
}

// Containers finds the server of a profile whose address is a container.
type Containers interface {
	// Place asks the container engine where the container is now.
	Place(ctx context.Context, p Profile) (*ContainerAddress, *finding.Finding)

	// Endpoint is the container engine that has the profile's container, in the form in which a wallet's bindings
	// keep it.
	Endpoint(ctx context.Context, p Profile) (string, *finding.Finding)

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

	// Explain adds to found, the finding of a connection that failed, what the engine or the container's log says:
	// the container has ended since, or its server is still starting. Else it adds the container's name and state.
	Explain func(ctx context.Context, found *finding.Finding) *finding.Finding

	// Declared finds the password in a variable of the container's environment, or in the file that the variable
	// names.
	Declared func(q secret.Query) (*secret.Location, *finding.Finding)
}
