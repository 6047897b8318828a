package postgresql

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine/postgresql/passfile"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret"
)

// passwordFile is PostgreSQL's password file as a source of secrets.
type passwordFile struct{}

// Source is the word of the source.
func (passwordFile) Source() string { return "passfile" }

// passwordPath is where PostgreSQL's documentation puts the password file.
func passwordPath(source secret.Source, lookup func(string) (string, bool), home string) (path, why string) {
	if source.Kind == "passfile" && source.Arg != "" {
		return source.Arg, ""
	}
	if path, ok := lookup("PGPASSFILE"); ok && path != "" {
		return path, " (named by PGPASSFILE)"
	}
	if runtime.GOOS == "windows" {
		dir, _ := lookup("APPDATA")
		return filepath.Join(dir, "postgresql", "pgpass.conf"), ""
	}
	return filepath.Join(home, ".pgpass"), ""
}

// defaultSocketFolders are the folders that builds of PostgreSQL's client
// library have as their default; a socket there is "localhost" in a password file.
var defaultSocketFolders = []string{"/var/run/postgresql", "/run/postgresql", "/tmp"}

// Locate finds the line of the password file that is for this connection.
func (passwordFile) Locate(f *secret.Finder, q secret.Query) (*secret.Location, *finding.Finding) {
	path, why := passwordPath(q.Source, f.Lookup, f.Home)
	what := "the password file"
	if why != "" && f.JudgeFile != nil {
		if found := f.JudgeFile(path); found != nil {
			return nil, found
		}
	}
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, q.KeepOrAsk(finding.New(finding.SecretMissing, "there is no password file %s%s", path, why))
	}
	if found := q.Judge(path, what); found != nil {
		return nil, found
	}
	find := func() (passfile.Result, error) {
		file, err := q.Open(path)
		if err != nil {
			return passfile.Result{}, err
		}
		defer file.Close()
		return passfile.Find(file, passfile.Query{Host: hostWord(q), Port: q.Port, Database: q.Database, User: q.User})
	}
	result, err := find()
	if err != nil {
		return nil, secret.Unreadable(path, what, err)
	}
	if result.Match == nil {
		return nil, noMatch(q, path, why, result)
	}
	place := fmt.Sprintf("password file %s%s, line %d%s", path, why, result.Match.Line, secret.Unchecked)
	if result.Match.Password == "" {
		place += ", an empty password"
	}
	located := &secret.Location{Place: place, Read: func(context.Context) (secret.Value, error) {
		again, err := find()
		if err != nil {
			return secret.Value{}, err
		}
		if again.Match == nil {
			return secret.Value{}, errors.New("the line that matched is gone")
		}
		return secret.NewValue(again.Match.Password), nil
	}}
	if result.Match.AnyHost && !q.Local {
		return located, finding.New(finding.SecretAnyHost,
			"the matching line is for any host, so the password could be sent to any server").
			Saw("%s line %d has * for the host; this profile's is %s", path, result.Match.Line, clean.Quote(q.Host)).
			Advise("write %s instead of * at the start of line %d of %s", clean.Shell(q.Host), result.Match.Line,
				clean.Shell(path))
	}
	return located, nil
}

// hostWord is the host field of a password file's line for this address.
func hostWord(q secret.Query) string {
	if q.Socket == "" {
		return q.Host
	}
	for _, folder := range defaultSocketFolders {
		if q.Socket == folder {
			return "localhost"
		}
	}
	return q.Socket
}

func noMatch(q secret.Query, path, why string, result passfile.Result) *finding.Finding {
	found := finding.New(finding.SecretNoMatch, "no line of the password file %s%s is for this connection", path, why)
	found.Saw("looked for host %s, port %s, database %s, user %s in %d %s",
		clean.Quote(hostWord(q)), q.Port, clean.Quote(q.Database), clean.Quote(q.User), result.Lines,
		clean.Plural(result.Lines, "line"))
	if result.Near != nil {
		found.Saw("line %d is the nearest: it %s", result.Near.Line, clean.Line(result.Near.Why, 0))
	} else if result.Lines > 0 {
		found.Saw("no line is similar")
	}
	return q.KeepOrAsk(found)
}

// Place is the file that Put writes to.
func (passwordFile) Place(f *secret.Finder, q secret.Query) string {
	path, _ := passwordPath(q.Source, f.Lookup, f.Home)
	return "password file " + clean.Line(path, 200)
}

// Put writes the password to the line for the connection.
func (passwordFile) Put(ctx context.Context, f *secret.Finder, q secret.Query, v secret.Value) (string, error) {
	path, _ := passwordPath(q.Source, f.Lookup, f.Home)
	place, err := f.Rewrite(ctx, path, func(data []byte) ([]byte, int, error) {
		return passfile.Set(data, passfile.Query{
			Host:     hostWord(q),
			Port:     q.Port,
			Database: q.Database,
			User:     q.User,
		}, v.Disclose(), !q.OneDatabase)
	})
	return "password file " + place, err
}

// Includes is false: a password file includes no other.
func (passwordFile) Includes() bool { return false }

// Visit reads the file, which includes no other.
func (passwordFile) Visit(path string, read func(string) ([]byte, error), _ func(string) ([]fs.DirEntry, error)) error {
	_, err := read(path)
	return err
}

// Risks are lines that would send a password to any host, and empty passwords.
func (passwordFile) Risks(arg string, lookup func(string) (string, bool), home string) []secret.Risk {
	path, _ := passwordPath(secret.Source{Kind: "passfile", Arg: arg}, lookup, home)
	risks := []secret.Risk{{File: path, What: "a password file", Kind: secret.RiskOthers}}
	data, err := atomicfile.Read(path, maxPasswordFile)
	if err != nil {
		return risks
	}
	entries, err := passfile.Entries(bytes.NewReader(data))
	if err != nil {
		return risks
	}
	for _, e := range entries {
		if e.Host == "*" {
			risks = append(risks, secret.Risk{File: path, Line: e.Line, Kind: secret.RiskAnyHost,
				What: "the line is for any host, so its password could be sent to any server",
				Do: fmt.Sprintf("write the host instead of * at the start of line %d of %s",
					e.Line, clean.Shell(path))})
		}
		if e.Password == "" {
			risks = append(risks, secret.Risk{File: path, Line: e.Line, Kind: secret.RiskEmpty,
				What: "the line has an empty password"})
		}
	}
	return risks
}

// maxPasswordFile bounds the file for Risks, in bytes: a line has about a hundred.
const maxPasswordFile = 4 << 20
