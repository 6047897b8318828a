package provisioncmd

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/provision"
	"gentleharbor/core/rotation"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/render"
)

// profileRotation is the rotation of one profile's password.
type profileRotation struct {
	*job
	run       *rotateRun
	query     secret.Query // says where the password is
	old, next secret.Value
	entry     string // of the wallet, "" for another source

	store wallet.Store // where entry is
	pass  *wallet.Passphrase
	last  *wallet.Wallet // as it is after the last change

	changer engine.Runner // the session that changes the password
	planner engine.Planner
	seen    *engine.Facts // of that session
	host    string        // from which the account comes, where it is changed by an administrator
	own     *check.Session
	by      string // who changes it, in words
	report  *check.Report
	resumes bool // a rotation that was broken off
}

// begin finds the password and its source, and refuses one that can't be written.
func (r *rotateRun) begin(ctx context.Context, p *resolve.Profile) (*profileRotation, error) {
	j, err := r.call.newJob(&r.options, p.Called)
	if err != nil {
		return nil, err
	}
	t := &profileRotation{job: j, run: r}
	named := &provision.Request{DesiredState: engine.DesiredState{
		User:     j.profile.Text(key.User),
		Database: j.profile.Text(key.Database),
	}}
	if err := j.complete(named); err != nil {
		return nil, err
	}
	of := secretcmd.NewCall(r.Call)
	if t.query, err = of.QueryOf(ctx, j.profile); err != nil {
		return nil, err
	}
	if j.profile.Text(key.Secret) == "" {
		t.query.Source = j.runner.Finder.SourceFor(ctx, t.query)
	}
	if err := j.runner.Finder.CanPut(t.query); err != nil {
		var no *secret.ErrNotKept
		if errors.As(err, &no) {
			return nil, base.Failure(base.ExitUsage, fmt.Errorf("%s can't be rotated: %s", p.Called, no.Why),
				fmt.Sprintf("gharbor set %s secret=wallet && gharbor secret keep %s", p.Called, p.Called))
		}
		return nil, err
	}
	if t.query.Source.Kind == "wallet" {
		return t, t.openWallet(ctx, of)
	}
	t.old, err = t.present(ctx)
	return t, err
}

// present is the source's present password.
func (t *profileRotation) present(ctx context.Context) (secret.Value, error) {
	if t.entry != "" {
		w, err := t.store.Open(ctx, t.pass)
		if err != nil {
			return secret.Value{}, err
		}
		e := w.Entry(t.entry)
		if e == nil {
			return secret.Value{}, fmt.Errorf("the wallet has no entry %s any more", t.entry)
		}
		return e.Secret, nil
	}
	finder, err := t.Finder() // which remembers nothing
	if err != nil {
		return secret.Value{}, err
	}
	located, found := finder.Locate(ctx, t.query)
	if located == nil {
		return secret.Value{}, base.FindingError(base.ExitSecret, &secret.Failure{Found: found}, found)
	}
	return located.Take(ctx)
}

// checkUnchanged returns an error where the source's password has changed since the start: setting the first one at
// the server again would lock the account out.
func (t *profileRotation) checkUnchanged(ctx context.Context) error {
	v, err := t.present(ctx)
	if err == nil && !v.Same(t.old) {
		err = base.Failure(base.ExitFailed,
			errors.New("the password was changed by another run in the meantime: nothing was sent"))
	}
	return err
}

// openWallet opens the wallet by its passphrase, and finds the entry.
func (t *profileRotation) openWallet(ctx context.Context, of *secretcmd.Call) error {
	var err error
	if t.store, t.pass, t.last, err = of.OwnWallet(ctx, t.WalletFlags); err != nil {
		return err
	}
	e, found := t.last.Match(t.query)
	if e == nil {
		return base.FindingError(base.ExitSecret, &secret.Failure{Found: found}, found)
	}
	t.entry, t.old = e.Name, e.Secret
	return nil
}

// close ends the sessions.
func (t *profileRotation) close() {
	t.job.close()
	if t.own != nil {
		t.own.Close()
	}
}

// plan opens the session that changes the password: the account's own where that may change it, else the
// administrator's.
func (t *profileRotation) plan(ctx context.Context) error {
	if other := t.otherUser(ctx); other != "" {
		return base.Advise(base.Failure(base.ExitUsage,
			fmt.Errorf("the profile %s takes its password from the same place, and may "+
				"be of another account or server: it would no longer get in", other)),
			"give one of them a place of its own: gharbor "+
				"set "+other+" secret=wallet:ENTRY", "or, if both are one account at one server, add -same-server")
	}
	t.next = secretcmd.Generate(t.run.length)
	spec := t.profile.Engine().Provision
	if spec.Password == nil {
		return base.Usage("this version changes no passwords on %s", t.profile.Text(key.Engine))
	}
	if t.run.keepOld && spec.DropOld == nil {
		return base.Usage("-keep-old: %s keeps only one password", t.profile.Engine().Name)
	}
	if t.admin == nil || !t.run.keepOld {
		err := t.planOwn(ctx)
		if err == nil || t.admin == nil || ctx.Err() != nil {
			return err
		}
	}
	return t.planReset(ctx)
}

// planOwn logs in as the account itself.
func (t *profileRotation) planOwn(ctx context.Context) error {
	if t.profile.Text(key.Guard) == "read-only" {
		if t.admin != nil {
			return errors.New("the guard is read-only")
		}
		return base.Advise(base.Failure(base.ExitFailed,
			fmt.Errorf("the guard of %s is read-only: its own session may change "+
				"nothing", t.profile.Called)), "let an administrator's profile do it: gharbor secret rotate "+t.profile.Called+
			" -as ADMIN")
	}
	defer t.runner.Finder.SetPassword(t.profile.Called, t.old, "this run")()
	var err error
	if t.admin != nil { // a refusal here is not the end
		o := t.runner.Open(ctx, t.profile)
		if first, some := o.Report.First(); o.Runner == nil || some && first.Outcome == finding.Fail {
			o.Close()
			return errors.New("the account does not get in")
		}
		t.own = o
	} else if t.own, err = t.open(ctx, t.profile); err != nil {
		return err
	}
	if before := t.profile.Engine().Provision.Before; before != "" {
		if err := t.own.Runner.Run(ctx, engine.Statement{Text: before}, discard{}); err != nil {
			return err
		}
	}
	t.changer, t.seen, t.by = t.own.Runner, t.own.Report.Facts, "the account itself"
	t.planner = t.profile.Engine().Provision.Password
	return nil
}

// planReset connects the administrator.
func (t *profileRotation) planReset(ctx context.Context) error {
	runner, err := t.session(ctx, "")
	if err != nil {
		return err
	}
	t.changer, t.seen, t.by = runner, t.facts, "the profile "+t.admin.Called
	t.planner = t.admin.Engine().Provision.Reset
	w := &provision.Request{}
	if err := t.readOrigin(ctx, w); err != nil {
		return err
	}
	t.host = w.Host
	return nil
}

// accountState is the account with a password.
func (t *profileRotation) accountState(v secret.Value) *engine.DesiredState {
	return &engine.DesiredState{
		Facts:    t.seen,
		User:     t.profile.Text(key.User),
		Host:     t.host,
		Password: v,
		KeepOld:  t.run.keepOld,
	}
}

// agree shows the plan, and asks. done is true where nothing more is to do.
func (t *profileRotation) agree(ctx context.Context) (done bool, err error) {
	plan, err := t.planner(ctx, provision.On(t.changer), t.accountState(t.next))
	if err != nil {
		return false, t.planFailed(err)
	}
	if len(plan.Missing) > 0 {
		return false, t.planFailed(&provision.NotThereError{What: plan.Missing[0], Account: true})
	}
	if len(plan.Lacks) > 0 {
		return false, base.Failure(base.ExitFailed, errors.New(clean.Line(plan.Lacks[0], 0)+": nothing was sent"))
	}
	report := render.NewReport(t.Stdout, t.NoColour)
	report.Head(t.profile.Called, fmt.Sprintf("%s at %s, by %s", t.seen.Product, t.seen.Route, t.by))
	rows := render.NewPlan(t.Stdout)
	rows.Note(fmt.Sprintf("a new password of %d characters goes into the %s", t.run.length, t.place()))
	for _, note := range plan.Notes {
		rows.Note(note)
	}
	for _, c := range plan.Changes {
		rows.Change("change", c.Why, c.Shown+";")
		if c.Clear != "" {
			rows.Note(c.Clear)
		}
	}
	switch {
	case t.dryRun:
		t.Say("nothing was sent: -dry-run")
		return true, nil
	case t.yes:
		return false, nil
	}
	yes, err := t.confirm(ctx, "rotate the password of "+t.profile.Called+"?")
	if err == nil && !yes {
		err = base.Failure(base.ExitFailed, errors.New("nothing was sent"))
	}
	return false, err
}

// place says where the password is kept.
func (t *profileRotation) place() string {
	if t.entry != "" {
		return "wallet, entry " + t.entry
	}
	return t.runner.Finder.PlaceOf(t.query)
}

// steps are those of the rotation.
func (t *profileRotation) steps() rotation.Steps {
	return rotation.Steps{
		Keep:    t.keep,
		Change:  t.change,
		Accepts: t.accepts,
		Adopt:   t.adopt,
		Drop:    t.drop,
	}
}

// keep writes the new password to the disk. Where the wallet has it, the file only says that a rotation has begun.
func (t *profileRotation) keep(ctx context.Context) error {
	p := rotation.Pending{Profile: t.profile.Called, Entry: t.entry, Begun: now()}
	if t.entry == "" {
		p.Secret = t.next
	}
	if err := t.run.places.Save(p); err != nil || t.entry == "" {
		return err
	}
	err := t.changeEntry(ctx, func(e *wallet.Entry) { e.Pending = t.next })
	if err != nil {
		err = errors.Join(err, t.run.places.Remove(t.profile.Called))
	}
	return err
}

// changeEntry changes the entry of the wallet.
func (t *profileRotation) changeEntry(ctx context.Context, change func(*wallet.Entry)) (err error) {
	t.last, err = t.store.Update(ctx, t.pass, func(w *wallet.Wallet) error {
		e := w.Entry(t.entry)
		if e == nil {
			return fmt.Errorf("the wallet has no entry %s any more", t.entry)
		}
		changed := *e
		change(&changed)
		w.Put(changed)
		return nil
	})
	return err
}

// change sets a password at the server: by the administrator where the account itself may not.
func (t *profileRotation) change(ctx context.Context, to rotation.PasswordChoice) error {
	err := t.set(ctx, to)
	var refused *engine.StatementError
	if !errors.As(err, &refused) || t.own == nil || t.admin == nil || t.changer != t.own.Runner {
		return err
	}
	t.Say("the account may not change its own password: the server says %s", clean.Quote(clean.Line(refused.Error(), 0)))
	if err := t.planReset(ctx); err != nil {
		return err
	}
	return t.set(ctx, to)
}

// set sends the statements that set a password.
func (t *profileRotation) set(ctx context.Context, to rotation.PasswordChoice) error {
	v := t.next
	if to == rotation.Old {
		v = t.old
	}
	w := t.accountState(v)
	w.KeepOld = w.KeepOld && to == rotation.New
	plan, err := t.planner(ctx, provision.On(t.changer), w)
	if err != nil {
		return err
	}
	for _, c := range plan.Changes {
		if err := t.changer.Run(ctx, engine.Statement{Text: c.Text}, discard{}); err != nil {
			return err
		}
	}
	return nil
}

// accepts logs in on a new connection.
func (t *profileRotation) accepts(ctx context.Context, which rotation.PasswordChoice) (bool, error) {
	v := t.next
	if which == rotation.Old {
		v = t.old
	}
	report := t.tryPassword(ctx, t.profile, v)
	first, some := report.First()
	switch {
	case report.Interrupted:
		return false, context.Canceled
	case report.Reached("login"):
		t.report = report
		if t.resumes && !report.Facts.SecretTaken { // trust, or the system's account: either password would do
			return false,
				errors.New("the server lets the account in without its password, so it can't be asked which one it has")
		}
		return true, nil
	case some && first.Outcome == finding.Fail && first.Stage == "login":
		t.report = report
		if refusesPassword(first.Finding.Code) {
			return false, nil
		}
	}
	return false, fmt.Errorf("%s: %s", report.Verdict(), cause(first))
}

// refusesPassword reports whether a login's finding says that the server checked the password and refused it.
func refusesPassword(code finding.Code) bool {
	return slices.Contains([]finding.Code{finding.LoginPassword, finding.LoginEmptyPassword, finding.LoginNoPasswordSet,
		finding.LoginOtherHash}, code)
}

// cause is why a stage failed.
func cause(s check.Stage) string {
	if s.Finding == nil {
		return ""
	}
	return s.Finding.Cause
}

// adopt writes the new password into the source in place of the old one.
func (t *profileRotation) adopt(ctx context.Context) error {
	if t.entry != "" {
		err := t.changeEntry(ctx, func(e *wallet.Entry) {
			e.Secret, e.Pending, e.Changed = t.next, secret.Value{}, now()
		})
		if err != nil {
			return err
		}
	} else if err := t.put(ctx); err != nil {
		return err
	}
	return t.run.places.Remove(t.profile.Called)
}

// put writes the new password to the source, and checks that the source then gives it, as another file may override
// it.
func (t *profileRotation) put(ctx context.Context) error {
	place, err := t.runner.Finder.Put(ctx, t.query, t.next)
	if err != nil {
		return err
	}
	v, err := t.present(ctx)
	if err == nil && !v.Same(t.next) {
		err = fmt.Errorf("the new password was written to the %s, and the profile still takes another one", place)
	}
	return err
}

// drop forgets the new password.
func (t *profileRotation) drop(ctx context.Context) error {
	if t.entry != "" {
		if err := t.changeEntry(ctx, func(e *wallet.Entry) { e.Pending = secret.Value{} }); err != nil {
			return err
		}
	}
	return t.run.places.Remove(t.profile.Called)
}

// take reads the new password of a pending rotation.
func (t *profileRotation) take(p *rotation.Pending) error {
	t.resumes = true
	if p.Entry == "" {
		t.next = p.Secret
		return nil
	}
	if t.last == nil {
		return base.Failure(base.ExitFailed,
			fmt.Errorf("the rotation of %s was of the wallet's entry %s, and the profile takes "+
				"its password from elsewhere now", p.Profile, p.Entry), fmt.Sprintf("gharbor set %s secret=wallet:%s", p.Profile,
				p.Entry))
	}
	t.entry = p.Entry
	if e := t.last.Entry(p.Entry); e != nil {
		t.old, t.next = e.Secret, e.Pending
	}
	return nil
}

// reportFailure returns the error of a rotation that failed.
func (t *profileRotation) reportFailure(ctx context.Context, err error) error {
	var open *rotation.OpenError
	var refused *engine.StatementError
	switch {
	case ctx.Err() != nil:
		t.Say("stopped: to end the rotation: gharbor secret rotate %s -resume", t.profile.Called)
		return base.Failure(base.ExitInterrupted, nil)
	case errors.As(err, &open) && errors.Is(err, rotation.ErrNeither):
		return t.explainNeither()
	case errors.As(err, &open):
		return base.Failure(base.ExitServer, errors.New(clean.Line(err.Error(), 0)),
			"gharbor secret rotate "+t.profile.Called+" -resume")
	case errors.Is(err, rotation.ErrNotAccepted):
		return base.Failure(base.ExitFailed, err)
	case errors.As(err, &refused):
		return base.Failure(base.ExitFailed, fmt.Errorf("the server says %s; the old password stays",
			clean.Quote(clean.Line(refused.Error(), 0))))
	}
	return err
}

// explainNeither is the error for an account that can log in with neither password.
func (t *profileRotation) explainNeither() error {
	return base.Advise(base.Failure(base.ExitServer, fmt.Errorf("%s: %s; both are kept", t.profile.Called,
		clean.Line(rotation.ErrNeither.Error(), 0)), "gharbor test "+t.profile.Called),
		"let an administrator's profile set the old one again: gharbor provision make "+t.profile.Called+" -as ADMIN")
}

// tell prints that the password was rotated, and who used the old one.
func (t *profileRotation) tell(ctx context.Context) error {
	t.Say("rotated: the password of %s", t.profile.Called)
	if t.run.keepOld {
		t.Say("the old password is good too, until: gharbor secret rotate %s -drop-old -as %s", t.profile.Called, t.as)
	}
	for _, line := range t.otherUsers(ctx) {
		t.Say("%s", clean.Visible(line))
	}
	if t.report != nil {
		fmt.Fprintln(t.Stdout, strings.Replace(t.report.Verdict(), "ready: ", "ready with the new password: ", 1))
	}
	return nil
}
