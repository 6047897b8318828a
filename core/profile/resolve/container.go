package resolve

import (
	"net/url"

	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// EndpointVariable names the container engine that its own clients talk to.
const EndpointVariable = "DOCKER_HOST"

// schema.Container is the container that the address is, if it is one.
func (r *Profile) Container() (schema.Container, bool) {
	e, ok := r.Get(key.Container)
	return e.Value.Container(), ok
}

// localEngine reports whether the container engine is written as one of this
// machine: by the profile, or by the variable where the profile names none.
func (r *Profile) localEngine() bool {
	endpoint := r.Text(key.Endpoint)
	if endpoint == "" && r.Vouched() && r.env.Lookup != nil {
		endpoint, _ = r.env.Lookup(EndpointVariable)
	}
	return LocalEndpoint(endpoint)
}

// LocalEndpoint reports whether an endpoint is written as one of this machine.
func LocalEndpoint(endpoint string) bool {
	u, err := url.Parse(endpoint)
	return err != nil || u.Scheme != "tcp" || hostname.Local(u.Hostname())
}
