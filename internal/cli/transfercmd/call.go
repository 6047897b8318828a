// Package transfercmd has the commands that take profiles in and hand them out: import, export, with and shortcut.
// A command is a struct value in a file of its own; package base runs it.
package transfercmd

import (
	"context"

	"gentleharbor/core/secret"
	"gentleharbor/internal/cli/base"
)

// Call is one run of a command of this group.
type Call struct {
	*base.Call

	minted secret.Value // the certificate and key of a login that was made for the program, none without one
	passed []error      // connections that could not be taken in, beside others
}

// NewCall makes a run of any command one of this group.
func NewCall(c *base.Call) *Call { return &Call{Call: c} }

// run makes a command's function of a method of this group.
func run(command func(context.Context, *Call) error) func(context.Context, *base.Call) error {
	return func(ctx context.Context, c *base.Call) error { return command(ctx, NewCall(c)) }
}
