package auditcmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"gentleharbor/core/audit"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

func Audit() *base.Command {
	var o secretcmd.WalletFlags
	var form base.Format
	var fix, clouds bool
	return &base.Command{
		Name: "audit", Summary: "find security problems in your profiles and files",
		Long: `Checks file permissions, passwords in shared files or in clear text, weak TLS, accounts
that may do everything, login methods (from the last test), the wallet's readers and
entries, and what was approved. It connects to nothing. With -cloud it asks the services
of the cloud accounts that profiles name, to find rules that are too wide, public
addresses that nothing needs, and stored passwords where the service could make logins.
The wallet's entries are checked only if it is open: by a pin file, while unlocked, or
with -passphrase-file. Exit 1 when a problem of severity high is left.`,
		Examples: []string{"gharbor audit", "gharbor audit -fix", "gharbor audit -cloud", "gharbor audit -format sarif"},
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			form.Flag(fs, "sarif")
			fs.BoolVar(&fix, "fix", false, "fix permissions, after showing them")
			fs.BoolVar(&clouds, "cloud", false, "ask the services of cloud accounts too")
		},
		Run: run(func(ctx context.Context, c *call) error {
			subject, err := c.auditSubject(ctx, o)
			if err != nil {
				return err
			}
			if subject.Clouds, err = c.auditClouds(ctx, subject.Profiles, clouds); err != nil {
				return err
			}
			issues := audit.Run(ctx, subject)
			if fix {
				if err := c.fix(ctx, issues); err != nil {
					return err
				}
				issues = audit.Run(ctx, subject)
			}
			switch {
			case form.JSON():
				err = render.JSON(c.Stdout, map[string]any{"format": 1, "issues": issues, "summary": audit.Count(issues)})
			case form == "sarif":
				err = render.SARIF(c.Stdout, base.Version, issues)
			default:
				err = render.Issues(c.Stdout, c.NoColour, issues)
			}
			if err != nil {
				return err
			}
			for _, i := range issues {
				if i.Severity == audit.High {
					return base.Failure(base.ExitFailed, nil)
				}
			}
			return nil
		}),
	}
}

// auditSubject collects the profiles and files to audit.
func (c *call) auditSubject(ctx context.Context, o secretcmd.WalletFlags) (audit.Subject, error) {
	c.AsFound = true
	h, err := c.Home()
	if err != nil {
		return audit.Subject{}, err
	}
	file, err := c.Load()
	if err != nil {
		return audit.Subject{}, err
	}
	env := c.Environment()
	s := audit.Subject{
		Engines: c.Engines,
		Home:    env.Home,
		Folder:  h.Dir,
		Lookup:  c.Lookup,
		Seen:    c.LastSeen().All(),
		Book:    c.Vouched,
	}
	s.Work, _ = c.WorkDir()
	for _, p := range file.All() {
		s.Profiles = append(s.Profiles, resolve.Resolve(file, p, nil, env))
	}
	store, pin, err := c.Store(o.Path)
	if err != nil {
		return s, err
	}
	if _, err := os.Stat(pin); err == nil {
		s.Pin = pin
	}
	var failure *secret.Failure
	s.Wallet, err = wallet.Load(store.Path)
	switch {
	case errors.As(err, &failure) && failure.Found.Code == finding.WalletMissing:
		return s, nil
	case err != nil:
		c.Notice("the wallet can't be checked: %s", err)
		s.Wallet = nil
		return s, nil
	}
	if o.File == "" && s.Pin == "" && c.OpenKeeper(ctx, s.Wallet.ID()) == nil {
		c.Notice("the wallet's entries were not checked: it is locked (gharbor wallet unlock, or -passphrase-file)")
		return s, nil
	}
	s.Opened, err = secretcmd.NewCall(c.Call).OpenWallet(ctx, o)
	if errors.As(err, &failure) && o.File == "" {
		c.Notice("the wallet's entries were not checked: %s (%s)", failure.Found.Cause, failure.Found.Code)
		err = nil
	}
	return s, err
}

// fix shows the changes of permissions that would fix issues, and makes them.
func (c *call) fix(ctx context.Context, issues []audit.Issue) error {
	var fixes []*audit.Fix
	for _, i := range issues {
		if i.Fix != nil {
			fixes = append(fixes, i.Fix)
		}
	}
	if len(fixes) == 0 {
		c.Say("no permissions to fix")
		return nil
	}
	for _, f := range fixes {
		c.Say("  chmod %s %s", f.Show, f.Path)
	}
	if c.Interactive() {
		yes, err := c.Confirm(ctx, fmt.Sprintf("make %s?", wording.Plural(len(fixes), "this change", "these changes")), true)
		if err != nil || !yes {
			return err
		}
	}
	for _, f := range fixes {
		if err := f.Apply(); err != nil {
			c.Notice("%s stays as it is: %s", filepath.Clean(f.Path), wording.PlainReason(err))
		}
	}
	return nil
}
