package find

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"gentleharbor/core/container/api"
	"gentleharbor/core/finding"
)

// Ready waits until a container's health check succeeds or, without one, until a port that it publishes on loopback
// answers as a server. It returns the state then. There is a finding for a container that ends, and for a wait that
// takes too long.
func (e *Engines) Ready(ctx context.Context, client *api.Client, id string) (state string, found *finding.Finding) {
	const pause = 300 * time.Millisecond
	for {
		one, err := client.Inspect(ctx, id)
		if err != nil {
			return "", FindingOf(err)
		}
		v := &view{Engines: e, match: match{client, one}}
		if found := v.idle(ctx); found != nil {
			return "", found
		}
		switch h := one.State.Health; {
		case h != nil && h.Status == "healthy":
			return State(one), nil
		case h != nil && h.Status != "none" && h.Status != "":
		case len(v.publishedAtAll()) == 0:
			return State(one) + "; no port is published, so it is not known whether its server is ready", nil
		default:
			if engine, port, _ := e.greeting(ctx, one, tcpPorts(one), e.byPort(tcpPorts(one), one.Config.Image)); engine != "" {
				return fmt.Sprintf("%s; %s answers at its port %d", State(one), engine, port), nil
			}
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			found := finding.New(finding.ContainerStarting, "the container %s runs, but was not ready in time",
				one.Name)
			found.Saw("its state is: %s", State(one))
			return "", found.Suggest("gharbor container start %s -within 5m", name(one)).
				Suggest("%s logs --tail 50 %s", client.CLIName(), name(one))
		}
	}
}

// publishedAtAll are all addresses at which a port of the container is published.
func (v *view) publishedAtAll() (all []place) {
	for _, port := range tcpPorts(v.one) {
		all = append(all, publishedOf(v.one.NetworkSettings.Ports[strconv.Itoa(port)+"/tcp"], v.client.Endpoint.Host())...)
	}
	return all
}
