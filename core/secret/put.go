package secret

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret/keyring"
)

// ErrNotKept says why nothing can be written to a source.
type ErrNotKept struct{ Why string }

func (e *ErrNotKept) Error() string { return e.Why }

// NotKept is the error for a source that nothing can be written to.
func NotKept(why string, args ...any) error { return &ErrNotKept{fmt.Sprintf(why, args...)} }

// Put writes a secret to the query's source: a file, a line of a password file, a group of an option file, or the
// keyring. It returns the place. The caller writes to the wallet, as it knows the passphrase.
func (f *Finder) Put(ctx context.Context, q Query, v Value) (place string, err error) {
	switch q.Source.Kind {
	case "file":
		place, err = f.Rewrite(ctx, q.Source.Arg, func(data []byte) ([]byte, int, error) {
			_, rest, _ := bytes.Cut(data, []byte("\n"))
			return append([]byte(v.Disclose()+"\n"), rest...), 1, nil
		})
		return "file " + place, err
	case "keyring":
		err := keyring.Set(ctx, q.KeyringEntry(), v.Disclose())
		if errors.Is(err, keyring.ErrNone) {
			err = &Failure{noKeyring(q, keyring.Reason(err))}
		}
		return "system's keyring, entry " + q.KeyringEntry(), err
	}
	if file := f.credentialFile(q); file != nil {
		return file.Put(ctx, f, q, v)
	}
	return "", f.CanPut(q)
}

// CanPut says why nothing can be written to the query's source, before a person is asked for a secret; nil where
// something can.
func (f *Finder) CanPut(q Query) error {
	switch q.Source.Kind {
	case "file", "wallet":
		return nil
	case "keyring":
		if why := keyring.Problem(f.Lookup); why != "" {
			return &Failure{noKeyring(q, why)}
		}
		return nil
	case "env":
		return NotKept("the profile takes it from an environment variable (%s), which ends with its shell",
			q.Source.Arg)
	case "command":
		return NotKept("the profile takes it from a command; save it where that command reads it")
	case "ask":
		return NotKept("the profile asks for it each time")
	case "cloud":
		return NotKept("the profile's logins are made at use by its cloud, and none is kept")
	}
	if f.credentialFile(q) != nil {
		return nil
	}
	return NotKept("the profile sends no password (secret = \"none\")")
}

// SourceFor is where a profile that names no source keeps its secret: the credential file where an entry fits already,
// else the wallet.
func (f *Finder) SourceFor(ctx context.Context, q Query) Source {
	if q.Credentials != nil {
		q.Source = Source{Kind: q.Credentials.Source()}
		if located, _ := f.Locate(ctx, q); located != nil {
			return q.Source
		}
	}
	return Source{Kind: "wallet"}
}

// PlaceOf says where Put will write, before a person is asked for a secret.
func (f *Finder) PlaceOf(q Query) string {
	const clear = ", in clear text that only you can read"
	switch q.Source.Kind {
	case "file":
		return "file " + clean.Line(q.Source.Arg, 200) + clear
	case "keyring":
		return "system's keyring, as entry " + q.KeyringEntry()
	}
	if file := f.credentialFile(q); file != nil {
		return file.Place(f, q) + clear
	}
	return q.Source.Kind
}

// maxCredentialFile bounds a file of credentials that Put changes: the largest that an engine's clients read.
const maxCredentialFile = 64 << 20

// Rewrite changes a file that only its owner may read, under its lock and in one
// step. place is the path and the line.
func (f *Finder) Rewrite(ctx context.Context, path string, change func([]byte) ([]byte, int, error)) (place string,
	err error) {
	target, err := atomicfile.Resolve(path)
	if err != nil {
		return "", fmt.Errorf("%s: %w", path, atomicfile.Plain(err))
	}
	unlock, err := atomicfile.LockIn(ctx, f.Locks, target)
	if err != nil {
		return "", fmt.Errorf("%s: cannot be locked: %w", target, atomicfile.Plain(err))
	}
	defer unlock()
	if found := JudgeFile(path, "the file"); found != nil && found.Code != finding.SecretMissing {
		return "", &Failure{found}
	}
	data, err := atomicfile.Read(target, maxCredentialFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("%s: %w", path, atomicfile.Plain(err))
	}
	text, line, err := change(data)
	if err != nil {
		return "", err
	}
	if err := (atomicfile.Writer{}).Write(target, text); err != nil {
		return "", fmt.Errorf("%s: %w", path, atomicfile.Plain(err))
	}
	return fmt.Sprintf("%s, line %d", path, line), nil
}
