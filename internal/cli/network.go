package cli

import (
	"context"
	"errors"

	"gentleharbor/core/binding"
	"gentleharbor/core/container/find"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
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
