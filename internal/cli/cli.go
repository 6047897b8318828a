// Package cli is the program's list of commands. A command is a struct value in its own file, in the package of its
// group; package base runs it.
package cli

import (
	"context"

	"gentleharbor/internal/cli/aliascmd"
	"gentleharbor/internal/cli/auditcmd"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/cloudcmd"
	"gentleharbor/internal/cli/completioncmd"
	"gentleharbor/internal/cli/containercmd"
	"gentleharbor/internal/cli/democmd"
	"gentleharbor/internal/cli/hopcmd"
	"gentleharbor/internal/cli/profilecmd"
	"gentleharbor/internal/cli/provisioncmd"
	"gentleharbor/internal/cli/querycmd"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/cli/testcmd"
	"gentleharbor/internal/cli/transfercmd"
	"gentleharbor/internal/cli/tunnelcmd"
)

// Run runs the program and returns its exit code.
func Run(ctx context.Context, w base.World, args []string) (code int) {
	return base.Run(ctx, w, makers(), args)
}

// makers lists them in the order in which help shows them.
func makers() []base.Maker {
	return []base.Maker{
		{Name: "add", Make: profilecmd.Add, Group: "Define connections"},
		{Name: "set", Make: profilecmd.Set},
		{Name: "list", Make: profilecmd.List},
		{Name: "show", Make: profilecmd.Show},
		{Name: "copy", Make: profilecmd.Copy},
		{Name: "rename", Make: profilecmd.Rename},
		{Name: "remove", Make: profilecmd.Remove},
		{Name: "test", Make: testcmd.Test, Group: "Test them"},
		{Name: "wait", Make: testcmd.Wait},
		{Name: "compare", Make: testcmd.Compare},
		{Name: "nearby", Make: containercmd.Nearby},
		{Name: "certificate", Make: testcmd.Certificate},
		{Name: "query", Make: querycmd.Query, Group: "Use them"},
		{Name: "session", Make: querycmd.Session},
		{Name: "browse", Make: querycmd.Browse},
		{Name: "load", Make: querycmd.Load},
		{Name: "provision", Make: provisioncmd.Provision},
		{Name: "with", Make: transfercmd.With},
		{Name: "shortcut", Make: transfercmd.Shortcut},
		{Name: "secret", Make: func() *base.Command { return secretcmd.Secret(provisioncmd.Rotate) }, Group: "Passwords"},
		{Name: "wallet", Make: secretcmd.Wallet},
		{Name: "alias", Make: aliascmd.Alias, Group: "Ways to a server"},
		{Name: "hop", Make: hopcmd.Hop},
		{Name: "tunnel", Make: tunnelcmd.Tunnel},
		{Name: "container", Make: containercmd.Container},
		{Name: "cloud", Make: cloudcmd.Cloud},
		{Name: "import", Make: transfercmd.Import, Group: "Share and check"},
		{Name: "export", Make: transfercmd.Export},
		{Name: "vouch", Make: auditcmd.Vouch},
		{Name: "audit", Make: auditcmd.Audit},
		{Name: "explain", Make: testcmd.Explain, Group: "About"},
		{Name: "demo", Make: democmd.Demo},
		{Name: "completion", Make: completioncmd.Completion},
		{Name: "completion-words", Make: completioncmd.Words},
		{Name: "manual-pages", Make: democmd.Manual},
		{Name: "version", Make: democmd.ShowVersion},
		{Name: "help", Make: base.Help},
	}
}
