package secretcmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"gentleharbor/core/binding"
	"gentleharbor/core/check"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
)

func Secret() *base.Command {
	return &base.Command{
		Name: "secret", Args: "VERB", Summary: "keep a profile's password where its source points",
		Verbs: func() []*base.Command { return []*base.Command{secretPut()} },
	}
}

func secretPut() *base.Command {
	var o WalletFlags
	var in secretInput
	return &base.Command{
		Name: "secret put", Args: "PROFILE", Summary: "keep the password where the profile takes it from",
		Long: `Writes to a wallet entry (bound to the profile), the system's keyring, a line of a
password file, a group of an option file, or a file of its own. The rest of such a file
stays byte for byte, and only its owner can read it. Where the profile names no source:
to the credential file of its engine where that has a line for it, else to the wallet.`,
		Examples: []string{"gharbor secret put sightings", "gharbor secret put moult -secret-stdin"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			in.flags(fs)
			o.Flags(fs)
		},
		Run: run(func(ctx context.Context, c *Call) error {
			if err := in.check(c); err != nil {
				return err
			}
			p, err := c.Resolve(c.Args[0], nil)
			if err != nil {
				return err
			}
			query, err := c.QueryOf(ctx, p)
			if err != nil {
				return err
			}
			finder, err := c.Finder()
			if err != nil {
				return err
			}
			s, _, err := c.Store(o.Path)
			if err != nil {
				return err
			}
			if query.Source.Kind == "default" {
				_, none := os.Stat(s.Path)
				query.Source = finder.SourceFor(ctx, query, none == nil)
			}
			if query.Source.Kind == "wallet" {
				return c.putInWallet(ctx, o, in, p, query)
			}
			if why := finder.CanPut(query); why != nil {
				return putError(why)
			}
			v, err := in.take(ctx, c, fmt.Sprintf("the password of %s for %s", p.Text(key.User), p.Profile.Name))
			if err != nil {
				return err
			}
			place, err := finder.Put(ctx, query, v)
			if err != nil {
				return putError(err)
			}
			c.Say("kept: the password of %s in the %s", p.Profile.Name, place)
			return nil
		}),
	}
}

func putError(err error) error {
	var no *secret.ErrNotKept
	if errors.As(err, &no) {
		return base.Usage("nothing was kept: %s", no.Why)
	}
	return err
}

// QueryOf is the question for a profile's secret, at its first address.
func (c *Call) QueryOf(ctx context.Context, p *resolve.Profile) (secret.Query, error) {
	if found := p.Problem(); found != nil {
		return secret.Query{}, base.Failure(base.ExitFile, errors.New(found.Cause))
	}
	q, found := check.SecretQuery(ctx, c.Network(), p)
	switch {
	case found == nil:
	case found.Code.Area() == "container":
		return q, base.RouteFailed(found)
	default:
		return q, base.Failure(base.ExitFile, errors.New(found.Cause), found.Try...)
	}
	return q, nil
}

// putInWallet keeps a profile's password as the entry that its source names, or
// as one of the profile's name, bound to where the profile leads.
func (c *Call) putInWallet(ctx context.Context, o WalletFlags, in secretInput, p *resolve.Profile,
	q secret.Query) error {
	name := q.Source.Arg
	if name == "" {
		name = p.Profile.Name
	}
	b, err := c.BindingOf(ctx, p)
	if err != nil {
		return err
	}
	changed := false
	w, err := c.ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
		now := time.Now().UTC().Truncate(time.Second)
		e := wallet.Entry{Name: name, User: p.Text(key.User), Created: now}
		if old := w.Entry(name); old != nil {
			if old.User != "" && old.User != e.User {
				return base.Usage("the wallet's entry %s is the password of another user (%s); name another entry: gharbor set %s "+
					"secret=wallet:ENTRY", name, old.User, p.Profile.Name)
			}
			e, changed = *old, true
		}
		BindTo(&e, []binding.Binding{b})
		e.Changed = now
		var err error
		e.Secret, err = in.take(ctx, c, fmt.Sprintf("the password of %s for %s", p.Text(key.User), p.Profile.Name))
		w.Put(e)
		return err
	})
	if err == nil {
		c.kept(w.Entry(name), changed)
	}
	return err
}
