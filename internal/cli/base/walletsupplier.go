package base

import (
	"context"
	"errors"
	"path/filepath"

	"gentleharbor/core/check"
	"gentleharbor/core/finding"
	"gentleharbor/core/lastseen"
	"gentleharbor/core/privatesocket"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/rotation"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
)

// Finder finds secrets for profiles.
func (c *Call) Finder() (*secret.Finder, error) {
	supplier, err := c.walletSupplier("")
	if err != nil {
		return nil, err
	}
	h, err := c.Home()
	return &secret.Finder{
		Lookup:    c.Lookup,
		Locks:     h.LocksPath(),
		Files:     c.Engines.CredentialFiles(),
		Home:      c.Environment().Home,
		Terminal:  c.Interactive(),
		Ask:       c.Secret,
		Wallet:    supplier.Find,
		JudgeFile: func(path string) *finding.Finding { return c.Vouched.JudgeFile(c.Keys, path, c.Environment().Home) },
	}, err
}

// Store is the wallet of the flag, of the settings or of the usual place, and the path of a reader's pin file.
func (c *Call) Store(path string) (s wallet.Store, pin string, err error) {
	h, err := c.Home()
	if err != nil {
		return s, "", err
	}
	file, err := c.Load()
	if err != nil {
		return s, "", err
	}
	s.Seen = filepath.Join(h.Dir, "wallets-seen.json")
	s.Path, pin = filepath.Join(h.Dir, "wallet.ghw"), filepath.Join(h.Dir, "reader.pin")
	home := c.Environment().Home
	if file.Settings.Wallet != "" {
		s.Path = file.WholeSetting(file.Settings.Wallet, home)
	}
	if file.Settings.Reader != "" {
		pin = file.WholeSetting(file.Settings.Reader, home)
	}
	if path != "" {
		s.Path, err = filepath.Abs(path)
	}
	c.Log.Debug("wallet", "file", s.Path, "reader", pin)
	return s, pin, err
}

// walletSupplier gives profiles the wallet's secrets.
func (c *Call) walletSupplier(path string) (*wallet.Supplier, error) {
	s, pin, err := c.Store(path)
	return &wallet.Supplier{Store: s, Pin: pin, Terminal: c.Interactive(), Ask: c.Secret, Unlocked: c.keeper}, err
}

// keeper is the process that keeps a wallet open, nil where there is none. One that does not answer is an error: it
// has the keys, and the user must know that.
func (c *Call) keeper(ctx context.Context, id string) (wallet.Opener, error) {
	u := wallet.UnlockedSource{Socket: wallet.KeeperSocket(c.Lookup, id)}
	_, err := u.Status(ctx)
	switch {
	case err == nil:
		return u, nil
	case errors.As(err, new(*privatesocket.SilentError)):
		return nil, err
	}
	return nil, ctx.Err()
}

// OpenKeeper is keeper for a command that works without one. It prints a notice where the process does not answer.
func (c *Call) OpenKeeper(ctx context.Context, id string) wallet.Opener {
	k, err := c.keeper(ctx, id)
	if silent := new(privatesocket.SilentError); errors.As(err, &silent) {
		c.Notice("the wallet counts as locked: the process that keeps it open does not answer (%s). To end it: %s",
			silent,
			silent.EndLine())
	}
	return k
}

func (c *Call) LastSeen() lastseen.Store {
	h, err := profile.FindHome(c.Keys, c.Lookup)
	if err != nil {
		return lastseen.Store{}
	}
	return lastseen.Store{Path: filepath.Join(h.Dir, "last-seen.json")}
}

// Rotations is the folder of the pending rotations of passwords.
func (c *Call) Rotations() (rotation.Folder, error) {
	home, err := c.Home()
	return rotation.FolderOf(home.Dir), err
}

// Remember writes what logins were like. A failure to write is no error.
func (c *Call) Remember(ctx context.Context, profiles []*resolve.Profile, reports []*check.Report) {
	if err := c.LastSeen().Keep(ctx, profiles, reports); err != nil {
		c.Log.Debug("last seen", "not kept", err)
	}
}
