package secret

import (
	"context"
	"io/fs"

	"gentleharbor/core/finding"
)

// CredentialFile is a file in which an engine's own clients keep passwords, as a source of secrets. A profile of an
// engine without such a file may name another engine's.
type CredentialFile interface {
	// Source is the word of the source: "passfile".
	Source() string
	// Locate finds the entry for a connection; the rules are those of Finder.Locate.
	Locate(f *Finder, q Query) (*Location, *finding.Finding)
	// Place is the file that Put writes to, in words: "password file /home/w/passwords".
	Place(f *Finder, q Query) string
	// Put writes a password to the entry for a connection, and returns the place.
	Put(ctx context.Context, f *Finder, q Query, v Value) (place string, err error)
	// Includes reports whether the file can include others.
	Includes() bool
	// Visit reads the file at a path, and all files that it includes, as Locate does. It uses read and list for each
	// file and folder.
	Visit(path string, read func(path string) ([]byte, error), list func(folder string) ([]fs.DirEntry, error)) error
	// Risks are what could be safer in the file; arg is the text after the source's colon. A missing file has none.
	Risks(arg string, lookup func(string) (string, bool), home string) []Risk
}

// RiskKind says what a Risk is of.
type RiskKind int

// The kinds of risk.
const (
	RiskOthers  RiskKind = iota // whether others can use the file is to be judged; What names the file
	RiskAnyHost                 // an entry that fits any host
	RiskEmpty                   // an entry with an empty password
	RiskPlain                   // an entry with a password in the clear
)

// Risk is something in a credential file that could be safer.
type Risk struct {
	Kind RiskKind
	File string
	Line int    // 0 for the file as a whole
	What string // for a sentence
	Do   string // a step that removes it, "" for none
}

// credentialFile is the file of a query's source, nil for another source. The engine's own comes first: two engines
// may keep entries in one file by different rules.
func (f *Finder) credentialFile(q Query) CredentialFile {
	if q.Credentials != nil && q.Credentials.Source() == q.Source.Kind {
		return q.Credentials
	}
	for _, file := range f.Files {
		if file.Source() == q.Source.Kind {
			return file
		}
	}
	return nil
}
