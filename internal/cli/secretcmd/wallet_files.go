package secretcmd

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
)

func walletVerify() *base.Command {
	var o WalletFlags
	var forget bool
	return &base.Command{
		Name: "wallet verify", Summary: "check the whole wallet file",
		Long: `Checks structure, checksum, signature and version without the passphrase, and the
content with a pin file, an unlocked wallet or the passphrase.`,
		Examples: []string{"gharbor wallet verify", "gharbor wallet verify -passphrase-file passphrase"},
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			fs.BoolVar(&forget, "forget", false, "forget which wallet versions were seen, if that file is damaged")
		},
		Run: run(func(ctx context.Context, c *Call) error {
			s, _, err := c.Store(o.Path)
			if err != nil {
				return err
			}
			if forget {
				if err := s.Forget(); err != nil {
					return err
				}
				c.Say("forgotten: the wallet versions that were seen, in %s", s.Seen)
			}
			f, err := wallet.Load(s.Path)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.Stdout,
				"file         %s\nstructure    right\nchecksum     right\nsignature    right\nwallet       %s, "+
					"generation %d\n",
				f.Path, f.ID(), f.Generation())
			if err := s.Judge(f); err != nil {
				return err
			}
			names := make([]string, len(f.Readers()))
			for i, r := range f.Readers() {
				names[i] = r.Name
			}
			fmt.Fprintf(c.Stdout, "seen here    nothing newer\nreaders      %s\n", orNone(names))
			w, err := c.OpenWallet(ctx, o)
			var exit *base.ExitError
			if errors.As(err, &exit) && exit.Code == base.ExitSecret {
				c.Say("the content was not checked: that needs a pin file, an unlocked wallet or the passphrase")
				return nil
			}
			if err != nil {
				return err
			}
			unbound := 0
			for _, e := range w.Entries {
				if len(e.Bindings) == 0 {
					unbound++
				}
			}
			_, err = fmt.Fprintf(c.Stdout, "content      right: %d %s, %d of them tied to no server (opened by %s)\n",
				len(w.Entries), wording.Plural(len(w.Entries), "entry", "entries"), unbound, w.Through)
			return err
		}),
	}
}

func orNone(words []string) string {
	if len(words) == 0 {
		return "none"
	}
	return strings.Join(words, ", ")
}

func walletBackup() *base.Command {
	var o WalletFlags
	return &base.Command{
		Name: "wallet backup", Args: "FILE", Summary: "copy the wallet; the copy is encrypted too",
		Examples: []string{"gharbor wallet backup ~/wallet-2026-11.ghw"},
		MinArgs:  1, MaxArgs: 1,
		Flags: o.pathFlag,
		Run: run(func(_ context.Context, c *Call) error {
			s, _, err := c.Store(o.Path)
			if err != nil {
				return err
			}
			to, err := filepath.Abs(c.Args[0])
			if err != nil {
				return err
			}
			f, err := s.Backup(to)
			if err == nil {
				c.Say("saved: generation %d of %s as %s; today's passphrase opens it", f.Generation(), s.Path, to)
			}
			return err
		}),
	}
}

func walletRestore() *base.Command {
	var o, other WalletFlags
	var old bool
	return &base.Command{
		Name: "wallet restore", Args: "FILE", Summary: "go back to a backup",
		Long: `The backup replaces the content of the wallet; make a backup of that first, if you may
need it. The passphrase, the keys and the readers stay. If the wallet is gone or can't
be opened, -old-passphrase uses the backup's passphrase, with new keys and no readers:
anybody who knows the old passphrase can then open it.`,
		Examples: []string{"gharbor wallet restore wallet-of-the-laptop.ghw"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			fs.StringVar(&other.File, "other-passphrase-file", "",
				"a 0600 file with the backup's passphrase, where it is another one")
			fs.BoolVar(&old, "old-passphrase", false, "make the backup's passphrase the wallet's again")
		},
		Run: run(func(ctx context.Context, c *Call) error {
			s, _, err := c.Store(o.Path)
			if err != nil {
				return err
			}
			if _, err := wallet.Load(s.Path); err == nil && !old {
				if err := c.checkNoneOpen(); err != nil {
					return err
				}
			}
			from, pass, theirs, err := c.otherWallet(ctx, o, other, s)
			if err != nil {
				return err
			}
			was := from.Generation()
			w, gone, err := s.Restore(ctx, from, pass, theirs, old)
			if wallet.IsWrongPassphrase(err) && other.File == "" && !c.Interactive() {
				return base.Advise(base.Failure(base.ExitSecret, err),
					"give today's passphrase and the backup's: gharbor wallet restore "+clean.Shell(c.Args[0])+
						" -passphrase-file FILE -other-passphrase-file FILE")
			}
			if wallet.IsWrongPassphrase(err) && other.File == "" && c.Interactive() {
				if theirs, err = c.passphrase(ctx, WalletFlags{}, wallet.Store{Path: from.Path}); err != nil {
					return err
				}
				w, gone, err = s.Restore(ctx, from, pass, theirs, old)
			}
			if errors.Is(err, wallet.ErrOldPassphrase) {
				return base.Failure(base.ExitSecret,
					err,
					"gharbor wallet restore "+clean.Shell(c.Args[0])+
						" -old-passphrase   # makes the old passphrase the wallet's again")
			}
			if err != nil {
				return err
			}
			if old {
				c.Notice("the passphrase of %s is the wallet's now; gharbor wallet passphrase changes it", from.Path)
			}
			c.Say("restored: %s, generation %d, with the %d %s of generation %d",
				s.Path, w.File.Generation(), len(w.Entries),
				wording.Plural(len(w.Entries), "entry", "entries"), was)
			for _, name := range gone {
				c.Say("  not let in again: reader %s", name)
			}
			return nil
		}),
	}
}

func walletMerge() *base.Command {
	var o WalletFlags
	var other WalletFlags
	return &base.Command{
		Name: "wallet merge", Args: "FILE", Summary: "merge another copy of the wallet, from another machine",
		Long: `Entries of both copies are kept. If an entry differs, the one here stays, and the other
one is added under a new name. An entry that was removed on one machine comes back.`,
		Examples: []string{"gharbor wallet merge wallet-of-the-laptop.ghw"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			fs.StringVar(&other.File, "other-passphrase-file", "",
				"a 0600 file with the other copy's passphrase, where it is another one")
		},
		Run: run(func(ctx context.Context, c *Call) error {
			s, _, err := c.Store(o.Path)
			if err != nil {
				return err
			}
			from, pass, theirs, err := c.otherWallet(ctx, o, other, s)
			if err != nil {
				return err
			}
			m, err := s.Merge(ctx, from, pass, theirs)
			if wallet.IsWrongPassphrase(err) && other.File == "" && c.Interactive() {
				if theirs, err = c.passphrase(ctx, WalletFlags{}, wallet.Store{Path: from.Path}); err != nil {
					return err
				}
				m, err = s.Merge(ctx, from, pass, theirs)
			}
			if err != nil {
				return err
			}
			c.Say("merged: %d added, %d the same, %d different", len(m.Added), len(m.Same), len(m.Conflicts))
			for _, name := range m.Added {
				c.Say("  added: %s", name)
			}
			for _, conflict := range m.Conflicts {
				c.Say("  different: %s (%s); the other copy's is kept as %s",
					conflict.Name, strings.Join(conflict.Differs, ", "),
					conflict.Other)
			}
			return nil
		}),
	}
}

// otherWallet is the other wallet file on the command line, with the passphrases of both: the same one, where no flag
// names another.
func (c *Call) otherWallet(ctx context.Context, o, other WalletFlags,
	s wallet.Store) (from *wallet.File, pass, theirs *wallet.Passphrase, err error) {
	if from, err = otherFile(c.Args[0]); err != nil {
		return nil, nil, nil, err
	}
	if pass, err = c.passphrase(ctx, o, s); err != nil {
		return nil, nil, nil, err
	}
	theirs = pass
	if other.File != "" {
		theirs, err = c.passphrase(ctx, other, s)
	}
	return from, pass, theirs, err
}
