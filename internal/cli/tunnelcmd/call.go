// Package tunnelcmd has the commands of tunnels, and the process that keeps one open. A command is a struct value
// in a file of its own; package base runs it.
package tunnelcmd

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
