package democmd

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"gentleharbor/demo"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

func Demo() *base.Command {
	var keep, list bool
	return &base.Command{
		Name: "demo",
		Args: "[PART]",
		Words: func(*base.Call) map[string][]string {
			var parts []string
			for _, part := range demo.Parts() {
				parts = append(parts, part.Name)
			}
			return map[string][]string{"PART": parts}
		},
		Summary: "a guided example with simulated servers; installs nothing, leaves nothing behind",
		Long: `Starts simulated servers on free loopback ports, with a temporary home, and walks through
the commands: define, test, fail, fix, ready. With -keep the servers stay up until Ctrl-C,
so that you can try the commands yourself.`,
		Examples: []string{"gharbor demo", "gharbor demo -list", "gharbor demo certificate", "gharbor demo -keep"},
		MaxArgs:  1,
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&keep, "keep", false, "keep the servers up, and say how to use them")
			fs.BoolVar(&list, "list", false, "list the parts")
		},
		Run: run(func(ctx context.Context, c *call) error {
			if list && (keep || len(c.Args) > 0) || keep && len(c.Args) > 0 {
				return base.Usage("give one of -list, -keep and PART")
			}
			if list {
				for _, part := range demo.Parts() {
					fmt.Fprintf(c.Stdout, "%-12s %s\n", part.Name, part.Summary)
				}
				return nil
			}
			return c.demo(ctx, keep)
		}),
	}
}

func (c *call) demo(ctx context.Context, keep bool) error {
	o := demo.Options{Out: c.Stdout, Part: strings.Join(c.Args, ""), Command: func(step demo.Step) int {
		return base.Run(ctx, c.demoWorld(step), c.Makers, step.Args)
	}}
	if render.Colours(c.Stdout, c.NoColour) {
		o.Bold = func(s string) string { return "\x1b[1m" + s + "\x1b[0m" }
	}
	var err error
	if keep {
		err = demo.Keep(ctx, o)
	} else {
		err = demo.Run(ctx, o)
	}
	switch {
	case ctx.Err() != nil && !keep:
		return base.Failure(base.ExitInterrupted, nil)
	case errors.Is(err, context.Canceled):
		return nil
	case errors.Is(err, demo.ErrNoPart):
		return base.Usage("%w", err)
	}
	return err
}

// demoWorld is a world whose environment has only the demo's home: it reads and writes nothing of the user's, and
// asks nobody.
func (c *call) demoWorld(step demo.Step) base.World {
	w := base.World{
		Engines: c.Engines,
		Stdin:   strings.NewReader(step.Input),
		Stdout:  c.Stdout,
		Stderr:  c.Stdout,
		Dir:     step.Dir,
		Lookup: func(name string) (string, bool) {
			switch name {
			case "GHARBOR_HOME", "HOME", "XDG_RUNTIME_DIR":
				return step.Home, true
			case "USER":
				return "warden", true
			case "GHARBOR_ENGINES":
				return step.Engines, true
			case "NO_COLOR":
				return c.Lookup(name)
			}
			return "", false
		},
	}
	if step.Quiet {
		w.Stdout, w.Stderr = io.Discard, io.Discard
	}
	w.Environ = func() []string {
		path, _ := c.Lookup("PATH")
		return []string{"GHARBOR_HOME=" + step.Home, "HOME=" + step.Home, "XDG_RUNTIME_DIR=" + step.Home, "PATH=" + path}
	}
	return w
}
