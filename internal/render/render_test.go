package render

import (
	"bytes"
	"strings"
	"testing"

	"gentleharbor/core/check"
	"gentleharbor/core/finding"
)

func TestWrap(t *testing.T) {
	r := &Report{width: 40}
	for in, want := range map[string]string{
		"short":                            "short",
		"the tide turns and the dunlin go": "the tide turns and the dunlin\n          go",
		strings.Repeat("x", 40):            strings.Repeat("x", 29) + "\n          " + strings.Repeat("x", 11),
		"éééé éééé éééé éééé éééé éééé éé": "éééé éééé éééé éééé éééé éééé\n          éé",
		"a word exactly at the edge 29":    "a word exactly at the edge 29",
	} {
		if got := r.wrap(in, 10); got != want {
			t.Errorf("%q:\n%q\n%q", in, got, want)
		}
		for line := range strings.SplitSeq(r.wrap(in, 10), "\n") {
			if n := len([]rune(strings.TrimLeft(line, " "))); n > 29 {
				t.Errorf("%q: a line of %d", in, n)
			}
		}
	}
	if r := (&Report{}); r.wrap(strings.Repeat("word ", 100), 10) != strings.Repeat("word ", 100) {
		t.Error("wrapped where there is no terminal")
	}
}

func TestStageLines(t *testing.T) {
	var out bytes.Buffer
	r := NewReport(&out, true)
	r.Head("tides", "postgresql at h:1")
	found := finding.New("login.password", "it is so").Saw("this").Suggest("gharbor show tides")
	for _, s := range []check.Stage{
		{Stage: "reach", Outcome: finding.OK, MS: 0.25, Detail: "h:1 accepts"},
		{Stage: "login", Outcome: finding.Fail, MS: 12.3, Finding: found},
		{Stage: "tls", Outcome: finding.Warn, MS: 1234, Detail: "TLS 1.3", Finding: found},
		{Stage: "expect", Outcome: finding.Skip},
	} {
		r.Stage(s)
	}
	want := `tides  postgresql at h:1
  reach     ok      0.2 ms  h:1 accepts
  login     fail     12 ms  login.password
            cause  it is so
            seen   this
            try    gharbor show tides
  tls       warn     1.2 s  TLS 1.3
            code   login.password
            cause  it is so
            seen   this
            try    gharbor show tides
  expect    skip
`
	if out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out.String(), want)
	}
}

func TestTable(t *testing.T) {
	var out bytes.Buffer
	if err := Table(&out, true, []string{"a", "long heading"}, [][]string{{"é", ""}, {"wide cell", "x"}}); err != nil {
		t.Fatal(err)
	}
	if want := "a          long heading\né\nwide cell  x\n"; out.String() != want {
		t.Errorf("%q", out.String())
	}
}

func TestProgressLine(t *testing.T) {
	for _, c := range []struct {
		done, total int
		want        string
	}{{0, 4, "|" + strings.Repeat(" ", 24) + "| (0/4) a, b"}, {1, 4, "|~~~~~~" + strings.Repeat(" ", 18) + "| (1/4) a, b"}, {4, 4, "|" + strings.Repeat("~", 24) + "| (4/4) a, b"}, {0, 0, "|" + strings.Repeat(" ", 24) + "| (0/0) a, b"}} {
		if got := line(c.done, c.total, "a, b"); got != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
}
