package wallet

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/profile"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// Binding says where an entry may be sent: an address with all that makes it
// this address, or an alias.
type Binding struct {
	Profile   string       `json:"profile,omitempty"`    // the user's own profile that it was made from
	Alias     string       `json:"alias,omitempty"`      // alone, but for Profile and AliasFile
	AliasFile string       `json:"alias_file,omitempty"` // the project's file that the alias stands in, "" for one of the user's
	Hop       string       `json:"hop,omitempty"`        // alone: a jump host or proxy as a profile writes it, "user@host:port"
	Key       string       `json:"key,omitempty"`        // alone: the absolute path of a private key file
	Container string       `json:"container,omitempty"`  // with Engine, Endpoint and TLS: a container's name, or PROJECT/SERVICE
	Endpoint  string       `json:"endpoint,omitempty"`   // of the container engine that has it
	Engine    string       `json:"engine,omitempty"`
	Addresses []string     `json:"addresses,omitempty"` // "host:port" or a socket's path, as written, in small letters
	Hops      []string     `json:"hops,omitempty"`      // in order from here
	TLS       tlsrule.Rule `json:"tls,omitempty"`       // the least that must be asked
	Authority string       `json:"authority,omitempty"` // SHA-256 of tls-ca's file, "" for the system's authorities
	TLSName   string       `json:"tls_name,omitempty"`  // tls-name, "" for the host
}

// BindingOf binds to where a profile leads now. containers says which engine has the
// container of a profile that names one and no engine; where none can be asked, the error
// is a *secret.Failure.
func BindingOf(ctx context.Context, containers route.Containers, p *profile.Resolved) (Binding, error) {
	if found := p.Problem(); found != nil {
		return Binding{}, errors.New(found.Cause)
	}
	if p.AddressKind() == "alias" {
		return ofAlias(p)
	}
	b := Binding{Engine: p.Text("engine"), Hops: p.HopWords(), TLS: tlsrule.Rule(p.Text("tls")), TLSName: strings.ToLower(p.Text("tls-name"))}
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
	var err error
	if b.TLS == tlsrule.Verified {
		b.Authority, err = authority(p.Text("tls-ca"))
	} else {
		b.TLSName = ""
	}
	return b, err
}

// ofAlias binds to the alias that a profile names: where that leads later, the secret
// may be sent too.
func ofAlias(p *profile.Resolved) (Binding, error) {
	if found := p.Astray(); found != nil {
		return Binding{}, errors.New(found.Cause)
	}
	b := ToAlias(p.Service().Links[0])
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
	own, project := strings.CutPrefix(name, profile.ProjectPrefix)
	return b.Alias == own && b.Alias != "" && (b.AliasFile != "") == project
}

// authority is what tells one file of authorities from another: the SHA-256 of
// its bytes. The system's authorities are "".
func authority(path string) (string, error) {
	if path == "" {
		return "", nil
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("tls-ca %s: %w", path, atomicfile.Plain(err))
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), nil
}

// String says where the binding leads, in one line.
func (b Binding) String() string {
	switch {
	case b.Alias != "" && b.AliasFile != "":
		return "alias:" + b.Alias + " of " + clean.Line(b.AliasFile, 200)
	case b.Alias != "":
		return "alias:" + b.Alias
	case b.Hop != "":
		return "hop:" + clean.Line(b.Hop, 200)
	case b.Key != "":
		return "key:" + clean.Line(b.Key, 300)
	}
	text := b.Engine + " at " + b.where()
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
	return clean.Line(text, 0)
}

// where is the address that the entry is bound to.
func (b Binding) where() string {
	if b.Container != "" {
		return "container:" + b.Container + " of " + b.Endpoint
	}
	return strings.Join(b.Addresses, ", ")
}

// Same reports whether two bindings let the same be done.
func (b Binding) Same(o Binding) bool {
	return b.Profile == o.Profile && b.Alias == o.Alias && b.AliasFile == o.AliasFile && b.Hop == o.Hop && b.Key == o.Key && b.leads(o)
}

func (b Binding) leads(o Binding) bool {
	return b.Engine == o.Engine && b.Container == o.Container && b.Endpoint == o.Endpoint && slices.Equal(b.Addresses, o.Addresses) && slices.Equal(b.Hops, o.Hops) && b.TLS == o.TLS && b.Authority == o.Authority && b.TLSName == o.TLSName
}

// objection says why the binding does not let a secret be sent as the query
// would have it, "" where it does.
func (b Binding) objection(q secret.Query) string {
	if q.Kind != secret.OfDatabase || b.Hop != "" || b.Key != "" {
		return b.otherKind(q)
	}
	if b.Alias != "" {
		return b.ofAnother(q)
	}
	socket := strings.HasPrefix(q.Address, "/") // a socket is never encrypted
	switch {
	case !engine.SameFamily(b.Engine, q.Engine):
		return fmt.Sprintf("it is bound to the engine %s, and this is %s", b.Engine, q.Engine)
	case b.Container != "" || q.Container != "":
		if why := b.inAnother(q); why != "" {
			return why
		}
	case !slices.Contains(b.Addresses, lower(q.Address)):
		return fmt.Sprintf("it is bound to %s, and this is %s", b.where(), q.Address)
	}
	switch {
	case !slices.Equal(b.Hops, q.Hops):
		return "it is bound to another way there: " + orNone(b.Hops, "no hop") + ", and this is " + orNone(q.Hops, "no hop")
	case socket:
		return ""
	case weaker(q.TLS, string(b.TLS)):
		return fmt.Sprintf("it is bound to tls = %q, and this asks for less: %q", b.TLS, q.TLS)
	case b.TLS != tlsrule.Verified:
		return ""
	case b.TLSName != strings.ToLower(q.TLSName):
		return fmt.Sprintf("it is bound to a certificate for %s, and this asks for %s", orHost(b.TLSName), orHost(q.TLSName))
	}
	if has, err := authority(q.TLSAuthority); err != nil || has != b.Authority {
		return "it is bound to another authority than this tls-ca"
	}
	return ""
}

// inAnother says why what is bound to a container may not be sent, or what is bound to
// an address not to one, "" where it may: to this very container, wherever its engine
// has published it.
func (b Binding) inAnother(q secret.Query) string {
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

// ofAnother says why what is bound to an alias may not be sent, "" where it may: to
// an address that this very alias leads to.
func (b Binding) ofAnother(q secret.Query) string {
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
		case weaker(q.TLS, link.TLS):
			return fmt.Sprintf("the alias %s says tls = %q, and this asks for less: %q", b.Alias, link.TLS, q.TLS)
		default:
			return ""
		}
	}
	return why
}

// told says why a secret may not be sent to an address that no file has written, ""
// where it may: with TLS that is verified against a name that one has.
func told(q secret.Query) string {
	if q.Told == "" || q.TLS == string(tlsrule.Verified) {
		return ""
	}
	return fmt.Sprintf("%s gave the address %s, and to such a one it is sent only with tls = \"verified\"; this asks for %q", q.Told, q.Address, q.TLS)
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
		return word == b.String() || word == "alias:"+b.Alias || word == "alias:"+profile.ProjectPrefix+b.Alias || word == b.Profile && word != ""
	}
	if _, rest, ok := strings.Cut(word, "://"); ok {
		word = rest
	}
	return word == b.Profile || b.Container != "" && word == "container:"+b.Container || slices.Contains(b.Addresses, lower(word))
}

// otherKind judges what is bound to a hop or a key, or asked for one: each has
// bindings of its own kind.
func (b Binding) otherKind(q secret.Query) string {
	bound := "a database server, " + b.String()
	switch {
	case b.Hop != "" && q.Kind == secret.OfHop && b.Hop == q.Address, b.Key != "" && q.Kind == secret.OfKey && b.Key == q.Address:
		return ""
	case b.Hop != "":
		bound = "the hop " + b.Hop
	case b.Key != "":
		bound = "the key " + b.Key
	case b.Alias != "":
		bound = "the alias " + b.Alias
	}
	what := map[string]string{secret.OfDatabase: "a database server", secret.OfHop: "the hop " + q.Address, secret.OfKey: "the key " + q.Address}[q.Kind]
	return fmt.Sprintf("it is bound to %s, and this is %s", bound, what)
}

// ParseOther reads a binding that is not made from a profile: hop:USER@HOST:PORT,
// hop:ssh:ALIAS, a proxy's hop:URL, or key:PATH, whose path must be absolute.
func ParseOther(word string) (b Binding, ok bool) {
	if hop, ok := strings.CutPrefix(word, "hop:"); ok && hop != "" {
		return Binding{Hop: hop}, true
	}
	if key, ok := strings.CutPrefix(word, "key:"); ok && key != "" {
		return Binding{Key: key}, true
	}
	return Binding{}, false
}
