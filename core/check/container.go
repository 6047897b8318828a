package check

import (
	"context"
	"slices"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
)

// routeIn is the result of the route stage for a server in a container.
func (t *test) routeIn(in *address.ContainerAddress) finding.Result {
	if in.Warning != nil {
		return finding.WarnWith(in.Warning, "%s", in.Detail)
	}
	return finding.Good("%s", in.Detail)
}

// explainAddress adds to a stage that failed what is known of the container, or of the cloud instance.
func (a *attempt) explainAddress(ctx context.Context, result finding.Result) finding.Result {
	if result.Outcome == finding.Fail {
		result.Finding = a.explainContained(ctx, a.at, result.Finding)
	}
	return result
}

// explainContained completes the finding for a server in a container, or an instance of a cloud, that does not answer
// or refuses the login.
func (t *test) explainContained(ctx context.Context, c address.Candidate, found *finding.Finding) *finding.Finding {
	if c.Cloud != nil && ctx.Err() == nil {
		return c.Cloud.Explain(ctx, found)
	}
	if c.Container == nil || ctx.Err() != nil {
		return found
	}
	switch found.Code {
	case finding.LoginHostNotAllowed, finding.LoginPassword:
		explainBridge(c.Container, found)
	case finding.ReachRefused, finding.ReachTimeout, finding.SpeakSilent, finding.SpeakClosed:
		return c.Container.Explain(ctx, found)
	}
	return found
}

// explainBridge says what the host is from which the server saw the login come, where the server named it.
func explainBridge(in *address.ContainerAddress, found *finding.Finding) {
	said := strings.FieldsFunc(found.Cause+" "+strings.Join(found.Seen, " "),
		func(r rune) bool { return !strings.ContainsRune("0123456789abcdefABCDEF.:", r) })
	for _, gateway := range in.Gateways {
		if !slices.Contains(said, gateway.String()) { // as a whole: 172.17.0.1 is not 172.17.0.12
			continue
		}
		found.Saw("%s is the container engine's address: connections from this machine come from there, not from "+
			"127.0.0.1", gateway)
		return
	}
}

// hintContainers adds the containers that publish such a server elsewhere, or that would publish it at this port if
// they ran.
func (t *test) hintContainers(ctx context.Context, c address.Candidate, found *finding.Finding) {
	if t.Network.Containers == nil || c.Socket != "" {
		return
	}
	name := t.profile.Called
	for _, n := range t.Network.Containers.Nearby(ctx, t.profile.Text(key.Engine)) {
		switch {
		case slices.Contains(n.PublishedPorts, c.Port):
			found.Saw("the container %s publishes its server at this port when it runs; it is %s",
				clean.Quote(n.Name), n.State)
			found.Suggest("gharbor container start %s", clean.Shell(n.Name))
		case n.Port != 0 && n.Port != c.Port:
			found.Saw("the container %s publishes its server at 127.0.0.1:%d", clean.Quote(n.Name), n.Port)
			if words := t.profile.Address().Replace; words != "" {
				found.Suggest("gharbor set %s %s container=%s   # which follows it wherever it is published",
					name, words,
					clean.Shell(n.Ref.String()))
			}
		}
	}
}
