// Package querycmd has the commands that run statements on the connection that a test proved: query, browse and load.
// A command is a struct value in a file of its own; package base runs it.
package querycmd

import (
	"context"
	"path/filepath"

	"gentleharbor/internal/cli/base"
)

// call is a command of this group that is being run.
type call struct{ *base.Call }

// run makes a command's function of one of this group.
func run(command func(context.Context, *call) error) func(context.Context, *base.Call) error {
	return func(ctx context.Context, c *base.Call) error { return command(ctx, &call{c}) }
}

// path is a file that the command line names: a relative one is of the working folder.
func (c *call) path(name string) string {
	if folder, err := c.WorkDir(); err == nil && !filepath.IsAbs(name) {
		return filepath.Join(folder, name)
	}
	return name
}
