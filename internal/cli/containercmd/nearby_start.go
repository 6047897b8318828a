package containercmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearby"
	"gentleharbor/core/nearest"
	"gentleharbor/internal/cli/base"
)

func nearbyStart() *base.Command {
	var yes bool
	var within time.Duration
	return &base.Command{
		Name: "nearby start", Args: "NAME", Summary: "start a database server that is installed here and stopped",
		Long: `NAME is a service that gharbor nearby shows as stopped, or the engine where there is one
such service. Shows the system's command and the rights that it needs, asks, runs it, and
waits until the server answers.`,
		Examples: []string{"gharbor nearby start"},
		MaxArgs:  1,
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&yes, "yes", false, "do not ask")
			fs.DurationVar(&within, "within", time.Minute, "how long to wait until it answers")
		},
		Run: run(func(ctx context.Context, c *call) error {
			if within <= 0 {
				return base.Usage("-within: expected a time above zero, such as 60s")
			}
			return c.startNearby(ctx, yes, within)
		}),
	}
}

// startNearby starts an installed server that is stopped.
func (c *call) startNearby(ctx context.Context, yes bool, within time.Duration) error {
	places := nearby.Machine(c.Engines)
	stopped := stoppedServers(places.Survey(ctx, ""))
	if len(c.Args) == 0 {
		return c.listStopped(stopped)
	}
	one, err := chooseStopped(stopped, c.Args[0])
	if err != nil {
		return err
	}
	words := one.Words
	rights := "your own rights"
	if words[0] == "sudo" {
		rights = "root's rights, which sudo asks for"
		if os.Geteuid() == 0 {
			words, rights = words[1:], "root's rights, which you have"
		}
	}
	c.Say("%s (%s) is stopped. This starts it, with %s:", one.Name, one.Engine, rights)
	c.Say("  %s", clean.Visible(one.Start))
	if !yes {
		sure, err := c.confirmStart(ctx)
		if err != nil || !sure {
			return err
		}
	}
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, c.Stderr, c.Stderr
	if err := cmd.Run(); err != nil {
		if ctx.Err() != nil {
			return base.Failure(base.ExitInterrupted, nil)
		}
		return base.Failure(base.ExitServer, fmt.Errorf("the command failed: %w", err), one.Start)
	}
	return c.waitNearby(ctx, places, one, within)
}

// confirmStart asks whether to run the command.
func (c *call) confirmStart(ctx context.Context) (bool, error) {
	if !c.Interactive() {
		return false, base.Failure(base.ExitUsage,
			errors.New("there is no terminal to ask on; -yes starts it without asking"),
			c.CommandWith("yes", "true"))
	}
	sure, err := c.Confirm(ctx, "run it?", true)
	if err == nil && !sure {
		err = base.Failure(base.ExitFailed, errors.New("nothing was started"))
	}
	return sure, err
}

// stoppedServers are those of a survey that a command of the system can start.
func stoppedServers(s nearby.Survey) []nearby.Server {
	return slices.DeleteFunc(s.Servers, func(s nearby.Server) bool { return s.State != "stopped" || len(s.Words) == 0 })
}

// listStopped says what there is to start.
func (c *call) listStopped(stopped []nearby.Server) error {
	if len(stopped) == 0 {
		c.Say("no installed database server is stopped here")
		return nil
	}
	for _, s := range stopped {
		fmt.Fprintf(c.Stdout, "gharbor nearby start %s   # runs %s\n", clean.Shell(s.Name), s.Start)
	}
	return nil
}

// chooseStopped returns the server of a word: of that name, or the only one of that engine.
func chooseStopped(stopped []nearby.Server, word string) (nearby.Server, error) {
	var names []string
	var of []nearby.Server
	for _, s := range stopped {
		if s.Name == word {
			return s, nil
		}
		if s.Engine == word {
			of = append(of, s)
		}
		names = append(names, s.Name)
	}
	switch {
	case len(of) == 1:
		return of[0], nil
	case len(of) > 1:
		return nearby.Server{}, base.Failure(base.ExitUsage, fmt.Errorf("several servers of %s are stopped: %s", of[0].Engine,
			strings.Join(names, ", ")), "gharbor nearby start")
	}
	if near := nearest.Name(word, names); near != "" {
		return nearby.Server{}, base.Usage("no stopped server has that name; did you mean %q?", near)
	}
	return nearby.Server{}, base.Failure(base.ExitUsage, errors.New("no installed server of that name is stopped"),
		"gharbor nearby")
}

// waitNearby waits until a server that was started answers.
func (c *call) waitNearby(ctx context.Context, places nearby.Places, one nearby.Server, within time.Duration) error {
	done := c.progress("waiting for " + one.Name)
	defer done()
	for end := time.Now().Add(within); ; {
		survey := places.Survey(ctx, one.Engine)
		still := slices.ContainsFunc(stoppedServers(survey), func(s nearby.Server) bool { return s.Name == one.Name })
		switch {
		case ctx.Err() != nil:
			return base.Failure(base.ExitInterrupted, nil)
		case !still:
			done()
			c.Say("ready: %s answers", one.Name)
			c.Say("  try: gharbor nearby   # its address, and the line that adds a profile")
			return nil
		case time.Now().After(end):
			return base.Failure(base.ExitServer, fmt.Errorf("%s was started, and does not answer after %s", one.Name, within),
				"gharbor nearby")
		}
		select {
		case <-ctx.Done():
		case <-time.After(300 * time.Millisecond):
		}
	}
}
