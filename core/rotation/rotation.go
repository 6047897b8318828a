// Package rotation changes a password at a server and in its source without locking anybody out. It writes the new
// password to disk before it changes the server, and into the source only after the server has accepted it on a new
// connection. After a kill at any step, Resume finds out which of the two passwords the server accepts. On the way
// from profile to report it stands behind provision, which plans its statements. Start with Steps.
package rotation

import (
	"context"
	"errors"
	"fmt"

	"gentleharbor/core/engine"
)

// PasswordChoice is one of the two passwords of a rotation.
type PasswordChoice int

// The passwords.
const (
	Old PasswordChoice = iota
	New
)

// Steps are what a rotation does, in their order.
type Steps struct {
	// Keep writes the new password to the disk, beside the old one.
	Keep func(ctx context.Context) error
	// Change sets a password at the server: the new one, or the old one again.
	Change func(ctx context.Context, to PasswordChoice) error
	// Accepts logs in with a password on a new connection. The error is for a server that could not be asked.
	Accepts func(ctx context.Context, w PasswordChoice) (bool, error)
	// Adopt writes the new password into the source. Drop forgets it.
	Adopt, Drop func(ctx context.Context) error
}

// OpenError says that a rotation has not ended: both passwords are kept until Resume ends it.
type OpenError struct{ Err error }

func (e *OpenError) Error() string {
	return fmt.Sprintf("the rotation has not ended, and both passwords are kept: %v", e.Err)
}
func (e *OpenError) Unwrap() error { return e.Err }

// ErrNotAccepted says that the server did not accept the new password at a login. The old one was set again, and
// works.
var ErrNotAccepted = errors.New("the server took the new password, and then did not let the account in with it: the " +
	"old one was set again, and works")

// Run rotates. After an error other than an *OpenError, the source and the server have the old password.
func Run(ctx context.Context, s Steps) error {
	if err := s.Keep(ctx); err != nil {
		return err
	}
	if err := s.Change(ctx, New); err != nil {
		var refused *engine.StatementError
		if errors.As(err, &refused) {
			return errors.Join(err, s.Drop(ctx))
		}
		return settle(ctx, s, err) // whether the server changed it is not known
	}
	in, err := s.Accepts(ctx, New)
	switch {
	case err != nil:
		return &OpenError{err}
	case in:
		return open(s.Adopt(ctx))
	}
	if err := s.Change(ctx, Old); err != nil {
		return &OpenError{err}
	}
	if in, err = s.Accepts(ctx, Old); err != nil || !in {
		return &OpenError{errors.Join(ErrNeither, err)}
	}
	if err := s.Drop(ctx); err != nil {
		return &OpenError{err}
	}
	return ErrNotAccepted
}

// open makes an *OpenError of an error, nil for none.
func open(err error) error {
	if err == nil {
		return nil
	}
	return &OpenError{err}
}

// settle ends a rotation whose change the server may or may not have made.
func settle(ctx context.Context, s Steps, why error) error {
	which, err := Resume(ctx, s)
	switch {
	case err != nil:
		return &OpenError{errors.Join(why, err)}
	case which == New:
		return nil
	}
	return why
}

// ErrNeither says that the server accepts neither password.
var ErrNeither = errors.New("the server accepts neither the old password nor the new one")

// Resume finds out which password the server accepts, keeps that one, and removes the other. An error leaves both.
func Resume(ctx context.Context, s Steps) (PasswordChoice, error) {
	in, err := s.Accepts(ctx, New)
	if err != nil {
		return Old, err
	}
	if in {
		return New, s.Adopt(ctx)
	}
	if in, err = s.Accepts(ctx, Old); err != nil {
		return Old, err
	}
	if !in {
		return Old, ErrNeither
	}
	return Old, s.Drop(ctx)
}
