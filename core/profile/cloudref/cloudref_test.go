package cloudref

import "testing"

// TestParse: what names an instance, and what does not.
func TestParse(t *testing.T) {
	for text, ok := range map[string]bool{
		"station/estuary-members": true, "station/estuary-members/spring": true, "project:station/x": true, "station/Estuary_1.2": true,
		"station": false, "station/": false, "/x": false, "a/b/c/d": false, "station/-x": false, "station/x y": false, "station/..": false, "Station/x": false,
		"station/x/": false, "station/\x1b": false,
	} {
		r, got := Parse(text)
		if got != ok || ok && r.String() != text {
			t.Errorf("%q: %v %q", text, got, r)
		}
	}
	r, _ := Parse("station/a/b")
	if r.Within() != "a/b" || (Ref{Account: "x"}).Within() != "" || (Ref{Account: "x"}).String() != "x" {
		t.Errorf("%q", r.Within())
	}
}
