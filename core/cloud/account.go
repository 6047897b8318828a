// Package cloud is what is known of accounts at providers of databases: who signs people in, which instances there are
// and where, what opens the way to one, and logins that last minutes. It asks an issuer (package oauth) and an instance
// service (package wire), and both only at the hosts, or by the program, that the account has written. On the way from
// profile to report it stands beneath address, whose kind cloud asks it. Start with Accounts.
package cloud

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/cloud/tokens"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
)

// maxAuthority bounds a file of certificates: all public authorities together have some 250 KiB.
const maxAuthority = 4 << 20

// Account is a cloud account as its file has it, with paths made whole.
type Account struct {
	Called string // the name by which the user means it
	Name   string
	File   string
	Line   int

	Issuer       string // "" where nobody signs in
	Client       string
	ClientSecret secret.Source // of a job; the zero value for none
	Scopes       []string
	TokenFile    string   // "" for none
	Service      string   // URL, "" where Command answers
	Command      []string // nil where Service answers
	Authority    string   // path of tls-ca, "" for the system's

	secretWords []string // of a command that prints the client's secret; nil for none

	table   *profile.Cloud
	project bool
	pinned  map[string][]byte // bytes to take in place of a file's, by path
}

// AccountOf is what a table of a file says. home is the user's home folder.
func AccountOf(c *profile.Cloud, home string) Account {
	folder := filepath.Dir(c.Path())
	text := func(name key.Name) string {
		e, ok := c.OwnValue(name)
		if !ok {
			return ""
		}
		return e.Field.AbsolutePath(e.Value.Text(), folder, home)
	}
	list := func(name key.Name) []string {
		e, ok := c.OwnValue(name)
		if !ok {
			return nil
		}
		return e.Value.List()
	}
	a := Account{
		Called:    c.FullName(),
		Name:      c.Name,
		File:      c.Path(),
		Line:      c.Line,
		Issuer:    text(key.Issuer),
		Client:    text(key.Client),
		Scopes:    list(key.Scopes),
		TokenFile: text(key.TokenFile),
		Service:   text(key.Service),
		Command:   list(key.Command),
		Authority: text(key.TLSCA),
		table:     c,
		project:   c.InProject(),
	}
	a.Command = wholeProgram(a.Command, folder, home)
	a.ClientSecret, _ = secret.ParseSource(text(key.ClientSecret))
	if a.ClientSecret.Kind == "command" {
		a.secretWords = wholeProgram(strings.Fields(a.ClientSecret.Arg), folder, home)
	}
	return a
}

// wholeProgram are the words of a command, with a program that has a slash in its name made absolute.
func wholeProgram(words []string, folder, home string) []string {
	if len(words) == 0 || !strings.Contains(words[0], "/") {
		return words
	}
	return append([]string{syntax.WholePath(words[0], folder, home)}, words[1:]...)
}

// authority is the PEM of the authorities to trust, nil for the system's.
func (a *Account) authority() ([]byte, error) {
	if a.Authority == "" {
		return nil, nil
	}
	if data, ok := a.pinned[a.Authority]; ok {
		return data, nil
	}
	data, err := atomicfile.Read(a.Authority, maxAuthority)
	if err != nil {
		return nil, fmt.Errorf("tls-ca %s: %w", a.Authority, atomicfile.Plain(err))
	}
	return data, nil
}

// identity is all that says where a token of the account may go, as a hash: another issuer, client, service, program or
// authority is another account.
func (a *Account) identity() (string, error) {
	return a.sum("token", a.Issuer, a.Client, a.Service, a.Command)
}

// serviceID is what a password for an instance is bound to: the service, as far as it decides which server an instance
// is. A service with an authority of its own is another than one that the system's authorities prove.
func (a *Account) serviceID() (string, error) {
	sum, err := a.sum("service", a.Service, a.Command)
	if err != nil {
		return "", err
	}
	if a.Service != "" && a.Authority == "" {
		return a.Service, nil
	}
	if a.Service != "" {
		return a.Service + " " + sum[:32], nil
	}
	return "command-" + sum[:32], nil
}

// sum is the SHA-256 of parts, and of the authority's bytes, in hexadecimal. JSON keeps the parts apart.
func (a *Account) sum(parts ...any) (string, error) {
	pem, err := a.authority()
	if err != nil {
		return "", err
	}
	data, err := json.Marshal(append(parts, pem))
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), nil
}

// Owner is the account as its token's file has it.
func (a *Account) Owner() (tokens.Owner, error) {
	identity, err := a.identity()
	file := ""
	if a.project {
		file = a.File
	}
	return tokens.Owner{Name: a.Name, File: file, Identity: identity}, err
}

// KeyQuery is the question for the key that seals the account's token.
func (a *Account) KeyQuery(of tokens.Owner, at tokens.KeyPlace) secret.Query {
	return secret.Query{
		Kind:    secret.OfCloud,
		Profile: a.Called,
		Setting: "token key",
		Source:  secret.Source{Kind: at.Source, Arg: at.Entry},
		Address: KeyBinding(of),
		Project: a.project,
	}
}

// KeyBinding is what the key of an owner's token is bound to in a wallet.
func KeyBinding(of tokens.Owner) string { return of.Name + " " + of.Identity }

// Ref is a reference that a command was given: of an instance, a branch, or an account as a whole.
func Ref(word string) (cloudref.Ref, bool) {
	if ref, ok := cloudref.Parse(word); ok {
		return ref, true
	}
	return cloudref.Ref{Account: word}, syntax.ValidName(strings.TrimPrefix(word, syntax.ProjectPrefix))
}
