package clean

import (
	"os/exec"
	"strings"
	"testing"
)

var words = map[string]string{
	"":                  "''",
	"plain-word":        "plain-word",
	"two words":         "'two words'",
	"it's":              `'it'\''s'`,
	`say "x"`:           `'say "x"'`,
	"a\u200bb":          `$'a\u200bb'`,
	"a\u202eb":          `$'a\u202eb'`,
	"u\u2060":           `$'u\u2060'`,
	"a\u00a0b":          `$'a\u00a0b'`,
	"e\u0301":           `$'e\u0301'`,
	"\u3164":            `$'\u3164'`,
	"\u2800":            `$'\u2800'`,
	"line\nline":        `$'line\nline'`,
	"it's\ttab":         `$'it\'s\ttab'`,
	"\x80":              `$'\x80'`,
	"\ufffd":            `$'\ufffd'`,
	"\U000e0041":        `$'\U000e0041'`,
	"\x1b[2J":           `$'\u001b[2J'`,
	"Größe/dünn":        `'Größe/dünn'`,
	"back\\slash":       `'back\slash'`,
	"back\\u202e":       `'back\u202e'`,
	"back\\u202e\u202e": `$'back\\u202e\u202e'`,
}

func TestWord(t *testing.T) {
	for word, want := range words {
		if got := Word(word); got != want {
			t.Errorf("%q: %s, want %s", word, got, want)
		}
	}
	if got := Words([]string{"sh", "-c", "true; x"}); got != "sh -c 'true; x'" {
		t.Error(got)
	}
}

// TestWordIsRead: a shell that knows $'…' reads what is shown as the word itself.
func TestWordIsRead(t *testing.T) {
	shell, err := exec.LookPath("bash")
	if err != nil {
		t.Skip("bash is not installed")
	}
	for word := range words {
		cmd := exec.Command(shell, "-c", "printf %s "+Word(word))
		cmd.Env = []string{"LC_ALL=C.UTF-8"}
		if out, err := cmd.Output(); err != nil || string(out) != word {
			t.Errorf("%q is read as %q %v", word, out, err)
		}
	}
}

// FuzzWord: no two words look the same, and none of them can steer a terminal.
func FuzzWord(f *testing.F) {
	for word := range words {
		f.Add(word, word+"\u200b")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		if (Word(a) == Word(b)) != (a == b) {
			t.Errorf("%q and %q are both shown as %s", a, b, Word(a))
		}
		if Visible(Word(a)) != Word(a) || strings.ContainsAny(Word(a), "\n\t\x1b") {
			t.Errorf("%q", Word(a))
		}
	})
}
