package secret

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret/keyring"
	"gentleharbor/core/secret/optionfile"
	"gentleharbor/core/secret/passfile"
)

// ErrNotKept is a source that nothing can be written to, and why.
type ErrNotKept struct{ Why string }

func (e *ErrNotKept) Error() string { return e.Why }

func notKept(why string, args ...any) error { return &ErrNotKept{fmt.Sprintf(why, args...)} }

// Put writes a secret to where the query's source takes it from: a file, a line
// of a password file, a group of an option file, or the keyring. The wallet is
// the caller's, which knows its passphrase. It returns the place.
func (f *Finder) Put(ctx context.Context, q Query, v Value) (place string, err error) {
	switch q.Source.Kind {
	case "file":
		err = f.rewrite(ctx, q.Source.Arg, func(data []byte) ([]byte, int, error) {
			_, rest, _ := bytes.Cut(data, []byte("\n"))
			return append([]byte(v.Disclose()+"\n"), rest...), 1, nil
		}, &place)
		return "file " + place, err
	case "passfile":
		path, _ := f.passfilePath(q.Source)
		err = f.rewrite(ctx, path, func(data []byte) ([]byte, int, error) {
			return passfile.Set(data, passfile.Query{
				Host:     passfileWord(q),
				Port:     q.Port,
				Database: q.Database,
				User:     q.User,
			}, v.Disclose())
		}, &place)
		return "password file " + place, err
	case "optionfile":
		path, group := f.optionTarget(q)
		err = f.rewrite(ctx, path, func(data []byte) ([]byte, int, error) { return setGroup(data, group, q, v) }, &place)
		return "option file " + place, err
	case "keyring":
		err := keyring.Set(ctx, q.KeyringEntry(), v.Disclose())
		if errors.Is(err, keyring.ErrNone) {
			err = &Failure{noKeyring(q, keyring.Reason(err))}
		}
		return "the system's keyring, entry " + q.KeyringEntry(), err
	}
	return "", f.CanPut(q)
}

// CanPut says why nothing can be written to the query's source, before a secret
// is asked for; nil where something may be.
func (f *Finder) CanPut(q Query) error {
	switch q.Source.Kind {
	case "file", "passfile", "optionfile", "wallet":
		return nil
	case "keyring":
		if why := keyring.Problem(f.Lookup); why != "" {
			return &Failure{noKeyring(q, why)}
		}
		return nil
	case "env":
		return notKept("an environment variable (%s) lasts as long as its shell", q.Source.Arg)
	case "command":
		return notKept("the profile's secret is what a command prints; put it where that command takes it from")
	case "ask":
		return notKept("the profile's secret is asked for each time; gharbor set %s secret=wallet changes that", q.Profile)
	}
	return notKept("the profile says that no password is sent (secret = \"none\")")
}

// Kept finds the source that a profile which names none has its secret in, or
// would have: the credential file where a line fits, else the wallet where there
// is one, else the credential file.
func (f *Finder) Kept(ctx context.Context, q Query, wallet bool) Source {
	kind := ""
	switch q.Engine {
	case "postgresql":
		kind = "passfile"
	case "mysql", "mariadb":
		kind = "optionfile"
	}
	if kind != "" {
		q.Source = Source{Kind: kind}
		if located, _ := f.Locate(ctx, q); located != nil {
			return q.Source
		}
	}
	if wallet || kind == "" {
		return Source{Kind: "wallet"}
	}
	return Source{Kind: kind}
}

// optionTarget is the file and the group to write to: those that have the
// password now, else the ones that the source names.
func (f *Finder) optionTarget(q Query) (path, group string) {
	path, group = optionPlace(q.Source.Arg)
	if sections, _, _, found := f.options(q); found == nil {
		for _, s := range sections {
			if o, ok := s.last["password"]; ok && o.Set && s.other(q) == "" {
				return o.File, s.group
			}
		}
	}
	if path == "" {
		path = filepath.Join(f.Home, ".my.cnf")
	}
	if group == "" {
		group = "client"
	}
	return path, group
}

// setGroup sets a group's password. A group that is made here names the user and
// the host too; one that names others is not ours to change.
func setGroup(data []byte, group string, q Query, v Value) ([]byte, int, error) {
	s := section{group: group, last: make(map[string]optionfile.Option)}
	options, err := optionfile.Parse(data)
	if err != nil {
		return nil, 0, err
	}
	known := false
	for _, o := range options {
		if o.Group == group {
			known = true
			s.last[o.Name] = o
		}
	}
	if why := s.other(q); why != "" {
		return nil, 0, notKept("[%s] is for another connection: it %s; name another group: secret=optionfile#GROUP",
			clean.Line(group, 60), why)
	}
	if !known {
		for _, o := range []struct{ name, value string }{{"user", q.User}, {"host", q.Host}, {"port", q.Port}} {
			if o.value == "" || o.name == "port" && q.Host == "" {
				continue
			}
			if data, _, err = optionfile.Set(data, group, o.name, o.value); err != nil {
				return nil, 0, err
			}
		}
	}
	return optionfile.Set(data, group, "password", v.Disclose())
}

// rewrite changes a file that only its owner may read, under its lock and in one
// step. place becomes the path and the line.
func (f *Finder) rewrite(ctx context.Context, path string, change func([]byte) ([]byte, int, error),
	place *string) error {
	target, err := atomicfile.Resolve(path)
	if err != nil {
		return fmt.Errorf("%s: %w", path, atomicfile.Plain(err))
	}
	unlock, err := atomicfile.LockIn(ctx, f.Locks, target)
	if err != nil {
		return fmt.Errorf("%s: cannot be locked: %w", target, atomicfile.Plain(err))
	}
	defer unlock()
	if found := JudgeFile(path, "the file"); found != nil && found.Code != finding.SecretMissing {
		return &Failure{found}
	}
	data, err := os.ReadFile(target)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", path, atomicfile.Plain(err))
	}
	text, line, err := change(data)
	if err != nil {
		return err
	}
	if err := (atomicfile.Writer{}).Write(target, text); err != nil {
		return fmt.Errorf("%s: %w", path, atomicfile.Plain(err))
	}
	*place = fmt.Sprintf("%s, line %d", path, line)
	return nil
}
