package profile

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

func TestHeads(t *testing.T) {
	text := "format = 1\n[profile.a]\ncontainer = \"x\" # [profile.no]\n  [profile.\"b.c\"] # why\ncontainer = 'y'\ntags = [\"one\", 'two'] # \"three\"\n" +
		"[[profile.a.hop]]\n[profile.a.expect]\n[alias.skein]\n[profile.a b]\n[profile.open\n[cloud.station]\n# [profile.comment]\ncontainer = \"x\"\ncontainer = \"open\n"
	for kind, want := range map[string][]string{"profile": {"a", "b.c"}, "alias": {"skein"}, "cloud": {"station"}} {
		if got := Heads([]byte(text), kind); !slices.Equal(got, want) {
			t.Errorf("%s: %q", kind, got)
		}
	}
	for key, want := range map[string][]string{"container": {"x", "y"}, "tags": {"one", "two"}, "note": nil} {
		if got := Values([]byte(text), key); !slices.Equal(got, want) {
			t.Errorf("%s: %q", key, got)
		}
	}
}

// TestHeadsAsRead: the names by lines are those that reading the file gives.
func TestHeadsAsRead(t *testing.T) {
	var b strings.Builder
	for i := range 300 {
		fmt.Fprintf(&b, "[profile.p%d]\nengine = \"postgresql\"\nhost = \"h\"\nuser = \"u\"\n[profile.p%d.expect]\nwritable = true\n[[profile.p%d.hop]]\nhost = \"g\"\n", i, i, i)
	}
	f, err := Parse(keys, "profiles.toml", []byte(b.String()))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, p := range f.Profiles {
		names = append(names, p.Name)
	}
	if got := Heads([]byte(b.String()), "profile"); !slices.Equal(got, names) {
		t.Errorf("%d names, %d read", len(got), len(names))
	}
}
