package profile

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"

	"gentleharbor/internal/testkit/allkeys"
)

// TestOnlyTOML: of documents in every order of headers, dotted keys and inline
// tables, what is read is TOML for the library, and what is refused as written
// twice is not.
func TestOnlyTOML(t *testing.T) {
	lines := []string{
		"[profile]", "[profile.a]", "[profile.a.expect]", "[profile.b]", "[[profile.a.hop]]", "[profile.a.container]",
		`profile.a.host = "h"`, `profile.a.expect.user = "u"`, `profile = { a = { host = "h" } }`, `profile.b = { }`,
		`a.host = "h"`, `a = { host = "h" }`, `a = { host = "h", expect.user = "u", expect = { tls = "off" } }`,
		`a.expect = { user = "u" }`, `b.expect.user = "u"`, `host = "h"`, `user = "u"`, `expect.tls = "off"`,
		`expect = { user = "u" }`, `expect.user = "u"`, `expect = { }`, `hop = []`, `port = 1`, `tags = []`,
	}
	random := rand.New(rand.NewPCG(1, 2))
	read, twice := 0, 0
	for range 40_000 {
		var text strings.Builder
		for range 1 + random.IntN(5) {
			text.WriteString(lines[random.IntN(len(lines))] + "\n")
		}
		var all map[string]any
		library := toml.Unmarshal([]byte(text.String()), &all)
		_, err := Parse(keys, "profiles.toml", []byte(text.String()))
		var mistake *FileError
		switch {
		case err == nil:
			read++
			if library != nil {
				t.Fatalf("this is no TOML and is read:\n%s%v", text.String(), library)
			}
		case errors.As(err, &mistake) && strings.Contains(mistake.What, "is defined twice"):
			twice++
			if library == nil {
				t.Fatalf("this is TOML and is refused:\n%s%v", text.String(), err)
			}
		}
	}
	if read < 500 || twice < 500 {
		t.Errorf("%d were read and %d written twice: the documents are not what they are meant to be", read, twice)
	}
}

// TestEditsOfForms: an edit leaves TOML that other parsers read, or is refused with what to do.
func TestEditsOfForms(t *testing.T) {
	whole := "profile = { a = { engine = \"mysql\", host = \"h\" } }\n"
	inline := "[profile]\na = { engine = \"mysql\", host = \"h\" }\n"
	expect := "[profile.a]\nengine = \"mysql\"\nhost = \"h\"\nexpect = { version = \"15\" }\n"
	for _, c := range []struct {
		what, text, refused string
		edit                func(*File) (*Edit, error)
	}{
		{"add", whole, "make it by hand", adds},
		{"add", "\xef\xbb\xbf" + expect, "", adds},
		{"add", inline, "", adds},
		{"copy", whole, "make it by hand", func(f *File) (*Edit, error) { return copied(f, "a", "z") }},
		{"expect", expect, "make it by hand", changes(t, "expect.database=d")},
		{"host", expect, "", changes(t, "host=g")},
		{"host", inline, "", changes(t, "host=g")},
		{"host", whole, "", changes(t, "host=g")},
		{"none", "[profile.a]\ntags = []\nnote = \"x\"\n", "", changes(t, "note=y")},
	} {
		f := parse(t, c.text)
		edit, err := c.edit(f)
		var text []byte
		if err == nil {
			text, err = edit.CheckedText()
		}
		if c.refused != "" {
			if err == nil || !strings.Contains(err.Error(), c.refused) {
				t.Errorf("%s in %q: %v, %s", c.what, c.text, err, text)
			}
			continue
		}
		var all map[string]any
		if err == nil {
			err = toml.Unmarshal(text, &all)
		}
		if err != nil {
			t.Errorf("%s in %q: %v\n%s", c.what, c.text, err, text)
		}
	}
}

func adds(f *File) (*Edit, error) { return f.Add("z", nil) }

func changes(t *testing.T, pair string) func(*File) (*Edit, error) {
	return func(f *File) (*Edit, error) { return f.Set("a", allkeys.Sets(t, pair)) }
}
