// Package querycmd has the commands that run statements on the connection that a test proved: query, browse and load.
// A command is a struct value in a file of its own; package base runs it.
package querycmd

import (
	"context"
	"errors"
	"path/filepath"

	"gentleharbor/internal/cli/base"
)

// call is one run of a command of this group.
type call struct{ *base.Call }

// run makes a command's function of a method of this group.
func run(command func(context.Context, *call) error) func(context.Context, *base.Call) error {
	return func(ctx context.Context, c *base.Call) error { return command(ctx, &call{c}) }
}

// path is the absolute path of a file on the command line; a relative one is in the working folder.
func (c *call) path(name string) string {
	if folder, err := c.WorkDir(); err == nil && !filepath.IsAbs(name) {
		return filepath.Join(folder, name)
	}
	return name
}

// exclusive is the error for a flag together with one of others; nil for none.
func (c *call) exclusive(flag string, others ...string) error {
	for _, other := range others {
		if c.Set[flag] && c.Set[other] {
			return base.Usage("give -%s or -%s, not both", flag, other)
		}
	}
	return nil
}

// confirm asks whether to do what was shown. Nothing was sent yet; without a terminal nothing is sent, unless a flag
// agrees.
func (c *call) confirm(ctx context.Context, question, flag string) error {
	if !c.Interactive() {
		return base.Failure(base.ExitUsage, errors.New("there is no terminal to ask on; "+flag))
	}
	sure, err := c.Confirm(ctx, question, false)
	if err == nil && !sure {
		return base.Failure(base.ExitFailed, errors.New("nothing was sent"))
	}
	return err
}
