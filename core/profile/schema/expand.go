package schema

import (
	"errors"
	"fmt"
	"strings"
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
			return "", errors.New("a lone $; write ${NAME} for a variable, $$ for a dollar sign")
		}
		end := strings.IndexByte(s, '}')
		if end < 0 {
			return "", errors.New("${ without its }")
		}
		name, fallback, hasFallback := strings.Cut(s[1:end], ":-")
		s = s[end+1:]
		if strings.ContainsAny(fallback, "${") {
			return "", errors.New("a variable inside another's default is not allowed")
		}
		if !validVariable(name) {
			return "", errors.New("${…} takes the name of an environment variable: letters, digits and _")
		}
		value, ok := lookup(name)
		if !ok || value == "" && hasFallback {
			if !hasFallback {
				return "", fmt.Errorf("the environment variable %s is not set; set it, or write ${%s:-default}", name, name)
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
func VariableName(name string) bool { return validVariable(name) }

func validVariable(name string) bool {
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
