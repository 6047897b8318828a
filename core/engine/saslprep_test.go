package engine

import "testing"

// TestSASLPrep: examples of RFC 4013, section 3, and of keyboards; what is refused stays as it is.
func TestSASLPrep(t *testing.T) {
	for in, want := range map[string]string{
		"I\u00adX": "IX", "user": "user", "USER": "USER", "\u00aa": "a", "\u2168": "IX",
		"\u0007": "\u0007", "\u0627\u0031": "\u0627\u0031", // prohibited, and bidirectional: as they are
		"Heron²7": "Heron27", "a½b": "a1\u20442b", "ﬁnch": "finch", "Ａ1": "A1", "x™": "xTM", "1º": "1o",
		"a\u00a0b": "a b", "cafe\u0301": "café", "Möwe-ß": "Möwe-ß", "a\tb": "a\tb", "": "",
	} {
		if got := SASLPrep(in); got != want {
			t.Errorf("%q becomes %q, want %q", in, got, want)
		}
	}
}
