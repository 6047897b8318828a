package secretcmd

import (
	"context"
	"errors"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

// usualOpening is how long opening by passphrase takes where no -cost says otherwise.
const usualOpening = 500 * time.Millisecond

// costFlag is -cost: how long opening by passphrase may take.
func costFlag(fs *base.FlagSet, d *time.Duration) {
	*d = usualOpening
	fs.DurationVar(d, "opening", *d, "how long opening with the passphrase takes here: the longer, the harder to guess")
}

func costOf(d time.Duration) (wallet.Cost, error) {
	if d <= 0 || d > 10*time.Second {
		return wallet.Cost{}, base.Usage("-opening: expected a time from 1ms to 10s")
	}
	return wallet.CostFor(d), nil
}

func walletCreate() *base.Command {
	var o WalletFlags
	var opening time.Duration
	return &base.Command{
		Name: "wallet create", Summary: "make a wallet",
		Long: `Asks for a new passphrase, twice. Without it nobody can change the wallet: keep it where
you will find it. Opening takes about half a second here, so that guessing is slow.`,
		Examples: []string{"gharbor wallet create", "gharbor wallet create -wallet ~/work.ghw -passphrase-file " +
			"passphrase"},
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			costFlag(fs, &opening)
		},
		Run: run(func(ctx context.Context, c *Call) error {
			s, _, err := c.Store(o.Path)
			if err != nil {
				return err
			}
			if _, err := os.Lstat(s.Path); err == nil {
				return base.Usage("%s exists already; for a second wallet give -wallet FILE", s.Path)
			}
			if opening <= 0 {
				return base.Usage("-opening: expected a time above zero")
			}
			if err := c.createWallet(ctx, o, s, opening); err != nil {
				return err
			}
			c.Say("  do: keep a password in it: gharbor secret keep PROFILE")
			return nil
		}),
	}
}

// createWallet makes a wallet, with a passphrase from a file or typed twice.
func (c *Call) createWallet(ctx context.Context, o WalletFlags, s wallet.Store, opening time.Duration) error {
	pass, err := c.newPassphrase(ctx, o.File, "-passphrase-file")
	if err != nil {
		return err
	}
	cost, err := costOf(opening)
	if err != nil {
		return err
	}
	if _, err = s.Create(ctx, pass, cost); err == nil {
		c.Say("made: wallet %s", s.Path)
	}
	return err
}

func walletPassphrase() *base.Command {
	var o WalletFlags
	var newFile string
	var opening time.Duration
	return &base.Command{
		Name: "wallet passphrase", Summary: "change the passphrase",
		Long: `All keys are new afterwards: an old copy of the file with the old passphrase can't open
what is written later. Every reader needs a new pin file; the command lists them.`,
		Examples: []string{"gharbor wallet passphrase"},
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			costFlag(fs, &opening)
			fs.StringVar(&newFile, "new-passphrase-file", "", "a 0600 file with the new passphrase in its first line")
		},
		Run: run(func(ctx context.Context, c *Call) error {
			var ended []wallet.ReaderInfo
			w, err := c.ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
				next, err := c.newPassphrase(ctx, newFile, "-new-passphrase-file")
				if err != nil {
					return err
				}
				cost, err := costOf(opening)
				if err == nil {
					ended, err = w.ChangePassphrase(ctx, next, cost)
				}
				return err
			})
			if err != nil {
				return err
			}
			c.Say("changed: the passphrase of %s; older copies and backups still open with the old one", w.File.Path)
			c.endedReaders(ended)
			return nil
		}),
	}
}

func walletRotate() *base.Command {
	var o WalletFlags
	return &base.Command{
		Name: "wallet rotate", Summary: "make new keys; every reader needs a new pin file",
		Examples: []string{"gharbor wallet rotate"},
		Flags:    o.Flags,
		Run: run(func(ctx context.Context, c *Call) error {
			var ended []wallet.ReaderInfo
			w, err := c.ChangeWallet(ctx, o, func(w *wallet.Wallet, pass *wallet.Passphrase) error {
				var err error
				ended, err = w.Rotate(ctx, pass)
				return err
			})
			if err != nil {
				return err
			}
			c.Say("rotated: the keys of %s", w.File.Path)
			c.endedReaders(ended)
			return nil
		}),
	}
}

// endedReaders lists the pin files that are no longer valid after a change of keys, and how to make new ones.
func (c *Call) endedReaders(ended []wallet.ReaderInfo) {
	for _, r := range ended {
		c.Say("  ended: the pin file of reader %s", r.Name)
		c.Say("  try: gharbor wallet reader add %s -out %s.pin   # lets it in again, with a new one", r.Name, r.Name)
	}
}

func walletReader() *base.Command {
	return &base.Command{
		Name: "wallet reader", Args: "VERB", Summary: "let jobs and other accounts read the wallet without its " +
			"passphrase",
		Long: `A reader has a pin file: a private key that opens the wallet, now and later, and the key
that the wallet must be signed with. A reader can't change the wallet. Its gharbor reads
the pin file from reader.pin in its own GHARBOR_HOME, or from [settings] reader in its
profiles.toml, and the wallet from [settings] wallet.`,
		Verbs: func() []*base.Command { return []*base.Command{readerAdd(), readerList(), readerRemove()} },
	}
}

func readerAdd() *base.Command {
	var o WalletFlags
	var out, account string
	return &base.Command{
		Name: "wallet reader add", Args: "NAME", Summary: "make a reader and its pin file",
		Examples: []string{"gharbor wallet reader add weekly -out weekly.pin"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			fs.StringVar(&out, "out", "", "where to write the pin file (0600); the file must not exist")
			fs.StringVar(&account, "for", "", "the account that will own the pin file (as root)")
		},
		Run: run(func(ctx context.Context, c *Call) error {
			name := c.Args[0]
			if !syntax.ValidName(name) {
				return base.Usage("not a reader's name: %s", syntax.NameRule)
			}
			if out == "" {
				return base.Failure(base.ExitUsage,
					errors.New("-out is missing: where the pin file goes"),
					"gharbor wallet reader add "+name+" -out "+name+".pin")
			}
			whole, err := filepath.Abs(out)
			if err != nil {
				return err
			}
			own, err := ownerFor(account)
			if err != nil {
				return err
			}
			written := false
			w, err := c.ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
				pin, err := w.AddReader(name, time.Now())
				if err != nil {
					return base.Usage("%w", err)
				}
				if err := pin.WriteNew(whole); err != nil {
					return &profile.FileError{Path: whole, What: "cannot be written: " + err.Error()}
				}
				written = true
				return own(whole)
			})
			if err != nil {
				if written {
					os.Remove(whole)
				}
				return err
			}
			c.Say("made: reader %s of %s, its pin file %s", name, w.File.Path, whole)
			c.Say("  it can read the %d %s and all later ones; to end that: gharbor wallet reader remove %s",
				len(w.Entries),
				wording.Plural(len(w.Entries), "entry", "entries"), name)
			if account == "" {
				c.Say("  do: give it to another account: sudo install -m 600 -o ACCOUNT %s PLACE && rm %s",
					clean.Shell(whole),
					clean.Shell(whole))
			}
			if info, err := os.Stat(w.File.Path); err == nil && info.Mode().Perm()&0o044 == 0 {
				c.Say("  try: chmod a+r %s   # the other account must be able to read the encrypted file",
					clean.Shell(w.File.Path))
			}
			return nil
		}),
	}
}

// ownerFor gives a file to an account; "" keeps the present owner.
func ownerFor(account string) (func(path string) error, error) {
	if account == "" {
		return func(string) error { return nil }, nil
	}
	u, err := user.Lookup(account)
	if err != nil {
		return nil, base.Usage("-for: this machine has no account of that name")
	}
	uid, err := strconv.Atoi(u.Uid)
	if err != nil {
		return nil, base.Usage("-for: not on this system")
	}
	gid, _ := strconv.Atoi(u.Gid)
	if os.Getuid() != 0 && uid != os.Getuid() {
		return nil, base.Advise(base.Usage("-for: only root can give a file to another account"),
			"make the file without -for, then run: sudo install -m 600 -o ACCOUNT FILE PLACE")
	}
	return func(path string) error { return os.Chown(path, uid, gid) }, nil
}

func readerList() *base.Command {
	var o WalletFlags
	var form base.Format
	return &base.Command{
		Name: "wallet reader list", Summary: "who can read the wallet without its passphrase",
		Examples: []string{"gharbor wallet reader list"},
		Flags: func(fs *base.FlagSet) {
			o.pathFlag(fs)
			form.Flag(fs)
		},
		Run: run(func(_ context.Context, c *Call) error {
			s, _, err := c.Store(o.Path)
			if err != nil {
				return err
			}
			f, err := wallet.Load(s.Path)
			if err != nil {
				return err
			}
			if form.JSON() {
				type listedReader struct {
					Name  string    `json:"name"`
					Added time.Time `json:"added"`
				}
				all := []listedReader{}
				for _, r := range f.Readers() {
					all = append(all, listedReader{r.Name, r.Added})
				}
				return render.JSON(c.Stdout, map[string]any{"format": 1, "wallet": f.Path, "readers": all})
			}
			if len(f.Readers()) == 0 {
				c.Say("the wallet %s has no readers", f.Path)
				return nil
			}
			var rows [][]string
			for _, r := range f.Readers() {
				rows = append(rows, []string{r.Name, r.Added.Local().Format(time.DateOnly)})
			}
			return render.Table(c.Stdout, c.NoColour, []string{"reader", "added"}, rows)
		}),
	}
}

func readerRemove() *base.Command {
	var o WalletFlags
	return &base.Command{
		Name: "wallet reader remove", Args: "NAME", Summary: "remove a reader's access",
		Long: "Lists the passwords that the reader could read: with its pin file and an old copy of the\nwallet it " +
			"still can. Change them on their servers.",
		Examples: []string{"gharbor wallet reader remove nightly"},
		MinArgs:  1, MaxArgs: 1,
		Flags: o.Flags,
		Run: run(func(ctx context.Context, c *Call) error {
			var saw []string
			_, err := c.ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) (err error) {
				if saw, err = w.RemoveReader(c.Args[0]); err != nil {
					err = base.Usage("%w", err)
				}
				return err
			})
			if err != nil {
				return err
			}
			c.Say("removed: reader %s, and a new content key was made", c.Args[0])
			if len(saw) > 0 {
				c.Say("  it could read these; change them on their servers: %s", strings.Join(saw, ", "))
			}
			return nil
		}),
	}
}
