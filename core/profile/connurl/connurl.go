// Package connurl reads connection URLs and named parameters as values for a profile, by the words of the
// engines that a schema is for. A password in them comes back apart. Start with Parse.
package connurl

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/hostname"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
)

// ErrPassword is what Parse says of a URL with a password in it.
var ErrPassword = errors.New("the URL has a password in it. Passwords on the command line end up in the shell's " +
	"history: treat this one as known to others")

// Parse reads a connection URL, scheme://user@host:port/database?name=value. Several
// hosts may stand between commas; a host may be a percent-encoded socket
// folder or given as ?host=. A connection string of an engine's own, as Pairs has it, is read too. An error never
// repeats the text.
func Parse(keys *schema.Schema, s string) (*Connection, error) {
	c, err := Split(keys, s)
	if err == nil && (c.Password.Present() || c.sealed) {
		err = ErrPassword
	}
	return c, err
}

// Connection is what a URL, or named parameters, say.
type Connection struct {
	Sets     []schema.Override
	Password secret.Value // apart; not Present where there is none
	LeftOut  []string     // parameters that a profile has no place for, by name
	Notes    []string     // what became of parameters that no key says alone

	sealed bool // it has the passphrase of a key
}

// Split parses as Parse does, a URL that may have a password in it. An error never repeats any of the URL.
func Split(keys *schema.Schema, s string) (*Connection, error) { return read(keys, s, leaveNone) }

// Lenient is Split for a URL that was written for another program: parameters that are like none that is known are left
// out.
func Lenient(keys *schema.Schema, s string) (*Connection, error) { return read(keys, s, leaveStrange) }

func read(keys *schema.Schema, s string, leaveOut omission) (*Connection, error) {
	if word, pairs, ok := Pairs(keys, s); ok {
		return FromParameters(keys, word, pairs)
	}
	u, err := readURL(keys, s, leaveOut)
	if err != nil {
		return nil, err
	}
	return u.connection()
}

// Pairs takes a connection string of names and values apart, with the engine whose form it is; ok is false for another
// text.
func Pairs(keys *schema.Schema, text string) (word string, pairs [][2]string, ok bool) {
	for _, spec := range keys.Engines().All() {
		if spec.URL.Pairs == nil {
			continue
		}
		if pairs, ok := spec.URL.Pairs(text); ok {
			return spec.Word, pairs, true
		}
	}
	return "", nil, false
}

// FromParameters makes a connection of named parameters, as a service file, an option
// file or an environment has them: the names of a URL's parameters, of which
// "password" comes back apart. Those that are not known are left out.
func FromParameters(keys *schema.Schema, word string, pairs [][2]string) (*Connection, error) {
	u := urlReader{keys: keys, spec: keys.Engines().ByWord(word), named: make(map[string]string), leaveOut: leaveAll}
	for _, pair := range pairs {
		if u.parameter(pair[0], pair[1]); u.err != nil {
			return nil, u.err
		}
	}
	return u.connection()
}

// schemeOf is the engine whose URLs have that scheme, nil for none.
func schemeOf(keys *schema.Schema, scheme string) *engine.Spec {
	for _, spec := range keys.Engines().All() {
		if slices.Contains(spec.URL.Schemes, strings.ToLower(scheme)) {
			return spec
		}
	}
	return nil
}

// schemes are those of all engines.
func schemes(keys *schema.Schema) []string {
	var all []string
	for _, spec := range keys.Engines().All() {
		all = append(all, spec.URL.Schemes...)
	}
	return all
}

// withoutDriver takes off what a URL has for a library alone: quotes around it, "jdbc:" before it, and the name of a
// driver behind the scheme, as in "ENGINE+driver://".
func withoutDriver(keys *schema.Schema, s string) string {
	if n := len(s); n > 1 && (s[0] == '"' || s[0] == '\'') && s[n-1] == s[0] {
		s = s[1 : n-1]
	}
	s = strings.TrimPrefix(s, "jdbc:")
	scheme, rest, ok := strings.Cut(s, "://")
	base, _, driver := strings.Cut(scheme, "+")
	if ok && driver && schemeOf(keys, scheme) == nil && schemeOf(keys, base) != nil {
		return base + "://" + rest
	}
	return s
}

func readURL(keys *schema.Schema, s string, leaveOut omission) (*urlReader, error) {
	scheme, rest, ok := strings.Cut(withoutDriver(keys, s), "://")
	spec := schemeOf(keys, scheme)
	if !ok || spec == nil {
		example := keys.Engines().Example()
		why := fmt.Sprintf("expected a URL such as %s://user@host:%d/database", example.URL.Scheme, example.Port)
		if near := nearest.Name(scheme, schemes(keys)); ok && near != "" {
			why += fmt.Sprintf("; did you mean %s://?", near)
		}
		return nil, errors.New(why)
	}
	if syntax.HasControl(s) {
		return nil, errors.New("the URL has control characters in it")
	}
	if i := strings.IndexByte(rest, '#'); i >= 0 {
		return nil, errors.New("the URL has a # in it; write %23 if it belongs to a name")
	}
	rest, query, _ := strings.Cut(rest, "?")
	authority, database, _ := strings.Cut(rest, "/")
	if strings.Count(authority, "@") > 1 {
		what := "the user"
		if before, _, _ := strings.Cut(authority, "@"); strings.Contains(before, ":") {
			what = "a password"
		}
		return nil, fmt.Errorf("the URL has more than one @ before the database: write %%40 for one that belongs to %s",
			what)
	}
	user, hosts, hasUser := cutLast(authority, "@")
	if !hasUser {
		user, hosts = "", authority
	}
	u := &urlReader{keys: keys, spec: spec, what: "in the URL, ", named: make(map[string]string), leaveOut: leaveOut}
	for k, value := range spec.URL.Means[strings.ToLower(scheme)] {
		u.plain(string(k), value)
	}
	if name, password, ok := strings.Cut(user, ":"); ok {
		user = name
		if password != "" {
			plain, err := url.PathUnescape(password)
			if err != nil {
				return nil, errors.New("the URL's password has a % without two hexadecimal digits after it; write " +
					"%25 for a %")
			}
			u.password = secret.NewValue(plain)
		}
	}
	u.text("user", user)
	u.text(cmp.Or(string(spec.URL.Path), "database"), database)
	u.named[engine.PathParameter], u.named[engine.UserParameter] = database, user
	if before := spec.URL.SRV[strings.ToLower(scheme)]; before != "" {
		u.service(before, hosts)
	} else {
		u.hosts(hosts)
	}
	u.query(query)
	return u, u.err
}

func cutLast(s, sep string) (before, after string, found bool) {
	i := strings.LastIndex(s, sep)
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+len(sep):], true
}

type urlReader struct {
	keys     *schema.Schema
	spec     *engine.Spec
	what     string // where values stand, for errors: "in the URL, ", or ""
	given    []schema.Override
	ports    []string // of several hosts, one each
	address  string   // where to dial in place of the host, which stays the certificate's name
	password secret.Value
	named    map[string]string // the parameters, by name
	leftOut  []string
	sealed   bool
	leaveOut omission
	err      error
}

// text notes a percent-encoded value for a key; an empty one is not given.
func (u *urlReader) text(k, encoded string) {
	if encoded == "" || u.err != nil {
		return
	}
	plain, err := url.PathUnescape(encoded)
	if err != nil {
		u.err = fmt.Errorf("the URL's %s has a %% without two hexadecimal digits after it", k)
		return
	}
	u.plain(k, plain)
}

// plain notes a value. What came from a URL is no template: its "$" stays one.
func (u *urlReader) plain(k, value string) {
	f := u.keys.Field(key.Name(k))
	v, err := f.Literal(value)
	if err != nil {
		u.err = fmt.Errorf("%s%w", u.what, err)
		return
	}
	u.given = slices.DeleteFunc(u.given, func(o schema.Override) bool { return o.Field == f })
	u.given = append(u.given, schema.Override{Field: f, Value: v})
}

func (u *urlReader) hosts(s string) {
	if s == "" || u.err != nil {
		return
	}
	if strings.Contains(s, ",") {
		u.text("hosts", s)
		return
	}
	if strings.Contains(s, "[") && !bracketed(s) {
		u.err = errors.New("the URL's host begins with [ and is no IPv6 address in brackets, such as [::1]:5432")
		return
	}
	host, port := hostname.SplitPort(s)
	if decoded, err := url.PathUnescape(host); err == nil && strings.HasPrefix(decoded, "/") {
		u.plain("socket", decoded)
		u.text("port", port)
		return
	}
	u.text("host", host)
	u.text("port", port)
}

// service notes the name of the SRV records that list the servers. What DNS says is no more than that: options in TXT
// records are not read.
func (u *urlReader) service(before, host string) {
	if strings.ContainsAny(host, ",:[") || host == "" {
		u.err = errors.New("expected one host without a port: DNS lists the servers and their ports")
		return
	}
	u.text(string(key.SRV), before+host)
}

// bracketed reports whether a host is an IPv6 address in brackets, with or without a port behind it.
func bracketed(s string) bool {
	inside, rest, ok := strings.Cut(strings.TrimPrefix(s, "["), "]")
	addr, err := netip.ParseAddr(inside)
	return ok && strings.HasPrefix(s, "[") && err == nil && addr.Is6() && (rest == "" || rest[0] == ':')
}

// query reads the parameters after "?".
func (u *urlReader) query(query string) {
	for pair := range strings.SplitSeq(query, "&") {
		if pair == "" || u.err != nil {
			continue
		}
		encodedName, encoded, hasValue := strings.Cut(pair, "=")
		name, nameErr := url.PathUnescape(encodedName)
		value, err := url.PathUnescape(encoded) // a plus sign is one
		switch {
		case err != nil, nameErr != nil:
			u.err = fmt.Errorf("the URL's parameter %s has a %% without two hexadecimal digits after it",
				clean.Quote(encodedName))
		case !hasValue:
			u.err = errors.New("the URL has a parameter without = and a value")
		default:
			u.parameter(name, value)
		}
	}
}

// parameter takes a named value. The names are those of all engines: files and variables of one are often
// written for programs that know another's.
func (u *urlReader) parameter(name, value string) {
	p, known := parameter(u.keys, u.spec, name)
	u.named[name] = value
	word := value
	if p.Fold {
		word = strings.ToLower(value)
	}
	switch {
	case slices.Contains(syntax.PasswordKeys, strings.ToLower(name)) || p.Form == engine.Password:
		u.password = secret.NewValue(value)
	case p.Form == engine.Passphrase:
		u.sealed = value != ""
	case known && p.Form == engine.Unkept && value != "":
		u.err = fmt.Errorf("%s%s: %s", u.what, name, p.Expected)
	case known && p.Form == engine.Idle:
		u.leftOut = append(u.leftOut, name)
	case known && value == "":
	case known && p.Form == engine.Hosts:
		u.hosts(value)
	case known && p.Form == engine.DialAddress:
		u.address = value
	case known && p.Key == string(key.Port) && strings.Contains(value, ","):
		u.ports = strings.Split(value, ",")
	case known && p.Values == nil:
		u.plain(p.Key, p.Prefix+value)
	case known && p.Values[word] != "":
		u.plain(p.Key, p.Values[word])
	case known && slices.Contains(slices.Collect(maps.Keys(p.Values)), word): // it asks for nothing
	case p.Expected != "":
		u.err = fmt.Errorf("%s%s: expected %s", u.what, name, p.Expected)
	default:
		u.reportUnknown(name)
	}
}

// reportUnknown handles a parameter that no engine knows. One that looks like a misspelt name is an error: it may ask
// for a secure connection, so it must not be left out.
func (u *urlReader) reportUnknown(name string) {
	near := nearest.Name(name, parameters(u.keys))
	if u.leaveOut == leaveAll || u.leaveOut == leaveStrange && near == "" {
		u.leftOut = append(u.leftOut, name)
		return
	}
	text := fmt.Sprintf("a profile has no key for the URL's parameter %s", clean.Quote(name))
	if near != "" {
		text += fmt.Sprintf("; did you mean %q?", near)
	}
	u.err = errors.New(text)
}

// omission says which unknown parameters are left out.
type omission int

const (
	leaveNone    omission = iota
	leaveStrange          // those that are like none that is known
	leaveAll
)

// parameter is what an engine means by a name.
func parameter(keys *schema.Schema, spec *engine.Spec, name string) (engine.Parameter, bool) {
	for _, one := range append([]*engine.Spec{spec}, keys.Engines().All()...) {
		if one == nil {
			continue
		}
		if p, ok := one.URL.Parameters[name]; ok {
			return p, true
		}
	}
	if spec != nil && spec.URL.Fold {
		for own, p := range spec.URL.Parameters {
			if strings.EqualFold(own, name) {
				return p, true
			}
		}
	}
	return engine.Parameter{}, false
}

// parameters are the names that mean something in a profile.
func parameters(keys *schema.Schema) []string {
	var names []string
	for _, spec := range keys.Engines().All() {
		for name, p := range spec.URL.Parameters {
			if p.Form == engine.Plain || p.Form == engine.Hosts {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// dial gives effect to hostaddr: it is dialled, and the certificate must be for the
// host. A list of addresses has no place in a profile.
func (u *urlReader) dial() {
	host, one := u.has("host")
	_, several := u.has("hosts")
	switch {
	case u.address == "" || u.err != nil:
		return
	case several || strings.Contains(u.address, ","):
		u.err = fmt.Errorf("%shostaddr: expected one address, for one host; for several write the addresses in "+
			"[hosts] of aliases.toml", u.what)
		return
	case one && host != u.address:
		u.plain("tls-name", host)
	}
	u.hosts(u.address)
}

// pair gives each of several hosts its own of several ports, as engines' clients do that take lists of both.
func (u *urlReader) pair() {
	list, _ := u.has("hosts")
	hosts := strings.Split(list, ",")
	switch {
	case u.ports == nil || u.err != nil:
		return
	case len(hosts) != len(u.ports):
		u.err = fmt.Errorf("%sport: expected one port, or as many as there are hosts", u.what)
		return
	}
	for i, h := range hosts {
		name, _ := hostname.SplitPort(h)
		hosts[i] = net.JoinHostPort(strings.Trim(name, "[]"), cmp.Or(u.ports[i], strconv.Itoa(u.spec.Port)))
	}
	u.plain("hosts", strings.Join(hosts, ","))
}

func (u *urlReader) has(k string) (string, bool) {
	i := slices.IndexFunc(u.given, func(o schema.Override) bool { return string(o.Field.Name) == k })
	if i < 0 {
		return "", false
	}
	return u.given[i].Value.Text(), true
}

// settle applies what several parameters mean together.
func (u *urlReader) settle() (notes []string) {
	if u.err != nil || u.spec == nil || u.spec.URL.Settle == nil {
		return nil
	}
	keys, notes := u.spec.URL.Settle(u.named)
	for k, value := range keys {
		if value == "" {
			u.given = slices.DeleteFunc(u.given, func(o schema.Override) bool { return string(o.Field.Name) == k })
		} else {
			u.plain(k, value)
		}
	}
	return notes
}

func (u *urlReader) connection() (*Connection, error) {
	u.dial()
	u.pair()
	notes := u.settle()
	if u.err != nil {
		return nil, u.err
	}
	word := schema.Override{Field: u.keys.Field(key.Engine), Value: schema.TextValue(u.spec.Word)}
	sets := append([]schema.Override{word}, u.given...)
	socket := slices.ContainsFunc(sets, func(o schema.Override) bool { return o.Field.Name == "socket" })
	if socket && u.spec.Sockets.Localhost {
		sets = slices.DeleteFunc(sets,
			func(o schema.Override) bool { return o.Field.Name == "host" && o.Value.Text() == "localhost" })
	}
	if first, second := schema.TwoAddresses(sets); second != "" {
		return nil, fmt.Errorf("the URL has two kinds of address, %s and %s", first, second)
	}
	return &Connection{sets, u.password, u.leftOut, notes, u.sealed}, nil
}

// IsOf reports whether a text is a URL of an engine, in whatever form a library writes it.
func IsOf(keys *schema.Schema, s string) bool {
	scheme, _, ok := strings.Cut(withoutDriver(keys, s), "://")
	return ok && schemeOf(keys, scheme) != nil
}
