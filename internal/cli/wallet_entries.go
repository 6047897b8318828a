package cli

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
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/render"
)

// secretInput is how a new secret comes in.
type secretInput struct {
	stdin    bool
	generate int
}

func (o *secretInput) flags(fs *flagSet) {
	fs.BoolVar(&o.stdin, "secret-stdin", false, "the secret is the first line of standard input")
	fs.Func("generate", "make a secret of N letters and digits, 16 to 128", func(s string) error {
		n, err := strconv.Atoi(s)
		if err != nil || n < 16 || n > 128 {
			return errors.New("expected a number from 16 to 128")
		}
		o.generate = n
		return nil
	})
}

func (o *secretInput) check(c *call) error {
	if o.stdin && o.generate > 0 {
		return usage("-secret-stdin and -generate are two ways to get the secret; give one")
	}
	if !o.stdin && o.generate == 0 && !c.Interactive() {
		return noTerminal("the secret", "-secret-stdin or -generate 32")
	}
	return nil
}

// take gets the secret; prompt asks for it on the terminal.
func (o *secretInput) take(ctx context.Context, c *call, prompt string) (secret.Value, error) {
	switch {
	case o.stdin:
		return c.secretFromStdin()
	case o.generate > 0:
		return generate(o.generate), nil
	}
	v, err := c.twice(ctx, prompt)
	if err == nil && v.Empty() {
		err = usage("an empty secret is none; where the server wants no password: gharbor set NAME secret=none")
	}
	return v, err
}

// generate makes a secret of n signs that no shell and no URL needs to quote: 62
// letters and digits, some 5.95 bits each.
func generate(n int) secret.Value {
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

func walletPut() *command {
	var o putFlags
	return &command{
		name: "wallet put", args: "ENTRY", summary: "keep a secret, bound to where it may be sent",
		long: `The secret is typed twice on the terminal, read from standard input, or made here;
never given as a word. -bind takes a profile (what it leads to now), an address with
its engine ({{scheme}}://db.saltmarsh.example:{{port}}), or alias:NAME. Without -bind the
entry is bound to the profile of the same name, where there is one.`,
		examples: []string{"gharbor wallet put sightings -bind sightings",
			"gharbor wallet put visitor -user visitor -bind sightings-ro -generate 32",
			"gharbor wallet put tides -bind {{scheme}}://tide-db.internal.example:{{port}} -secret-stdin < FILE"},
		minArgs: 1, maxArgs: 1,
		flags: o.flags,
		run:   o.put,
	}
}

// putFlags is the flags of wallet put.
type putFlags struct {
	wallet  walletFlags
	in      secretInput
	user    string
	note    string
	bind    []string
	replace bool
}

func (o *putFlags) flags(fs *flagSet) {
	o.wallet.flags(fs)
	o.in.flags(fs)
	fs.StringVar(&o.user, "user", "", "whose password it is; it is sent for nobody else")
	fs.StringVar(&o.note, "note", "", "a line for people")
	fs.Func("bind", "a profile, an address with its engine, or alias:NAME; repeat it for more", func(s string) error {
		o.bind = append(o.bind, s)
		return nil
	})
	fs.BoolVar(&o.replace, "replace", false, "an entry of that name gets the new secret, without asking")
}

func (o *putFlags) put(ctx context.Context, c *call) error {
	name := c.args[0]
	if !schema.ValidName(name) {
		return usage("not an entry name: %s", schema.NameRule)
	}
	if err := o.in.check(c); err != nil {
		return err
	}
	bound, err := o.bindings(ctx, c, name)
	if err != nil {
		return err
	}
	var changed bool
	w, err := c.changeWallet(ctx, o.wallet, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
		now := time.Now().UTC().Truncate(time.Second)
		e := wallet.Entry{Name: name, Created: now}
		if old := w.Entry(name); old != nil {
			if err := c.mayReplace(ctx, name, o.replace); err != nil {
				return err
			}
			e, changed = *old, true
			e.Bindings = slices.Clone(e.Bindings)
		}
		if c.set["user"] {
			e.User = o.user
		}
		if c.set["note"] {
			e.Note = o.note
		}
		bindTo(&e, bound)
		e.Changed = now
		e.Secret, err = o.in.take(ctx, c, "the secret of "+name)
		w.Put(e)
		return err
	})
	if err != nil {
		return err
	}
	c.kept(w.Entry(name), changed)
	return nil
}

// bindings is what an entry is bound to: what -bind says, or else the profile of its name.
func (o *putFlags) bindings(ctx context.Context, c *call, name string) ([]binding.Binding, error) {
	if len(o.bind) > 0 {
		return c.bindings(ctx, o.bind)
	}
	p, err := c.resolve(name, nil)
	if err != nil {
		return nil, nil // there is none
	}
	b, err := c.bindingOf(ctx, p)
	var unreached *secret.Failure
	switch {
	case err == nil:
		return []binding.Binding{b}, nil
	case errors.As(err, &unreached): // its container's engine: bound to nothing is not what is meant
		return nil, err
	}
	return nil, nil
}

// mayReplace asks before an entry's secret is replaced by another.
func (c *call) mayReplace(ctx context.Context, name string, yes bool) error {
	if yes {
		return nil
	}
	if !c.Interactive() {
		return &exitError{
			code: exitUsage,
			err:  fmt.Errorf("the wallet has an entry %s already; -replace gives it the new secret", name),
		}
	}
	yes, err := c.Confirm(ctx, "the wallet has an entry "+name+" already; give it a new secret?", false)
	if err == nil && !yes {
		err = &exitError{code: exitUsage, err: errors.New("nothing was changed")}
	}
	return err
}

// kept says what an entry is now.
func (c *call) kept(e *wallet.Entry, changed bool) {
	word := "kept"
	if changed {
		word = "changed"
	}
	if len(e.Bindings) == 0 {
		c.Say("%s: entry %s, bound to nothing: only a profile of yours that names it (secret = \"wallet:%s\") gets it",
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
}

func walletList() *command {
	var o walletFlags
	var form format
	return &command{
		name: "wallet list", summary: "the entries: names, users, bindings and dates; never secrets",
		examples: []string{"gharbor wallet list", "gharbor wallet list -format json"},
		flags: func(fs *flagSet) {
			o.flags(fs)
			form.flag(fs)
		},
		run: func(ctx context.Context, c *call) error {
			w, err := c.openWallet(ctx, o)
			if err != nil {
				return err
			}
			if form.json() {
				all := []listedEntry{}
				for _, e := range w.Entries {
					one := listedEntry{
						Name:     e.Name,
						User:     e.User,
						Bindings: e.Bindings,
						Note:     clean.Line(e.Note, 200),
						Created:  e.Created,
						Changed:  e.Changed,
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
				c.Say("  try: gharbor wallet put ENTRY -bind PROFILE")
				return nil
			}
			var rows [][]string
			for _, e := range w.Entries {
				rows = append(rows,
					[]string{e.Name, clean.Line(e.User, 40), e.Changed.Local().Format(time.DateOnly), "bound to nothing"})
				for i, b := range e.Bindings {
					if i > 0 {
						rows = append(rows, []string{"", "", "", ""})
					}
					rows[len(rows)-1][3] = b.String()
				}
			}
			return render.Table(c.Stdout, c.noColour, []string{"entry", "user", "changed", "may be sent to"}, rows)
		},
	}
}

func walletBind() *command {
	var o walletFlags
	return &command{
		name: "wallet bind", args: "ENTRY PROFILE|ADDRESS|alias:NAME…", summary: "let an entry be sent to one more place",
		long: "A profile that led elsewhere when it was bound is bound to where it leads now.",
		examples: []string{"gharbor wallet bind sightings sightings-test",
			"gharbor wallet bind tides {{scheme}}://tide-db.internal.example:{{port}}"},
		minArgs: 2, maxArgs: -1,
		flags: o.flags,
		run: func(ctx context.Context, c *call) error {
			add, err := c.bindings(ctx, c.args[1:])
			if err != nil {
				return err
			}
			return c.changeEntry(ctx, o, c.args[0], func(_ *wallet.Wallet, e *wallet.Entry) error {
				bindTo(e, add)
				return nil
			})
		},
	}
}

// changeEntry changes an entry, and says what it is now.
func (c *call) changeEntry(ctx context.Context, o walletFlags, name string,
	change func(*wallet.Wallet, *wallet.Entry) error) error {
	w, err := c.changeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
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
		c.kept(w.Entry(name), true)
	}
	return err
}

func walletUnbind() *command {
	var o walletFlags
	return &command{
		name: "wallet unbind", args: "ENTRY PROFILE|ADDRESS|alias:NAME…", summary: "take a place away from an entry",
		examples: []string{"gharbor wallet unbind sightings sightings-test"},
		minArgs:  2, maxArgs: -1,
		flags: o.flags,
		run: func(ctx context.Context, c *call) error {
			return c.changeEntry(ctx, o, c.args[0], func(_ *wallet.Wallet, e *wallet.Entry) error {
				for _, word := range c.args[1:] {
					left := slices.DeleteFunc(slices.Clone(e.Bindings), func(b binding.Binding) bool { return b.Is(word) })
					if len(left) == len(e.Bindings) {
						return usage("the entry %s is not bound to that; gharbor wallet list shows to what it is", e.Name)
					}
					e.Bindings = left
				}
				return nil
			})
		},
	}
}

func walletRename() *command {
	var o walletFlags
	return &command{
		name: "wallet rename", args: "ENTRY NEW-NAME", summary: "give an entry another name",
		examples: []string{"gharbor wallet rename visitor sightings-visitor"},
		minArgs:  2, maxArgs: 2,
		flags: o.flags,
		run: func(ctx context.Context, c *call) error {
			if !schema.ValidName(c.args[1]) {
				return usage("not an entry name: %s", schema.NameRule)
			}
			return c.changeEntry(ctx, o, c.args[0], func(w *wallet.Wallet, e *wallet.Entry) error {
				if w.Entry(c.args[1]) != nil {
					return usage("the wallet has an entry %s already", c.args[1])
				}
				e.Name = c.args[1]
				return nil
			})
		},
	}
}

func walletRemove() *command {
	var o walletFlags
	var yes bool
	return &command{
		name: "wallet remove", args: "ENTRY…", summary: "take entries out, after asking",
		examples: []string{"gharbor wallet remove visitor", "gharbor wallet remove visitor -yes"},
		minArgs:  1, maxArgs: -1,
		flags: func(fs *flagSet) {
			o.flags(fs)
			fs.BoolVar(&yes, "yes", false, "do not ask")
		},
		run: func(ctx context.Context, c *call) error {
			if !yes && !c.Interactive() {
				return &exitError{code: exitUsage, err: errors.New("there is no terminal to ask on; -yes removes without asking")}
			}
			_, err := c.changeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
				for _, name := range c.args {
					if _, err := entry(w, name); err != nil {
						return err
					}
				}
				if !yes {
					sure, err := c.Confirm(ctx, "remove "+strings.Join(c.args, ", ")+" and the secrets?", false)
					if err != nil {
						return err
					}
					if !sure {
						return &exitError{code: exitUsage, err: errors.New("nothing was changed")}
					}
				}
				for _, name := range c.args {
					w.Remove(name)
				}
				return nil
			})
			if err == nil {
				c.Say("removed: %s", strings.Join(c.args, ", "))
			}
			return err
		},
	}
}

func walletDisclose() *command {
	var o walletFlags
	var stdout bool
	return &command{
		name: "wallet disclose", args: "ENTRY", summary: "print a secret: on a terminal, after the passphrase",
		long:     "The passphrase is asked for always: neither an unlock nor a reader will do.",
		examples: []string{"gharbor wallet disclose sightings"},
		minArgs:  1, maxArgs: 1,
		flags: func(fs *flagSet) {
			o.flags(fs)
			fs.BoolVar(&stdout, "stdout", false, "print it although standard output is no terminal")
		},
		run: func(ctx context.Context, c *call) error {
			if !stdout && !render.IsTerminal(c.Stdout) {
				return usage("standard output is no terminal, so the secret would land in a file or a pipe; -stdout says that " +
					"this is meant")
			}
			s, _, err := c.store(o.path)
			if err != nil {
				return err
			}
			pass, err := c.passphrase(ctx, o, s)
			if err != nil {
				return err
			}
			w, err := s.Open(ctx, pass)
			if err != nil {
				return err
			}
			e, err := entry(w, c.args[0])
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(c.Stdout, e.Secret.Disclose())
			return err
		},
	}
}
