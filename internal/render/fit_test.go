package render

import (
	"strings"
	"testing"
)

func TestFit(t *testing.T) {
	const text = "A paragraph that\nruns on over lines, and is broken again.\n\n  name      what it is, in a column that goes on\n  -flag-of-a-very-long-name  x\n  one line that has no second column at all\n\nThe end."
	const want = "A paragraph that runs on\nover lines, and is broken\nagain.\n\n  name      what it is, in\n            a column that\n            goes on\n  -flag-of-a-very-long-name\n    x\n  one line that has no\n    second column at all\n\nThe end."
	if got := Fit(text, 26); got != want {
		t.Errorf("%s\nnot\n%s", got, want)
	}
	if got := Fit(text, 200); got != strings.Replace(text, "that\nruns", "that runs", 1) {
		t.Errorf("%s", got)
	}
	if got := Fit("word-that-is-much-too-long for it", 10); got != "word-that-is-much-too-long\nfor it" {
		t.Errorf("%q", got)
	}
	if got := FitCommand("  gharbor query sightings 'select it\"s count(*)' -format csv", 30); got != "  gharbor query sightings \\\n      'select it\"s count(*)' \\\n      -format csv" {
		t.Errorf("%q", got)
	}
	if got := FitCommand("  gharbor query sightings -let bird=dunlin", 30); got != "  gharbor query sightings \\\n      -let bird=dunlin" {
		t.Errorf("%q", got)
	}
}

// TestWrapStatement breaks a statement where it stays the same: never within quotes.
func TestWrapStatement(t *testing.T) {
	const text = "GRANT SELECT ON `a b`.`c d` TO 'it is one name'@'%', \"another one here\""
	lines := wrapStatement(text, 20)
	if got := strings.Join(lines, " "); got != text || len(lines) < 4 {
		t.Errorf("%q", lines)
	}
	if got := wrapStatement("short", 20); len(got) != 1 || got[0] != "short" {
		t.Errorf("%q", got)
	}
	var out strings.Builder
	p := NewPlan(&out)
	p.Note("one\x1b[2J thing")
	p.Change("add", "a reason", "DO ONE;")
	p.Change("add", "a reason", "DO TWO;")
	p.Change("remove", "another", "DROP IT;")
	if got := out.String(); strings.Count(got, "a reason") != 1 || strings.Contains(got, "\x1b") || !strings.Contains(got, "  remove  another\n          DROP IT;\n") {
		t.Errorf("%s", got)
	}
}
