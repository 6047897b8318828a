package secretcmd

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"gentleharbor/core/binding"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
)

// Secret is the command secret, with more verbs from the caller: those that change a server.
func Secret(more ...func() *base.Command) *base.Command {
	return &base.Command{
		Name: "secret", Args: "VERB", Summary: "keep or rotate the password of a profile",
		Verbs: func() []*base.Command {
			all := []*base.Command{secretKeep()}
			for _, verb := range more {
				all = append(all, verb())
			}
			return all
		},
	}
}

func secretKeep() *base.Command {
	var o keepSecret
	return &base.Command{
		Name: "secret keep", Args: "PROFILE", Summary: "keep the password of a profile",
		Long: `Says where the password goes, then asks for it. Where the profile says where its
password is (secret = "wallet", "passfile", "file:PATH", …), it goes there. Where the
profile does not say, it goes to the line of the server's credential file that fits it
already, else to the wallet, and the profile then says secret = "wallet". Without a
wallet one is made. A credential file is clear text that only you can read; its other
lines stay byte for byte. A new line there fits all databases of the server, unless
-one-database is given.`,
		Examples: []string{"gharbor secret keep sightings", "gharbor secret keep sightings -secret-stdin < password"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			o.in.flags(fs)
			fs.BoolVar(&o.oneDatabase, "one-database", false,
				"a new line of a credential file fits only the profile's database")
			o.WalletFlags.Flags(fs)
		},
		Run: run(o.run),
	}
}

// keepSecret is the flags of secret keep.
type keepSecret struct {
	WalletFlags
	in          secretInput
	oneDatabase bool
}

// KeepSecret asks for a profile's password and keeps it, as secret keep does.
func (c *Call) KeepSecret(ctx context.Context, profile string) error {
	var o keepSecret
	return o.keepFor(ctx, c, profile)
}

func (o *keepSecret) run(ctx context.Context, c *Call) error { return o.keepFor(ctx, c, c.Args[0]) }

func (o *keepSecret) keepFor(ctx context.Context, c *Call, name string) error {
	if err := o.in.check(c); err != nil {
		return err
	}
	p, err := c.Resolve(name, nil)
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
	query.OneDatabase = o.oneDatabase
	said := query.Source.Kind
	if said == "default" {
		query.Source = finder.SourceFor(ctx, query)
	}
	if said == "ask" || said == "none" {
		query.Source = secret.Source{Kind: "wallet"}
	}
	if query.Source.Kind == "wallet" {
		take := func() (secret.Value, error) { return o.in.take(ctx, c, passwordOf(p)) }
		if err := c.keepInWallet(ctx, o.WalletFlags, p, query, take); err != nil {
			return err
		}
		if said != "wallet" {
			return c.nameWallet(ctx, p)
		}
		return nil
	}
	if why := finder.CanPut(query); why != nil {
		return keepError(why, p)
	}
	c.Say("%s goes into the %s", passwordOf(p), finder.PlaceOf(query))
	v, err := o.in.take(ctx, c, passwordOf(p))
	if err != nil {
		return err
	}
	place, err := finder.Put(ctx, query, v)
	if err != nil {
		return keepError(err, p)
	}
	c.Say("saved: the password of %s in the %s", p.Called, place)
	return nil
}

// PutSecret writes a new password to the query's source. For a profile that names no source, it sets the wallet as
// its source.
func (c *Call) PutSecret(ctx context.Context, o WalletFlags, p *resolve.Profile, q secret.Query, v secret.Value) error {
	if q.Source.Kind == "wallet" {
		err := c.keepInWallet(ctx, o, p, q, func() (secret.Value, error) { return v, nil })
		if source, _ := secret.ParseSource(p.Text(key.Secret)); err == nil && source.Kind != "wallet" {
			err = c.nameWallet(ctx, p)
		}
		return err
	}
	finder, err := c.Finder()
	if err != nil {
		return err
	}
	place, err := finder.Put(ctx, q, v)
	if err == nil {
		c.Say("saved: the password of %s in the %s", p.Called, place)
	}
	return err
}

// passwordOf is what is asked for and kept.
func passwordOf(p *resolve.Profile) string {
	return fmt.Sprintf("the password of %s for %s", p.Text(key.User), p.Called)
}

// nameWallet sets the wallet as the profile's source: a wallet that needs a passphrase is only tried where the
// profile names it.
func (c *Call) nameWallet(ctx context.Context, p *resolve.Profile) error {
	if !p.Own() {
		c.Say("  do: name the wallet in the project's file: gharbor set %s secret=wallet", p.Called)
		return nil
	}
	source := c.Keys.Field(key.Secret)
	sets := []schema.Override{{Field: source, Value: schema.TextValue("wallet")}}
	return c.Change(ctx, false, "profile", "changed: secret = \"wallet\" in", p.Called,
		func(f *profile.File) (*profile.Edit, error) { return f.Set(p.Called, sets) })
}

// keepError is the command's error for a place that takes no password.
func keepError(err error, p *resolve.Profile) error {
	var no *secret.ErrNotKept
	if errors.As(err, &no) {
		return base.Failure(base.ExitUsage, fmt.Errorf("nothing was saved: %s", no.Why),
			fmt.Sprintf("gharbor set %s secret=wallet && gharbor secret keep %s", p.Called, p.Called))
	}
	return err
}

// QueryOf is the query for a profile's secret, at its first address.
func (c *Call) QueryOf(ctx context.Context, p *resolve.Profile) (secret.Query, error) {
	if found := p.Problem(); found != nil {
		return secret.Query{}, base.Failure(base.ExitFile, errors.New(found.Cause))
	}
	q, found := (&check.Runner{Network: c.Network()}).SecretQuery(ctx, p)
	switch {
	case found == nil:
	case found.Code.Area() == "container":
		return q, base.RouteFailed(found)
	default:
		return q, base.FindingError(base.ExitFile, nil, found)
	}
	return q, nil
}

// keepInWallet keeps a profile's password as the entry of its source, else as one of the profile's name, bound to the
// profile's address.
func (c *Call) keepInWallet(ctx context.Context, o WalletFlags, p *resolve.Profile, q secret.Query,
	take func() (secret.Value, error)) error {
	name := q.Source.Arg
	if name == "" {
		name = p.Profile.Name
	}
	b, err := c.BindingOf(ctx, p)
	if err != nil {
		return err
	}
	s, _, err := c.Store(o.Path)
	if err != nil {
		return err
	}
	c.Say("%s goes into the wallet %s, as entry %s, for %s", passwordOf(p), clean.Line(s.Path, 200), name, b)
	if err := c.needWallet(ctx, o, s); err != nil {
		return err
	}
	changed := false
	w, err := c.ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
		now := time.Now().UTC().Truncate(time.Second)
		e := wallet.Entry{Name: name, User: p.Text(key.User), Created: now}
		if old := w.Entry(name); old != nil {
			if old.User != "" && old.User != e.User {
				return base.Advise(base.Usage("the wallet's entry %s is the password of another user (%s)",
					name, old.User),
					fmt.Sprintf("name another entry: gharbor set %s secret=wallet:ENTRY", p.Called))
			}
			e, changed = *old, true
		}
		BindTo(&e, []binding.Binding{b})
		e.Changed = now
		var err error
		e.Secret, err = take()
		w.Put(e)
		return err
	})
	if err == nil {
		c.reportKept(w.Entry(name), changed)
	}
	return err
}

// needWallet offers to make a wallet where there is none.
func (c *Call) needWallet(ctx context.Context, o WalletFlags, s wallet.Store) error {
	if _, err := os.Stat(s.Path); !errors.Is(err, fs.ErrNotExist) {
		return nil // an error in it shows when it is opened
	}
	none := base.Failure(base.ExitSecret, errors.New("there is no wallet yet, so nothing was saved"),
		"gharbor wallet create")
	if !c.Interactive() {
		return none
	}
	c.Say("There is no wallet yet. It is an encrypted file that your passphrase opens.")
	yes, err := c.Confirm(ctx, "make one now?", true)
	if err != nil {
		return err
	}
	if !yes {
		return none
	}
	return c.createWallet(ctx, o, s, usualOpening)
}
