package render

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"unicode/utf16"

	"gentleharbor/core/clean"
)

// JSON writes v, indented, with a line end. Field names are stable.
func JSON(out io.Writer, v any) error {
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(v); err != nil {
		return err
	}
	_, err := keepLines(out).Write(escapeUnseen(text.Bytes()))
	return err
}

// escapeUnseen writes a character that could steer a terminal, or is invisible on one, as an escape: \u202e. JSON has
// such characters only in strings (RFC 8259, 7).
func escapeUnseen(text []byte) []byte {
	if !bytes.ContainsFunc(text, func(r rune) bool { return r != '\n' && !clean.Printable(r) }) {
		return text
	}
	var b bytes.Buffer
	for _, r := range string(text) {
		switch {
		case r == '\n' || clean.Printable(r):
			b.WriteRune(r)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.Bytes()
}
