package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"gentleharbor/core/binding"
	"gentleharbor/core/container/find"
	"gentleharbor/core/handover"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
)

// containers are the container engines of this machine.
func (c *call) containers() *find.Engines {
	if c.asked == nil {
		c.asked = find.System(c.Engines, c.Lookup, c.environment().Home)
	}
	return c.asked
}

// network is what dialling takes from this machine.
func (c *call) network() route.Network {
	network := route.System()
	network.Containers = c.containers()
	return network
}

// bindingOf binds a wallet's entry to where a profile leads.
func (c *call) bindingOf(ctx context.Context, p *resolve.Profile) (binding.Binding, error) {
	b, err := binding.Of(ctx, c.network().Sources(), p)
	var failure *secret.Failure
	switch {
	case err == nil:
		return b, nil
	case errors.As(err, &failure):
		return b, routeFailed(failure.Found)
	}
	return b, usage("%w", err)
}

// hopPlaces are what hops take from this machine.
func (c *call) hopPlaces() (hop.Places, error) {
	h, err := c.home()
	return hop.Places{Home: c.environment().Home, Known: filepath.Join(h.Dir, "known_hosts"), Lookup: c.Lookup}, err
}

// planHops is what a profile's hops come to, with notes on what of the SSH client
// configuration is not honoured.
func (c *call) planHops(p *resolve.Profile) ([]*hop.Hop, []string, error) {
	places, err := c.hopPlaces()
	if err != nil {
		return nil, nil, err
	}
	hops, notes, found := places.Plan(p)
	if found != nil {
		return nil, nil, &exitError{code: exitFile, err: fmt.Errorf("%s (%s)", found.Cause, found.Code), try: found.Try}
	}
	return hops, notes, nil
}

// handOver is the connection that a profile leads to, for another program.
func (c *call) handOver(ctx context.Context, p *resolve.Profile, v secret.Value) (handover.Connection, error) {
	if found := p.Problem(); found != nil {
		return handover.Connection{}, &secret.Failure{Found: found}
	}
	servers, found := c.network().Candidates(ctx, p)
	if found != nil {
		return handover.Connection{}, routeFailed(found)
	}
	conn, found := handover.Of(p, servers, v)
	if found != nil {
		return conn, &secret.Failure{Found: found}
	}
	return conn, nil
}
