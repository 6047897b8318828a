package finding

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode"
)

// constants are the codes by the name of their constant, as codes.go has them.
func constants(t *testing.T) map[string]Code {
	t.Helper()
	file, err := parser.ParseFile(token.NewFileSet(), "codes.go", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	all := make(map[string]Code)
	ast.Inspect(file, func(n ast.Node) bool {
		if spec, ok := n.(*ast.ValueSpec); ok && len(spec.Values) == 1 {
			if text, ok := spec.Values[0].(*ast.BasicLit); ok {
				all[spec.Names[0].Name] = Code(strings.Trim(text.Value, `"`))
			}
		}
		return true
	})
	return all
}

// texts are the Go files below a folder, but for tests, in one text.
func texts(t *testing.T, folder string) string {
	t.Helper()
	var all strings.Builder
	err := filepath.WalkDir(folder, func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || filepath.Base(path) == "codes.go" {
			return err
		}
		data, err := os.ReadFile(path)
		all.Write(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all.String()
}

// TestEveryCodeHasAPage: a code has a constant and a page, and the product makes it. No code stands as text where
// its constant could. scripts/test checks after all tests that each happened in one.
func TestEveryCodeHasAPage(t *testing.T) {
	product := texts(t, "../../core") + texts(t, "../../internal/cli") + texts(t, "../../internal/render")
	used := make(map[string]bool) // the words of the product
	for _, word := range strings.FieldsFunc(product, func(r rune) bool { return r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		used[word] = true
	}
	names := make(map[Code]string)
	for name, code := range constants(t) {
		names[code] = name
		if _, ok := PageOf(code); !ok {
			t.Errorf("%s has no page", code)
		}
		if code.Area() != "expect" && !used[name] {
			t.Errorf("%s is never made", code)
		}
		if code.Area() != "expect" && strings.Contains(product, `"`+string(code)+`"`) {
			t.Errorf("%s stands as text; its constant is finding.%s", code, name)
		}
	}
	for _, p := range Pages() {
		if names[p.Code] == "" {
			t.Errorf("%s has a page and no constant", p.Code)
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

// TestPredicates: what a decision asks of a code.
func TestPredicates(t *testing.T) {
	var none *Finding
	if none.Is(SecretMissing) || !New(SecretMissing, "x").Is(SecretNoMatch, SecretMissing) || New(SecretMissing, "x").Is() {
		t.Error("Is")
	}
	for code, want := range map[Code]bool{ReachRefused: true, HopLogin: true, NameUnknown: true, SpeakGarbage: true, SessionServerFull: true, SessionTarget: true, LoginPassword: false, SecretMissing: false, SessionReadOnly: false} {
		if code.GivesWay() != want {
			t.Errorf("%s gives way: %v", code, !want)
		}
	}
	if !ReachRefused.MayPass() || LoginPassword.MayPass() || Code("no.such").MayPass() {
		t.Error("MayPass")
	}
}

func TestWorse(t *testing.T) {
	for _, c := range []struct{ a, b, want Outcome }{{OK, Warn, Warn}, {Warn, OK, Warn}, {Warn, Fail, Fail}, {Fail, OK, Fail}, {OK, Skip, OK}, {Skip, Skip, OK}} {
		if got := Worse(c.a, c.b); got != c.want {
			t.Errorf("Worse(%s, %s) = %s", c.a, c.b, got)
		}
	}
}

// TestAdministrators: what an administrator does is a command where a profile of one is known, and else a step.
func TestAdministrators(t *testing.T) {
	f := New(LoginLocked, "it is so").ByAdmin("keeper", "provision unlock x", "ALTER USER %s", "a@b").ByAdmin("", "provision make x", "CREATE %s", "it").
		AsAdmin("keeper", "SELECT %s", "a").AsAdmin("", "SELECT %d", 1).AdviseUnseen("ALTER ROLE %s PASSWORD 'NEW'", "x")
	want := []string{"gharbor provision unlock x -as keeper   # sends ALTER USER a@b", "gharbor query keeper 'SELECT a'"}
	if !slices.Equal(f.Try, want) {
		t.Errorf("%q", f.Try)
	}
	want = []string{"with an administrator's profile: gharbor provision make x -as ADMIN (it sends CREATE it)", "as an administrator, run: SELECT 1",
		"as an administrator, run: ALTER ROLE x PASSWORD 'NEW' (in a session, not in a shell's history)"}
	if !slices.Equal(f.Do, want) {
		t.Errorf("%q", f.Do)
	}
	if !f.Is(LoginExpired, LoginLocked) || f.Is(LoginExpired) {
		t.Error("which finding it is")
	}
}
