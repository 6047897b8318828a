// Package cloud uses accounts at providers of databases: it signs in, finds instances and their addresses, opens the
// network to them, and gets logins that last minutes. It asks an issuer (package oauth) and an instance service
// (package wire), only at the hosts, or by the program, that the account names. On the way from profile to report it
// stands beneath address, whose kind cloud asks it. Start with Accounts.
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

// Account is a cloud account as its file has it, with absolute paths.
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

// AccountOf makes an account of a file's table. home is the user's home folder.
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

// identity is a hash of all that decides where a token of the account may go: with another issuer, client, service,
// program or authority it is another account.
func (a *Account) identity() (string, error) {
	return a.sum("token", a.Issuer, a.Client, a.Service, a.Command)
}

// serviceID names the service for the binding of an instance's password. The service decides which server an instance
// is; with another certificate authority it may be another service.
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

// Owner is the account in the form that its token's file has.
func (a *Account) Owner() (tokens.Owner, error) {
	identity, err := a.identity()
	file := ""
	if a.project {
		file = a.File
	}
	return tokens.Owner{Name: a.Name, File: file, Identity: identity}, err
}

// KeyQuery asks a wallet for the key that seals the account's token.
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

// Ref is a command's word for an instance, a branch, or a whole account.
func Ref(word string) (cloudref.Ref, bool) {
	if ref, ok := cloudref.Parse(word); ok {
		return ref, true
	}
	return cloudref.Ref{Account: word}, syntax.ValidName(strings.TrimPrefix(word, syntax.ProjectPrefix))
}
