// Command gharbor defines and tests connection profiles for database servers.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"

	"gentleharbor/internal/cli"
)

func main() { os.Exit(run()) }

func run() int {
	noCoreDumps()
	debug.SetGCPercent(400) // runs are short and small: most end before a collection is worth its time
	lookup := takeEnvironment()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	return cli.Run(ctx, cli.World{Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Lookup: lookup}, os.Args[1:])
}

// takeEnvironment copies the environment and takes out of the process what a
// driver would read by itself: PostgreSQL's client library and its relatives
// take hosts, users, passwords and options from variables in PG…, and only the
// profile decides here. What a profile names is read from the copy.
func takeEnvironment() func(string) (string, bool) {
	all := make(map[string]string)
	for _, pair := range os.Environ() {
		name, value, _ := strings.Cut(pair, "=")
		all[name] = value
		if strings.HasPrefix(name, "PG") {
			os.Unsetenv(name)
		}
	}
	return func(name string) (string, bool) {
		value, ok := all[name]
		return value, ok
	}
}
