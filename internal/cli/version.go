package cli

import (
	"context"
	"fmt"
	"runtime"
)

// Version is the program's version; a release sets it with -ldflags.
var Version = "0.1.0-dev"

func versionCommand() *command {
	return &command{
		name: "version", quick: true, summary: "the program's version, and the system it was built for",
		examples: []string{"gharbor version"},
		run: func(_ context.Context, c *call) error {
			_, err := fmt.Fprintf(c.Stdout, "gharbor %s (%s, %s/%s)\n", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return err
		},
	}
}
