// Package house holds the rules of the code's layout, as tests that read the sources.
package house

import (
	"bufio"
	"bytes"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/engines"
)

// root is the project's folder.
const root = "../.."

// source is one Go file of the product: no test, stand-in, demo or tool.
type source struct {
	path string // from the root
	data []byte
	file *ast.File
	set  *token.FileSet
}

// product is the program without what only tests, measures and shows it.
func product(t *testing.T) []source {
	t.Helper()
	return sources(t, []string{"cmd", "core", "internal"}, "internal/testkit", "internal/bench", "internal/codes")
}

// allSources are those of all folders with code.
func allSources(t *testing.T) []source {
	t.Helper()
	return sources(t, []string{"cmd", "core", "demo", "internal", "standin"})
}

// sources are the files below some folders, without tests.
func sources(t *testing.T, tops []string, without ...string) []source {
	t.Helper()
	var all []source
	for _, top := range tops {
		err := filepath.WalkDir(filepath.Join(root, top), func(path string, d fs.DirEntry, err error) error {
			rel := strings.TrimPrefix(filepath.ToSlash(path), root+"/")
			if err != nil || d.IsDir() {
				if slices.Contains(without, rel) {
					return filepath.SkipDir
				}
				return err
			}
			if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return nil
			}
			s := source{path: rel, set: token.NewFileSet()}
			if s.data, err = os.ReadFile(path); err != nil {
				return err
			}
			if s.file, err = parser.ParseFile(s.set, path, s.data, parser.ParseComments); err != nil {
				return err
			}
			all = append(all, s)
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if len(all) < 200 {
		t.Fatalf("only %d files were read", len(all))
	}
	return all
}

// TestEngineWords: what is known of an engine stands in core/engine alone. The demo's command may name the
// simulated servers that it starts.
func TestEngineWords(t *testing.T) {
	words := []string{"postgres", "pgsql", "pgpass"}
	for _, spec := range engines.All().All() {
		words = append(words, spec.Word)
	}
	engineWord := regexp.MustCompile("(?i)" + strings.Join(words, "|"))
	for _, s := range product(t) {
		if strings.HasPrefix(s.path, "core/engine") {
			continue
		}
		for number, line := range lines(s.data) {
			if word := engineWord.FindString(line); word != "" {
				t.Errorf("%s:%d names %s: %s", s.path, number+1, word, strings.TrimSpace(line))
			}
		}
	}
}

// TestLines: no line is longer than a window. A URL is no line to break.
func TestLines(t *testing.T) {
	const most = 120
	for _, s := range allSources(t) {
		for number, line := range lines(s.data) {
			width := len([]rune(line))
			if width > most && !strings.Contains(line, "https://") {
				t.Errorf("%s:%d has %d columns", s.path, number+1, width)
			}
		}
	}
}

// TestSizes: a function fits on two windows, a file is one idea.
func TestSizes(t *testing.T) {
	const function, file = 80, 510
	for _, s := range product(t) {
		if n := bytes.Count(s.data, []byte("\n")); n > file {
			t.Errorf("%s has %d lines", s.path, n)
		}
		for _, d := range s.file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			if n := s.set.Position(f.End()).Line - s.set.Position(f.Pos()).Line + 1; n > function {
				t.Errorf("%s: the function %s has %d lines", s.path, f.Name.Name, n)
			}
		}
	}
}

func lines(data []byte) (all []string) {
	scanner := bufio.NewScanner(bytes.NewReader(data))
	scanner.Buffer(nil, 1<<20)
	for scanner.Scan() {
		all = append(all, scanner.Text())
	}
	return all
}

// wide are the packages that may export more than twenty names, with the reason.
var wide = map[string]string{
	"core/finding":           "the catalogue: a constant for each finding",
	"core/engine":            "the parts of a Spec",
	"core/check":             "what a test, a wait, a comparison and a login take, and what each gives",
	"core/profile/key":       "a constant for each key",
	"core/profile":           "the model of four kinds of files, and their edits",
	"core/secret":            "the sources, each with what is asked of it, found and refused",
	"core/address":           "what each kind of address asks of the world, and what it gives",
	"core/container/api":     "a name for each call, and for what it takes and gives",
	"core/cloud/wire":        "a name for each request, answer and problem of the interface",
	"core/vouch":             "an item, a word and a judgement for each kind of thing that is vouched for",
	"core/engine/oracle/tns": "a name for each packet of the protocol, which stand-in and engine both speak",
	"internal/render":        "a view for each kind of result, and the terminal",
	"internal/cli/base":      "what all commands are made of: flags, exit codes, loading and choosing",
}

// TestExports: what a package offers can be learned at one look.
func TestExports(t *testing.T) {
	const most = 20
	names := make(map[string]int)
	for _, s := range product(t) {
		folder := filepath.ToSlash(filepath.Dir(s.path))
		for _, d := range s.file.Decls {
			names[folder] += exported(d)
		}
	}
	for folder, n := range names {
		if n > most && wide[folder] == "" {
			t.Errorf("%s exports %d names", folder, n)
		}
	}
}

// exported counts the exported names of a declaration. Methods belong to their type, and so do the values of an
// enumeration.
func exported(d ast.Decl) (n int) {
	switch d := d.(type) {
	case *ast.FuncDecl:
		if d.Recv == nil && d.Name.IsExported() {
			n++
		}
	case *ast.GenDecl:
		var of ast.Expr // the type of constants, which those behind one take over
		for _, s := range d.Specs {
			switch s := s.(type) {
			case *ast.TypeSpec:
				if s.Name.IsExported() {
					n++
				}
			case *ast.ValueSpec:
				if s.Type != nil || len(s.Values) > 0 {
					of = s.Type
				}
				if kind, ok := of.(*ast.Ident); ok && d.Tok == token.CONST && kind.IsExported() {
					continue
				}
				for _, name := range s.Names {
					if name.IsExported() {
						n++
					}
				}
			}
		}
	}
	return n
}

// TestImports: the core knows nothing of the command line, of stand-ins or of the demo; what an engine is
// links no driver.
func TestImports(t *testing.T) {
	for _, s := range product(t) {
		for _, i := range s.file.Imports {
			path := strings.Trim(i.Path.Value, `"`)
			for _, other := range []string{"gentleharbor/internal", "gentleharbor/standin", "gentleharbor/demo"} {
				if strings.HasPrefix(s.path, "core/") && strings.HasPrefix(path, other) {
					t.Errorf("%s imports %s", s.path, path)
				}
			}
		}
	}
	out, err := exec.Command("go", "list", "-deps", "gentleharbor/core/engine", "gentleharbor/core/profile", "gentleharbor/core/vouch").Output()
	if err != nil {
		t.Fatal(err)
	}
	for _, driver := range []string{"github.com/jackc/pgx", "github.com/go-sql-driver", "github.com/sijms/go-ora"} {
		if bytes.Contains(out, []byte(driver)) {
			t.Errorf("what a profile is links the driver %s", driver)
		}
	}
}

// TestKeys: a key of a profile is named by package key, whose names the compiler checks.
func TestKeys(t *testing.T) {
	literal := regexp.MustCompile(`\.(Text|Get|Own|Written|Field|AliasField|HopField)\("`)
	for _, s := range product(t) {
		for number, line := range lines(s.data) {
			if literal.MatchString(line) && !strings.Contains(line, "Tag.Get(") && !strings.Contains(line, "Header.Get(") {
				t.Errorf("%s:%d names a key by a literal: %s", s.path, number+1, strings.TrimSpace(line))
			}
		}
	}
}

// TestLazyExpressions: no start of the program compiles an expression that it may not need.
func TestLazyExpressions(t *testing.T) {
	for _, top := range []string{"cmd", "core", "internal", "standin", "demo"} {
		err := filepath.WalkDir(filepath.Join(root, top), func(path string, d fs.DirEntry, err error) error {
			switch rel := strings.TrimPrefix(filepath.ToSlash(path), root+"/"); rel {
			case "internal/testkit", "internal/bench", "internal/codes": // no part of the program
				return filepath.SkipDir
			}
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			for _, d := range file.Decls {
				if g, ok := d.(*ast.GenDecl); ok && compiles(g) {
					t.Errorf("%s compiles an expression at each start", path)
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// compiles reports whether a declaration of the package calls regexp.MustCompile outside of a function.
func compiles(d *ast.GenDecl) (found bool) {
	ast.Inspect(d, func(n ast.Node) bool {
		if _, inside := n.(*ast.FuncLit); inside {
			return false
		}
		if s, ok := n.(*ast.SelectorExpr); ok && s.Sel.Name == "MustCompile" {
			found = true
		}
		return true
	})
	return found
}

// addressWords are the packages that may name the key of a kind of address, with the reason.
var addressWords = map[string]string{
	"core/address":            "what the kinds are",
	"core/profile":            "the files' own forms of them",
	"core/profile/key":        "the names of the keys",
	"core/profile/schema":     "the table of keys",
	"core/alias":              "follows aliases",
	"core/container/find":     "looks containers up",
	"core/container/making":   "leads a profile to the container that was made",
	"core/nearby":             "compares sockets of this machine",
	"core/vouch":              "shows what an alias of a project uses",
	"core/handover":           "gives programs the variable of each",
	"core/intake":             "writes addresses that it found",
	"internal/cli/aliascmd":   "the commands of aliases",
	"internal/cli/cloudcmd":   "makes profiles of instances",
	"internal/cli/profilecmd": "the questions of add",
	"internal/cli/secretcmd":  "binds to aliases by name",
	"internal/cli/testcmd":    "tests an alias by its name",
}

// TestAddressWords: what a kind of address is stands in core/address alone; nobody else asks which kind it is.
func TestAddressWords(t *testing.T) {
	named := regexp.MustCompile(`\bkey\.(Hosts|Socket|Alias|Container|Cloud)\b`)
	asked := regexp.MustCompile(`Address\(\)(\.Key)? *[!=]=|switch .*\.Address\(\)`)
	for _, s := range product(t) {
		folder := filepath.ToSlash(filepath.Dir(s.path))
		if strings.HasPrefix(folder, "core/engine") {
			continue
		}
		for number, line := range lines(s.data) {
			if addressWords[folder] == "" && bytes.Contains(s.data, []byte(`core/profile/key"`)) && named.MatchString(line) {
				t.Errorf("%s:%d names the key of an address: %s", s.path, number+1, strings.TrimSpace(line))
			}
			if folder != "core/address" && asked.MatchString(line) {
				t.Errorf("%s:%d asks which kind of address it is: %s", s.path, number+1, strings.TrimSpace(line))
			}
		}
	}
}
