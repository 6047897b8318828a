// Package profilecmd has the commands that keep profiles: add, set, list, show, copy, rename and remove. A command
// is a struct value in a file of its own; package base runs it.
package profilecmd

import (
	"context"

	"gentleharbor/internal/cli/base"
)

// Call is one run of a command of this group.
type Call struct{ *base.Call }

// NewCall makes a run of any command one of this group.
func NewCall(c *base.Call) *Call { return &Call{c} }

// run makes a command's function of a method of this group.
func run(command func(context.Context, *Call) error) func(context.Context, *base.Call) error {
	return func(ctx context.Context, c *base.Call) error { return command(ctx, &Call{c}) }
}
