package containercmd

import (
	"context"
	"fmt"

	"gentleharbor/core/clean"
	"gentleharbor/core/container/making"
	"gentleharbor/internal/cli/base"
)

func containerRemove() *base.Command {
	var endpoint string
	var yes, data bool
	return &base.Command{
		Name: "container remove", Args: "NAME", Summary: "remove a container that gharbor made; its data stay",
		Long: `NAME is a profile with a container as its address, or a container's name. Asks first,
unless -yes is given. It does not remove containers that gharbor did not make. The
profile and the password in the wallet stay.`,
		Examples: []string{"gharbor container remove saltmarsh-old-rings -data"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			endpointFlag(fs, &endpoint)
			fs.BoolVar(&yes, "yes", false, "do not ask")
			fs.BoolVar(&data, "data", false, "remove its volume too, with all its data")
		},
		Run: run(func(ctx context.Context, c *call) error {
			one, err := c.containerOf(ctx, c.Args[0], endpoint)
			if err != nil {
				return err
			}
			if making.ProfileOf(one.Container) == "" {
				return base.Failure(base.ExitUsage,
					fmt.Errorf("gharbor did not make the container %s, so it is not removed", one.Name),
					"docker rm "+clean.Shell(one.Name)+"   # if that is intended")
			}
			volume := one.Config.Labels[making.DataLabel]
			what := "container " + one.Name + "; its volume " + clean.Line(volume, 200) + " stays, with the data"
			if data {
				what = "container " + one.Name + " and its volume " + clean.Line(volume, 200) + ", WITH ALL ITS DATA"
			}
			if yes, err = c.MayRemove(ctx, yes, what); err != nil || !yes {
				return err
			}
			done := c.progress("removing the container " + one.Name)
			removed, found := making.Remove(ctx, one.client, one.Container, data)
			done()
			if found != nil {
				return base.RouteFailed(found)
			}
			c.Say("removed: container %s", one.Name)
			switch {
			case removed.Gone:
				c.Say("removed: volume %s, with the data", clean.Line(removed.Volume, 200))
			default:
				c.Say("its volume %s stays, with the data; to use it again: gharbor container make %s -image %s",
					clean.Line(removed.Volume, 200), clean.Shell(making.ProfileOf(one.Container)),
					clean.Shell(clean.Line(one.Config.Image, 200)))
			}
			return nil
		}),
	}
}
