package secretcmd

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"gentleharbor/core/binding"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile/connurl"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
)

func Wallet() *base.Command {
	return &base.Command{
		Name: "wallet", Args: "VERB", Summary: "an encrypted file with passwords, each tied to the server it may " +
			"be sent to",
		Long: `One file. With its passphrase you can read and change it; a reader (a scheduled job, a
service account) reads it with a pin file and can't change it. An entry is sent only to
the address, over the hops and with the TLS that it is bound to.`,
		Verbs: func() []*base.Command {
			return []*base.Command{
				walletCreate(), walletKeep(), walletList(), walletBind(), walletUnbind(), walletRename(), walletRemove(),
				walletDisclose(),
				walletPassphrase(), walletRotate(), walletReader(), walletUnlock(), walletLock(), walletHold(),
				walletVerify(), walletBackup(), walletRestore(), walletMerge(),
			}
		},
	}
}

// WalletFlags are the flags of the commands that open a wallet.
type WalletFlags struct {
	Path string
	File string // of the passphrase
}

// pathFlag registers only -wallet, for commands that need no passphrase.
func (o *WalletFlags) pathFlag(fs *base.FlagSet) {
	fs.StringVar(&o.Path, "wallet", "", "the wallet's file, in place of the one in the settings")
}

func (o *WalletFlags) Flags(fs *base.FlagSet) {
	o.pathFlag(fs)
	fs.StringVar(&o.File, "passphrase-file", "", "a 0600 file with the passphrase in its first line")
}

// NoTerminal is the error for a question without a terminal to ask at.
func NoTerminal(what, instead string) error {
	return base.Failure(base.ExitSecret,
		fmt.Errorf("no terminal to ask for %s", what),
		instead)
}

// passphrase takes the wallet's passphrase from its file or the terminal.
func (c *Call) passphrase(ctx context.Context, o WalletFlags, s wallet.Store) (*wallet.Passphrase, error) {
	if o.File == "" && !c.Interactive() {
		return nil, NoTerminal("the wallet's passphrase",
			"-passphrase-file FILE   # a 0600 file with the passphrase in its first line")
	}
	if o.File != "" {
		v, err := secretFile(o.File, "the passphrase file")
		return &wallet.Passphrase{Value: v}, err
	}
	v, err := c.Secret(ctx, "passphrase of the wallet "+clean.Line(s.Path, 200))
	return &wallet.Passphrase{Value: v}, err
}

// secretFile is the first line of a file that nobody else can read.
func secretFile(path, what string) (secret.Value, error) {
	if _, err := os.Lstat(path); err != nil {
		return secret.Value{},
			base.Usage("%s can't be opened (its name is not shown, in case it is the passphrase itself)", what)
	}
	if found := secret.JudgeFile(path, what); found != nil {
		return secret.Value{}, &secret.Failure{Found: found}
	}
	return secret.FirstLine(path)
}

// newPassphrase takes a new one, typed twice.
func (c *Call) newPassphrase(ctx context.Context, file, flag string) (*wallet.Passphrase, error) {
	var v secret.Value
	var err error
	switch {
	case file != "":
		v, err = secretFile(file, "the passphrase file")
	case !c.Interactive():
		err = NoTerminal("the new passphrase", flag+" FILE   # a 0600 file with the passphrase in its first line")
	default:
		v, err = c.askTwice(ctx, "a new passphrase for the wallet")
	}
	if err != nil {
		return nil, err
	}
	pass := &wallet.Passphrase{Value: v}
	for try := 1; pass.Weakness() != ""; try++ {
		if file != "" || try == maxTries {
			return nil, base.Usage("%s", pass.Weakness())
		}
		c.Say("%s", pass.Weakness())
		if pass.Value, err = c.askTwice(ctx, "a new passphrase for the wallet"); err != nil {
			return nil, err
		}
	}
	return pass, nil
}

// askTwice asks for a secret until it is typed twice the same.
func (c *Call) askTwice(ctx context.Context, prompt string) (secret.Value, error) {
	defer c.HideTyping()()
	for range 3 {
		first, err := c.Secret(ctx, prompt)
		if err != nil {
			return secret.Value{}, err
		}
		second, err := c.Secret(ctx, "again, "+prompt)
		if err != nil {
			return secret.Value{}, err
		}
		if first.Same(second) {
			return first, nil
		}
		c.Say("they differ; try again")
	}
	return secret.Value{}, base.Failure(base.ExitSecret,
		errors.New("they differed three times; nothing was saved"))
}

// maxSecretInput bounds a secret from standard input, in bytes.
const maxSecretInput = 64 << 10

// SecretFromStdin is the first line of standard input.
func (c *Call) SecretFromStdin() (secret.Value, error) {
	line, err := bufio.NewReader(io.LimitReader(c.Stdin, maxSecretInput+1)).ReadString('\n')
	if err != nil && err != io.EOF {
		return secret.Value{}, fmt.Errorf("standard input cannot be read: %w", err)
	}
	if len(line) > maxSecretInput {
		return secret.Value{}, base.Usage("the first line of standard input has more than %d KiB", maxSecretInput>>10)
	}
	if line == "" {
		return secret.Value{}, base.Usage("-secret-stdin: standard input is empty")
	}
	return secret.NewValue(strings.TrimRight(line, "\r\n")), nil
}

// OpenWallet opens the wallet for reading: as a reader, through an unlock, or by
// the passphrase.
func (c *Call) OpenWallet(ctx context.Context, o WalletFlags) (*wallet.Wallet, error) {
	s, pin, err := c.Store(o.Path)
	if err != nil {
		return nil, err
	}
	f, err := wallet.Load(s.Path)
	if err != nil {
		return nil, err
	}
	if o.File == "" {
		if _, err := os.Stat(pin); err == nil {
			p, err := wallet.LoadPin(pin)
			if err != nil {
				return nil, err
			}
			return s.Open(ctx, p)
		}
		if k := c.OpenKeeper(ctx, f.ID()); k != nil {
			return s.Open(ctx, k)
		}
	}
	var w *wallet.Wallet
	err = c.withPassphrase(ctx, o, s, func(pass *wallet.Passphrase) (err error) {
		w, err = s.Open(ctx, pass)
		return err
	})
	return w, err
}

// OwnWallet opens the wallet by its passphrase, and returns its store for changes.
func (c *Call) OwnWallet(ctx context.Context, o WalletFlags) (s wallet.Store, pass *wallet.Passphrase, w *wallet.Wallet,
	err error) {
	if s, _, err = c.Store(o.Path); err != nil {
		return s, nil, nil, err
	}
	if _, err = wallet.Load(s.Path); err != nil {
		return s, nil, nil, err // before anything is asked
	}
	err = c.withPassphrase(ctx, o, s, func(typed *wallet.Passphrase) (err error) {
		pass = typed
		w, err = s.Open(ctx, typed)
		return err
	})
	return s, pass, w, err
}

// ChangeWallet takes the passphrase and writes the next generation.
func (c *Call) ChangeWallet(ctx context.Context, o WalletFlags,
	change func(*wallet.Wallet, *wallet.Passphrase) error) (*wallet.Wallet, error) {
	s, _, err := c.Store(o.Path)
	if err != nil {
		return nil, err
	}
	if _, err := wallet.Load(s.Path); err != nil {
		return nil, err // before anything is asked
	}
	var w *wallet.Wallet
	err = c.withPassphrase(ctx, o, s, func(pass *wallet.Passphrase) (err error) {
		w, err = s.Update(ctx, pass, func(w *wallet.Wallet) error {
			waiting := rotating(w)
			if err := change(w, pass); err != nil {
				return err
			}
			return c.keepsRotations(w, waiting)
		})
		return err
	})
	return w, err
}

// maxTries is how many tries a person has for a passphrase.
const maxTries = 3

// withPassphrase calls a function with the wallet's passphrase. A wrong one can be typed again.
func (c *Call) withPassphrase(ctx context.Context, o WalletFlags, s wallet.Store,
	do func(*wallet.Passphrase) error) error {
	for try := 1; ; try++ {
		pass, err := c.passphrase(ctx, o, s)
		if err != nil {
			return err
		}
		if err = do(pass); try == maxTries || o.File != "" || !wallet.IsWrongPassphrase(err) {
			return err
		}
		c.Say("this is not the wallet's passphrase")
	}
}

// entry is an entry of the wallet, or an error with the nearest name.
func entry(w *wallet.Wallet, name string) (*wallet.Entry, error) {
	if e := w.Entry(name); e != nil {
		return e, nil
	}
	if near := w.Near(name); near != "" {
		return nil, base.Usage("the wallet has no entry of that name; did you mean %q?", near)
	}
	return nil, base.Failure(base.ExitUsage,
		errors.New("the wallet has no entry of that name"),
		"gharbor wallet list")
}

// bindings reads the words of -bind or bind: profiles, addresses and aliases.
func (c *Call) bindings(ctx context.Context, words []string) ([]binding.Binding, error) {
	var all []binding.Binding
	for _, word := range words {
		b, err := c.binding(ctx, word)
		if err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	return all, nil
}

func (c *Call) binding(ctx context.Context, word string) (binding.Binding, error) {
	if name, ok := strings.CutPrefix(word, "alias:"); ok {
		return c.aliasBinding(name)
	}
	if b, ok := binding.ParseOther(word); ok {
		if b.Key != "" {
			b.Key = schema.HopField(key.Key).AbsolutePath(b.Key, "", c.Environment().Home)
		}
		return b, nil
	}
	var p *resolve.Profile
	if strings.Contains(word, "://") {
		read, err := connurl.Parse(c.Keys, word)
		if err != nil {
			return binding.Binding{}, base.Usage("%w", err)
		}
		p = resolve.Values(c.Keys, "address", read.Sets, c.Environment())
		if !p.Address().Known() {
			return binding.Binding{}, base.Usage("the address to bind to has no host")
		}
	} else {
		var err error
		if p, err = c.Resolve(word, nil); err != nil {
			if !syntax.ValidName(word) {
				return binding.Binding{},
					base.Usage("to bind to: a profile, alias:NAME, or an address with its engine such as %s",
						base.InWords(c.Keys, "{{scheme}}://db.saltmarsh.example:{{port}}"))
			}
			return binding.Binding{}, err
		}
	}
	return c.BindingOf(ctx, p)
}

// aliasBinding binds to an alias: the project's where only that has the name, else the user's own, also a future one.
func (c *Call) aliasBinding(name string) (binding.Binding, error) {
	if _, err := c.Load(); err != nil {
		return binding.Binding{}, err
	}
	_, err := c.Keys.Field(key.Alias).ParseValue(name)
	a := c.Book.Find(name)
	switch project := strings.HasPrefix(name, syntax.ProjectPrefix); {
	case err != nil:
		return binding.Binding{}, base.Usage("not an alias name: %s", syntax.NameRule)
	case a == nil && project:
		return binding.Binding{}, base.Usage("the project here has no alias of that name")
	case a == nil:
		return binding.Binding{Alias: name}, nil
	}
	return binding.ToAlias(a), nil
}

// otherFile is a wallet file from the command line.
func otherFile(path string) (*wallet.File, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, base.Usage("there is no file of that name") // which may be a misplaced password
	}
	return wallet.Load(path)
}

// BindTo adds bindings that an entry does not have.
func BindTo(e *wallet.Entry, add []binding.Binding) {
	for _, b := range add {
		have := false
		for i, old := range e.Bindings {
			switch {
			case old.Same(b):
				have = true
			case old.Profile != "" && old.Profile == b.Profile: // where that profile led before
				e.Bindings[i] = b
				have = true
			}
		}
		if !have {
			e.Bindings = append(e.Bindings, b)
		}
	}
}
