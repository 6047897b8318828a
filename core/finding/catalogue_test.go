package finding

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var code = regexp.MustCompile(`"((?:profile|secret|wallet|hop|audit|alias|container|name|reach|speak|tls|login|database|session|expect)\.[a-z-]+)[" ]`)

// codesIn collects the codes that stand in Go files below a folder.
func codesIn(t *testing.T, folder string, tests bool) map[string]bool {
	t.Helper()
	found := make(map[string]bool)
	err := filepath.WalkDir(folder, func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") != tests {
			return err
		}
		data, err := os.ReadFile(path)
		for _, match := range code.FindAllStringSubmatch(string(data), -1) {
			found[match[1]] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return found
}

// TestEveryCodeHasAPageAndATest: a code is made somewhere, explained, and
// made to happen by a test.
func TestEveryCodeHasAPageAndATest(t *testing.T) {
	made := codesIn(t, "..", false)
	tested := codesIn(t, "../../cmd/gharbor", true)
	for code := range codesIn(t, "..", true) {
		tested[code] = true
	}
	keys := map[string]bool{"expect.tables": true, "expect.extensions": true} // names of keys, not codes
	for _, key := range []string{"version", "tls", "writable", "user", "database", "encoding", "latency", "server", "collation", "sql-mode", "time-zone"} {
		made["expect."+key] = true // put together from the key
	}
	for code := range made {
		if _, ok := PageOf(code); !ok && !keys[code] {
			t.Errorf("%s is made and has no page", code)
		}
	}
	for _, p := range Pages() {
		if !made[p.Code] {
			t.Errorf("%s has a page and is never made", p.Code)
		}
		if !tested[p.Code] {
			t.Errorf("no test makes %s happen", p.Code)
		}
		if p.Outcome != Fail && p.Outcome != Warn || p.Summary == "" || len(p.Text) < 20 {
			t.Errorf("the page of %s is not whole: %+v", p.Code, p)
		}
		for line := range strings.SplitSeq(p.Text, "\n") {
			if len([]rune(line)) > 88 {
				t.Errorf("the page of %s has a line of %d columns", p.Code, len([]rune(line)))
			}
		}
	}
}

func TestWorse(t *testing.T) {
	for _, c := range []struct{ a, b, want Outcome }{{OK, Warn, Warn}, {Warn, OK, Warn}, {Warn, Fail, Fail}, {Fail, OK, Fail}, {OK, Skip, OK}, {Skip, Skip, OK}} {
		if got := Worse(c.a, c.b); got != c.want {
			t.Errorf("Worse(%s, %s) = %s", c.a, c.b, got)
		}
	}
}
