package render

import (
	"bytes"
	"strings"
	"testing"

	"gentleharbor/core/check"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

func TestWrap(t *testing.T) {
	r := &Report{width: 40}
	for in, want := range map[string]string{
		"short":                            "short",
		"the tide turns and the dunlin go": "the tide turns and the dunlin\n          go",
		strings.Repeat("x", 40):            strings.Repeat("x", 30) + "\n          " + strings.Repeat("x", 10),
		"éééé éééé éééé éééé éééé éééé éé": "éééé éééé éééé éééé éééé éééé\n          éé",
		"a word just at the edge, of 30":   "a word just at the edge, of 30",
	} {
		if got := r.wrap(in, 10); got != want {
			t.Errorf("%q:\n%q\n%q", in, got, want)
		}
		for line := range strings.SplitSeq(r.wrap(in, 10), "\n") {
			if n := len([]rune(strings.TrimLeft(line, " "))); n > 30 {
				t.Errorf("%q: a line of %d", in, n)
			}
		}
	}
	if r := (&Report{}); r.wrap(strings.Repeat("word ", 100), 10) != strings.Repeat("word ", 100) {
		t.Error("wrapped where there is no terminal")
	}
}

// TestReport: a line for each stage that was reached, cut at the width; the findings below them; what was not reached;
// the verdict.
func TestReport(t *testing.T) {
	var out bytes.Buffer
	r := NewReport(&out, true)
	found := finding.New("login.password", "it is so").Saw("a").Saw("b").Saw("c").Saw("d").Suggest("gharbor show tides").Advise("look again")
	report := &check.Report{Profile: "tides", Outcome: finding.Fail, MS: 20, Facts: &engine.Facts{}, Stages: []check.Stage{
		{Stage: "reach", Outcome: finding.OK, MS: 0.25, Detail: "h:1 accepts at /a/rather/long/path/to/a/socket/of/the/server.sock, and more of it"},
		{Stage: "login", Outcome: finding.Fail, MS: 12.3, Finding: found},
		{Stage: "tls", Outcome: finding.Warn, MS: 1234, Detail: "TLS 1.3", Finding: finding.New("tls.expires-soon", "soon")},
		{Stage: "expect", Outcome: finding.Skip},
	}}
	r.Show("tides", "postgresql at h:1", report)
	want := `tides  postgresql at h:1
  reach     ok     0.2 ms  h:1 accepts at …/server.sock, and more of it
  login     fail    12 ms  login.password
  tls       warn    1.2 s  tls.expires-soon: TLS 1.3

  cause  it is so
  seen   a
  seen   b
  seen   c
  seen   … 1 more with -full
  try    gharbor show tides
  do     look again

  cause  soon

not reached: expect
not ready: login.password at stage login (20 ms)
`
	if out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out.String(), want)
	}
	out.Reset()
	r.Full = true
	r.Show("tides", "postgresql at h:1", report)
	for _, text := range []string{"/a/rather/long/path/to/a/socket/of/the/server.sock,\n", "seen   d\n"} {
		if !strings.Contains(out.String(), text) {
			t.Errorf("with everything it lacks %q:\n%s", text, out.String())
		}
	}
	out.Reset()
	yes := true
	r.Brief([]*check.Report{report, {Profile: "moult", Facts: &engine.Facts{User: "bander", Route: "h:2", TLS: "none", Writable: &yes}}}, false, false)
	if want := "tides  not ready   login.password: it is so\nmoult  ready       bander in no database at h:2, not encrypted\n"; out.String() != want {
		t.Errorf("%q", out.String())
	}
	out.Reset()
	r.Brief([]*check.Report{{Profile: "moult", Facts: &engine.Facts{}}}, false, true)
	report.Interrupted = true
	r.End(report)
	if !strings.HasSuffix(out.String(), "\nstopped\n") || strings.Contains(out.String(), "not ready") {
		t.Errorf("%q", out.String())
	}
}

// TestFacts: a test that is ready ends with what it learned, one kind a line, and nothing of what is not known.
func TestFacts(t *testing.T) {
	var out bytes.Buffer
	NewReport(&out, true).End(&check.Report{Outcome: finding.OK, MS: 5, Facts: &engine.Facts{User: "warden", Database: "sightings", Product: "Tern", Route: "h:1", TLS: "none", Settings: []string{strings.Repeat("word ", 20)}}})
	want := `
  account   warden
  server    Tern
  settings  word word word word word word word word word word word word word
            word word word word word word word

ready: warden in sightings at h:1, not encrypted (5.0 ms)
`
	if strings.ReplaceAll(out.String(), " \n", "\n") != want {
		t.Errorf("got\n%s\nwant\n%s", out.String(), want)
	}
}

// TestFitTry: a command goes on behind a backslash, and its comment on lines of its own.
func TestFitTry(t *testing.T) {
	line := "gharbor set sightings host=tide-db.internal.example tls-name='a b c'   # the name that its certificate has, as the server shows it"
	want := "gharbor set sightings \\\n      host=tide-db.internal.example \\\n      tls-name='a b c'\n  # the name that its certificate has, as\n  # the server shows it"
	if got := fitTry(line, 42, 2); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if got := fitTry("gharbor list   # short", 42, 2); got != "gharbor list   # short" {
		t.Error(got)
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
	out.Reset()
	r := &Report{out: &out, width: 40}
	err := r.table([]string{"profile", "route", "code"}, [][]string{{"tides", "tide-db.internal.example", "reach.refused"}}, 1, nil)
	if want := "profile  route             code\ntides    tide-db.interna…  reach.refused\n"; err != nil || out.String() != want {
		t.Errorf("%q %v", out.String(), err)
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

// TestFold: a cell that is too long goes on below, cut where a person would cut it, and nothing of it is lost.
func TestFold(t *testing.T) {
	for text, want := range map[string]string{
		"short":                       "short",
		"running, healthy":            "running,|healthy",
		"127.0.0.1:43523":             "127.0.0.|1:43523",
		"tide-db.internal.example":    "tide-db.|internal.|example",
		"nothing":                     "nothing",
		"oneverylongwordwithoutasign": "oneverylo|ngwordwit|houtasign",
	} {
		var lines []string
		for rest := text; rest != ""; {
			var line string
			line, rest = fold(rest, 9)
			lines = append(lines, strings.TrimSpace(line))
		}
		if got := strings.Join(lines, "|"); got != want {
			t.Errorf("%q is folded to %q", text, got)
		}
	}
	narrow := newGrid([]string{"container", "state"}, [][]string{{"saltmarsh-old-rings", "running, healthy"}, {"a", ""}})
	narrow.shrink(30, -1)
	if narrow.rows = narrow.foldRows(); len(narrow.rows) != 3 || narrow.rows[0][0] != "saltmarsh-old-rings" || narrow.rows[1][1] != "healthy" {
		t.Errorf("%q", narrow.rows)
	}
}
