package aliascmd

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/alias"
	"gentleharbor/core/binding"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

func aliasUsed() *base.Command {
	var form base.Format
	return &base.Command{
		Name: "alias used", Args: "NAME", Summary: "show what uses an alias: profiles, aliases, wallet entries",
		Long: `Directly or through another alias. The wallet is searched only if it can be read without
its passphrase: as a reader, or while it is unlocked.`,
		Examples: []string{"gharbor alias used archive", "gharbor alias used archive -format json"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) { form.Flag(fs) },
		Run: run(func(ctx context.Context, c *call) error {
			a, err := c.foundAlias(c.Args[0])
			if err != nil {
				return err
			}
			profiles, err := c.Load()
			if err != nil {
				return err
			}
			users := c.Book.Users(a, profiles, profiles.ProjectFile())
			entries, looked, err := c.entriesOf(ctx, a.FullName())
			if err != nil {
				return err
			}
			if form.JSON() {
				out := map[string]any{
					"format":      1,
					"alias":       a.FullName(),
					"profiles":    []string{},
					"aliases":     []string{},
					"wallet":      append([]string{}, entries...),
					"wallet_read": looked,
				}
				for _, key := range []string{"profile", "alias"} {
					var names []string
					for _, user := range users {
						if name, ok := strings.CutPrefix(user, key+" "); ok {
							names = append(names, name)
						}
					}
					out[map[string]string{"profile": "profiles", "alias": "aliases"}[key]] = append([]string{}, names...)
				}
				return render.JSON(c.Stdout, out)
			}
			for _, user := range users {
				fmt.Fprintln(c.Stdout, user)
			}
			for _, e := range entries {
				fmt.Fprintln(c.Stdout, "wallet entry "+e)
			}
			if len(users)+len(entries) == 0 {
				c.Say("nothing uses the alias %s", a.FullName())
			}
			if !looked {
				c.Say("the wallet was not searched: it is locked (gharbor wallet unlock)")
			}
			return nil
		}),
	}
}

// entriesOf are the wallet's entries that are bound to an alias. looked is false where
// there is a wallet that can't be read without asking.
func (c *call) entriesOf(ctx context.Context, name string) (entries []string, looked bool, err error) {
	s, pin, err := c.Store("")
	if err != nil {
		return nil, false, err
	}
	f, err := wallet.Load(s.Path)
	if err != nil {
		_, missing := os.Stat(s.Path)
		return nil, os.IsNotExist(missing), nil // what is wrong with it is not this command's business
	}
	var w *wallet.Wallet
	if p, pinErr := wallet.LoadPin(pin); pinErr == nil {
		w, err = s.Open(ctx, p)
	} else if k := c.OpenKeeper(ctx, f.ID()); k != nil {
		w, err = s.Open(ctx, k)
	}
	if w == nil || err != nil {
		return nil, false, nil
	}
	for _, e := range w.Entries {
		if slices.ContainsFunc(e.Bindings, func(b binding.Binding) bool { return b.IsAlias(name) }) {
			entries = append(entries, e.Name)
		}
	}
	return entries, true, nil
}

func aliasCheck() *base.Command {
	var form base.Format
	var timeout time.Duration
	return &base.Command{
		Name:    "alias check",
		Summary: "check all aliases: broken chains, unknown hosts, unused names",
		Long: `Names are looked up; nothing is connected to. Exit 1 when an alias leads nowhere or to an
unknown host. An unused alias is a warning.`,
		Examples: []string{"gharbor alias check", "gharbor alias check -format json"},
		Flags: func(fs *base.FlagSet) {
			fs.DurationVar(&timeout, "timeout", check.DefaultTimeout, "time limit of all look-ups")
			form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *call) error {
			profiles, err := c.Load()
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(ctx, timeout)
			defer cancel()
			all := c.Book.Check(ctx, c.Network(), profiles, profiles.ProjectFile())
			if form.JSON() {
				err = render.JSON(c.Stdout, map[string]any{"format": 1, "aliases": all})
			} else {
				err = c.checkTable(all)
			}
			if err == nil && slices.ContainsFunc(all, func(a alias.CheckResult) bool { return a.Outcome == finding.Fail }) {
				return base.Failure(base.ExitFailed, nil)
			}
			return err
		}),
	}
}

func (c *call) checkTable(all []alias.CheckResult) error {
	count := make(map[finding.Outcome]int)
	var rows [][]string
	for _, a := range all {
		count[a.Outcome]++
		if a.Finding == nil {
			continue
		}
		what := a.Finding.Cause
		if a.Finding.Code == finding.AliasUnknownHost {
			what = strings.Join(a.Finding.Seen, "; ")
		}
		rows = append(rows, []string{a.Alias, string(a.Outcome), string(a.Finding.Code), clean.Line(what, 200)})
	}
	if len(rows) > 0 {
		if err := render.Table(c.Stdout, c.NoColour, []string{"alias", "", "code", "what"}, rows); err != nil {
			return err
		}
	}
	_, err := fmt.Fprintf(c.Stdout, "%d %s: %d ok, %d warn, %d fail\n", len(all),
		wording.Plural(len(all), "alias", "aliases"),
		count[finding.OK], count[finding.Warn], count[finding.Fail])
	return err
}
