package sshpattern

import (
	"strings"
	"testing"
)

func TestMatch(t *testing.T) {
	for _, c := range []struct {
		pattern, name string
		want          bool
	}{
		{"*", "", true}, {"*", "gate", true}, {"g?te", "gate", true}, {"g?te", "gte", false}, {"*.saltmarsh.example", "gate.saltmarsh.example", true},
		{"*.saltmarsh.example", "saltmarsh.example", false}, {"a*b*c", "axxbyyc", true}, {"a*b*c", "axxbyy", false}, {"", "", true}, {"", "x", false}, {"gate**", "gate", true}, {"Gate", "gate", false},
	} {
		if got := Match(c.pattern, c.name); got != c.want {
			t.Errorf("%q and %q: %v", c.pattern, c.name, got)
		}
	}
}

func TestList(t *testing.T) {
	for _, c := range []struct {
		patterns string
		want     bool
	}{{"gate", true}, {"GATE", true}, {"* !gate", false}, {"!gate *", false}, {"!other", false}, {"other g*", true}, {"", false}} {
		if got := List(strings.Fields(c.patterns), "Gate"); got != c.want {
			t.Errorf("%q: %v", c.patterns, got)
		}
	}
}

// FuzzMatch: a pattern of stars ends soon, and a plain pattern matches itself alone.
func FuzzMatch(f *testing.F) {
	f.Add(strings.Repeat("*a", 40), strings.Repeat("a", 200))
	f.Fuzz(func(t *testing.T, pattern, name string) {
		got := Match(pattern, name)
		if !strings.ContainsAny(pattern, "*?") && got != (pattern == name) {
			t.Errorf("%q and %q: %v", pattern, name, got)
		}
	})
}
