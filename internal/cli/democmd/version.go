package democmd

import (
	"context"
	"fmt"
	"runtime"

	"gentleharbor/internal/cli/base"
)

func ShowVersion() *base.Command {
	return &base.Command{
		Name: "version", Quick: true, Summary: "show the version",
		Examples: []string{"gharbor version"},
		Run: run(func(_ context.Context, c *call) error {
			_, err := fmt.Fprintf(c.Stdout, "gharbor %s (%s, %s/%s)\n", base.Version, runtime.Version(), runtime.GOOS,
				runtime.GOARCH)
			return err
		}),
	}
}
