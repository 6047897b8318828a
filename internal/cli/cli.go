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
		{"add", addCommand},
		{"set", setCommand},
		{"list", listCommand},
		{"show", showCommand},
		{"copy", copyCommand},
		{"rename", renameCommand},
		{"remove", removeCommand},
		{"test", testCommand},
		{"wait", waitCommand},
		{"compare", compareCommand},
		{"nearby", nearbyCommand},
		{"certificate", certificateCommand},
		{"with", withCommand},
		{"shortcut", shortcutCommand},
		{"import", importCommand},
		{"export", exportCommand},
		{"secret", secretCommand},
		{"wallet", walletCommand},
		{"alias", aliasCommand},
		{"hop", hopCommand},
		{"tunnel", tunnelCommand},
		{"container", containerCommand},
		{"audit", auditCommand},
		{"vouch", vouchCommand},
		{"explain", explainCommand},
		{"demo", demoCommand},
		{"version", versionCommand},
		{"help", helpCommand},
	}
}
