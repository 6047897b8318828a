package passfile

import (
	"bytes"
	"strings"
	"testing"
)

func TestSet(t *testing.T) {
	q := Query{Host: "::1", Port: "5432", Database: "sight:ings", User: `war\den`}
	own, any := `\:\:1:5432:sight\:ings:war\\den:`, `\:\:1:5432:*:war\\den:`
	for _, c := range []struct {
		before, after string
		line          int
		any           bool
	}{
		{"", any + "n\\:w\n", 1, true},
		{own + "old\n", own + "n\\:w\n", 1, true},
		{any + "old\n", any + "n\\:w\n", 1, true},
		{any + "old\n", own + "n\\:w\n" + any + "old\n", 1, false},
		{"a:1:d:u:p\n*:*:*:*:any\n", "a:1:d:u:p\n" + any + "n\\:w\n*:*:*:*:any\n", 2, true},
		{"", own + "n\\:w\n", 1, false},
		{"# a comment\r\nh:1:d:u:p\r\n", "# a comment\r\nh:1:d:u:p\r\n" + own + "n\\:w\r\n", 3, false},
		{"h:1:d:u:p", "h:1:d:u:p\n" + own + "n\\:w\n", 2, false},
		{"a:1:d:u:p\n" + own + "old\nb:1:d:u:p\n", "a:1:d:u:p\n" + own + "n\\:w\nb:1:d:u:p\n", 2, false},
		{own + "old", own + "n\\:w", 1, false},
		{"a:1:d:u:p\n*:*:*:*:any\n", "a:1:d:u:p\n" + own + "n\\:w\n*:*:*:*:any\n", 2, false},
	} {
		text, line, err := Set([]byte(c.before), q, "n:w", c.any)
		if err != nil || string(text) != c.after || line != c.line {
			t.Errorf("%q:\n%q, line %d, %v; wanted\n%q, line %d", c.before, text, line, err, c.after, c.line)
		}
		if found, err := Find(bytes.NewReader(text), q); err != nil || found.Match == nil || found.Match.Password != "n:w" || found.Match.Line != line {
			t.Errorf("%q is not found again: %+v", c.before, found)
		}
	}
	if _, _, err := Set(nil, q, "two\nlines", false); err == nil {
		t.Error("a password of two lines was written")
	}
}

func FuzzSet(f *testing.F) {
	f.Add("h:1:d:u:p\n", "h", "secret", true)
	f.Fuzz(func(t *testing.T, before, host, password string, any bool) {
		q := Query{Host: host, Port: "1", Database: "d", User: "u"}
		text, line, err := Set([]byte(before), q, password, any)
		if err != nil || strings.ContainsAny(host, "\r\n\x00#") || host == "" || strings.Contains(before, "\r") {
			return
		}
		if found, err := Find(bytes.NewReader(text), q); err == nil && (found.Match == nil || found.Match.Password != password || found.Match.Line != line) {
			t.Errorf("%q with %q and %q: %q is not read back", before, host, password, text)
		}
	})
}
