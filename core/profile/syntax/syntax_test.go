package syntax

import (
	"slices"
	"strings"
	"testing"
)

// TestExpand: variables, their defaults, and what is no variable.
func TestExpand(t *testing.T) {
	lookup := func(name string) (string, bool) {
		return map[string]string{"A": "x", "EMPTY": ""}[name], name != "NONE"
	}
	for text, want := range map[string]string{"${A}y": "xy", "$$": "$", "${EMPTY:-d}": "d", "${NONE:-d}": "d", "plain": "plain"} {
		if got, err := Expand(text, lookup); err != nil || got != want {
			t.Errorf("%q: %q %v", text, got, err)
		}
	}
	long := "${" + strings.Repeat("N", 1000) + "}"
	if _, err := Expand(long, func(string) (string, bool) { return "", false }); err == nil || len(err.Error()) > 400 {
		t.Errorf("%v", err)
	}
	for _, text := range []string{"$A", "${A", "${NONE}", "${A:-${B}}", "${1}"} {
		if got, err := Expand(text, lookup); err == nil {
			t.Errorf("%q: %q", text, got)
		}
	}
	if Showable("${DB_PASSWORD}") || !Showable("${HOST}") {
		t.Error("what may be shown is wrong")
	}
}

// TestWords: what names, hosts and engines' endpoints may be, and what is made of paths and strings.
func TestWords(t *testing.T) {
	for s, want := range map[string]bool{"counts": true, "a.b_c-1": true, "": false, "-a": false, "A": false, "a b": false} {
		if ValidName(s) != want {
			t.Errorf("the name %q is valid: %v", s, !want)
		}
	}
	for s, want := range map[string]bool{"db.example": true, "::1": true, "fe80::1%eth0": true, "a_b": true, "-x": false, "a b": false, "": false, "x\x1b": false} {
		if ValidHost(s) != want {
			t.Errorf("the host %q is valid: %v", s, !want)
		}
	}
	for s, want := range map[string]bool{"unix:///run/x.sock": true, "tcp://h:2375": true, "unix://x": false, "tcp://h": false, "http://h:1": false, "tcp://u@h:1": false} {
		if ValidEndpoint(s) != want {
			t.Errorf("the endpoint %q is valid: %v", s, !want)
		}
	}
	if !slices.Equal(Variables("${A}-${B:-c}$$"), []string{"A", "B"}) || VariableName("1A") || !VariableName("_a1") {
		t.Error("variables")
	}
	for path, want := range map[string]string{"~": "/h", "~/x": "/h/x", "/a": "/a", "b": "/base/b", "": ""} {
		if got := WholePath(path, "/base", "/h"); got != want {
			t.Errorf("%q is %q", path, got)
		}
	}
	if got := Quote("a\"b\\\n\t\x01é"); got != `"a\"b\\\n\t\u0001é"` {
		t.Error(got)
	}
	if HasControl("plain é") || !HasControl("a\x7f") || !HasControl("\u009b") {
		t.Error("control characters")
	}
}
