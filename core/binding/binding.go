// Package binding says where a secret may be sent. A Binding is made of a profile's address, route and TLS rule, and
// later allows or refuses a connection that asks for the secret. It is a shelf between a wallet, which keeps bindings
// with its entries, and secret, whose queries it judges. Start with New and Binding.Objection; docs/wallet.md has the
// rule as a table.
package binding

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// Binding says where an entry may be sent: to an address, with all that decides which server answers there, or to an
// alias.
type Binding struct {
	Profile string `json:"profile,omitempty"` // the user's own profile that it was made from
	Alias   string `json:"alias,omitempty"`   // alone, but for Profile and AliasFile
	// the project's file that the alias stands in, "" for one of the user's
	AliasFile string `json:"alias_file,omitempty"`
	// alone: a jump host or proxy as a profile writes it, "user@host:port"
	Hop string `json:"hop,omitempty"`
	Key string `json:"key,omitempty"` // alone: the absolute path of a private key file
	// with Engine, Endpoint and TLS: a container's name, or PROJECT/SERVICE
	Container string       `json:"container,omitempty"`
	Endpoint  string       `json:"endpoint,omitempty"` // of the container engine that has it
	Account   string       `json:"account,omitempty"`  // alone: a cloud account, by all that says who it is
	Instance  string       `json:"instance,omitempty"` // with Engine, Service and TLS: INSTANCE, or INSTANCE/BRANCH
	Service   string       `json:"service,omitempty"`  // of the instance service that has it
	Engine    string       `json:"engine,omitempty"`
	Addresses []string     `json:"addresses,omitempty"`  // "host:port" or a socket's path, as written, in small letters
	Hops      []string     `json:"hops,omitempty"`       // in order from here
	TLS       tlsrule.Rule `json:"tls,omitempty"`        // the least that must be asked
	Authority string       `json:"authority,omitempty"`  // SHA-256 of tls-ca's file, "" for the system's authorities
	TLSName   string       `json:"tls_name,omitempty"`   // tls-name, "" for the host
	ServerKey string       `json:"server_key,omitempty"` // SHA-256 of server-key's file, "" for none

	foreign []byte // the binding as it was read, where it has a key that is not known here
}

// plainBinding is a Binding without its methods.
type plainBinding Binding

// UnmarshalJSON reads a binding. An unknown key may narrow what the others allow, so such a binding allows nothing;
// its bytes are kept.
func (b *Binding) UnmarshalJSON(data []byte) error {
	var known plainBinding
	if err := json.Unmarshal(data, &known); err != nil {
		return err
	}
	if hasUnknown(data) {
		known.foreign = bytes.Clone(data)
	}
	*b = Binding(known)
	return nil
}

// hasUnknown reports whether a binding has a key that is not known here.
func hasUnknown(data []byte) bool {
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.DisallowUnknownFields()
	return decoder.Decode(new(plainBinding)) != nil
}

// MarshalJSON writes a binding. One with an unknown key is written as it was read.
func (b Binding) MarshalJSON() ([]byte, error) {
	if b.foreign != nil {
		return b.foreign, nil
	}
	return json.Marshal(plainBinding(b))
}

// problem says why a binding allows nothing at all, "" where it may allow something.
func (b Binding) problem() string {
	kinds := 0
	for _, is := range []bool{b.Alias != "", b.Hop != "", b.Key != "", b.Container != "", b.Account != "",
		b.Instance != "", len(b.Addresses) > 0} {
		if is {
			kinds++
		}
	}
	switch {
	case b.foreign != nil:
		return "it has a condition that this gharbor does not know"
	case kinds != 1 || b.AliasFile != "" && b.Alias == "" || (b.Container != "") != (b.Endpoint != "") ||
		(b.Instance != "") != (b.Service != ""):
		return "it is tied to a server in a way that this gharbor does not know"
	}
	return ""
}

// New makes a binding of a profile's present address. from finds the container engine of a profile that names a
// container and no engine; where no engine answers, the error is a *secret.Failure.
func New(ctx context.Context, from address.Sources, p *resolve.Profile) (Binding, error) {
	if found := cmp.Or(p.Problem(), p.AliasProblem()); found != nil {
		return Binding{}, errors.New(found.Cause)
	}
	if !p.Address().Known() {
		return Binding{}, fmt.Errorf("the profile %s has no engine or no address yet", p.Profile.Name)
	}
	to, found := p.Address().Bind(ctx, from, p)
	switch {
	case found != nil && p.Address().Asked:
		return Binding{}, &secret.Failure{Found: found}
	case found != nil:
		return Binding{}, errors.New(found.Cause)
	case to.Alias != nil:
		return bindToAlias(p, to.Alias)
	}
	b, err := facts(p)
	if err != nil {
		return Binding{}, err
	}
	if p.Own() {
		b.Profile = p.Profile.Name
	}
	if b.Engine == "" {
		return Binding{}, fmt.Errorf("the profile %s has no engine or no address yet", p.Profile.Name)
	}
	b.Container, b.Endpoint = to.Container, to.Endpoint
	b.Instance, b.Service = to.Instance, to.Service
	for _, one := range to.Addresses {
		b.Addresses = append(b.Addresses, lower(one))
	}
	return b, nil
}

// facts are the hops, the TLS rule and the server's identity that a profile asks for.
func facts(p *resolve.Profile) (Binding, error) {
	b := Binding{Engine: p.Text(key.Engine), Hops: p.BoundHops(), TLS: tlsrule.Rule(p.Text(key.TLS))}
	var err error
	if b.ServerKey, err = fileHash("server-key", p.Text(key.ServerKey), p.PinnedFiles()); err != nil ||
		b.TLS != tlsrule.Verified {
		return b, err // without verification authority and name have no effect
	}
	b.TLSName = strings.ToLower(p.Text(key.TLSName))
	b.Authority, err = fileHash("tls-ca", p.Text(key.TLSCA), p.PinnedFiles())
	return b, err
}

// bindToAlias binds to the alias that a profile names: the secret may also be sent to where the alias leads later.
// The hops and the TLS rule are bound where the profile sets them; where it leaves them to the alias, the alias may
// change them.
func bindToAlias(p *resolve.Profile, a *profile.Alias) (Binding, error) {
	b := ToAlias(a)
	b.Engine = p.Text(key.Engine)
	own := len(p.Hops()) > 0
	for _, k := range []key.Name{"tls", "tls-ca", "tls-name", "server-key"} {
		e, ok := p.Get(k)
		own = own || ok && e.Origin.Kind != resolve.FromAlias && e.Origin.Kind != resolve.FromEngine
	}
	if own {
		said, err := facts(p)
		if err != nil {
			return Binding{}, err
		}
		said.Alias, said.AliasFile = b.Alias, b.AliasFile
		b = said
	}
	if p.Own() {
		b.Profile = p.Profile.Name
	}
	return b, nil
}

// ToAlias binds to an alias. An alias of a project's file differs from one of the same name elsewhere.
func ToAlias(a *profile.Alias) Binding {
	b := Binding{Alias: a.Name}
	if a.InProject() {
		b.AliasFile = a.Path()
	}
	return b
}

// IsAlias reports whether the binding is to the alias of that name, "project:NAME" for one of a project's file.
func (b Binding) IsAlias(name string) bool {
	own, project := strings.CutPrefix(name, syntax.ProjectPrefix)
	return b.Alias == own && b.Alias != "" && (b.AliasFile != "") == project
}

// fileHash is the SHA-256 of a file that a key names, "" without a path. Where bytes are pinned by a vouch, it is the
// hash of those.
func fileHash(k, path string, pinned map[string][]byte) (string, error) {
	if path == "" {
		return "", nil
	}
	data, ok := pinned[path]
	if !ok {
		var err error
		if data, err = atomicfile.Read(path, maxAuthority); err != nil {
			return "", fmt.Errorf("%s %s: %w", k, path, atomicfile.Plain(err))
		}
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), nil
}

// maxAuthority bounds a file of certificates: all public authorities together have some 250 KiB.
const maxAuthority = 4 << 20

// String is the binding in one line.
func (b Binding) String() string {
	switch {
	case b.Alias != "":
		text := "alias:" + b.Alias
		if b.AliasFile != "" {
			text += " of " + clean.Line(b.AliasFile, 200)
		}
		return clean.Line(text+b.conditions(), 0)
	case b.Hop != "":
		return "hop:" + clean.Line(b.Hop, 200)
	case b.Key != "":
		return "key:" + clean.Line(b.Key, 300)
	case b.Account != "":
		return "cloud:" + clean.Line(b.Account, 200)
	}
	return clean.Line(b.Engine+" at "+b.addressText()+b.conditions(), 0)
}

// conditions are what the binding asks of the route and TLS, each after a word that names it.
func (b Binding) conditions() string {
	text := ""
	if len(b.Hops) > 0 {
		text += " behind " + strings.Join(b.Hops, ", ")
	}
	if b.TLS == tlsrule.Required || b.TLS == tlsrule.Verified {
		text += ", tls " + string(b.TLS)
	}
	if b.TLSName != "" {
		text += " as " + b.TLSName
	}
	if b.Authority != "" {
		text += " (own tls-ca)"
	}
	if b.ServerKey != "" {
		text += " (own server-key)"
	}
	return text
}

// addressText is the address that the entry is bound to.
func (b Binding) addressText() string {
	if b.Container != "" {
		return "container:" + b.Container + " of " + b.Endpoint
	}
	if b.Instance != "" {
		service, own, _ := strings.Cut(b.Service, " ")
		if own != "" {
			own = " (own tls-ca)"
		}
		return "instance:" + b.Instance + " of " + service + own
	}
	return strings.Join(b.Addresses, ", ")
}

// Same reports whether two bindings allow the same.
func (b Binding) Same(o Binding) bool {
	one, err := json.Marshal(b)
	other, otherErr := json.Marshal(o)
	return err == nil && otherErr == nil && bytes.Equal(one, other)
}

// Is reports whether a word, as given to unbind, names the binding: the profile
// that it was made from, alias:NAME, or one of its addresses.
func (b Binding) Is(word string) bool {
	if b.Hop != "" || b.Key != "" || b.Account != "" {
		return word == b.String()
	}
	if b.Alias != "" {
		return word == b.String() || word == "alias:"+b.Alias || word == "alias:"+syntax.ProjectPrefix+b.Alias ||
			word == b.Profile && word != ""
	}
	if _, rest, ok := strings.Cut(word, "://"); ok {
		word = rest
	}
	return word == b.Profile || b.Container != "" && word == "container:"+b.Container ||
		b.Instance != "" && word == "instance:"+b.Instance ||
		slices.Contains(b.Addresses, lower(word))
}

// ParseOther reads a binding that is not made from a profile: hop:USER@HOST:PORT,
// hop:ssh:ALIAS, a proxy's hop:URL, key:PATH, whose path must be absolute, or cloud: and what names a cloud account.
func ParseOther(word string) (b Binding, ok bool) {
	if hop, ok := strings.CutPrefix(word, "hop:"); ok && hop != "" {
		return Binding{Hop: hop}, true
	}
	if k, ok := strings.CutPrefix(word, "key:"); ok && k != "" {
		return Binding{Key: k}, true
	}
	if account, ok := strings.CutPrefix(word, "cloud:"); ok && account != "" {
		return Binding{Account: account}, true
	}
	return Binding{}, false
}

// lower is an address in small letters; a path stays as it is.
func lower(address string) string {
	if strings.HasPrefix(address, "/") {
		return address
	}
	return strings.ToLower(address)
}
