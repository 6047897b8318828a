package provisioncmd

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gentleharbor/core/finding"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/rotation"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/cli/wording"
)

// rotateOptions are the flags of secret rotate.
type rotateOptions struct {
	options
	chosen  base.Selection
	length  int
	resume  bool
	keepOld bool
	dropOld bool
	giveUp  bool
}

// The bounds of -length: 16 characters of 62 have 95 bits, and some servers take no more than 128.
const (
	shortest = 16
	longest  = 128
)

// Rotate makes a new password, at the server and in the source.
func Rotate() *base.Command {
	var o rotateOptions
	return &base.Command{
		Name:    "secret rotate",
		Args:    "PROFILE",
		Summary: "change a profile's password at the server and in its source, as one step",
		Long: `Makes a new password, and writes it beside the old one here: in the wallet, or in a file
that only you can read. Then it is set at the server (as a hash, if the server takes
one), by the account itself if it may, else by -as. Only after a login with the new
password it takes the place of the old one. After a kill at any step, -resume tries
both, keeps the one that the server accepts, and removes the other.

-give-up is for a server that is gone: it forgets the new password, and the old one stays.

-keep-old leaves the old password valid beside the new one, on servers that keep two,
until -drop-old, so that other programs can change over.`,
		Examples: []string{
			"gharbor secret rotate sightings -dry-run",
			"gharbor secret rotate sightings -as sightings-admin -length 40 -dry-run",
		},
		MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			o.flags(fs)
			o.chosen.Flags(fs, true)
			fs.IntVar(&o.length, "length", generatedLength, "the characters of the new password, letters and digits")
			fs.BoolVar(&o.resume, "resume", false, "end a rotation that was broken off; without PROFILE all of them")
			fs.BoolVar(&o.giveUp, "give-up", false, "forget the new password of a rotation that was broken off")
			fs.BoolVar(&o.keepOld, "keep-old", false, "the old password stays good too, where the server keeps two")
			fs.BoolVar(&o.dropOld, "drop-old", false, "end the old password that -keep-old kept")
		},
		Run: run(func(ctx context.Context, c *call) error { return c.rotate(ctx, &o) }),
	}
}

// conflict says what is wrong with the flags, before a connection is made.
func (o *rotateOptions) conflict(c *call) error {
	for _, two := range [][2]string{
		{"resume", "keep-old"}, {"resume", "drop-old"}, {"keep-old", "drop-old"}, {"dry-run", "yes"}, {"resume", "dry-run"},
		{"resume", "length"}, {"drop-old", "length"}, {"give-up", "resume"}, {"give-up", "keep-old"},
		{"give-up", "drop-old"}, {"give-up", "length"}, {"give-up", "dry-run"}, {"give-up", "as"},
	} {
		if c.Set[two[0]] && c.Set[two[1]] {
			return base.Usage("give -%s or -%s, not both", two[0], two[1])
		}
	}
	switch {
	case o.length < shortest || o.length > longest:
		return base.Usage("-length: expected a number from %d to %d", shortest, longest)
	case o.timeout <= 0:
		return base.Usage("-timeout: expected a time above zero, such as 10s")
	case (o.keepOld || o.dropOld) && o.as == "":
		return base.Usage("-keep-old and -drop-old need -as: an account can't keep its own old password")
	case o.chosen.Used() && (o.as != "" || o.resume || o.giveUp || o.dropOld):
		return base.Usage("-all, -tag and -engine are for rotations by the accounts themselves: name one profile")
	}
	return nil
}

// rotate rotates the password of one profile, or of several one after another.
func (c *call) rotate(ctx context.Context, o *rotateOptions) error {
	if err := o.conflict(c); err != nil {
		return err
	}
	if o.resume && len(c.Args) == 0 {
		return c.resumeAll(ctx, o)
	}
	if o.giveUp {
		return c.giveUp(ctx, o)
	}
	profiles, err := c.Choose(o.chosen.Narrow(), nil)
	if err != nil {
		return err
	}
	if o.resume {
		return c.resumeOne(ctx, o, profiles[0].Called)
	}
	r := &rotateRun{call: c, rotateOptions: o, entries: make(map[string]string)}
	if r.places, err = c.Rotations(); err != nil {
		return err
	}
	if o.dropOld {
		return r.endOld(ctx, profiles[0])
	}
	if len(profiles) > 1 && !o.yes && !o.dryRun {
		yes, err := r.confirm(ctx, fmt.Sprintf("rotate the passwords of %d profiles, one after another?", len(profiles)))
		if err != nil {
			return err
		}
		if !yes {
			return base.Failure(base.ExitFailed, errors.New("nothing was sent"))
		}
		r.yes = true
	}
	for i, p := range profiles {
		if err := r.one(ctx, p); err != nil {
			if rest := len(profiles) - i - 1; rest > 0 {
				c.Say("stopped at %s: %s left as they are", p.Called, wording.Count(rest, "profile", "profiles"))
			}
			return err
		}
	}
	return nil
}

// confirm asks for a yes.
func (c *call) confirm(ctx context.Context, question string) (bool, error) {
	if !c.Interactive() {
		return false, base.Failure(base.ExitUsage, errors.New("there is no terminal to ask on; -yes does it without asking"),
			c.CommandWith("yes", "true"))
	}
	return c.Confirm(ctx, question, false)
}

// rotateRun is a run of secret rotate.
type rotateRun struct {
	*call
	*rotateOptions
	places  rotation.Folder
	entries map[string]string // of the wallet that were rotated, with the profile of each
}

// one rotates the password of a profile.
func (r *rotateRun) one(ctx context.Context, p *resolve.Profile) error {
	if err := r.checkNoneOpen(p); err != nil {
		return err
	}
	turn, err := r.begin(ctx, p)
	if err != nil {
		return err
	}
	defer turn.close()
	if with := r.entries[turn.entry]; turn.entry != "" && with != "" {
		r.Say("%s: its password is the wallet's entry %s, which was rotated with %s", p.Called, turn.entry, with)
		return nil
	}
	if err := turn.plan(ctx); err != nil {
		return err
	}
	if done, err := turn.agree(ctx); done || err != nil {
		return err
	}
	home, err := r.Home()
	if err != nil {
		return err
	}
	unlock, err := r.places.Lock(ctx, home.LocksPath(), p.Called)
	if err != nil {
		return err
	}
	defer unlock()
	if err := errors.Join(r.checkNoneOpen(p), turn.checkUnchanged(ctx)); err != nil { // by another run, in the meantime
		return err
	}
	err = rotation.Run(ctx, turn.steps())
	if err != nil {
		return turn.reportFailure(ctx, err)
	}
	r.entries[turn.entry] = p.Called
	return turn.tell(ctx)
}

// checkNoneOpen returns an error where an earlier rotation has not ended.
func (r *rotateRun) checkNoneOpen(p *resolve.Profile) error {
	if !r.places.Has(p.Called) {
		return nil
	}
	return base.Failure(base.ExitFailed, fmt.Errorf("an earlier rotation of %s has not ended", p.Called),
		"gharbor secret rotate "+p.Called+" -resume")
}

// resumeAll ends all rotations that have not ended.
func (c *call) resumeAll(ctx context.Context, o *rotateOptions) error {
	places, err := c.Rotations()
	if err != nil {
		return err
	}
	names, err := places.Profiles()
	if err != nil {
		return err
	}
	if len(names) == 0 {
		c.Say("no rotation is open")
	}
	for _, name := range names {
		if err := c.resumeOne(ctx, o, name); err != nil {
			return err
		}
	}
	return nil
}

// reopen locks and reads a profile's pending rotation; nil, with a message, where there is none.
func (r *rotateRun) reopen(ctx context.Context, name string) (p *rotation.Pending, unlock func(), err error) {
	if r.places, err = r.Rotations(); err != nil {
		return nil, nil, err
	}
	home, err := r.Home()
	if err != nil {
		return nil, nil, err
	}
	if unlock, err = r.places.Lock(ctx, home.LocksPath(), name); err != nil {
		return nil, nil, err
	}
	if p, err = r.places.Load(name); err == nil && p == nil {
		r.Say("%s: no rotation is open", name)
	}
	return p, unlock, err
}

// giveUp forgets the new password of a pending rotation, without asking the server, and also where the profile is
// gone.
func (c *call) giveUp(ctx context.Context, o *rotateOptions) error {
	if len(c.Args) == 0 {
		return base.Usage("-give-up needs the name of a profile")
	}
	name := c.Args[0]
	if p, err := c.Resolve(name, nil); err == nil {
		name = p.Called
	}
	r := &rotateRun{call: c, rotateOptions: o}
	pending, unlock, err := r.reopen(ctx, name)
	if unlock != nil {
		defer unlock()
	}
	if err != nil || pending == nil {
		return err
	}
	if !o.yes {
		c.Say("If the server has the new password already, nobody gets in with the old one.")
		yes, err := c.confirm(ctx, "forget the new password of "+name+"?")
		if err != nil {
			return err
		}
		if !yes {
			return base.Failure(base.ExitFailed, errors.New("nothing was changed"))
		}
	}
	if pending.Entry != "" {
		if err := c.forget(ctx, o.WalletFlags, pending.Entry); err != nil {
			return err
		}
	}
	if err := r.places.Remove(name); err != nil {
		return err
	}
	c.Say("%s: the new password is forgotten, the old one stays", name)
	return nil
}

// forget removes the new password from the wallet. A missing wallet or entry is no error.
func (c *call) forget(ctx context.Context, o secretcmd.WalletFlags, entry string) error {
	_, err := secretcmd.NewCall(c.Call).ChangeWallet(ctx, o, func(w *wallet.Wallet, _ *wallet.Passphrase) error {
		if e := w.Entry(entry); e != nil {
			changed := *e
			changed.Pending = secret.Value{}
			w.Put(changed)
		}
		return nil
	})
	var failure *secret.Failure
	if errors.As(err, &failure) && failure.Found.Is(finding.WalletMissing) {
		return nil
	}
	return err
}

// resumeOne ends the rotation of a profile.
func (c *call) resumeOne(ctx context.Context, o *rotateOptions, name string) error {
	r := &rotateRun{call: c, rotateOptions: o, entries: make(map[string]string)}
	pending, unlock, err := r.reopen(ctx, name)
	if unlock != nil {
		defer unlock()
	}
	if err != nil || pending == nil {
		return err
	}
	p, err := c.Resolve(name, nil)
	if err != nil {
		return base.Failure(base.ExitUsage, err, "gharbor secret rotate "+name+" -give-up   # if the profile is gone")
	}
	turn, err := r.begin(ctx, p)
	if err != nil {
		return err
	}
	defer turn.close()
	if err := turn.take(pending); err != nil {
		return err
	}
	if !turn.next.Present() { // broken off before the new password was kept, or behind the last step but one
		c.Say("%s: the rotation had ended, and nothing is left of it", name)
		return r.places.Remove(name)
	}
	which, err := rotation.Resume(ctx, turn.steps())
	switch {
	case errors.Is(err, rotation.ErrNeither):
		return turn.explainNeither()
	case err != nil:
		return err
	case which == rotation.Old:
		c.Say("%s: the server accepts the old password; the new one was removed", name)
		return nil
	}
	return turn.tell(ctx)
}

// now is the time of a change, in the wallet's form.
func now() time.Time { return time.Now().UTC().Truncate(time.Second) }
