package clean

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Word shows s whole, as one word of a POSIX shell: nothing is cut, joined or dropped, so two
// different words never look the same. A word of ordinary characters stays as it is, one with
// blanks or signs stands between single quotes, and one with a character that can't be seen is
// written $'…', with that character as an escape (\u202e, \n, \x80).
func Word(s string) string {
	visible := utf8.ValidString(s)
	for _, r := range s {
		visible = visible && leavesMark(r)
	}
	if visible {
		return Shell(s)
	}
	var b strings.Builder
	b.WriteString("$'")
	for i := 0; i < len(s); {
		r, width := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && width == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r == '\'' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case leavesMark(r):
			b.WriteRune(r)
		case r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		i += width
	}
	b.WriteByte('\'')
	return b.String()
}

// Name quotes an unknown name so that its difference from a known one can be seen: as Quote does, or as Word where it
// has an invisible character.
func Name(s string) string {
	if word := Word(s); strings.HasPrefix(word, "$'") && len(word) <= MaxShown {
		return word
	}
	return Quote(s)
}

// Words is Word for several, with blanks between them.
func Words(words []string) string {
	shown := make([]string, len(words))
	for i, word := range words {
		shown[i] = Word(word)
	}
	return strings.Join(shown, " ")
}

// leavesMark reports whether a character is visible by itself: a letter, a digit, a sign, or the plain blank. Marks
// that join another character, blanks of other widths and characters that most fonts leave out (Unicode,
// "Default_Ignorable_Code_Point") are not.
func leavesMark(r rune) bool {
	if r == ' ' {
		return true
	}
	const brailleBlank = '\u2800' // a sign by its category, and empty
	return unicode.In(r, unicode.L, unicode.N, unicode.P, unicode.S) &&
		!unicode.In(r, unicode.Other_Default_Ignorable_Code_Point, unicode.Variation_Selector) && r != brailleBlank &&
		r != utf8.RuneError
}
