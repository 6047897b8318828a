package schema

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"gentleharbor/core/hostname"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/syntax"
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

// Field describes one key: its name, what it takes, how to explain it and what it is for. It is the only place that
// says so.
type Field struct {
	Name     key.Name // as in the file; a key of the expect table has the prefix "expect."
	Kind     Kind
	Expected string // for "expected …" in an error
	Summary  string // for help and docs
	Topic    string // what this key and those after it are about, for help; "" where it goes on
	Expands  bool   // takes ${NAME}
	Path     bool   // names a file: "~" and relative paths belong to the file that holds it
	Switchy  bool   // a Text that also takes true and false
	Address  bool   // one of the kinds of address, of which a profile has one
	Hop      bool   // a key of a hop, not of the profile
	Source   bool   // a secret source
	Private  bool   // names a file that nobody else may read
	Empties  bool   // a List that may be empty: none, in place of those of the profile that it is like

	// What a key is for. The zero value is the careful one: a key is shown and hashed when the user vouches for a
	// project's profile, and after a change of it a wallet's secret is not given out.
	NotUse   bool // it changes nothing that is dialled, asked, read, run or sent
	NotBound bool // it has no say in where a secret goes, or under whose eyes
	InWord   bool // of a hop: a part of the word by which the hop is known
	valid    func(string) bool
	words    []string // the only values, where the field has such; valid is for them then
}

var (
	tlsRules  = []string{"off", "offered", "required", "verified"}
	guards    = []string{"none", "ask", "read-only"}
	targets   = []string{"any", "writable", "read-only"}
	expectTLS = []string{"off", "required", "verified", "true", "false"}
)

// indexFields finds the keys of a table by name.
func indexFields(fields []Field) map[key.Name]*Field {
	m := make(map[key.Name]*Field, len(fields))
	for i := range fields {
		m[fields[i].Name] = &fields[i]
	}
	return m
}

func namesOf(fields []Field) []string {
	names := make([]string, len(fields))
	for i := range fields {
		names[i] = string(fields[i].Name)
	}
	return names
}

// Words are the only values of the key, nil where it takes others.
func (f *Field) Words() []string { return f.words }

// ParseValue reads a value as typed on a command line. The error says what was
// expected and never repeats the value, which may be a misplaced password.
func (f *Field) ParseValue(s string) (Value, error) {
	v := Value{Kind: f.Kind, Raw: s}
	if f.Kind == NameOrLabels {
		v = placeValue(s)
	}
	if f.Kind == List {
		v.Raw, v.Items = "", typedList(s)
	}
	if why := f.Check(v); why != "" {
		return Value{}, fmt.Errorf("%s: %s", f.Name, why)
	}
	return v, nil
}

// typedList are the items of a list as typed: between commas, or as the profile file has them.
func typedList(s string) (items []string) {
	if strings.HasPrefix(s, "[") && json.Unmarshal([]byte(s), &items) == nil {
		return items
	}
	items = nil
	for item := range strings.SplitSeq(s, ",") {
		if item = strings.TrimSpace(item); item != "" {
			items = append(items, item)
		}
	}
	return items
}

// Literal is ParseValue for a text without variables: a dollar sign in it is just that.
func (f *Field) Literal(s string) (Value, error) {
	if f.Expands {
		s = strings.ReplaceAll(s, "$", "$$")
	}
	return f.ParseValue(s)
}

// Fits reports whether a text is one that the field takes.
func (f *Field) Fits(s string) bool { return f.valid(s) }

// Check says what is wrong with a value of the right kind, or "". It does not
// repeat the value.
func (f *Field) Check(v Value) string {
	if f.Kind == List {
		if len(v.Items) == 0 && !f.Empties {
			return "expected " + f.Expected
		}
		for _, item := range v.Items {
			if !f.valid(item) || syntax.HasControl(item) || !utf8.ValidString(item) {
				return "expected " + f.Expected
			}
		}
		return ""
	}
	if f.Kind == Switch {
		if v.Raw != "true" && v.Raw != "false" {
			return "expected " + f.Expected
		}
		return ""
	}
	if f.Kind == NameOrLabels {
		return f.checkPlace(v)
	}
	if !utf8.ValidString(v.Raw) {
		return "expected text in UTF-8"
	}
	if syntax.HasControl(v.Raw) {
		return "control characters are not allowed, line breaks among them"
	}
	if hidesPassword(v.Raw) {
		return "this looks like a connection URL with a password in it; " + syntax.NoPasswordHere
	}
	if f.Expands && strings.Contains(v.Raw, "$") {
		if _, err := syntax.Expand(v.Raw, func(string) (string, bool) { return "", true }); err != nil {
			return err.Error()
		}
		return "" // checked again once the variables have values
	}
	if f.valid(v.Raw) {
		return ""
	}
	why := "expected " + f.Expected
	if f.Name == "host" {
		why = hostAdvice(v.Raw)
	}
	if f.Name == "endpoint" {
		why = endpointAdvice(v.Raw)
	}
	if f.Name == "secret" && !f.Hop {
		why = secret.Advice(v.Raw)
	}
	if len(f.words) > 0 {
		if near := nearest.Name(v.Raw, f.words); near != "" {
			why += fmt.Sprintf("; did you mean %q?", near)
		}
	}
	return why
}

func hostAdvice(s string) string {
	switch {
	case strings.Contains(s, "://"):
		return "expected a host name or address, found a URL; use: gharbor add NAME URL"
	case strings.HasPrefix(s, "/"):
		return "expected a host name or address, found a path; for a Unix socket use socket"
	case strings.HasPrefix(s, "["):
		return "expected an IPv6 address without brackets; give the port separately (port)"
	case strings.Contains(s, ","):
		return `expected one host; for several use hosts`
	case strings.Contains(s, ":"):
		return "expected a host without a port; give the port separately (port)"
	}
	return "expected a host name or an IP address"
}

// hidesPassword reports whether s is a URL that carries a password.
func hidesPassword(s string) bool {
	return strings.Contains(s, "://") && urlPassword().MatchString(s)
}

// The expressions are compiled at their first use: most runs need none, and each would wait for them at its start.
var (
	urlPassword = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)^[a-z][a-z0-9+.-]*://[^/@:\s]*:[^@\s]+@|[?&](password|sslpassword|pass|pwd)=[^&\s]`)
	})
	versionTerm = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^\s*(>=|<=|>|<|=|==|!=)?\s*\d+(\.\d+){0,3}\s*$`)
	})
)

func notEmpty(s string) bool { return s != "" }

func oneOf(words []string) func(string) bool {
	return func(s string) bool { return slices.Contains(words, s) }
}

func validLike(s string) bool { return syntax.ValidName(strings.TrimPrefix(s, syntax.ProjectPrefix)) }

func validTag(s string) bool { return s != "" && len(s) <= 64 && !strings.ContainsAny(s, ", \t") }

func validPort(s string) bool {
	n, err := strconv.Atoi(s)
	return err == nil && n >= 1 && n <= 65535
}

// validHostPort accepts host, host:port and [IPv6]:port.
func validHostPort(s string) bool {
	host, port := hostname.SplitPort(s)
	return syntax.ValidHost(host) && (port == "" || validPort(port))
}

// validSentinel accepts NAME@HOST:PORT.
func validSentinel(s string) bool {
	name, at, both := strings.Cut(s, "@")
	_, port := hostname.SplitPort(at)
	return both && name != "" && !strings.ContainsAny(name, " \t") && port != "" && validHostPort(at)
}

// validIndex accepts COLLECTION.INDEX.
func validIndex(s string) bool {
	collection, index, both := strings.Cut(s, ".")
	return both && collection != "" && index != ""
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
