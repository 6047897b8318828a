package containercmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"gentleharbor/core/binding"
	"gentleharbor/core/container/making"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/cli/transfercmd"
)

// makeSecrets takes the passwords from the wallet, and makes missing ones, bound to the new container.
func (c *call) makeSecrets(ctx context.Context, m *makeRun) (map[string]secret.Value, error) {
	values := make(map[string]secret.Value)
	inWallet := slices.Clone(m.plan.Secrets)
	if m.own != nil {
		v, err := transfercmd.NewCall(c.Call).SecretOf(ctx, m.own)
		if err != nil {
			return nil, err
		}
		if !v.Present() || v.Empty() {
			return nil, base.Failure(base.ExitSecret,
				errors.New("the profile's password is empty: such a server would be open to everybody on this machine"))
		}
		for _, s := range m.plan.Secrets {
			if s.Entry == m.plan.Entry {
				values[s.Variable] = v
			}
		}
		inWallet = slices.DeleteFunc(inWallet, func(h making.ServerSecret) bool { return h.Entry == m.plan.Entry })
	}
	if len(inWallet) == 0 {
		return values, nil
	}
	will, err := c.Resolve(m.profile.Called, base.Overrides(m.sets)) // as the profile will be
	if err != nil {
		return nil, err
	}
	b, err := c.BindingOf(ctx, will)
	if err != nil {
		return nil, err
	}
	var made []string
	secrets := secretcmd.NewCall(c.Call)
	_, err = secrets.ChangeWallet(ctx, m.WalletFlags, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
		for _, s := range inWallet {
			now := time.Now().UTC().Truncate(time.Second)
			e := wallet.Entry{Name: s.Entry, User: s.User, Created: now, Changed: now}
			switch old := w.Entry(s.Entry); {
			case old != nil:
				e = *old
				e.Bindings, e.Changed = slices.Clone(old.Bindings), now
			case m.plan.OldVolume && s.Entry == m.plan.Entry:
				return base.Failure(base.ExitUsage,
					fmt.Errorf("the volume %s exists, and its server's password is not in the wallet",
						m.plan.Volume),
					"gharbor wallet keep "+s.Entry+"   # the password that its server has",
					c.CommandWith("volume", m.plan.Volume+"-2"))
			default:
				e.Secret = secretcmd.Generate(generatedLength)
				made = append(made, s.Entry)
			}
			bound := b
			if s.Entry == m.plan.Entry {
				bound.Profile = m.profile.Profile.Name
			}
			secretcmd.BindTo(&e, []binding.Binding{bound})
			values[s.Variable] = e.Secret
			w.Put(e)
		}
		return nil
	})
	for _, name := range made {
		if err == nil {
			c.Say("made: a password, as the wallet's entry %s, for this container only", name)
		}
	}
	return values, err
}

// unlocked reports whether the wallet can be read without a question.
func (c *call) unlocked(ctx context.Context) bool {
	s, pin, err := c.Store("")
	if err != nil {
		return false
	}
	if _, err := os.Stat(pin); err == nil {
		return true
	}
	f, err := wallet.Load(s.Path)
	return err == nil && c.OpenKeeper(ctx, f.ID()) != nil
}
