package secretcmd

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/binding"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// secretInput is how a new secret comes in.
type secretInput struct {
	stdin    bool
	generate int
}

func (o *secretInput) flags(fs *base.FlagSet) {
	fs.BoolVar(&o.stdin, "secret-stdin", false, "read the password from standard input")
	fs.Func("generate", "make a password of N letters and digits (16 to 128)", func(s string) error {
		n, err := strconv.Atoi(s)
		if err != nil || n < 16 || n > 128 {
			return errors.New("expected a number from 16 to 128")
		}
		o.generate = n
		return nil
	})
}

func (o *secretInput) check(c *Call) error {
	if o.stdin && o.generate > 0 {
		return base.Usage("give -secret-stdin or -generate, not both")
	}
	if !o.stdin && o.generate == 0 && !c.Interactive() {
		return NoTerminal("the secret", "-secret-stdin or -generate 32")
	}
	return nil
}

// take reads the secret; prompt is the question at the terminal.
func (o *secretInput) take(ctx context.Context, c *Call, prompt string) (secret.Value, error) {
	switch {
	case o.stdin:
		return c.SecretFromStdin()
	case o.generate > 0:
		return Generate(o.generate), nil
	}
	v, err := c.askTwice(ctx, prompt)
	if err == nil && v.Empty() {
		err = base.Usage("an empty password is not saved. If the server wants none: gharbor set NAME secret=none")
	}
	return v, err
}

// Generate makes a secret of n letters and digits, which need no quotes in a shell or URL: each has some 5.95 bits.
func Generate(n int) secret.Value {
	const signs = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"
	text := make([]byte, n)
	for i := range text {
		at, err := rand.Int(rand.Reader, big.NewInt(int64(len(signs))))
		if err != nil {
			panic(err) // crypto/rand never fails
		}
		text[i] = signs[at.Int64()]
	}
	return secret.NewValue(string(text))
}

func walletKeep() *base.Command {
	var o keepFlags
	return &base.Command{
		Name: "wallet keep", Args: "ENTRY", Summary: "save a password, tied to the server it may be sent to",
		Long: `The secret is typed twice on the terminal, read from standard input, or made here;
never given as a word. -bind takes a profile (what it leads to now), an address with
its engine ({{scheme}}://db.saltmarsh.example:{{port}}), or alias:NAME. Without -bind the
entry is bound to the profile of the same name, where there is one.`,
		Examples: []string{"gharbor wallet keep sightings -bind sightings",
			"gharbor wallet keep visitor -user visitor -bind sightings-ro -generate 32",
			"gharbor wallet keep tides -bind {{scheme}}://tide-db.internal.example:{{port}} -passphrase-file " +
				"passphrase -secret-stdin < password"},
		MinArgs: 1, MaxArgs: 1,
		Flags: o.flags,
		Run:   run(o.keep),
	}
}

// keepFlags is the flags of wallet keep.
type keepFlags struct {
	wallet  WalletFlags
	in      secretInput
	user    string
	note    string
	bind    []string
	replace bool
}

func (o *keepFlags) flags(fs *base.FlagSet) {
	o.wallet.Flags(fs)
	o.in.flags(fs)
	fs.StringVar(&o.user, "user", "", "the user whose password it is")
	fs.StringVar(&o.note, "note", "", "a note for people")
	fs.Func("bind", "a profile, an address with its engine, or alias:NAME; repeat it for more", func(s string) error {
		o.bind = append(o.bind, s)
		return nil
	})
	fs.BoolVar(&o.replace, "replace", false, "replace an entry of that name without asking")
}

func (o *keepFlags) keep(ctx context.Context, c *Call) error {
	name := c.Args[0]
	if !syntax.ValidName(name) {
		return base.Usage("not an entry name: %s", syntax.NameRule)
	}
	if err := o.in.check(c); err != nil {
		return err
	}
	bound, err := o.bindings(ctx, c, name)
	if err != nil {
		return err
	}
	var changed bool
	w, err := c.ChangeWallet(ctx, o.wallet, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
		now := time.Now().UTC().Truncate(time.Second)
		e := wallet.Entry{Name: name, Created: now}
		if old := w.Entry(name); old != nil {
			if err := c.askToReplace(ctx, name, o.replace); err != nil {
				return err
			}
			e, changed = *old, true
			e.Bindings = slices.Clone(e.Bindings)
		}
		if c.Set["user"] {
			e.User = o.user
		}
		if c.Set["note"] {
			e.Note = o.note
		}
		BindTo(&e, bound)
		e.Changed = now
		e.Secret, err = o.in.take(ctx, c, "the secret of "+name)
		w.Put(e)
		return err
	})
	if err != nil {
		return err
	}
	c.reportKept(w.Entry(name), changed)
	return nil
}

// bindings are an entry's bindings: those of -bind, else the profile of its name.
func (o *keepFlags) bindings(ctx context.Context, c *Call, name string) ([]binding.Binding, error) {
	if len(o.bind) > 0 {
		return c.bindings(ctx, o.bind)
	}
	p, err := c.Resolve(name, nil)
	if err != nil {
		return nil, nil // there is none
	}
	b, err := c.BindingOf(ctx, p)
	var unreached *secret.Failure
	switch {
	case err == nil:
		return []binding.Binding{b}, nil
	case errors.As(err, &unreached): // its container's engine: bound to nothing is not what is meant
		return nil, err
	}
	return nil, nil
}

// askToReplace asks before an entry gets another secret.
func (c *Call) askToReplace(ctx context.Context, name string, yes bool) error {
	if yes {
		return nil
	}
	if !c.Interactive() {
		return base.Failure(base.ExitUsage,
			fmt.Errorf("the wallet already has an entry %s; -replace replaces it", name))
	}
	yes, err := c.Confirm(ctx, "the wallet has an entry "+name+" already. Replace it?", false)
	if err == nil && !yes {
		err = &base.ExitError{Code: base.ExitUsage, Err: errors.New("nothing was changed")}
	}
	return err
}

// reportKept says what an entry is now.
func (c *Call) reportKept(e *wallet.Entry, changed bool) {
	word := "saved"
	if changed {
		word = "changed"
	}
	if len(e.Bindings) == 0 {
		c.Say("%s: entry %s, tied to no server: only a profile of yours that names it (secret = \"wallet:%s\") gets it",
			word, e.Name, e.Name)
		c.Say("  try: gharbor wallet bind %s PROFILE", e.Name)
		return
	}
	for _, b := range e.Bindings {
		c.Say("%s: entry %s, for %s", word, e.Name, b)
	}
}

// listedEntry is an entry in `wallet list -format json`.
type listedEntry struct {
	Name     string            `json:"name"`
	User     string            `json:"user,omitempty"`
	Bindings []binding.Binding `json:"bindings"`
	Note     string            `json:"note,omitempty"`
	Created  time.Time         `json:"created"`
	Changed  time.Time         `json:"changed"`
	Rotating bool              `json:"rotating,omitempty"` // a new password waits beside it
}

func walletList() *base.Command {
	var o WalletFlags
	var form base.Format
	return &base.Command{
		Name: "wallet list", Summary: "list the entries: names, users, servers and dates, never passwords",
		Examples: []string{"gharbor wallet list", "gharbor wallet list -format json"},
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *Call) error {
			w, err := c.OpenWallet(ctx, o)
			if err != nil {
				return err
			}
			if form.JSON() {
				all := []listedEntry{}
				for _, e := range w.Entries {
					one := listedEntry{
						Name:     e.Name,
						User:     e.User,
						Bindings: e.Bindings,
						Note:     clean.Line(e.Note, 200),
						Created:  e.Created,
						Changed:  e.Changed,
						Rotating: e.Pending.Present(),
					}
					if one.Bindings == nil {
						one.Bindings = []binding.Binding{}
					}
					all = append(all, one)
				}
				return render.JSON(c.Stdout, map[string]any{
					"format":     1,
					"wallet":     w.File.Path,
					"id":         w.File.ID(),
					"generation": w.File.Generation(),
					"opened_by":  w.Through,
					"entries":    all,
				})
			}
			if len(w.Entries) == 0 {
				c.Say("the wallet %s has no entries yet", w.File.Path)
				c.Say("  try: gharbor wallet keep ENTRY -bind PROFILE")
				return nil
			}
			var rows [][]string
			for _, e := range w.Entries {
				rows = append(rows,
					[]string{e.Name, clean.Line(e.User, 40), e.Changed.Local().Format(time.DateOnly), "tied to no server"})
				for i, b := range e.Bindings {
					if i > 0 {
						rows = append(rows, []string{"", "", "", ""})
					}
					rows[len(rows)-1][3] = b.String()
				}
			}
			if err := render.Table(c.Stdout, c.NoColour, []string{"entry", "user", "changed", "may be sent to"},
				rows); err != nil {
				return err
			}
			return c.tellRotations(w)
		}),
	}
}

func walletBind() *base.Command {
	var o WalletFlags
	return &base.Command{
		Name: "wallet bind", Args: "ENTRY PROFILE|ADDRESS|alias:NAME…", Summary: "allow one more server for an entry",
		Long: "If the profile led to another server before, the entry is tied to the new one.",
		Examples: []string{"gharbor wallet bind sightings sightings-ro",
			"gharbor wallet bind sightings {{scheme}}://tide-db.internal.example:{{port}}"},
		MinArgs: 2, MaxArgs: -1,
		Flags: o.Flags,
		Run: run(func(ctx context.Context, c *Call) error {
			add, err := c.bindings(ctx, c.Args[1:])
			if err != nil {
				return err
			}
			return c.changeEntry(ctx, o, c.Args[0], func(_ *wallet.Wallet, e *wallet.Entry) error {
				BindTo(e, add)
				return nil
			})
		}),
	}
}

// changeEntry changes an entry, and prints it.
func (c *Call) changeEntry(ctx context.Context, o WalletFlags, name string,
	change func(*wallet.Wallet, *wallet.Entry) error) error {
	w, err := c.ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
		e, err := entry(w, name)
		if err != nil {
			return err
		}
		changed := *e
		changed.Bindings = slices.Clone(e.Bindings)
		if err := change(w, &changed); err != nil {
			return err
		}
		changed.Changed = time.Now().UTC().Truncate(time.Second)
		w.Remove(name)
		w.Put(changed)
		name = changed.Name
		return nil
	})
	if err == nil {
		c.reportKept(w.Entry(name), true)
	}
	return err
}

func walletUnbind() *base.Command {
	var o WalletFlags
	return &base.Command{
		Name: "wallet unbind", Args: "ENTRY PROFILE|ADDRESS|alias:NAME…", Summary: "remove a server from an entry",
		Examples: []string{"gharbor wallet unbind visitor sightings-ro"},
		MinArgs:  2, MaxArgs: -1,
		Flags: o.Flags,
		Run: run(func(ctx context.Context, c *Call) error {
			return c.changeEntry(ctx, o, c.Args[0], func(_ *wallet.Wallet, e *wallet.Entry) error {
				for _, word := range c.Args[1:] {
					left := slices.DeleteFunc(slices.Clone(e.Bindings), func(b binding.Binding) bool { return b.Is(word) })
					if len(left) == len(e.Bindings) {
						return base.Usage("the entry %s is not tied to that server; gharbor wallet list shows "+
							"which it is tied to", e.Name)
					}
					e.Bindings = left
				}
				return nil
			})
		}),
	}
}

func walletRename() *base.Command {
	var o WalletFlags
	return &base.Command{
		Name: "wallet rename", Args: "ENTRY NEW-NAME", Summary: "rename an entry",
		Examples: []string{"gharbor wallet rename visitor sightings-visitor"},
		MinArgs:  2, MaxArgs: 2,
		Flags: o.Flags,
		Run: run(func(ctx context.Context, c *Call) error {
			if !syntax.ValidName(c.Args[1]) {
				return base.Usage("not an entry name: %s", syntax.NameRule)
			}
			return c.changeEntry(ctx, o, c.Args[0], func(w *wallet.Wallet, e *wallet.Entry) error {
				if w.Entry(c.Args[1]) != nil {
					return base.Usage("the wallet has an entry %s already", c.Args[1])
				}
				e.Name = c.Args[1]
				return nil
			})
		}),
	}
}

func walletRemove() *base.Command {
	var o WalletFlags
	var yes bool
	return &base.Command{
		Name: "wallet remove", Args: "ENTRY…", Summary: "remove entries, after asking",
		Examples: []string{"gharbor wallet remove visitor", "gharbor wallet remove visitor -yes"},
		MinArgs:  1, MaxArgs: -1,
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			fs.BoolVar(&yes, "yes", false, "do not ask")
		},
		Run: run(func(ctx context.Context, c *Call) error {
			if !yes && !c.Interactive() {
				return base.Failure(base.ExitUsage,
					errors.New("there is no terminal to ask on; -yes removes without asking"))
			}
			_, err := c.ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
				for _, name := range c.Args {
					if _, err := entry(w, name); err != nil {
						return err
					}
				}
				if !yes {
					sure, err := c.Confirm(ctx, "remove "+strings.Join(c.Args, ", ")+" and the secrets?", false)
					if err != nil {
						return err
					}
					if !sure {
						return base.Failure(base.ExitUsage, errors.New("nothing was changed"))
					}
				}
				for _, name := range c.Args {
					w.Remove(name)
				}
				return nil
			})
			if err == nil {
				c.Say("removed: %s", strings.Join(c.Args, ", "))
			}
			return err
		}),
	}
}

func walletDisclose() *base.Command {
	var o WalletFlags
	var stdout bool
	return &base.Command{
		Name: "wallet disclose", Machine: true, Args: "ENTRY", Summary: "print a password, on a terminal, after " +
			"the passphrase",
		Long:     "The passphrase is always asked for, even while the wallet is unlocked.",
		Examples: []string{"gharbor wallet disclose sightings"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			fs.BoolVar(&stdout, "stdout", false, "print it even if standard output is no terminal")
		},
		Run: run(func(ctx context.Context, c *Call) error {
			if !stdout && !render.IsTerminal(c.Stdout) {
				return base.Usage(
					"standard output is no terminal: the password would end up in a file or a pipe. If you want " +
						"that, add -stdout")
			}
			s, _, err := c.Store(o.Path)
			if err != nil {
				return err
			}
			var w *wallet.Wallet
			err = c.withPassphrase(ctx, o, s, func(pass *wallet.Passphrase) (err error) {
				w, err = s.Open(ctx, pass)
				return err
			})
			if err != nil {
				return err
			}
			e, err := entry(w, c.Args[0])
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(c.Stdout, e.Secret.Disclose())
			return err
		}),
	}
}
