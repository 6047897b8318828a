// Package provisioncmd has the commands that change a server: provision, and secret rotate. A command is a struct value
// in a file of its own; package base runs it.
package provisioncmd

import (
	"context"

	"gentleharbor/internal/cli/base"
)

// call is one run of a command of this group.
type call struct{ *base.Call }

// run makes a command's function of a method of this group.
func run(command func(context.Context, *call) error) func(context.Context, *base.Call) error {
	return func(ctx context.Context, c *base.Call) error { return command(ctx, &call{c}) }
}
