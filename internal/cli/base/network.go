package base

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/binding"
	"gentleharbor/core/container/find"
	"gentleharbor/core/handover"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
)

// Containers are the container engines of this machine.
func (c *Call) Containers() *find.Engines {
	if c.asked == nil {
		c.asked = find.System(c.Engines, c.Lookup, c.Environment().Home)
	}
	return c.asked
}

// Network is the part of this machine that dialling needs.
func (c *Call) Network() route.Network {
	network := route.System()
	network.Containers = c.Containers()
	if clouds, err := c.Clouds(); err == nil { // an error in the files was shown when the profile was read
		network.Clouds = clouds
	}
	return network
}

// BindingOf makes a binding to a profile's address.
func (c *Call) BindingOf(ctx context.Context, p *resolve.Profile) (binding.Binding, error) {
	b, err := binding.New(ctx, c.Network().Sources(), p)
	var failure *secret.Failure
	switch {
	case err == nil:
		return b, nil
	case errors.As(err, &failure):
		return b, RouteFailed(failure.Found)
	}
	return b, Usage("%w", err)
}

// HopPlaces are the parts of this machine that hops use.
func (c *Call) HopPlaces() (hop.Places, error) {
	h, err := c.Home()
	return hop.Places{Home: c.Environment().Home, Known: filepath.Join(h.Dir, "known_hosts"), Lookup: c.Lookup}, err
}

// PlanHops finds a profile's hops, with notes about options of the SSH client configuration that gharbor does not
// follow.
func (c *Call) PlanHops(p *resolve.Profile) ([]*hop.Hop, []string, error) {
	places, err := c.HopPlaces()
	if err != nil {
		return nil, nil, err
	}
	hops, notes, found := places.Plan(p)
	if found != nil {
		return nil, nil, FindingError(ExitFile, fmt.Errorf("%s (%s)", found.Cause, found.Code), found)
	}
	return hops, notes, nil
}

// HandOver makes a profile's connection for another program, to its servers in the order of the file.
func (c *Call) HandOver(ctx context.Context, p *resolve.Profile, v secret.Value) (handover.Connection, error) {
	if found := p.Problem(); found != nil {
		return handover.Connection{}, &secret.Failure{Found: found}
	}
	servers, found := c.Network().Candidates(ctx, p)
	if found != nil {
		return handover.Connection{}, RouteFailed(found)
	}
	return c.HandOverTo(ctx, p, servers, v)
}

// HandOverTo makes the connection to servers of a profile for another program. The authority of a cloud instance is
// written to a file, which that program can read.
func (c *Call) HandOverTo(ctx context.Context, p *resolve.Profile, servers []address.Candidate,
	v secret.Value) (handover.Connection, error) {
	conn, found := handover.NewConnection(p, servers, v)
	if found != nil {
		return conn, &secret.Failure{Found: found}
	}
	if host, ok := conn.VerifiedHost(); ok && net.ParseIP(host) == nil && len(p.Hops()) == 0 {
		const within = 5 * time.Second
		bound, cancel := context.WithTimeout(ctx, within)
		defer cancel()
		if found, err := c.Network().Resolve(bound, host); err == nil && len(found) > 0 {
			conn.Address = found[0].String()
		}
	}
	if in := servers[0].Cloud; in != nil && in.Authority != nil {
		h, err := c.Home()
		if err != nil {
			return conn, err
		}
		if conn.CA, err = h.KeepAuthority(in.Authority); err != nil {
			return conn, err
		}
	}
	return conn, nil
}
