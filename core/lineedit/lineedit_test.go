package lineedit

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestPlain: lines are read as they come, the last one without an end too.
func TestPlain(t *testing.T) {
	var out strings.Builder
	e := NewPlain(strings.NewReader("select 1;\r\nselect\n2;"), &out)
	for _, want := range []string{"select 1;", "select", "2;"} {
		if got, err := e.Read("at tern: "); got != want || err != nil {
			t.Errorf("%q %v, want %q", got, err, want)
		}
	}
	if _, err := e.Read(""); !errors.Is(err, io.EOF) || out.String() != "at tern: at tern: at tern: " {
		t.Errorf("%v %q", err, out.String())
	}
}

// TestPast: the history as the library wants one.
func TestPast(t *testing.T) {
	lines := []string{"select 1;", "select 2;\n"}
	p := historyAdapter{func() []string { return lines }}
	if got, err := p.GetLine(1); got != "select 2;" || err != nil || p.Len() != 2 {
		t.Errorf("%q %v", got, err)
	}
	lines[0] = "select '\x1b]0;owned\x07\u009b2J';"
	if got, _ := p.GetLine(0); got != "select ']0;owned2J';" {
		t.Errorf("%q steers the terminal", got)
	}
	if _, err := p.GetLine(2); err == nil {
		t.Error("a line that there is not")
	}
	if n, err := p.Write("x"); n != 2 || err != nil {
		t.Error(n, err)
	}
}

// TestComplete: the completions for the library.
func TestComplete(t *testing.T) {
	f := &richEditor{Settings: Settings{Complete: func(before string) ([]Completion, int) {
		if before != "select * from si" {
			t.Errorf("asked about %q", before)
		}
		return []Completion{{"sighting", "table"}, {"si\x1b[2J", "of a stranger"}}, 2
	}}}
	if got := f.complete([]rune("select * from si where"), 16); got.PREFIX != "si" {
		t.Errorf("%q", got.PREFIX)
	}
	if got := (&richEditor{}).complete(nil, 0); got.PREFIX != "" {
		t.Errorf("%+v", got)
	}
}

// TestDownwards: going down is written so that it works on the last line too, whatever the pieces in which it comes.
func TestDownwards(t *testing.T) {
	const text, want = "a\x1b[2Bb\x1b[1;31mc\x1b[12Cd\x1b[?25le\x1b[Bf\x1b", "a\x1bD\x1bDb\x1b[1;31mc\x1b[12Cd\x1b[?25le\x1bDf\x1b"
	for size := 1; size < len(text); size++ {
		var got, rest []byte
		for from := 0; from < len(text); from += size {
			var done []byte
			done, rest = replaceCUD(append(rest, text[from:min(from+size, len(text))]...))
			got = append(got, done...)
		}
		if got = append(got, rest...); string(got) != want {
			t.Errorf("in pieces of %d: %q", size, got)
		}
	}
}

// TestMain is also the program of TestFull: the library reads the standard input that its process began with.
func TestMain(m *testing.M) {
	out := os.Getenv("LINEEDIT_SCREEN")
	if out == "" {
		os.Exit(m.Run())
	}
	screen, err := os.Create(out)
	if err != nil {
		panic(err)
	}
	e := New(Settings{In: os.Stdin, Out: screen, History: func() []string { return []string{"select 'old';"} }}, "xterm")
	for {
		line, err := e.Read("at x: ")
		fmt.Printf("%q %v\n", line, err)
		if err != nil && !errors.Is(err, ErrDropped) {
			return
		}
	}
}

// TestFull: keys come as a terminal sends them; Ctrl-C drops the line and keeps what was typed behind it, Ctrl-D at an
// empty line is the end. What the library writes goes to the given file.
func TestFull(t *testing.T) {
	out := filepath.Join(t.TempDir(), "screen")
	program := exec.Command(os.Args[0])
	program.Env = append(os.Environ(), "LINEEDIT_SCREEN="+out)
	program.Stdin = strings.NewReader("select 1;\r\x1b[200~select\t'\x07x';\x1b[201~\rhalf\x03/help\rmöwe\x7f\x7f\r\x1b[A\r\x04")
	got, err := program.CombinedOutput()
	want := "\"select 1;\" <nil>\n\"select\\t'x';\" <nil>\n\"\" the line was dropped\n\"/help\" <nil>\n\"mö\" <nil>\n\"select 'old';\" <nil>\n\"\" EOF\n"
	if err != nil || string(got) != want {
		t.Errorf("%v\n%s\nwant\n%s", err, got, want)
	}
	if data, _ := os.ReadFile(out); !strings.Contains(string(data), "at x: ") {
		t.Errorf("the screen has %q", data)
	}
	in, _ := os.Open(os.DevNull)
	if _, plain := New(Settings{In: in, Out: in}, "dumb").(*plainEditor); !plain {
		t.Error("a terminal that can't place its cursor has an editor that does")
	}
	file, _ := os.Create(out)
	vi := newFull(Settings{In: in, Out: file, Vi: true, History: func() []string { return nil }})
	if _, err := vi.Read(""); vi.shell.Keymap.IsEmacs() || !errors.Is(err, io.EOF) {
		t.Errorf("the keys are not those of vi: %v", err)
	}
}
