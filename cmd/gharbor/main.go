// Command gharbor defines and tests connection profiles for database servers.
package main

import (
	"context"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/engines"
	"gentleharbor/internal/cli"
	"gentleharbor/internal/cli/base"
)

func main() { os.Exit(run()) }

func run() int {
	noCoreDumps()
	defect.OnDefect(func(d *defect.Defect) { os.Exit(base.Defect(os.Stderr, d)) })
	given := os.Environ()
	known := engines.All()
	lookup := takeEnvironment(known)
	out := os.Stdout
	os.Stdout = nil // a driver that prints by itself prints nowhere: what is written here is ours alone
	return cli.Run(context.Background(), base.World{
		Engines:    known,
		Stdin:      os.Stdin,
		Stdout:     out,
		Stderr:     os.Stderr,
		Lookup:     lookup,
		Environ:    func() []string { return given },
		Interrupts: interrupts,
		Exit:       os.Exit,
	}, os.Args[1:])
}

// interrupts ends a context on Ctrl-C and its like, Ctrl-\ too: at a question the echo is given
// back then. A second signal ends the program as the system does.
func interrupts(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	context.AfterFunc(ctx, stop)
	return ctx, stop
}

// takeEnvironment copies the environment and takes out of the process what a
// driver would read by itself, such as a host, a user or a password: only the profile decides here.
// What a profile names is read from the copy.
func takeEnvironment(known engine.Set) func(string) (string, bool) {
	var prefixes []string
	for _, spec := range known.All() {
		prefixes = append(prefixes, spec.Client.Driver...)
	}
	all := make(map[string]string)
	for _, pair := range os.Environ() {
		name, value, _ := strings.Cut(pair, "=")
		all[name] = value
		for _, prefix := range prefixes {
			if strings.HasPrefix(name, prefix) {
				os.Unsetenv(name)
			}
		}
	}
	return func(name string) (string, bool) {
		value, ok := all[name]
		return value, ok
	}
}
