package democmd

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"gentleharbor/internal/cli/base"
)

// Manual writes the manual pages into a folder, for a release.
func Manual() *base.Command {
	return &base.Command{
		Name: "manual-pages", Hidden: true, Quick: true, Args: "FOLDER",
		Summary: "write the manual pages into a folder",
		MinArgs: 1, MaxArgs: 1,
		Run: run(func(_ context.Context, c *call) error {
			_, made := base.Build()
			if made.IsZero() {
				made = time.Now()
			}
			for name, page := range base.Manual(c.Keys, c.Makers, made.UTC().Format(time.DateOnly)) {
				if err := os.WriteFile(filepath.Join(c.Args[0], name), []byte(page), 0o644); err != nil {
					return base.Failure(base.ExitFile, err)
				}
			}
			return nil
		}),
	}
}
