// Package provisioncmd has the commands that change a server: provision, and secret rotate. A command is a struct value
// in a file of its own; package base runs it.
package provisioncmd

import (
	"context"

	"gentleharbor/internal/cli/base"
)

// call is a command of this group that is being run.
type call struct{ *base.Call }

// run makes a command's function of one of this group.
func run(command func(context.Context, *call) error) func(context.Context, *base.Call) error {
	return func(ctx context.Context, c *base.Call) error { return command(ctx, &call{c}) }
}
