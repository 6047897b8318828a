//go:build unix

package program

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestRun: what a program prints, says and ends with.
func TestRun(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		script, input string
		data, said    string
		code          int
		over          bool
	}{
		"echo":    {"cat", "knot\n", "knot\n", "", 0, false},
		"fails":   {"echo no bird >&2; exit 3", "", "", "no bird", 3, false},
		"repeats": {"echo knot; echo it is knot >&2", "", "knot\n", "it is [hidden]", 0, false},
		"much":    {"yes | head -c 100", "", strings.Repeat("y\n", 32), "", 0, true},
		"folder":  {"pwd", "", "FOLDER\n", "", 0, false},
	} {
		folder, _ := filepath.EvalSymlinks(t.TempDir())
		p := Program{Words: []string{"sh", "-c", c.script}, Dir: folder, Most: 64}
		if c.input != "" {
			p.Input = []byte(c.input)
		}
		path, err := Find("sh")
		if err != nil {
			t.Fatal(err)
		}
		got := p.Run(t.Context(), path)
		if string(got.Data) != strings.Replace(c.data, "FOLDER", folder, 1) || got.Said != c.said || got.Code != c.code || got.Over != c.over || got.Err != nil || got.Late {
			t.Errorf("%s: %+v %q", name, got, got.Data)
		}
	}
}

// TestEnd: a program ends with Ctrl-C and not with a deadline, and what it started ends with it.
func TestEnd(t *testing.T) {
	t.Parallel()
	mark := filepath.Join(t.TempDir(), "mark")
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(200*time.Millisecond, cancel)
	path, _ := Find("sh")
	start := time.Now()
	Program{Words: []string{"sh", "-c", "(sleep 2; touch " + mark + ") & sleep 60"}, Most: 64}.Run(ctx, path)
	if took := time.Since(start); took > 2*time.Second {
		t.Errorf("it took %s to end", took)
	}
	time.Sleep(2500 * time.Millisecond)
	if _, err := os.Stat(mark); err == nil {
		t.Error("what it started went on")
	}
	late, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	if got := (Program{Words: []string{"sh", "-c", "sleep 0.1; echo knot"}, Most: 64}).Run(late, path); got.Late || got.Err == nil && string(got.Data) == "" {
		t.Errorf("%+v", got)
	}
}

// TestFind: a program that there is not has the system's reason.
func TestFind(t *testing.T) {
	t.Parallel()
	if _, err := Find("no-such-program-here"); err == nil || strings.Contains(Reason(err), "no-such-program-here") {
		t.Errorf("%v", err)
	}
	if _, err := Find("/nonexistent/x"); err == nil || Reason(err) == "" {
		t.Errorf("%v", err)
	}
}
