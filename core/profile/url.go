package profile

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/secret"
)

// ErrURLPassword is what ParseURL says of a URL with a password in it.
var ErrURLPassword = errors.New("the URL has a password in it, which is never taken from a command line (the shell's " +
	"history holds it now: consider it known). " +
	"Give the URL without it, and say where the password is: -secret ask, env:NAME, file:PATH or passfile; or paste it " +
	"where nobody keeps it: gharbor add NAME -url-stdin -into wallet")

// urlEngines are the URL schemes of each engine.
var urlEngines = map[string]string{
	"postgresql": "postgresql", "postgres": "postgresql", "mysql": "mysql", "mariadb": "mariadb",
	"mongodb": "mongodb", "redis": "redis",
}

// urlTLS maps what PostgreSQL's sslmode asks for to a rule that asks for at
// least as much (PostgreSQL documentation, "SSL Mode Descriptions").
var urlTLS = map[string]string{
	"disable":     "off",
	"allow":       "offered",
	"prefer":      "offered",
	"require":     "required",
	"verify-ca":   "verified",
	"verify-full": "verified",
}

// urlSSLMode is the same for MySQL's ssl-mode (MySQL documentation, "Command
// Options for Encrypted Connections").
var urlSSLMode = map[string]string{
	"disabled":        "off",
	"preferred":       "offered",
	"required":        "required",
	"verify_ca":       "verified",
	"verify_identity": "verified",
}

// ParseURL reads a connection URL, as PostgreSQL's documentation describes it
// ("Connection URIs"): scheme://user@host:port/database?name=value. Several
// hosts may stand between commas; a host may be a percent-encoded socket
// folder or given as ?host=. An error never repeats the URL.
func ParseURL(s string) ([]Override, error) {
	sets, password, err := SplitURL(s)
	if err == nil && password.Present() {
		err = ErrURLPassword
	}
	return sets, err
}

// SplitURL is ParseURL for a URL that may have a password in it, which comes back
// apart. An error never repeats any of the URL.
func SplitURL(s string) (sets []Override, password secret.Value, err error) {
	u, err := readURL(s)
	if err != nil {
		return nil, secret.Value{}, err
	}
	sets, err = u.sets()
	return sets, u.password, err
}

// FromParameters makes values of named parameters, as a service file, an option
// file or an environment has them: the names of a URL's parameters, of which
// "password" comes back apart. other are those that a profile has no place for.
func FromParameters(engine string,
	pairs [][2]string) (sets []Override, password secret.Value, other []string, err error) {
	u := urlReader{engine: engine, what: "found"}
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

func readURL(s string) (*urlReader, error) {
	scheme, rest, ok := strings.Cut(s, "://")
	engine := urlEngines[strings.ToLower(scheme)]
	if !ok || engine == "" {
		why := "expected a URL such as postgresql://user@host:5432/database"
		if near := nearest.Name(scheme, []string{"postgresql", "postgres"}); ok && near != "" {
			why += fmt.Sprintf("; did you mean %s://?", near)
		}
		return nil, errors.New(why)
	}
	if hasControl(s) {
		return nil, errors.New("the URL has control characters in it")
	}
	if i := strings.IndexByte(rest, '#'); i >= 0 {
		return nil, errors.New("the URL has a # in it; write %23 for one that belongs to a name")
	}
	rest, query, _ := strings.Cut(rest, "?")
	authority, database, _ := strings.Cut(rest, "/")
	user, hosts, hasUser := cutLast(authority, "@")
	if !hasUser {
		user, hosts = "", authority
	}
	u := &urlReader{engine: engine, what: "in the URL"}
	if name, password, ok := strings.Cut(user, ":"); ok {
		user = name
		if password != "" {
			plain, err := url.PathUnescape(password)
			if err != nil {
				return nil, errors.New("the URL's password has a % that is not followed by two hexadecimal digits; write %25 for " +
					"one that belongs to it")
			}
			u.password = secret.NewValue(plain)
		}
	}
	u.text("user", user)
	u.text("database", database)
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
	engine   string
	what     string // where values stand, for errors
	given    []Override
	address  string // where to dial in place of the host, which stays the certificate's name
	password secret.Value
	err      error
}

// text notes a percent-encoded value for a key; an empty one is not given.
func (u *urlReader) text(key, encoded string) {
	if encoded == "" || u.err != nil {
		return
	}
	plain, err := url.PathUnescape(encoded)
	if err != nil {
		u.err = fmt.Errorf("the URL's %s has a %% that is not followed by two hexadecimal digits", key)
		return
	}
	u.plain(key, plain)
}

// plain notes a value. What came from a URL is no template: its "$" stays one.
func (u *urlReader) plain(key, value string) {
	f := fieldByName[key]
	if f.Expands {
		value = strings.ReplaceAll(value, "$", "$$")
	}
	v, err := f.ParseValue(value)
	if err != nil {
		u.err = fmt.Errorf("%s, %w", u.what, err)
		return
	}
	u.given = slices.DeleteFunc(u.given, func(o Override) bool { return o.Field == f })
	u.given = append(u.given, Override{Field: f, Value: v})
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
	host, port := SplitHostPort(s)
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
			u.err = fmt.Errorf("the URL's parameter %s has a %% that is not followed by two hexadecimal digits",
				clean.Quoted(name))
			return
		}
		u.parameter(name, value)
	}
}

func (u *urlReader) parameter(name, value string) {
	keys := map[string]string{
		"user":                   "user",
		"dbname":                 "database",
		"port":                   "port",
		"sslrootcert":            "tls-ca",
		"sslcert":                "tls-cert",
		"sslkey":                 "tls-key",
		"ssl-ca":                 "tls-ca",
		"ssl-cert":               "tls-cert",
		"ssl-key":                "tls-key",
		"socket":                 "socket",
		"server-public-key-path": "server-key",
	}
	switch {
	case name == "sslpassword":
		u.err = ErrURLPassword
	case slices.Contains(passwordKeys, strings.ToLower(name)):
		u.password = secret.NewValue(value)
	case value == "":
	case keys[name] != "":
		u.plain(keys[name], value)
	case name == "host":
		u.hosts(value)
	case name == "hostaddr":
		u.address = value
	case name == "passfile":
		u.plain("secret", "passfile:"+value)
	case name == "sslmode" && urlTLS[value] != "":
		u.plain("tls", urlTLS[value])
	case name == "sslmode":
		u.err = errors.New(u.what + ", sslmode: expected one of disable, allow, prefer, require, verify-ca, verify-full")
	case name == "ssl-mode" && urlSSLMode[strings.ToLower(value)] != "":
		u.plain("tls", urlSSLMode[strings.ToLower(value)])
	case name == "ssl-mode":
		u.err = errors.New(u.what + ", ssl-mode: expected one of DISABLED, PREFERRED, REQUIRED, VERIFY_CA, VERIFY_IDENTITY")
	case name == "target_session_attrs" && value == "any":
	case name == "target_session_attrs" && (value == "read-write" || value == "primary"):
		u.plain("target", "writable")
	case name == "target_session_attrs" && (value == "read-only" || value == "standby"):
		u.plain("target", "read-only")
	case name == "application_name" || name == "connect_timeout" || name == "channel_binding":
		// they change how one client connects, not to what; a profile has no key for them
	default:
		known := []string{"host", "port", "user", "dbname", "sslmode", "sslrootcert", "sslcert", "sslkey", "passfile",
			"target_session_attrs", "ssl-mode", "ssl-ca", "ssl-cert", "ssl-key", "socket"}
		text := fmt.Sprintf("the URL's parameter %s has no place in a profile", clean.Quoted(name))
		if near := nearest.Name(name, known); near != "" {
			text += fmt.Sprintf("; did you mean %q?", near)
		}
		u.err = &unknownParameter{text}
	}
}

// dial gives effect to hostaddr: it is dialled, and the certificate must be for the
// host (PostgreSQL documentation, "Parameter Key Words"). Of several hosts the names
// are kept instead.
func (u *urlReader) dial() {
	named := func(key string) (string, bool) {
		i := slices.IndexFunc(u.given, func(o Override) bool { return o.Field.Name == key })
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

func (u *urlReader) sets() ([]Override, error) {
	if u.dial(); u.err != nil {
		return nil, u.err
	}
	engine := Override{Field: fieldByName["engine"], Value: TextValue(u.engine)}
	sets := append([]Override{engine}, u.given...)
	if slices.ContainsFunc(sets, func(o Override) bool { return o.Field.Name == "socket" }) && u.engine != "postgresql" {
		// For MySQL's clients localhost is the socket.
		sets = slices.DeleteFunc(sets,
			func(o Override) bool { return o.Field.Name == "host" && o.Value.Text() == "localhost" })
	}
	if first, second := TwoAddresses(sets); second != "" {
		return nil, fmt.Errorf("the URL has two kinds of address, %s and %s", first, second)
	}
	return sets, nil
}

// IsScheme reports whether a URL's scheme is that of an engine.
func IsScheme(scheme string) bool { return urlEngines[strings.ToLower(scheme)] != "" }
