package provisioncmd

import (
	"context"
	"errors"
	"fmt"

	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/secret"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
)

// generatedLength is the length of a new password: 190 bits.
const generatedLength = 32

// password is that of a profile's account.
type password struct {
	value secret.Value // not Present where none is sent
	made  bool         // here, and not kept yet
	none  bool         // the profile says that none is sent
	query secret.Query // says where it is kept
	kept  bool         // in the wallet by this run: to read it there would take the passphrase again
}

// takePassword takes the password from the profile's source, or makes one where that has none.
func (j *job) takePassword(ctx context.Context) error {
	p := j.profile
	q, err := secretcmd.NewCall(j.Call).QueryOf(ctx, p)
	if err != nil {
		return err
	}
	finder, usual := j.runner.Finder, p.Text(key.Secret) == ""
	if usual {
		q.Source = secret.Source{Kind: "default"}
	}
	if j.File != "" && (q.Source.Kind == "wallet" || usual && finder.SourceFor(ctx, q).Kind == "wallet") {
		return j.fromWallet(ctx, finder, q)
	}
	located, found := finder.Locate(ctx, q)
	switch {
	case located == nil && found.Is(finding.SecretNoMatch, finding.SecretMissing, finding.WalletMissing):
		return j.makePassword(ctx, finder, q)
	case located == nil:
		return base.FindingError(base.ExitSecret, &secret.Failure{Found: found}, found)
	case usual && (located.None || located.Typed):
		return j.makePassword(ctx, finder, q)
	case located.None && p.Engine().Provision.Hosts:
		return base.Failure(base.ExitSecret, fmt.Errorf("%s sends no password (secret = \"none\"): an account without one "+
			"would be open to everybody", p.Called), "gharbor set "+p.Called+" secret=wallet")
	case located.None:
		j.password.none = true
		return nil
	}
	v, err := located.Take(ctx)
	var failure *secret.Failure
	switch {
	case errors.As(err, &failure) && failure.Found.Is(finding.SecretNoMatch, finding.SecretMissing):
		return j.makePassword(ctx, finder, q) // the wallet was opened, and has no such entry
	case err != nil:
		return err
	case located.Typed:
		again, err := j.Secret(ctx, "the same once more")
		if err != nil {
			return err
		}
		if !again.Same(v) {
			return base.Failure(base.ExitSecret, errors.New("the two passwords differ: nothing was sent"))
		}
	}
	if v.Empty() {
		return base.Advise(base.Failure(base.ExitSecret, fmt.Errorf("the password of %s is empty: no account is made so",
			p.Called)), "if the server asks for none: gharbor set "+p.Called+" secret=none")
	}
	j.password = password{value: v, query: q}
	return nil
}

// fromWallet takes the password from the wallet, opened by the passphrase in a file.
func (j *job) fromWallet(ctx context.Context, finder *secret.Finder, q secret.Query) error {
	if q.Source.Kind != "wallet" {
		q.Source = secret.Source{Kind: "wallet"}
	}
	_, _, w, err := secretcmd.NewCall(j.Call).OwnWallet(ctx, j.WalletFlags)
	var failure *secret.Failure
	switch {
	case errors.As(err, &failure) && failure.Found.Is(finding.WalletMissing):
		return j.makePassword(ctx, finder, q)
	case err != nil:
		return err
	}
	e, found := w.Match(q)
	switch {
	case e != nil:
		j.password = password{value: e.Secret, query: q, kept: true}
		return nil
	case found.Is(finding.SecretNoMatch, finding.SecretMissing):
		return j.makePassword(ctx, finder, q)
	}
	return base.FindingError(base.ExitSecret, &secret.Failure{Found: found}, found)
}

// makePassword makes a password, if the source can store it.
func (j *job) makePassword(ctx context.Context, finder *secret.Finder, q secret.Query) error {
	if q.Source.Kind == "default" {
		q.Source = finder.SourceFor(ctx, q)
	}
	if err := finder.CanPut(q); err != nil {
		var no *secret.ErrNotKept
		if errors.As(err, &no) {
			return base.Failure(base.ExitSecret, fmt.Errorf("%s has no password yet, and none can be kept: %s",
				j.profile.Called, no.Why), "gharbor set "+j.profile.Called+" secret=wallet")
		}
		return err
	}
	j.password = password{value: secretcmd.Generate(generatedLength), made: true, query: q}
	return nil
}

// keepPassword stores a new password before the server has it: if the run ends in between, nothing is lost.
func (j *job) keepPassword(ctx context.Context) error {
	if !j.password.made {
		return nil
	}
	if err := secretcmd.NewCall(j.Call).PutSecret(ctx, j.WalletFlags, j.profile, j.password.query,
		j.password.value); err != nil {
		return err
	}
	j.password.made, j.password.kept = false, j.password.query.Source.Kind == "wallet"
	return nil
}

// placeOf names where a new password is stored.
func (j *job) placeOf() string {
	q := j.password.query
	if q.Source.Kind != "wallet" {
		return j.runner.Finder.PlaceOf(q)
	}
	if q.Source.Arg != "" {
		return "wallet, as entry " + q.Source.Arg
	}
	return "wallet, as entry " + j.profile.Profile.Name
}
