package redis

import (
	"strconv"
	"strings"

	"gentleharbor/core/engine"
)

// splitLine splits a command into arguments, as the servers do with a typed one (Redis documentation, "Inline
// commands"): blanks stand between arguments; in double quotes \n, \r, \t, \b, \a, \", \\ and \xHH are escapes, in
// single quotes only \' is. A closing quote ends the argument.
func splitLine(line []byte) ([]engine.Argument, error) { return splitWith(line, false) }

// splitWith is splitLine for a command with parameters, which have zero bytes.
func splitWith(line []byte, parameters bool) (all []engine.Argument, err error) {
	for at := 0; ; {
		for at < len(line) && isBlank(line[at]) {
			at++
		}
		if at == len(line) {
			return all, nil
		}
		a := engine.Argument{From: at}
		if at, err = readArgument(line, at, &a, parameters); err != nil {
			return nil, err
		}
		a.To = at
		all = append(all, a)
	}
}

func isBlank(c byte) bool {
	return c == ' ' || c == '\t' || c == '\r' || c == '\n' || c == '\v' || c == '\f'
}

// readArgument reads one argument that begins at a byte of a line, and gives the byte behind it.
func readArgument(line []byte, at int, a *engine.Argument, parameters bool) (int, error) {
	for at < len(line) && !isBlank(line[at]) {
		c := line[at]
		switch {
		case c == 0 && !parameters:
			return 0, &engine.ArgumentError{At: at, What: `a zero byte is written "\x00"`}
		case c == '"' || c == '\'':
			end, err := readQuoted(line, at, a)
			if err != nil {
				return 0, err
			}
			if end < len(line) && !isBlank(line[end]) {
				return 0, &engine.ArgumentError{At: end, What: "a blank must follow the closing quote"}
			}
			a.Quoted = true
			return end, nil
		}
		a.Value = append(a.Value, c)
		at++
	}
	return at, nil
}

// readQuoted reads a text in quotes.
func readQuoted(line []byte, at int, a *engine.Argument) (int, error) {
	quote, from := line[at], at
	if a.Value == nil {
		a.Value = []byte{}
	}
	for at++; at < len(line); at++ {
		c := line[at]
		switch {
		case c == quote:
			return at + 1, nil
		case c == '\\' && at+1 < len(line) && (quote == '"' || line[at+1] == '\''):
			at++
			if c = line[at]; quote == '"' {
				var skip int
				c, skip = unescapeByte(line[at:])
				at += skip
			}
		}
		a.Value = append(a.Value, c)
	}
	return 0, &engine.ArgumentError{At: from, What: "this text in quotes is not closed on its line"}
}

// unescapeByte returns the byte for an escape without its backslash, and how many bytes after the first belong to it.
func unescapeByte(text []byte) (c byte, skip int) {
	if text[0] == 'x' && len(text) >= 3 {
		if n, err := strconv.ParseUint(string(text[1:3]), 16, 8); err == nil {
			return byte(n), 2
		}
	}
	if i := strings.IndexByte("nrtba", text[0]); i >= 0 {
		return "\n\r\t\b\a"[i], 0
	}
	return text[0], 0
}

// quoteArgument writes an argument so that splitLine reads the same bytes.
func quoteArgument(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i := range len(text) {
		switch c := text[i]; {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c < ' ' || c == 0x7f:
			const digits = "0123456789abcdef"
			b.WriteString(`\x`)
			b.WriteByte(digits[c>>4])
			b.WriteByte(digits[c&15])
		default:
			b.WriteByte(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// isPlain reports whether an argument needs no quotes.
func isPlain(text string) bool {
	for i := range len(text) {
		if c := text[i]; c <= ' ' || c == 0x7f || c == '"' || c == '\'' || c == '\\' {
			return false
		}
	}
	return text != "" && text[0] != '#' && text[0] != '{'
}

// formatArgument returns an argument in the form in which a person types it.
func formatArgument(text string) string {
	if isPlain(text) {
		return text
	}
	return quoteArgument(text)
}
