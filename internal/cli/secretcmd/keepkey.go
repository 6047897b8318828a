package secretcmd

import (
	"context"
	"fmt"
	"time"

	"gentleharbor/core/binding"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
)

// KeepKey keeps the key that seals a cloud account's token as an entry of the wallet, and makes the wallet where
// there is none. The entry is bound to account.
func (c *Call) KeepKey(ctx context.Context, o WalletFlags, name, account string, key secret.Value) error {
	s, _, err := c.Store(o.Path)
	if err != nil {
		return err
	}
	c.Say("the key that seals the token goes into the wallet %s, as entry %s", s.Path, name)
	if err := c.needWallet(ctx, o, s); err != nil {
		return err
	}
	now := time.Now().UTC().Truncate(time.Second)
	_, err = c.ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
		w.Put(wallet.Entry{
			Name:     name,
			Secret:   key,
			Bindings: []binding.Binding{{Account: account}},
			Created:  now,
			Changed:  now,
		})
		return nil
	})
	return err
}

// KeepReceived keeps a password that tell returns only once as the wallet's entry of a profile. It opens the wallet
// before it calls tell. Where the wallet can't be written afterwards, it shows the password, which would else be
// lost.
func (c *Call) KeepReceived(ctx context.Context, o WalletFlags, p *resolve.Profile,
	tell func() (user string, v secret.Value, err error)) error {
	b, err := c.BindingOf(ctx, p)
	if err != nil {
		return err
	}
	s, _, err := c.Store(o.Path)
	if err != nil {
		return err
	}
	name := p.Profile.Name
	c.Say("the password goes into the wallet %s, as entry %s", s.Path, name)
	if err := c.needWallet(ctx, o, s); err != nil {
		return err
	}
	var told wallet.Entry
	_, err = c.ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
		if old := w.Entry(name); old != nil {
			return base.Failure(base.ExitUsage, fmt.Errorf("the wallet has an entry %s already, so nothing was asked for", name),
				"gharbor wallet rename "+name+" "+name+"-before")
		}
		user, v, err := tell()
		if err != nil {
			return err
		}
		now := time.Now().UTC().Truncate(time.Second)
		told = wallet.Entry{Name: name, User: user, Secret: v, Bindings: []binding.Binding{b}, Created: now, Changed: now}
		w.Put(told)
		return nil
	})
	if err != nil && told.Secret.Present() {
		c.Notice("the password of %s could not be kept. It is shown only now: %s", told.User, told.Secret.Disclose())
		return err
	}
	if err == nil {
		c.reportKept(&told, false)
	}
	return err
}
