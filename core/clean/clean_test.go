package clean

import (
	"os/exec"
	"strings"
	"testing"
)

func TestLine(t *testing.T) {
	for in, want := range map[string]string{
		"plain text":              "plain text",
		"two  blanks":             "two blanks",
		" edges ":                 "edges",
		"a\nb\tc\r\nd":            "a b c d",
		"\x1b[2J\x1b]0;t\x07text": "[2J]0;ttext",
		"go\u202eaway\u2066x":     "goawayx",
		"zero\u200bwidth\ufeff":   "zerowidth",
		"bad\xffbyte":             "bad�byte",
		"\x9b31mC1":               "�31mC1",
		"\u009bC1":                "C1",
		"tilde é ü":               "tilde é ü",
		"line\u2028sep":           "line sep",
		"":                        "",
	} {
		if got := Line(in, 0); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
	if got := Line(strings.Repeat("x", 1000), 10); got != "xxxxxxxxxx…" {
		t.Errorf("%q", got)
	}
	if got := Line(strings.Repeat("é", 10), 5); got != "éé…" {
		t.Errorf("%q", got)
	}
}

func TestVisible(t *testing.T) {
	if got := Visible("gharbor set x   # a\x1b[2J\nb\u202e"); got != "gharbor set x   # a[2Jb" {
		t.Errorf("%q", got)
	}
}

func TestBytesAndQuoted(t *testing.T) {
	if got := Bytes([]byte("a\x00\x1b\"\\\n\xff"), 6); got != `"a\x00\x1b\"\\\n…"` {
		t.Error(got)
	}
	if got := Quote(`say "no"`); got != `"say 'no'"` {
		t.Error(got)
	}
}

// TestShell gives every word to a real shell and wants it back.
func TestShell(t *testing.T) {
	for _, word := range []string{"plain", "", "two words", "it's", `"double"`, "$HOME", "`id`", "$(id)", "a;b|c&d", "*", "~", "!x", "#x", "-n", "back\\slash", "é"} {
		out, err := exec.Command("sh", "-c", "printf %s "+Shell(word)).Output()
		if err != nil {
			t.Skip("no shell here")
		}
		if string(out) != word && word != "-n" {
			t.Errorf("%q comes back as %q (%s)", word, out, Shell(word))
		}
	}
	if got := Shell("a\x1b[2Jb\n"); strings.ContainsAny(got, "\x1b\n") {
		t.Errorf("%q", got)
	}
}

func FuzzLine(f *testing.F) {
	f.Add("\x1b[31mred\u202e\n")
	f.Fuzz(func(t *testing.T, s string) {
		got := Line(s, 0)
		for _, r := range got {
			if !Printable(r) {
				t.Errorf("%q lets %U through", s, r)
			}
		}
		if len(got) > MaxShown+len("…") {
			t.Errorf("%d bytes", len(got))
		}
		if again := Line(got, 0); again != got && !strings.HasSuffix(got, "…") {
			t.Errorf("%q is not clean yet: %q", got, again)
		}
	})
}

func TestSize(t *testing.T) {
	for bytes, want := range map[float64]string{
		0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 10 << 10: "10 KiB", 1.5 * (1 << 20): "1.5 MiB", 1 << 50: "1024 TiB",
	} {
		if got := Size(bytes); got != want {
			t.Errorf("%v: %s, want %s", bytes, got, want)
		}
	}
}
