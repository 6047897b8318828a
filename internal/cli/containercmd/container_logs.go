package containercmd

import (
	"context"
	"errors"
	"fmt"

	"gentleharbor/core/container/find"
	"gentleharbor/internal/cli/base"
)

// The bounds of -lines.
const (
	usualLines = 50
	mostLines  = 10_000
)

func containerLogs() *base.Command {
	var endpoint string
	var lines int
	var follow bool
	return &base.Command{
		Name: "container logs", Args: "NAME", Summary: "show the last lines of a server's log",
		Long: `NAME is a profile with a container as its address, a container's name, or PROJECT/SERVICE
of a compose file. Lines by which the server says that it starts, is ready or fails are
marked. What looks like a password is cut out, and so are characters that steer a
terminal.`,
		Examples: []string{"gharbor container logs ringing", "gharbor container logs saltmarsh-ringing -lines 5"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			endpointFlag(fs, &endpoint)
			fs.IntVar(&lines, "lines", usualLines, "how many of the last lines")
			fs.BoolVar(&follow, "follow", false, "go on with the lines that come, until Ctrl-C or the container's end")
		},
		Run: run(func(ctx context.Context, c *call) error {
			if lines < 1 || lines > mostLines {
				return base.Usage("-lines: expected a number from 1 to %d", mostLines)
			}
			one, err := c.containerOf(ctx, c.Args[0], endpoint)
			if err != nil {
				return err
			}
			seen, _ := c.Containers().Look(ctx, one.client, one.Container, false)
			reader := find.NewLogReader(c.Engines.ByWord(seen.Engine), one.Container)
			show := func(line string) error {
				read := reader.Read(line)
				_, err := fmt.Fprintf(c.Stdout, "%-6s  %s\n", read.Mark, read.Text)
				return err
			}
			if follow {
				err = one.client.Follow(ctx, one.Container, lines, show)
				if ctx.Err() != nil || errors.Is(err, context.Canceled) {
					return base.Failure(base.ExitInterrupted, nil)
				}
				return followEnded(err)
			}
			all, err := one.client.Logs(ctx, one.Container, lines)
			if err != nil {
				return engineFailed(err)
			}
			for _, line := range all {
				if err := show(line); err != nil {
					return err
				}
			}
			if len(all) == 0 {
				c.Say("the log of the container %s is empty", one.Name)
			}
			return nil
		}),
	}
}

// followEnded is the error of a log that was followed: the output's own, or the engine's.
func followEnded(err error) error {
	if err == nil {
		return nil
	}
	return engineFailed(err)
}
