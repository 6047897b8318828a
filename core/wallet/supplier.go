package wallet

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/privatesocket"
	"gentleharbor/core/secret"
)

// Supplier gives profiles their secrets from a wallet. It opens the wallet once for a whole run: by a reader's pin
// file, by an unlock, or by the passphrase.
type Supplier struct {
	Store Store
	// path of a reader's pin file; there need not be one
	Pin string
	// the process that keeps the wallet of that id open; nil where none does
	Unlocked func(ctx context.Context, id string) (Opener, error)
	Terminal bool                                                           // there is someone to ask
	Ask      func(ctx context.Context, prompt string) (secret.Value, error) // without echo

	mu     sync.Mutex
	tried  bool // to open it without asking
	opened *Wallet
	failed error
	silent *finding.Finding // the process that keeps it open does not answer
}

// noAnswer is the finding for a keeper that runs and does not answer.
func noAnswer(path string, silent *privatesocket.SilentError) *finding.Finding {
	return finding.New(finding.WalletNoAnswer, "the process that keeps the wallet %s open does not answer", path).
		Saw("%s", silent).Suggest("%s   # ends it", silent.EndLine())
}

// Find is the Wallet of a secret.Finder.
func (v *Supplier) Find(ctx context.Context, q secret.Query, byDefault bool) (*secret.Location, *finding.Finding) {
	v.mu.Lock()
	w, err := v.openQuietly(ctx)
	v.mu.Unlock()
	var failure *secret.Failure
	switch {
	case errors.As(err, &failure):
		if code := failure.Found.Code; byDefault && (code == finding.WalletMissing || code == finding.WalletLocked) {
			return nil, finding.New(finding.SecretNoMatch, "%s, and the profile does not name it", failure.Found.Cause)
		}
		return nil, failure.Found
	case err != nil:
		return nil, unreadable(v.Store.Path, err)
	case w == nil && byDefault:
		return nil, finding.New(finding.SecretNoMatch, "the wallet %s is locked, and the profile does not ask for it",
			v.Store.Path)
	case w == nil && !v.Terminal && v.silent != nil:
		return nil, v.silent
	case w == nil && !v.Terminal:
		return nil, finding.New(finding.WalletLocked,
			"the wallet %s is locked, and there is no terminal to ask for its passphrase on", v.Store.Path).
			Suggest("gharbor wallet unlock -lifetime 15m   # on a terminal, for this user").
			Advise("make a reader: gharbor wallet reader add NAME -out FILE (for a job that runs unattended)")
	case w == nil:
		return &secret.Location{
			Place: fmt.Sprintf("wallet %s, after its passphrase", clean.Line(v.Store.Path, 200)),
			Asks:  true,
			Read:  func(ctx context.Context) (secret.Value, error) { return v.ask(ctx, q) },
		}, nil
	}
	e, found := w.match(q)
	if e == nil {
		return nil, found
	}
	value := e.Secret
	return &secret.Location{
		Place: w.place(e, q),
		Read:  func(context.Context) (secret.Value, error) { return value, nil },
	}, nil
}

// place names where a secret was found: the wallet and the entry.
func (w *Wallet) place(e *Entry, q secret.Query) string {
	text := fmt.Sprintf("wallet %s, entry %s, opened by %s", clean.Line(w.File.Path, 200), e.Name, w.Through)
	if len(e.Bindings) == 0 {
		text += " (tied to no server)"
	}
	for _, b := range e.Bindings {
		if b.Alias != "" && b.Objection(q) == "" {
			return text + ", for " + b.String()
		}
	}
	return text
}

// openQuietly opens the wallet without asking a person; nil and no error where that is not possible.
func (v *Supplier) openQuietly(ctx context.Context) (*Wallet, error) {
	if v.tried {
		return v.opened, v.failed
	}
	v.tried = true
	f, err := Load(v.Store.Path)
	if err != nil {
		v.failed = err
		return nil, err
	}
	opener, err := v.Unlocked(ctx, f.ID())
	var silent *privatesocket.SilentError
	switch {
	case errors.As(err, &silent):
		v.silent = noAnswer(f.Path, silent)
	case err != nil:
		v.tried = ctx.Err() == nil // one test's time may be over, and the next one's not
		return nil, err
	}
	if _, err := os.Stat(v.Pin); v.Pin != "" && !errors.Is(err, fs.ErrNotExist) {
		if opener, err = LoadPin(v.Pin); err != nil {
			v.failed = err
			return nil, err
		}
	}
	if opener != nil {
		v.opened, v.failed = v.Store.openFile(ctx, f, opener)
	}
	return v.opened, v.failed
}

// ask opens the wallet by its passphrase, in up to three tries.
func (v *Supplier) ask(ctx context.Context, q secret.Query) (secret.Value, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for try := 1; v.opened == nil && v.failed == nil; try++ {
		answer, err := v.Ask(ctx, "passphrase of the wallet "+clean.Line(v.Store.Path, 200))
		if err != nil {
			return secret.Value{}, err
		}
		w, err := v.Store.Open(ctx, &Passphrase{Value: answer})
		if err == nil {
			v.opened = w
		} else if try == 3 || !IsWrongPassphrase(err) {
			v.failed = err
		}
	}
	if v.failed != nil {
		return secret.Value{}, v.failed
	}
	e, found := v.opened.match(q)
	if e == nil {
		return secret.Value{}, &secret.Failure{Found: found}
	}
	return e.Secret, nil
}

// IsWrongPassphrase reports whether an error is that of a wrong passphrase.
func IsWrongPassphrase(err error) bool {
	var failure *secret.Failure
	return errors.As(err, &failure) && failure.Found.Code == finding.WalletPassphrase
}
