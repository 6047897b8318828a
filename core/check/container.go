package check

import (
	"context"
	"strings"

	"gentleharbor/core/finding"
	"gentleharbor/core/route"
)

// routeIn is the result of the route stage for a server in a container.
func (t *test) routeIn(in *route.Placed) finding.Result {
	if in.Warning != nil {
		return finding.Warned(in.Warning, "%s", in.Detail)
	}
	return finding.Good("%s", in.Detail)
}

// explained adds to a stage that failed what is known of the container.
func (t *test) explained(ctx context.Context, c route.Candidate, result finding.Result) finding.Result {
	if c.Container == nil || result.Outcome != finding.Fail {
		return result
	}
	if result.Finding.Code == "login.host-not-allowed" {
		t.explainBridge(c.Container, result.Finding)
		return result
	}
	result.Finding = t.explainContained(ctx, c, result.Finding)
	return result
}

// explainContained gives the finding for a server in a container that does not answer:
// that it is still starting, or has ended since, where the engine or the container's
// log says so.
func (t *test) explainContained(ctx context.Context, c route.Candidate, found *finding.Finding) *finding.Finding {
	if c.Container == nil || ctx.Err() != nil {
		return found
	}
	switch found.Code {
	case "reach.refused", "reach.timeout", "reach.closed", "speak.silent", "speak.closed", "speak.starting":
	default:
		return found
	}
	better := c.Container.NotReady(ctx)
	if better == nil {
		return found
	}
	return better.Saw("at %s: %s (%s)", c, found.Cause, found.Code)
}

// explainBridge says, for an account that may not come from its client's host, what
// that host is.
func (t *test) explainBridge(in *route.Placed, found *finding.Finding) {
	said := found.Cause + " " + strings.Join(found.Seen, " ")
	for _, gateway := range in.Gateways {
		if strings.Contains(said, gateway.String()) {
			found.Saw("%s is the container engine's own address in the container's network: through a published port, what connects from this machine comes from there and not from 127.0.0.1", gateway)
			found.Suggest("let the account come from %s: an address of the network's, such as '172.17.%%', or '%%'", gateway)
			return
		}
	}
}
