// Package cli is the program's list of commands. A command is a struct value in its own file, in the package of its
// group; package base runs it.
package cli

import (
	"context"
)

// Run runs the program and returns its exit code.
func Run(ctx context.Context, w World, args []string) (code int) {
	return runAs(ctx, w, makers(), args)
}

// makers lists them in the order in which help shows them.
func makers() []maker {
	return []maker{
		{Name: "add", Make: addCommand},
		{Name: "set", Make: setCommand},
		{Name: "list", Make: listCommand},
		{Name: "show", Make: showCommand},
		{Name: "copy", Make: copyCommand},
		{Name: "rename", Make: renameCommand},
		{Name: "remove", Make: removeCommand},
		{Name: "test", Make: testCommand},
		{Name: "wait", Make: waitCommand},
		{Name: "compare", Make: compareCommand},
		{Name: "nearby", Make: nearbyCommand},
		{Name: "certificate", Make: certificateCommand},
		{Name: "with", Make: withCommand},
		{Name: "shortcut", Make: shortcutCommand},
		{Name: "import", Make: importCommand},
		{Name: "export", Make: exportCommand},
		{Name: "secret", Make: secretCommand},
		{Name: "wallet", Make: walletCommand},
		{Name: "alias", Make: aliasCommand},
		{Name: "hop", Make: hopCommand},
		{Name: "tunnel", Make: tunnelCommand},
		{Name: "container", Make: containerCommand},
		{Name: "audit", Make: auditCommand},
		{Name: "vouch", Make: vouchCommand},
		{Name: "explain", Make: explainCommand},
		{Name: "demo", Make: demoCommand},
		{Name: "version", Make: versionCommand},
		{Name: "help", Make: helpCommand},
	}
}
