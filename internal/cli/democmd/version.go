package democmd

import (
	"context"
	"fmt"
	"runtime"
	"time"

	"gentleharbor/internal/cli/base"
)

func ShowVersion() *base.Command {
	return &base.Command{
		Name: "version", Quick: true, Summary: "show the version",
		Examples: []string{"gharbor version"},
		Run: run(func(_ context.Context, c *call) error {
			from := ""
			if commit, at := base.Build(); commit != "" {
				from = fmt.Sprintf("commit %s of %s, ", commit, at.UTC().Format(time.DateOnly))
			}
			_, err := fmt.Fprintf(c.Stdout, "gharbor %s (%s%s, %s/%s)\n", base.Version, from, runtime.Version(),
				runtime.GOOS, runtime.GOARCH)
			return err
		}),
	}
}
