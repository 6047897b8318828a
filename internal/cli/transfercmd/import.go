package transfercmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/binding"
	"gentleharbor/core/clean"
	"gentleharbor/core/intake"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/connurl"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
	"gentleharbor/core/vouch"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
)

// importForms are the forms that import reads.
func (c *Call) importForms() []string {
	forms := []string{"url", "env", "dotenv"}
	for _, i := range c.intake().Forms() {
		forms = append(forms, i.Form)
	}
	return append(forms, "json", "compose")
}

// intake reads connections out of open forms.
func (c *Call) intake() intake.Reader {
	return intake.Reader{Schema: c.Keys, Passed: func(err error) { c.passed = append(c.passed, err) }}
}

// importOptions are the flags of import.
type importOptions struct {
	secretcmd.WalletFlags
	composeOptions
	name    string
	into    string
	dryRun  bool
	replace bool
	yes     bool
}

// IntoFlag registers -into, which names the only place where a password may be kept.
func IntoFlag(fs *base.FlagSet, into *string) {
	fs.Choose("into", "wallet")
	fs.Func("into", "wallet: save the password there, for this address only", func(s string) error {
		if s != "wallet" {
			return errors.New("expected wallet")
		}
		*into = s
		return nil
	})
}

func Import() *base.Command {
	var o importOptions
	return &base.Command{
		Name: "import",
		Args: "FORM [FILE…]",
		Words: func(c *base.Call) map[string][]string {
			return map[string][]string{"FORM": (&Call{Call: c}).importForms()}
		},
		Summary: "make profiles from URLs, variables, compose files or clients' files",
		Long: `FORM is one of:
  url         a connection URL, from standard input
  env         the variables of this shell that the engines' clients read
  dotenv      a file of NAME=VALUE lines (default .env); connection URLs in it too
{{forms}}
  json        what export -as json writes (default connection.json)
  compose     compose files (default compose.yaml here): their database servers

FORM may be left out when the file's name makes it clear. import shows and adds what it
finds; it changes an existing profile only with -replace. Passwords go to the wallet with
-into wallet; those of a password or option file can stay there. Profiles from a compose
file find the services' containers, and the passwords there; if the file is in a
repository, variables of this machine are used only after gharbor vouch FILE.`,
		Examples: []string{"gharbor import dotenv .env -dry-run", "gharbor import .env",
			"gharbor import compose.yaml -dry-run", "gharbor import url -name sightings-copy -into wallet"},
		MinArgs: 1,
		MaxArgs: -1,
		Flags: func(fs *base.FlagSet) {
			fs.StringVar(&o.name, "name", "", "the profile's name, if one connection is found")
			fs.BoolVar(&o.dryRun, "dry-run", false, "show what would be added; add nothing")
			fs.BoolVar(&o.replace, "replace", false, "replace a profile of the same name")
			fs.BoolVar(&o.yes, "yes", false, "do not ask before importing a file of a repository")
			fs.Section("Passwords")
			IntoFlag(fs, &o.into)
			o.WalletFlags.Flags(fs)
			fs.Section("Compose files")
			o.composeOptions.flags(fs)
		},
		Run: run(func(ctx context.Context, c *Call) error { return c.imports(ctx, o) }),
	}
}

func (c *Call) imports(ctx context.Context, o importOptions) error {
	if o.name != "" && !syntax.ValidName(o.name) {
		return base.Usage("-name: not a profile name: %s", syntax.NameRule)
	}
	found, path, err := c.find(ctx, c.Args, o)
	if err != nil {
		return err
	}
	if len(found) == 0 {
		return base.Failure(base.ExitFailed, errors.New("no connection was found there"))
	}
	if o.name != "" && len(found) > 1 {
		return base.Usage(
			"-name is for one connection; %d were found. Without it each gets its own name", len(found))
	}
	plans, err := c.plan(found, o)
	if err != nil {
		return err
	}
	c.noteRepositoryFiles(plans, path)
	c.showPlans(plans, o)
	for _, err := range c.passed {
		c.Notice("passed over: %s", clean.Line(err.Error(), 300))
	}
	if o.dryRun {
		c.Say("nothing was added: -dry-run")
		return nil
	}
	if err := c.askAgreement(ctx, path, o.yes); err != nil {
		return err
	}
	if o.into != "" {
		if err := c.KeepPasswords(ctx, o.WalletFlags, plans); err != nil {
			return err
		}
	}
	return c.takeIn(ctx, plans)
}

// findHere reads the forms that are in no file: a URL, and the environment.
func (c *Call) findHere(form string, args []string) (found []intake.Connection, err error) {
	var text string
	switch {
	case form == "env" && len(args) > 0:
		return nil, base.Usage("import env takes no file")
	case form == "env":
		var all []intake.Variable
		for _, pair := range c.Environ() {
			name, value, _ := strings.Cut(pair, "=")
			all = append(all, intake.Variable{Name: name, Value: value})
		}
		if found, err = c.intake().Variables(all, "the environment"); err != nil {
			err = base.Usage("%w", err)
		}
		return found, err
	case len(args) > 0:
		read, err := connurl.Split(c.Keys, args[0])
		if err == nil && read.Password.Present() {
			return nil, base.Failure(base.ExitUsage, connurl.ErrPassword, "gharbor import url   # then paste the URL")
		}
		text = args[0]
	default:
		v, err := secretcmd.NewCall(c.Call).SecretFromStdin()
		if err != nil {
			return nil, err
		}
		text = v.Disclose()
	}
	if found, err = c.intake().URL(text); err != nil {
		err = base.Usage("%w", err)
	}
	return found, err
}

// find reads the form. path is the file about which to ask, "" for none.
func (c *Call) find(ctx context.Context, args []string,
	o importOptions) (found []intake.Connection, path string, err error) {
	form := args[0]
	switch files := ComposeFiles(args); {
	case len(files) > 0:
		return c.findCompose(ctx, files, o.composeOptions)
	case form == "compose":
		return c.findCompose(ctx, args[1:], o.composeOptions)
	case o.given():
		return nil, "", base.Usage("-env-file, -compose-profile and -compose-project are for compose files")
	case len(args) > 2:
		return nil, "", base.Usage("import %s takes one file", clean.Line(form, 20))
	}
	if form == "url" || form == "env" {
		found, err = c.findHere(form, args[1:])
		return found, "", err
	}
	path = c.usualFile(form)
	if len(args) == 2 {
		path = args[1]
	}
	if c.usualFile(form) == "" && len(args) == 1 {
		if words, err := c.guessForm(ctx, form, o); words != nil || err != nil {
			if err != nil {
				return nil, "", err
			}
			return c.find(ctx, words, o)
		}
	}
	if c.usualFile(form) == "" {
		if near := nearest.Name(form, c.importForms()); near != "" {
			return nil, "", base.Usage("no form of that name; did you mean %q?", near)
		}
		return nil, "", base.Usage("no form of that name; expected one of %s", strings.Join(c.importForms(), ", "))
	}
	if path, err = filepath.Abs(path); err != nil {
		return nil, "", err
	}
	if err := c.mayRead(ctx, path, o.yes); err != nil {
		return nil, "", err
	}
	found, err = c.readForm(form, path)
	var file *profile.FileError
	if err != nil && !errors.As(err, &file) {
		text := strings.TrimPrefix(err.Error(), path+": ")
		if strings.HasPrefix(text, path+":") {
			return nil, "", base.Failure(base.ExitFile, err)
		}
		err = &profile.FileError{Path: path, What: clean.Line(text, 0)}
	}
	return found, path, err
}

// guessForm finds the form of a file: by its name, else by which forms can read it, where the ending of the name
// decides between several. words are the arguments with the form, nil where the word is no file.
func (c *Call) guessForm(ctx context.Context, word string, o importOptions) (words []string, err error) {
	_, absent := os.Stat(word)
	plain := func(path string) string { return strings.TrimPrefix(filepath.Base(path), ".") }
	for _, form := range c.importForms() {
		switch usual := c.usualFile(form); {
		case usual == "" || plain(usual) != plain(word):
		case absent == nil:
			return []string{form, word}, nil
		default:
			return []string{form}, nil
		}
	}
	path, err := filepath.Abs(word)
	if absent != nil || err != nil {
		return nil, nil
	}
	if err := c.mayRead(ctx, path, o.yes); err != nil {
		return nil, err
	}
	for _, form := range c.importForms() {
		if c.usualFile(form) == "" {
			continue
		}
		found, err := c.readForm(form, path)
		switch {
		case err != nil || len(found) == 0:
		case filepath.Ext(c.usualFile(form)) == filepath.Ext(path):
			return []string{form, word}, nil
		case words != nil:
			return nil, base.Usage("%s can be read in several ways; give its form: import %s FILE or import %s FILE",
				word,
				words[0], form)
		default:
			words = []string{form, word}
		}
	}
	if words == nil {
		return nil, base.Usage("no connection was found in %s; its form may be one of %s", clean.Line(word, 100),
			strings.Join(c.importForms(), ", "))
	}
	return words, nil
}

// usualFile is the usual path of a form's file, "" for a form without a file.
func (c *Call) usualFile(form string) string {
	switch form {
	case "dotenv":
		return ".env"
	case "json":
		return "connection.json"
	}
	for _, i := range c.intake().Forms() {
		if i.Form == form {
			return i.Path(c.Lookup, c.Environment().Home)
		}
	}
	return ""
}

func (c *Call) readForm(form, path string) ([]intake.Connection, error) {
	c.passed = nil
	if found, ok, err := c.intake().File(form, path); ok {
		return found, shortError(err)
	}
	data, err := intake.ReadFile(path)
	if err != nil {
		return nil, shortError(err)
	}
	if form == "json" {
		return c.intake().Document(data, path)
	}
	all, err := intake.Dotenv(data)
	if err != nil {
		return nil, err
	}
	return c.intake().Variables(all, "dotenv file "+path)
}

// shortError is a file's error without the path, which the message has already.
func shortError(err error) error {
	var pathError *os.PathError
	if errors.As(err, &pathError) {
		return fmt.Errorf("cannot be read: %w", pathError.Err)
	}
	return err
}

// askAgreement asks before a repository's file is imported: its author decides where the profiles lead.
func (c *Call) askAgreement(ctx context.Context, path string, yes bool) error {
	h, err := c.Home()
	if err != nil {
		return err
	}
	if path == "" || yes || repositoryOf(path) == "" && vouch.RepositoryOf(path, c.Environment().Home, h.Dir) == "" {
		return nil
	}
	if !c.Interactive() {
		return base.Failure(base.ExitUsage,
			fmt.Errorf("%s is in a repository: look at it first, then add -yes (there is no terminal to ask on)", path))
	}
	sure, err := c.Confirm(ctx, "this file is in a repository. Add its profiles to your own?", false)
	if err == nil && !sure {
		err = &base.ExitError{Code: base.ExitUsage, Err: errors.New("nothing was added")}
	}
	return err
}

// KeepPasswords writes the passwords into the wallet, each bound to its profile's address. This is before the
// profiles are written, so that none is without its secret.
func (c *Call) KeepPasswords(ctx context.Context, o secretcmd.WalletFlags, plans []*PlannedImport) error {
	entries := make(map[string]wallet.Entry)
	for _, one := range plans {
		if one.skip != "" || !one.Password.Present() {
			continue
		}
		e, err := c.boundEntry(ctx, one.Name, one.Settings, one.Password)
		if err != nil {
			return err
		}
		entries[one.Name] = e
	}
	if len(entries) == 0 {
		return nil
	}
	_, err := secretcmd.NewCall(c.Call).ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
		for name, e := range entries {
			if old := w.Entry(name); old != nil && !old.Secret.Same(e.Secret) {
				return base.Usage("the wallet has another password as entry %s; rename it first: gharbor wallet "+
					"rename %s NEW-NAME", name, name)
			}
			w.Put(e)
		}
		return nil
	})
	return err
}

// boundEntry is a wallet entry for a new profile.
func (c *Call) boundEntry(ctx context.Context, name string, sets []schema.Override,
	v secret.Value) (wallet.Entry, error) {
	p := resolve.Values(c.Keys, name, sets, c.Environment())
	b, err := c.BindingOf(ctx, p)
	if err != nil {
		return wallet.Entry{}, err
	}
	b.Profile = name
	now := time.Now().UTC().Truncate(time.Second)
	return wallet.Entry{
		Name:     name,
		User:     p.Text(key.User),
		Secret:   v,
		Bindings: []binding.Binding{b},
		Created:  now,
		Changed:  now,
	}, nil
}

// takeIn writes the profiles: the new ones in one step, all or none.
func (c *Call) takeIn(ctx context.Context, plans []*PlannedImport) error {
	home := c.Environment().Home
	var added []profile.ProfileDraft
	var names []string
	for _, one := range plans {
		if one.skip == "" && !one.replace {
			sets := base.Assignments(one.Settings)
			sets.WholePaths(home)
			added, names = append(added, profile.ProfileDraft{Name: one.Name, Sets: sets}), append(names, one.Name)
		}
	}
	if len(added) > 0 {
		path, err := c.Write(ctx, false, "profile", func(f *profile.File) (*profile.Edit, error) { return f.AddAll(added) })
		if err != nil {
			return err
		}
		for _, name := range names {
			c.Say("saved: profile %s in %s", name, path)
		}
	}
	for _, one := range plans {
		if one.skip == "" && one.replace {
			if err := c.replace(ctx, one); err != nil {
				return err
			}
		}
	}
	return nil
}

// replace gives a profile the imported values.
func (c *Call) replace(ctx context.Context, one *PlannedImport) error {
	sets := base.Assignments(one.Settings)
	sets.WholePaths(c.Environment().Home)
	return c.Update(ctx, base.Target{}, "replaced", one.Name, func(f *profile.File) (*profile.Edit, error) {
		all := slices.Clone(sets)
		for _, own := range f.Lookup(one.Name).Entries {
			if _, ok := sets.Get(own.Field.Name); !ok {
				all = append(all, schema.Override{Field: own.Field, Unset: true})
			}
		}
		return f.Set(one.Name, all)
	})
}
