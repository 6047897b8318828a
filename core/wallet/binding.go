package wallet

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// Binding says where an entry may be sent: an address with all that makes it
// this address, or an alias.
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

// UnmarshalJSON reads a binding. One with a key that is not known here may mean less than what
// is known of it: it lets nothing go, and is kept as it is.
func (b *Binding) UnmarshalJSON(data []byte) error {
	var known plainBinding
	if err := json.Unmarshal(data, &known); err != nil {
		return err
	}
	if strictJSON(data, new(plainBinding)) != nil {
		known.foreign = bytes.Clone(data)
	}
	*b = Binding(known)
	return nil
}

// MarshalJSON writes a binding, one with an unknown key as it was read.
func (b Binding) MarshalJSON() ([]byte, error) {
	if b.foreign != nil {
		return b.foreign, nil
	}
	return json.Marshal(plainBinding(b))
}

// problem says why a binding releases nothing at all, "" where it may release something.
func (b Binding) problem() string {
	kinds := 0
	for _, is := range []bool{b.Alias != "", b.Hop != "", b.Key != "", b.Container != "", len(b.Addresses) > 0} {
		if is {
			kinds++
		}
	}
	switch {
	case b.foreign != nil:
		return "its binding has a key that this gharbor does not know"
	case kinds != 1 || b.AliasFile != "" && b.Alias == "" || (b.Container != "") != (b.Endpoint != ""):
		return "its binding is of no kind that this gharbor knows"
	}
	return ""
}

// BindingOf binds to where a profile leads now. containers says which engine has the
// container of a profile that names one and no engine; where none can be asked, the error
// is a *secret.Failure.
func BindingOf(ctx context.Context, containers route.Containers, p *resolve.Profile) (Binding, error) {
	if found := p.Problem(); found != nil {
		return Binding{}, errors.New(found.Cause)
	}
	if p.AddressKind() == "alias" && !p.PortOverride() { // with a port of its own it is an address that counts
		return bindingToAlias(p)
	}
	b, err := facts(p)
	if err != nil {
		return Binding{}, err
	}
	if p.Own() {
		b.Profile = p.Profile.Name
	}
	if b.Engine == "" || p.AddressKind() == "" {
		return Binding{}, fmt.Errorf("the profile %s has no engine or no address yet", p.Profile.Name)
	}
	if in, ok := p.Container(); ok {
		endpoint, found := containers.Endpoint(ctx, p)
		if found != nil {
			return Binding{}, &secret.Failure{Found: found}
		}
		b.Container, b.Endpoint = in.String(), endpoint
	} else {
		candidates, found := route.Network{}.Candidates(ctx, p) // without an alias, nothing is asked
		if found != nil {
			return Binding{}, errors.New(found.Cause)
		}
		for _, c := range candidates {
			b.Addresses = append(b.Addresses, lower(c.String()))
		}
	}
	return b, nil
}

// facts are the hops, the TLS rule and the server's identity that a profile asks for.
func facts(p *resolve.Profile) (Binding, error) {
	b := Binding{Engine: p.Text(key.Engine), Hops: p.BoundHops(), TLS: tlsrule.Rule(p.Text(key.TLS))}
	var err error
	if b.ServerKey, err = fileHash("server-key", p.Text(key.ServerKey), p.Pinned()); err != nil ||
		b.TLS != tlsrule.Verified {
		return b, err // without verification authority and name have no effect
	}
	b.TLSName = strings.ToLower(p.Text(key.TLSName))
	b.Authority, err = fileHash("tls-ca", p.Text(key.TLSCA), p.Pinned())
	return b, err
}

// bindingToAlias binds to the alias that a profile names: where that leads later, the secret
// may be sent too. What the profile itself says of hops and TLS is kept with it; what it leaves
// to the alias stays the alias's.
func bindingToAlias(p *resolve.Profile) (Binding, error) {
	if found := p.AliasProblem(); found != nil {
		return Binding{}, errors.New(found.Cause)
	}
	b := ToAlias(p.Service().Links[0])
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

// ToAlias binds to an alias. One of a project's file is another alias than one of the
// same name elsewhere.
func ToAlias(a *profile.Alias) Binding {
	b := Binding{Alias: a.Name}
	if a.InProject() {
		b.AliasFile = a.Path()
	}
	return b
}

// IsAlias reports whether it is the alias that a name means, "project:NAME" for one of
// a project's file.
func (b Binding) IsAlias(name string) bool {
	own, project := strings.CutPrefix(name, schema.ProjectPrefix)
	return b.Alias == own && b.Alias != "" && (b.AliasFile != "") == project
}

// fileHash is what tells one file that a key names from another: the SHA-256 of its bytes, of
// those that were vouched for where they are pinned. Without a path it is "".
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

// String says where the binding leads, in one line.
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
	}
	return clean.Line(b.Engine+" at "+b.where()+b.conditions(), 0)
}

// conditions is what must hold on the way there, each with a word before it.
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

// where is the address that the entry is bound to.
func (b Binding) where() string {
	if b.Container != "" {
		return "container:" + b.Container + " of " + b.Endpoint
	}
	return strings.Join(b.Addresses, ", ")
}

// Same reports whether two bindings let the same be done.
func (b Binding) Same(o Binding) bool { return bytes.Equal(mustJSON(b), mustJSON(o)) }

// objection says why the binding does not let a secret be sent as the query
// would have it, "" where it does. docs/wallet.md has the rule as a table.
func (b Binding) objection(q secret.Query) string {
	if why := b.problem(); why != "" {
		return why
	}
	if q.Kind != secret.OfDatabase || b.Hop != "" || b.Key != "" {
		return b.kindObjection(q)
	}
	if b.Alias != "" {
		return b.aliasObjection(q)
	}
	switch {
	case !q.SpeaksAs(b.Engine):
		return fmt.Sprintf("it is bound to the engine %s, and this is %s", b.Engine, q.Engine)
	case b.Container != "" || q.Container != "":
		if why := b.containerObjection(q); why != "" {
			return why
		}
	case !slices.Contains(b.Addresses, lower(q.Address)):
		return fmt.Sprintf("it is bound to %s, and this is %s", b.where(), q.Address)
	}
	return b.wayObjection(q)
}

// wayObjection compares the hops, the TLS rule and the server's identity. A profile that asks for
// more TLS with an authority or a name of its own widens the binding as one that asks for less.
func (b Binding) wayObjection(q secret.Query) string {
	serverKey, keyErr := fileHash("server-key", q.ServerKey, q.Pinned)
	switch {
	case !slices.Equal(b.Hops, q.Hops):
		return "it is bound to another way there: " + orNone(b.Hops, "no hop") + ", and this is " + orNone(q.Hops, "no hop")
	case strings.HasPrefix(q.Address, "/"): // a socket is never encrypted
		return ""
	case weaker(q.TLS, string(b.TLS)):
		return fmt.Sprintf("it is bound to tls = %q, and this asks for less: %q", b.TLS, q.TLS)
	case keyErr != nil || serverKey != "" && serverKey != b.ServerKey:
		return "it is bound to another server-key than this one"
	case q.TLS != string(tlsrule.Verified):
		return ""
	case b.TLSName != strings.ToLower(q.TLSName):
		return fmt.Sprintf("it is bound to a certificate for %s, and this asks for %s", orHost(b.TLSName), orHost(q.TLSName))
	}
	if has, err := fileHash("tls-ca", q.TLSAuthority, q.Pinned); err != nil || has != b.Authority {
		return "it is bound to another authority than this tls-ca"
	}
	return ""
}

// containerObjection says why what is bound to a container may not be sent, or what is bound to
// an address not to one, "" where it may: to this very container, wherever its engine
// has published it.
func (b Binding) containerObjection(q secret.Query) string {
	switch {
	case q.Container == "":
		return fmt.Sprintf("it is bound to the container %s, and this is %s", b.Container, q.Address)
	case b.Container == "":
		return fmt.Sprintf("it is bound to %s, and this is the container %s", b.where(), q.Container)
	case b.Container != q.Container:
		return fmt.Sprintf("it is bound to the container %s, and this is %s", b.Container, q.Container)
	case b.Endpoint != q.Endpoint:
		return fmt.Sprintf("it is bound to the container engine at %s, and this is %s", b.Endpoint, q.Endpoint)
	}
	return ""
}

// weaker reports whether one TLS rule asks for less than another.
func weaker(rule, than string) bool {
	strength := []tlsrule.Rule{"", tlsrule.Off, tlsrule.Offered, tlsrule.Required, tlsrule.Verified}
	return slices.Index(strength, tlsrule.Rule(rule)) < slices.Index(strength, tlsrule.Rule(than))
}

// aliasObjection says why what is bound to an alias may not be sent, "" where it may: to
// an address that this very alias leads to, by the way and the rule that the alias, or the
// binding, says.
func (b Binding) aliasObjection(q secret.Query) string {
	if len(q.Aliases) == 0 {
		return "it is bound to the alias " + b.Alias + ", and this address is none"
	}
	why := fmt.Sprintf("it is bound to the alias %s, and this is the alias %s", b.Alias, q.Aliases[0].Name)
	for _, link := range q.Aliases {
		switch {
		case link.Name != b.Alias:
		case link.File != b.AliasFile && b.AliasFile == "":
			why = fmt.Sprintf("it is bound to your own alias %s, and this is one of that name in %s", b.Alias, link.File)
		case link.File != b.AliasFile:
			why = fmt.Sprintf("it is bound to the alias %s of %s, and this is another of that name", b.Alias, b.AliasFile)
		default:
			return b.aliasFactsObjection(link, q)
		}
	}
	return why
}

// aliasFactsObjection compares what a profile says with what its alias does, or with what the binding
// says in the alias's place.
func (b Binding) aliasFactsObjection(link secret.Link, q secret.Query) string {
	if link.Engine != "" && !q.SpeaksAs(link.Engine) {
		return fmt.Sprintf("the alias %s is of the engine %s, and this is %s", link.Name, link.Engine, q.Engine)
	}
	switch {
	case b.Engine != "" && !q.SpeaksAs(b.Engine):
		return fmt.Sprintf("it is bound to the engine %s, and this is %s", b.Engine, q.Engine)
	case q.PortOverride:
		return fmt.Sprintf("the alias %s has an address without a port, and the profile says one of its own", link.Name)
	case b.TLS != "": // the profile that it was bound by said so itself
		return b.wayObjection(q)
	}
	as := Binding{TLS: tlsrule.Rule(link.TLS)}
	if as.TLS == "" { // what a profile that says nothing gets
		as.TLS = tlsrule.Verified
		if q.Local {
			as.TLS = tlsrule.Offered
		}
	}
	if as.TLS == tlsrule.Verified {
		as.TLSName = strings.ToLower(link.TLSName)
		var err error
		if as.Authority, err = fileHash("tls-ca", link.TLSAuthority, q.Pinned); err != nil {
			return err.Error()
		}
	}
	if why := as.wayObjection(q); why != "" {
		return fmt.Sprintf("by the alias %s %s", link.Name, why)
	}
	return ""
}

// told says why a secret may not be sent to an address that no file has written, ""
// where it may: with TLS that is verified against the written name, by the system's authorities
// or those of the binding. An entry that is bound to nothing has none.
func (b Binding) sourceObjection(q secret.Query) string {
	switch {
	case q.Told == "":
		return ""
	case q.TLS != string(tlsrule.Verified):
		return fmt.Sprintf("%s gave the address %s, and to such a one it is sent only with tls = \"verified\"; this asks "+
			"for %q", q.Told, q.Address, q.TLS)
	case b.Alias != "":
		return "" // aliasFactsObjection has compared authority and name with the alias's
	case strings.ToLower(q.TLSName) != b.TLSName:
		return fmt.Sprintf("%s gave the address %s, and to such a one it is sent only where the certificate is for the "+
			"written name; this asks for %s", q.Told, q.Address, q.TLSName)
	}
	if has, err := fileHash("tls-ca", q.TLSAuthority, q.Pinned); err != nil || has != b.Authority {
		return fmt.Sprintf("%s gave the address %s, and to such a one it is sent only where the system's authorities vouch "+
			"for the server; this brings a tls-ca", q.Told, q.Address)
	}
	return ""
}

func lower(address string) string {
	if strings.HasPrefix(address, "/") {
		return address
	}
	return strings.ToLower(address)
}

func orNone(words []string, none string) string {
	if len(words) == 0 {
		return none
	}
	return strings.Join(words, ", ")
}

func orHost(name string) string {
	if name == "" {
		return "the host's name"
	}
	return name
}

// Is reports whether a word, as given to unbind, names the binding: the profile
// that it was made from, alias:NAME, or one of its addresses.
func (b Binding) Is(word string) bool {
	if b.Hop != "" || b.Key != "" {
		return word == b.String()
	}
	if b.Alias != "" {
		return word == b.String() || word == "alias:"+b.Alias || word == "alias:"+schema.ProjectPrefix+b.Alias ||
			word == b.Profile && word != ""
	}
	if _, rest, ok := strings.Cut(word, "://"); ok {
		word = rest
	}
	return word == b.Profile || b.Container != "" && word == "container:"+b.Container ||
		slices.Contains(b.Addresses, lower(word))
}

// kindObjection judges what is bound to a hop or a key, or asked for one: each has
// bindings of its own kind.
func (b Binding) kindObjection(q secret.Query) string {
	bound := "a database server, " + b.String()
	switch {
	case b.Hop != "" && q.Kind == secret.OfHop && b.Hop == q.Address,
		b.Key != "" && q.Kind == secret.OfKey && b.Key == q.Address:
		return ""
	case b.Hop != "":
		bound = "the hop " + b.Hop
	case b.Key != "":
		bound = "the key " + b.Key
	case b.Alias != "":
		bound = "the alias " + b.Alias
	}
	what := map[string]string{
		secret.OfDatabase: "a database server",
		secret.OfHop:      "the hop " + q.Address,
		secret.OfKey:      "the key " + q.Address,
	}[q.Kind]
	return fmt.Sprintf("it is bound to %s, and this is %s", bound, what)
}

// ParseOther reads a binding that is not made from a profile: hop:USER@HOST:PORT,
// hop:ssh:ALIAS, a proxy's hop:URL, or key:PATH, whose path must be absolute.
func ParseOther(word string) (b Binding, ok bool) {
	if hop, ok := strings.CutPrefix(word, "hop:"); ok && hop != "" {
		return Binding{Hop: hop}, true
	}
	if k, ok := strings.CutPrefix(word, "key:"); ok && k != "" {
		return Binding{Key: k}, true
	}
	return Binding{}, false
}
