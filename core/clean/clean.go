// Package clean makes text from outside safe to show: text from a server, a name service, a file or a user's argument
// must never steer a terminal, break a line or be endless. It stands beside the whole way from profile to report;
// every room may call it.
package clean

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// MaxShown bounds a quoted piece of foreign text, in bytes. A server's longest honest message (an access rule with
// host, user and database) is shorter.
const MaxShown = 400

// Line returns s on one line without control, bidirectional or invalid characters, cut at max bytes with "…". White
// space of any kind becomes one space. max <= 0 means MaxShown.
func Line(s string, max int) string {
	if max <= 0 {
		max = MaxShown
	}
	if len(s) <= max && plain(s) {
		return s
	}
	var b strings.Builder
	space := false
	for i, r := range s {
		if r == utf8.RuneError {
			if _, width := utf8.DecodeRuneInString(s[i:]); width == 1 {
				r = '�'
			}
		}
		if unicode.IsSpace(r) {
			space = b.Len() > 0
			continue
		}
		if !Printable(r) {
			continue
		}
		room := max - b.Len() - utf8.RuneLen(r)
		if space {
			room--
		}
		if room < 0 {
			b.WriteString("…")
			return b.String()
		}
		if space {
			b.WriteByte(' ')
			space = false
		}
		b.WriteRune(r)
	}
	return b.String()
}

// plain reports whether s is printable ASCII with single blanks inside: nearly all texts are, and need no copy.
func plain(s string) bool {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < 0x20 || c >= 0x7f || c == ' ' && (i == 0 || i == len(s)-1 || s[i-1] == ' ') {
			return false
		}
	}
	return true
}

// Visible removes from s what may not reach a terminal, and keeps the rest with its blanks. It is the last guard for
// texts that are made of clean parts.
func Visible(s string) string {
	return strings.Map(func(r rune) rune {
		if Printable(r) {
			return r
		}
		return -1
	}, s)
}

// Lines is Visible for text of several lines, which may begin with tabs.
func Lines(s string) string {
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		lines[i] = Visible(strings.ReplaceAll(line, "\t", "    "))
	}
	return strings.Join(lines, "\n")
}

// Quote returns a text, cleaned as by Line, between double quotes: the form in which foreign text appears
// in a finding. A quote inside becomes a single one, so that the end is plain.
func Quote(s string) string {
	return `"` + strings.ReplaceAll(Line(s, MaxShown), `"`, `'`) + `"`
}

// Printable reports whether r may reach a terminal: no control character
// (Unicode Cc), none of the format characters (Cf) that hide or reorder text,
// no line or paragraph separator, nothing private or unassigned.
func Printable(r rune) bool {
	return r == ' ' || unicode.IsPrint(r)
}

// Bytes shows the first bytes of something that is not text, as escaped ASCII:
// "\x16\x03\x01" and the like, at most max bytes of it.
func Bytes(p []byte, max int) string {
	const hex = "0123456789abcdef"
	var b strings.Builder
	b.WriteByte('"')
	for i, c := range p {
		if i == max {
			b.WriteString("…")
			break
		}
		switch {
		case c == '\n':
			b.WriteString(`\n`)
		case c == '\r':
			b.WriteString(`\r`)
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c >= 0x20 && c < 0x7f:
			b.WriteByte(c)
		default:
			b.WriteString(`\x`)
			b.WriteByte(hex[c>>4])
			b.WriteByte(hex[c&15])
		}
	}
	b.WriteByte('"')
	return b.String()
}

// Shell quotes one word for a POSIX shell, so that a "try" line can be pasted.
// A word of ordinary characters stays as it is.
func Shell(word string) string {
	if word == "" {
		return "''"
	}
	plain := true
	for _, r := range word {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_-./:=@%+,", r)) {
			plain = false
			break
		}
	}
	if plain {
		return word
	}
	var b strings.Builder
	b.WriteByte('\'')
	for _, r := range word {
		switch {
		case r == '\'':
			b.WriteString(`'\''`)
		case Printable(r):
			b.WriteRune(r)
		}
	}
	b.WriteByte('\'')
	return b.String()
}

// Plural is a word for a number of things: with an "s" for any but one.
func Plural(n int, word string) string {
	if n == 1 {
		return word
	}
	return word + "s"
}

// Alternatives joins words to a choice: "a, b or c".
func Alternatives(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	last := len(words) - 1
	return strings.Join(words[:last], ", ") + " or " + words[last]
}

// Size is a number of bytes with two or three digits.
func Size(bytes float64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	i := 0
	for ; bytes >= 1024 && i < len(units)-1; i++ {
		bytes /= 1024
	}
	if i == 0 || bytes >= 10 {
		return fmt.Sprintf("%.0f %s", bytes, units[i])
	}
	return fmt.Sprintf("%.1f %s", bytes, units[i])
}
