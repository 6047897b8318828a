package profile

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/secret"
)

// Kind is the type that a field's value has in the file.
type Kind int

// The kinds of value.
const (
	Text         Kind = iota // a TOML string
	Number                   // a TOML integer, or a string with ${NAME} in it
	List                     // a TOML array of strings; on the command line, words between commas
	Switch                   // true or false
	NameOrLabels             // a TOML string, or a table of two: what names a container
)

// Field describes one key of a profile: the single place that says what a key
// is called, what it takes and how to explain it.
type Field struct {
	Name     string // as in the file; a key of the expect table has the prefix "expect."
	Kind     Kind
	Expected string // for "expected …" in an error
	Summary  string // for help and docs
	Expands  bool   // takes ${NAME}
	Path     bool   // names a file: "~" and relative paths belong to the file that holds it
	Switchy  bool   // a Text that also takes true and false
	Address  bool   // one of the kinds of address, of which a profile has one
	Hop      bool   // a key of a hop, not of the profile
	Source   bool   // a secret source
	Private  bool   // names a file that nobody else may read

	// What a key is for is declared here and nowhere else. The zero value is the careful one:
	// a key is shown and hashed when a project's profile is vouched for, and a change of it
	// keeps a wallet's secret back.
	NotUse   bool // it changes nothing that is dialled, asked, read, run or sent
	NotBound bool // it has no say in where a secret goes, or under whose eyes
	InWord   bool // of a hop: a part of the word by which the hop is known
	valid    func(string) bool
}

// Engines are the words that `engine` takes, with each one's usual port.
// Which of them this version can test is the engine registry's business.
var engines = []struct {
	name string
	port int
}{
	{"postgresql", 5432}, {"mysql", 3306}, {"mariadb", 3306}, {"mongodb", 27017}, {"redis", 6379}, {"oracle", 1521},
}

// Engines returns the engine words in their usual order.
func Engines() []string {
	names := make([]string, len(engines))
	for i, e := range engines {
		names[i] = e.name
	}
	return names
}

// DefaultPort is the engine's usual port, 0 for an unknown word.
func DefaultPort(engine string) int {
	for _, e := range engines {
		if e.name == engine {
			return e.port
		}
	}
	return 0
}

var (
	// privileges are the administrative rights of Oracle's databases.
	privileges = []string{"sysdba", "sysoper", "sysbackup", "sysdg", "syskm", "sysrac", "sysasm"}

	tlsRules  = []string{"off", "offered", "required", "verified"}
	targets   = []string{"any", "writable", "read-only"}
	expectTLS = []string{"off", "required", "verified", "true", "false"}
)

// fields lists every key in the order in which the tool writes and shows them.
var fields = []Field{
	{Name: "like", NotBound: true, Expected: "the name of another profile",
		Summary: "take every field not set here from that profile; project:NAME is one of a project's file",
		valid:   validLike},
	{Name: "engine", Expected: "one of " + strings.Join(Engines(), ", "),
		Summary: "the kind of server: " + strings.Join(Engines(), ", "), valid: oneOf(Engines())},
	{Name: "host", Address: true, Expected: "a host name or an IP address, without port or scheme",
		Summary: "where the server is", Expands: true, valid: validHost},
	{Name: "port", Kind: Number, Expected: "a number from 1 to 65535",
		Summary: "its port; the engine's usual one where not set", Expands: true, valid: validPort},
	{Name: "hosts", Address: true, Kind: List, Expected: `a list of hosts such as ["10.0.0.1", "10.0.0.2:5433"]`,
		Summary: "several servers, host or host:port, tried in order", valid: validHostPort},
	{Name: "target", NotBound: true, Expected: "one of any, writable, read-only",
		Summary: "which of the hosts will do: any, writable, read-only", valid: oneOf(targets)},
	{Name: "socket", Address: true, Expected: "a path",
		Summary: "a Unix socket, or the folder it is in (localhost is TCP)", Expands: true, Path: true, valid: notEmpty},
	{Name: "alias", Address: true, Expected: "the name of an alias, or service:NAME of PostgreSQL's service file",
		Summary: "where the server is, by an alias; project:NAME is one of a project's file", valid: validAliasWord},
	{Name: "container", Address: true, Kind: NameOrLabels, Expected: containerForms,
		Summary: "the container that it is in, by name, or PROJECT/SERVICE of a compose file", valid: validContainer},
	{Name: "endpoint", Expected: "where a container engine is asked: unix:///PATH or tcp://HOST:PORT",
		Summary: "the container engine, unix:///PATH or tcp://HOST:PORT; else all here", valid: ValidEndpoint},
	{Name: "service", NotBound: true, Expected: "a name",
		Summary: "the service's name, as the listener knows it (oracle)", valid: notEmpty},
	{Name: "instance", NotBound: true, Expected: "a name",
		Summary: "the instance's name, as the listener knows it (oracle)", valid: notEmpty},
	{Name: "database", NotBound: true, Expected: "a name",
		Summary: "the database to open; on PostgreSQL the user's name where not set", Expands: true, valid: notEmpty},
	{Name: "user", NotBound: true, Expected: "a name", Summary: "the account to log in as", Expands: true,
		valid: notEmpty},
	{Name: "as", NotBound: true, Expected: "one of " + strings.Join(privileges, ", "),
		Summary: "log in with an administrator's right (oracle): " + strings.Join(privileges, ", "),
		valid:   oneOf(privileges)},
	{Name: "secret", Source: true, NotBound: true, Expected: "a secret source: " + secret.Forms,
		Summary: "password from: " + secret.Words, valid: secret.Valid},
	{Name: "command", NotBound: true, Kind: List,
		Expected: `a list of words such as ["/usr/local/bin/unlock", "sightings"]`,
		Summary:  "a program and its words that print the password, where secret is command or not set", valid: notEmpty},
	{Name: "tls", Expected: "one of off, offered, required, verified",
		Summary: "the rule for encryption: off, offered, required, verified", valid: oneOf(tlsRules)},
	{Name: "tls-ca", Expected: "a path", Summary: "PEM file of the authorities to trust instead of the system's",
		Path: true, valid: notEmpty},
	{Name: "tls-name", Expected: "a host name", Summary: "the name that the certificate must carry", valid: validHost},
	{Name: "tls-cert", NotBound: true, Expected: "a path", Summary: "PEM file of the client's certificate", Path: true,
		valid: notEmpty},
	{Name: "tls-key", NotBound: true, Private: true, Expected: "a path", Summary: "PEM file of the client's private key",
		Path: true, valid: notEmpty},
	{Name: "server-key", Expected: "a path", Summary: "PEM file of a MySQL server's RSA key, for passwords without TLS",
		Path: true, valid: notEmpty},
	{Name: "tags", NotUse: true, NotBound: true, Kind: List, Expected: `a list of words such as ["local", "field"]`,
		Summary: "words to choose profiles by", valid: validTag},
	{Name: "note", NotUse: true, NotBound: true, Expected: "text", Summary: "a line for people",
		valid: func(string) bool { return true }},
	{Name: "expect.version", NotUse: true, NotBound: true, Expected: `versions such as "15", ">= 14" or ">= 14, < 17"`,
		Summary: "the server's version: 15, or >= 14, < 17", valid: validVersions},
	{Name: "expect.tls", NotUse: true, NotBound: true, Switchy: true,
		Expected: "one of off, required, verified (or true, false)",
		Summary:  "how the connection is encrypted: off, required, verified", valid: oneOf(expectTLS)},
	{Name: "expect.writable", NotUse: true, NotBound: true, Kind: Switch, Expected: "true or false",
		Summary: "whether the session may write: true or false"},
	{Name: "expect.user", NotUse: true, NotBound: true, Expected: "a name", Summary: "who one is once logged in",
		valid: notEmpty},
	{Name: "expect.database", NotUse: true, NotBound: true, Expected: "a name", Summary: "the database one is in",
		valid: notEmpty},
	{Name: "expect.tables", NotUse: true, NotBound: true, Kind: List,
		Expected: `a list of tables such as ["sighting", "field.observer"]`, Summary: "tables that exist", valid: notEmpty},
	{Name: "expect.extensions", NotUse: true, NotBound: true, Kind: List, Expected: "a list of extension names",
		Summary: "extensions that are installed; plugins on MySQL and MariaDB", valid: notEmpty},
	{Name: "expect.server", NotUse: true, NotBound: true, Expected: "what show or test calls server_lineage",
		Summary: "the server's own id: server_lineage of test -format json", valid: notEmpty},
	{Name: "expect.encoding", NotUse: true, NotBound: true, Expected: `an encoding such as "UTF8"`,
		Summary: "the database's encoding", valid: notEmpty},
	{Name: "expect.collation", NotUse: true, NotBound: true, Expected: `a collation such as "utf8mb4_general_ci"`,
		Summary: "the database's collation", valid: notEmpty},
	{Name: "expect.sql-mode", NotUse: true, NotBound: true, Kind: List,
		Expected: `a list of modes such as ["STRICT_TRANS_TABLES"]`, Summary: "SQL modes that are on (MySQL, MariaDB)",
		valid: notEmpty},
	{Name: "expect.time-zone", NotUse: true, NotBound: true, Expected: `a time zone such as "Etc/UTC"`,
		Summary: "the session's time zone", valid: notEmpty},
	{Name: "expect.latency", NotUse: true, NotBound: true, Expected: `a time such as "50ms"`,
		Summary: "the longest median round trip: 50ms", valid: validDuration},
}

var fieldByName = indexed(fields)

// indexed finds the keys of a table by name.
func indexed(fields []Field) map[string]*Field {
	m := make(map[string]*Field, len(fields))
	for i := range fields {
		m[fields[i].Name] = &fields[i]
	}
	return m
}

// Fields returns the description of every key, in writing order.
func Fields() []Field { return slices.Clone(fields) }

// FieldNamed returns a key's description, or nil.
func FieldNamed(name string) *Field { return fieldByName[name] }

func namesOf(fields []Field) []string {
	names := make([]string, len(fields))
	for i := range fields {
		names[i] = fields[i].Name
	}
	return names
}

// expectations are the keys of the expect table.
func expectations() []string {
	var names []string
	for i := range fields {
		if name, ok := strings.CutPrefix(fields[i].Name, "expect."); ok {
			names = append(names, name)
		}
	}
	return names
}

// later holds keys that the design names and this version does not have.
var later = map[string]string{
	"cloud": "address by cloud instance is not in this version; use host",
}

// passwordKeys are what people call a password; none of them may hold one.
var passwordKeys = []string{"password", "passwd", "pass", "pwd", "passphrase", "passwort", "pw"}

// NoPasswordHere explains where a password goes instead of a file or a flag.
const NoPasswordHere = "a password is never kept here; say where it is instead: secret = \"passfile\" (or " +
	"optionfile, ask, env:NAME, file:PATH)"

// unknownKey says what a key that is no field was probably meant to be.
func unknownKey(name string) string {
	last := name[strings.LastIndexByte(name, '.')+1:]
	if slices.Contains(passwordKeys, strings.ToLower(last)) {
		return NoPasswordHere
	}
	if text, ok := later[strings.SplitN(name, ".", 2)[0]]; ok {
		return text
	}
	text := fmt.Sprintf("unknown key %s", clean.Name(name))
	if near := nearest.Name(name, namesOf(fields)); near != "" {
		return text + fmt.Sprintf("; did you mean %q?", near)
	}
	if strings.HasPrefix(name, "expect.") {
		return text + "; an expectation is one of " + strings.Join(expectations(), ", ")
	}
	return text + "; gharbor help set lists the keys"
}

// ParseValue reads a value as typed on a command line. The error says what was
// expected and never repeats the value, which may be a misplaced password.
func (f *Field) ParseValue(s string) (Value, error) {
	v := Value{kind: f.Kind, text: s}
	if f.Kind == NameOrLabels {
		v = placeValue(s)
	}
	if f.Kind == List {
		v.text = ""
		for item := range strings.SplitSeq(s, ",") {
			if item = strings.TrimSpace(item); item != "" {
				v.list = append(v.list, item)
			}
		}
	}
	if why := f.check(v); why != "" {
		return Value{}, fmt.Errorf("%s: %s", f.Name, why)
	}
	return v, nil
}

// check says what is wrong with a value of the right kind, or "". It does not
// repeat the value.
func (f *Field) check(v Value) string {
	if f.Kind == List {
		if len(v.list) == 0 {
			return "expected " + f.Expected
		}
		for _, item := range v.list {
			if !f.valid(item) || hasControl(item) || !utf8.ValidString(item) {
				return "expected " + f.Expected
			}
		}
		return ""
	}
	if f.Kind == Switch {
		if v.text != "true" && v.text != "false" {
			return "expected " + f.Expected
		}
		return ""
	}
	if f.Kind == NameOrLabels {
		return f.checkPlace(v)
	}
	if !utf8.ValidString(v.text) {
		return "expected text in UTF-8, and this is in another encoding"
	}
	if hasControl(v.text) {
		return "control characters are not allowed"
	}
	if hidesPassword(v.text) {
		return "this looks like a connection URL with a password in it; " + NoPasswordHere
	}
	if f.Expands && strings.Contains(v.text, "$") {
		if _, err := expand(v.text, func(string) (string, bool) { return "", true }); err != nil {
			return err.Error()
		}
		return "" // checked again once the variables have values
	}
	if f.valid(v.text) {
		return ""
	}
	why := "expected " + f.Expected
	if f.Name == "host" {
		why = hostAdvice(v.text)
	}
	if f.Name == "endpoint" {
		why = endpointAdvice(v.text)
	}
	if f.Name == "secret" && !f.Hop {
		why = secret.Advice(v.text)
	}
	if words := enumeration(f.Name); words != nil {
		if near := nearest.Name(v.text, words); near != "" {
			why += fmt.Sprintf("; did you mean %q?", near)
		}
	}
	return why
}

func enumeration(name string) []string {
	switch name {
	case "engine":
		return Engines()
	case "tls":
		return tlsRules
	case "target":
		return targets
	case "pick":
		return picks
	case "as":
		return privileges
	case "expect.tls":
		return expectTLS
	}
	return nil
}

func hostAdvice(s string) string {
	switch {
	case strings.Contains(s, "://"):
		return "expected a host name or address, found a URL; use: gharbor add NAME URL"
	case strings.HasPrefix(s, "/"):
		return "expected a host name or address, found a path; a Unix socket goes in the key socket"
	case strings.HasPrefix(s, "["):
		return "expected an IPv6 address without brackets, and its port in the key port"
	case strings.Contains(s, ","):
		return `expected one host; several go in the key hosts = ["…", "…"]`
	case strings.Contains(s, ":"):
		return "expected a host without a port; the port goes in the key port"
	}
	return "expected a host name or an IP address"
}

// hidesPassword reports whether s is a URL that carries a password.
func hidesPassword(s string) bool {
	return strings.Contains(s, "://") && urlPassword().MatchString(s)
}

// The expressions are compiled when one is needed: most runs need none, and
// every run would wait for them at its start.
var (
	urlPassword = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)^[a-z][a-z0-9+.-]*://[^/@:\s]*:[^@\s]+@|[?&](password|sslpassword|pass|pwd)=[^&\s]`)
	})
	versionTerm = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^\s*(>=|<=|>|<|=|==|!=)?\s*\d+(\.\d+){0,3}\s*$`)
	})
)

func hasControl(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] < 0x20 || s[i] >= 0x7f {
			return strings.ContainsFunc(s, func(r rune) bool { return r < 0x20 || r >= 0x7f && r < 0xa0 })
		}
	}
	return false
}

func notEmpty(s string) bool { return s != "" }

func oneOf(words []string) func(string) bool {
	return func(s string) bool { return slices.Contains(words, s) }
}

func validLike(s string) bool { return ValidName(strings.TrimPrefix(s, ProjectPrefix)) }

// ValidName reports whether s may name a profile: [a-z0-9][a-z0-9._-]{0,63}.
func ValidName(s string) bool {
	if s == "" || len(s) > 64 {
		return false
	}
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' {
			continue
		}
		if i == 0 || c != '.' && c != '_' && c != '-' {
			return false
		}
	}
	return true
}

// NameRule is what ValidName asks, for a message.
const NameRule = "a name is 1 to 64 of a-z, 0-9, '.', '_', '-' and starts with a letter or digit"

func validTag(s string) bool { return s != "" && len(s) <= 64 && !strings.ContainsAny(s, ", \t") }

func validPort(s string) bool {
	n, err := strconv.Atoi(s)
	return err == nil && n >= 1 && n <= 65535
}

// validHost accepts what DNS, a hosts file or an IP literal (with zone) can be.
// ValidHost reports whether s could be a host's name or address, wherever it is from.
func ValidHost(s string) bool { return validHost(s) && !hasControl(s) }

func validHost(s string) bool {
	if _, err := netip.ParseAddr(s); err == nil {
		return true
	}
	if s == "" || len(s) > 253 || strings.HasPrefix(s, "-") {
		return false
	}
	return !strings.ContainsAny(s, "/@:[]?#,;\\\"'`<>|&()*!{}=$% \t")
}

// validHostPort accepts host, host:port and [IPv6]:port.
func validHostPort(s string) bool {
	host, port := SplitHostPort(s)
	return validHost(host) && (port == "" || validPort(port))
}

// SplitHostPort splits an item of `hosts`; the port is "" where none is written.
func SplitHostPort(s string) (host, port string) {
	if _, err := netip.ParseAddr(s); err == nil {
		return s, ""
	}
	if rest, ok := strings.CutPrefix(s, "["); ok {
		host, after, _ := strings.Cut(rest, "]")
		if after == "" {
			return host, ""
		}
		return host, strings.TrimPrefix(after, ":")
	}
	if i := strings.LastIndexByte(s, ':'); i >= 0 {
		return s[:i], s[i+1:]
	}
	return s, ""
}

func validDuration(s string) bool {
	d, err := time.ParseDuration(s)
	return err == nil && d > 0
}

func validVersions(s string) bool {
	for term := range strings.SplitSeq(s, ",") {
		if !versionTerm().MatchString(term) {
			return false
		}
	}
	return true
}
