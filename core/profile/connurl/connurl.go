// Package connurl reads connection URLs and named parameters as values for a profile, by the words of the
// engines that a schema is for. A password in them comes back apart. Start with Parse.
package connurl

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
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
// folder or given as ?host=. An error never repeats the URL.
func Parse(keys *schema.Schema, s string) ([]schema.Override, error) {
	sets, password, err := Split(keys, s)
	if err == nil && password.Present() {
		err = ErrPassword
	}
	return sets, err
}

// Split is Parse for a URL that may have a password in it, which comes back
// apart. An error never repeats any of the URL.
func Split(keys *schema.Schema, s string) (sets []schema.Override, password secret.Value, err error) {
	u, err := readURL(keys, s)
	if err != nil {
		return nil, secret.Value{}, err
	}
	sets, err = u.sets()
	return sets, u.password, err
}

// FromParameters makes values of named parameters, as a service file, an option
// file or an environment has them: the names of a URL's parameters, of which
// "password" comes back apart. other are those that a profile has no place for.
func FromParameters(keys *schema.Schema, word string,
	pairs [][2]string) (sets []schema.Override, password secret.Value, other []string, err error) {
	u := urlReader{keys: keys, spec: keys.Engines().Named(word), what: "found"}
	for _, pair := range pairs {
		known := u
		u.parameter(pair[0], pair[1])
		var unknown *unknownParameter
		if errors.As(u.err, &unknown) {
			u = known
			other = append(other, pair[0])
		}
		if u.err != nil {
			return nil, secret.Value{}, nil, u.err
		}
	}
	sets, err = u.sets()
	return sets, u.password, other, err
}

// unknownParameter is a parameter without a place in a profile.
type unknownParameter struct{ text string }

func (e *unknownParameter) Error() string { return e.text }

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

func readURL(keys *schema.Schema, s string) (*urlReader, error) {
	scheme, rest, ok := strings.Cut(s, "://")
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
	user, hosts, hasUser := cutLast(authority, "@")
	if !hasUser {
		user, hosts = "", authority
	}
	u := &urlReader{keys: keys, spec: spec, what: "in the URL"}
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
	u.hosts(hosts)
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
	what     string // where values stand, for errors
	given    []schema.Override
	address  string // where to dial in place of the host, which stays the certificate's name
	password secret.Value
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
	if f.Expands {
		value = strings.ReplaceAll(value, "$", "$$")
	}
	v, err := f.ParseValue(value)
	if err != nil {
		u.err = fmt.Errorf("%s, %w", u.what, err)
		return
	}
	u.given = slices.DeleteFunc(u.given, func(o schema.Override) bool { return o.Field == f })
	u.given = append(u.given, schema.Override{Field: f, Value: v})
}

func (u *urlReader) hosts(s string) {
	if s == "" {
		return
	}
	if decoded, err := url.PathUnescape(s); err == nil && strings.HasPrefix(decoded, "/") {
		u.plain("socket", decoded)
		return
	}
	if strings.Contains(s, ",") {
		u.text("hosts", s)
		return
	}
	host, port := hostname.SplitPort(s)
	u.text("host", host)
	u.text("port", port)
}

// query reads the parameters after "?".
func (u *urlReader) query(query string) {
	for pair := range strings.SplitSeq(query, "&") {
		name, encoded, _ := strings.Cut(pair, "=")
		if name == "" || u.err != nil {
			continue
		}
		value, err := url.QueryUnescape(encoded)
		if err != nil {
			u.err = fmt.Errorf("the URL's parameter %s has a %% without two hexadecimal digits after it",
				clean.Quoted(name))
			return
		}
		u.parameter(name, value)
	}
}

// parameter takes a named value. The names are those of all engines: files and variables of one are often
// written for programs that know another's.
func (u *urlReader) parameter(name, value string) {
	p, known := parameter(u.keys, u.spec, name)
	word := value
	if p.Fold {
		word = strings.ToLower(value)
	}
	switch {
	case slices.Contains(syntax.PasswordKeys, strings.ToLower(name)) || p.Form == engine.Password:
		u.password = secret.NewValue(value)
	case p.Form == engine.NoPassword:
		u.err = ErrPassword
	case known && (value == "" || p.Form == engine.Idle):
	case known && p.Form == engine.Hosts:
		u.hosts(value)
	case known && p.Form == engine.DialAddress:
		u.address = value
	case known && p.Values == nil:
		u.plain(p.Key, p.Prefix+value)
	case known && p.Values[word] != "":
		u.plain(p.Key, p.Values[word])
	case known && slices.Contains(slices.Collect(maps.Keys(p.Values)), word): // it asks for nothing
	case p.Expected != "":
		u.err = fmt.Errorf("%s, %s: expected %s", u.what, name, p.Expected)
	case value == "":
	default:
		text := fmt.Sprintf("a profile has no key for the URL's parameter %s", clean.Quoted(name))
		if near := nearest.Name(name, parameters(u.keys)); near != "" {
			text += fmt.Sprintf("; did you mean %q?", near)
		}
		u.err = &unknownParameter{text}
	}
}

// parameter is what an engine, or another one, means by a name.
func parameter(keys *schema.Schema, spec *engine.Spec, name string) (engine.Parameter, bool) {
	for _, one := range append([]*engine.Spec{spec}, keys.Engines().All()...) {
		if one == nil {
			continue
		}
		if p, ok := one.URL.Parameters[name]; ok {
			return p, true
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
// host . Of several hosts the names
// are kept instead.
func (u *urlReader) dial() {
	named := func(k string) (string, bool) {
		i := slices.IndexFunc(u.given, func(o schema.Override) bool { return string(o.Field.Name) == k })
		if i < 0 {
			return "", false
		}
		return u.given[i].Value.Text(), true
	}
	host, one := named("host")
	_, several := named("hosts")
	switch {
	case u.address == "" || several || one && strings.Contains(u.address, ","):
		return
	case one && host != u.address:
		u.plain("tls-name", host)
	}
	u.hosts(u.address)
}

func (u *urlReader) sets() ([]schema.Override, error) {
	if u.dial(); u.err != nil {
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
	return sets, nil
}

// IsScheme reports whether a URL's scheme is that of an engine.
func IsScheme(keys *schema.Schema, scheme string) bool { return schemeOf(keys, scheme) != nil }
