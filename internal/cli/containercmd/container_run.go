package containercmd

import (
	"context"
	"errors"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/container/api"
	"gentleharbor/core/container/find"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/testcmd"
	"gentleharbor/internal/render"
)

// namedContainer is a container that a command is about.
type namedContainer struct {
	*api.Container
	client  *api.Client
	profile *resolve.Profile // that leads to it, nil for none
}

// startOptions are the flags of container start.
type startOptions struct {
	endpoint string
	within   time.Duration
	yes      bool
}

func containerStart() *base.Command {
	var o startOptions
	return &base.Command{
		Name: "container start", Args: "NAME", Summary: "start a container, and wait until its server is ready",
		Long: `NAME is a profile with a container as its address, a container's name, or
PROJECT/SERVICE of a compose file. The server is ready when the profile passes its test;
without a profile, when the health check says so or the published port answers. If a
service of the compose file in this folder has no container yet, it is made after a yes,
from the service's image, variables, ports and volumes.`,
		Examples: []string{"gharbor container start ringing", "gharbor container start saltmarsh-ringing -within 2m"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			endpointFlag(fs, &o.endpoint)
			fs.DurationVar(&o.within, "within", time.Minute, "how long to wait until it is ready")
			fs.BoolVar(&o.yes, "yes", false, "make the container of a service without asking")
		},
		Run: run(func(ctx context.Context, c *call) error {
			if o.within <= 0 {
				return base.Usage("-within: expected a time above zero, such as 60s")
			}
			one, err := c.containerOf(ctx, c.Args[0], o.endpoint)
			if err != nil {
				if one, err = c.makeService(ctx, o, err); err != nil {
					return err
				}
			} else if err := c.startContainer(ctx, one); err != nil {
				return err
			}
			return c.waitContainer(ctx, one, o.within, "gharbor container adopt "+one.Name+"   # a profile that "+
				"leads to it")
		}),
	}
}

// startContainer starts a container that does not run.
func (c *call) startContainer(ctx context.Context, one *namedContainer) error {
	start, done := one.client.Start, "started"
	switch {
	case one.State.Paused:
		start, done = one.client.Unpause, "goes on"
	case one.State.Running:
		c.Say("the container %s is running already", one.Name)
		return nil
	}
	if err := start(ctx, one.ID); err != nil {
		return c.startRefused(ctx, one, err)
	}
	c.Say("%s: container %s", done, one.Name)
	return nil
}

// startRefused is the error for a container that an engine did not start.
func (c *call) startRefused(ctx context.Context, one *namedContainer, err error) error {
	var failed *api.Error
	if errors.As(err, &failed) && find.IsAddressInUse(failed.Message) {
		return base.RouteFailed(c.Containers().PortTaken(ctx, one.client, one.Container, failed.Message))
	}
	return engineFailed(err)
}

// progress shows on a terminal what is being done, until done is called.
func (c *call) progress(what string) (done func()) {
	p := render.NewProgress(c.Stderr, 1)
	p.Begin(what)
	return p.Clear
}

// engineFailed is a container engine's refusal.
func engineFailed(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	return base.RouteFailed(find.FindingOf(err))
}

// waitContainer waits until the server in a container is ready; next is the line to try then.
func (c *call) waitContainer(ctx context.Context, one *namedContainer, within time.Duration, next string) error {
	if one.profile != nil {
		return testcmd.NewCall(c.Call).Wait(ctx, []*resolve.Profile{one.profile},
			testcmd.WaitOptions{Within: within, Timeout: check.DefaultTimeout, Form: "text"})
	}
	bound, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	done := c.progress("waiting for the container " + one.Name)
	state, found := c.Containers().Ready(bound, one.client, one.ID)
	done()
	switch {
	case ctx.Err() != nil:
		return base.Failure(base.ExitInterrupted, nil)
	case found != nil:
		return base.RouteFailed(found)
	}
	c.Say("ready: container %s (%s)", one.Name, state)
	c.Say("  try: %s", next)
	return nil
}

func containerStop() *base.Command {
	var endpoint string
	return &base.Command{
		Name: "container stop", Args: "NAME", Summary: "stop a container",
		Long: "NAME is a profile with a container as its address, a container's name, or PROJECT/SERVICE of a " +
			"compose file. The data stay.",
		Examples: []string{"gharbor container stop ringing"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) { endpointFlag(fs, &endpoint) },
		Run: run(func(ctx context.Context, c *call) error {
			one, err := c.containerOf(ctx, c.Args[0], endpoint)
			if err != nil {
				return err
			}
			if !one.State.Running && one.State.Status != "restarting" {
				c.Say("the container %s is not running (%s)", one.Name, find.State(one.Container))
				return nil
			}
			done := c.progress("stopping the container " + one.Name)
			err = one.client.Stop(ctx, one.ID)
			done()
			if err != nil {
				return engineFailed(err)
			}
			c.Say("stopped: container %s", one.Name)
			return nil
		}),
	}
}
