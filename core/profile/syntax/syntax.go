// Package syntax has the rules of the words in profiles: names, hosts, paths, and ${NAME} templates. It is a leaf
// beneath the table of keys.
package syntax

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
)

// Expand replaces ${NAME} and ${NAME:-default} in s by what lookup says, and
// $$ by a dollar sign. The default is used when the variable is unset or
// empty. There is no nesting; anything else after a dollar sign is an error.
func Expand(s string, lookup func(string) (string, bool)) (string, error) {
	if !strings.Contains(s, "$") {
		return s, nil
	}
	var b strings.Builder
	for {
		i := strings.IndexByte(s, '$')
		if i < 0 {
			b.WriteString(s)
			return b.String(), nil
		}
		b.WriteString(s[:i])
		s = s[i+1:]
		if strings.HasPrefix(s, "$") {
			b.WriteByte('$')
			s = s[1:]
			continue
		}
		if !strings.HasPrefix(s, "{") {
			return "", errors.New("a single $; write ${NAME} for a variable, $$ for a dollar sign")
		}
		end := strings.IndexByte(s, '}')
		if end < 0 {
			return "", errors.New("${ without a }")
		}
		name, fallback, hasFallback := strings.Cut(s[1:end], ":-")
		s = s[end+1:]
		if strings.ContainsAny(fallback, "${") {
			return "", errors.New("a variable inside another's default is not allowed")
		}
		if !VariableName(name) {
			return "", errors.New("${…} takes the name of an environment variable: letters, digits and _")
		}
		value, ok := lookup(name)
		if !ok || value == "" && hasFallback {
			if !hasFallback {
				name = clean.Line(name, 100)
				return "", fmt.Errorf("the environment variable %s is not set; set it, or write ${%s:-default}",
					name, name)
			}
			value = fallback
		}
		b.WriteString(value)
	}
}

// Variables are the names of the environment variables that a value would take.
func Variables(s string) []string {
	var names []string
	Expand(s, func(name string) (string, bool) {
		names = append(names, name)
		return "", true
	})
	return names
}

// VariableName reports whether a word may name an environment variable.
func VariableName(name string) bool {
	for i, r := range name {
		if !(r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || i > 0 && r >= '0' && r <= '9') {
			return false
		}
	}
	return name != ""
}

// secretLooking reports whether a variable's value is not to be shown.
func secretLooking(name string) bool {
	name = strings.ToLower(name)
	for _, word := range []string{"pass", "pwd", "secret", "token", "key", "cred", "auth"} {
		if strings.Contains(name, word) {
			return true
		}
	}
	return false
}

// Showable reports whether every variable of a template may be shown expanded.
func Showable(template string) bool {
	for part := range strings.SplitSeq(template, "${") {
		name, _, _ := strings.Cut(part, "}")
		if secretLooking(name) {
			return false
		}
	}
	return true
}

// ServicePrefix before a name says that a section of a service file is
// meant.
const ServicePrefix = "service:"

// ProjectPrefix before a name says that the project's profile is meant, also
// where the user has one of that name.
const ProjectPrefix = "project:"

// ValidEndpoint reports whether s says where a container engine listens:
// unix:///PATH or tcp://HOST:PORT.
func ValidEndpoint(s string) bool {
	u, err := url.Parse(s)
	if err != nil || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return false
	}
	switch u.Scheme {
	case "unix":
		return u.Host == "" && path.IsAbs(u.Path) && path.Clean(u.Path) == u.Path && u.Path != "/"
	case "tcp":
		port, err := strconv.Atoi(u.Port())
		return err == nil && port >= 1 && port <= 65535 && validHost(u.Hostname()) && (u.Path == "" || u.Path == "/")
	}
	return false
}

// PasswordKeys are what people call a password; none of them may hold one.
var PasswordKeys = []string{"password", "passwd", "pass", "pwd", "passphrase", "passwort", "pw"}

// NoPasswordHere explains where a password goes instead of a file or a flag.
const NoPasswordHere = "profiles hold no passwords; gharbor secret keep PROFILE keeps one in a safe place"

// HasControl reports whether a text has characters that steer a terminal.
func HasControl(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] < 0x20 || s[i] >= 0x7f {
			return strings.ContainsFunc(s, func(r rune) bool { return r < 0x20 || r >= 0x7f && r < 0xa0 })
		}
	}
	return false
}

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

// ValidHost reports whether s could be a host's name or address, wherever it is from: what DNS, a hosts file or an
// IP literal (with zone) can be.
func ValidHost(s string) bool { return validHost(s) && !HasControl(s) }

func validHost(s string) bool {
	if _, err := netip.ParseAddr(s); err == nil {
		return true
	}
	if s == "" || len(s) > 253 || strings.HasPrefix(s, "-") {
		return false
	}
	return !strings.ContainsAny(s, "/@:[]?#,;\\\"'`<>|&()*!{}=$% \t")
}

// WholePath makes path absolute: "~/" is home, a relative one belongs to base
// ("" is the working folder).
func WholePath(path, base, home string) string {
	if path == "~" {
		return home
	}
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		return filepath.Join(home, rest)
	}
	if filepath.IsAbs(path) || path == "" {
		return path
	}
	if base == "" {
		if wd, err := os.Getwd(); err == nil {
			base = wd
		}
	}
	return filepath.Join(base, path)
}

// Quote writes a TOML 1.0 basic string.
func Quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x20 || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
