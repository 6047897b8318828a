package engine

import "strings"

// CutName cuts a text at the first dot that is not in quotes.
func CutName(text string, quote byte) (before, after string, found bool) {
	within := false
	for i := range len(text) {
		switch {
		case text[i] == quote:
			within = !within
		case text[i] == '.' && !within:
			return text[:i], text[i+1:], true
		}
	}
	return "", text, false
}

// Unquote is a name without the quotes around it, in which a quote is written twice. was tells whether it had some.
func Unquote(name string, quote byte) (bare string, was bool) {
	if len(name) < 2 || name[0] != quote || name[len(name)-1] != quote {
		return name, false
	}
	q := string(quote)
	return strings.ReplaceAll(name[1:len(name)-1], q+q, q), true
}
