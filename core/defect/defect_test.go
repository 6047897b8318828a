package defect

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

// crash panics, in a function that a stack names.
func crash() { panic("the tide") }

// TestGroup: a defect in parallel work comes to whoever waits, with the stack of where it
// happened, once all have ended.
func TestGroup(t *testing.T) {
	done := 0
	caught := func() (d *Defect) {
		defer func() { d = FromPanic(recover()) }()
		var g Group
		g.Go(crash)
		g.Go(func() {
			g.Do(crash)
			done++ // the rest of a goroutine's work goes on
		})
		g.Wait()
		return nil
	}()
	if caught == nil || caught.Error() != "the tide" || !strings.Contains(string(caught.Stack), "defect.crash") || done != 1 {
		t.Errorf("%v, %d\n%s", caught, done, caught.Stack)
	}
	if again := FromPanic(caught); again != caught {
		t.Error("a defect that is handed on lost its stack")
	}
}

// TestGo: a defect in a goroutine that nobody waits for ends the program as it was told.
func TestGo(t *testing.T) {
	told := make(chan *Defect, 1)
	OnDefect(func(d *Defect) {
		told <- d
		select {} // the program ends here
	})
	t.Cleanup(func() { end.Store(nil) })
	Go(crash)
	if d := <-told; d.Error() != "the tide" || !strings.Contains(string(d.Stack), "defect.crash") {
		t.Errorf("%v\n%s", d, d.Stack)
	}
}

// TestEveryGoroutine: no goroutine of the product is started but through this package, and no
// group waits but this package's.
func TestEveryGoroutine(t *testing.T) {
	looked := 0
	for _, room := range []string{"../../core", "../../internal/cli", "../../internal/render", "../../cmd", "../../demo", "../../standin"} {
		err := filepath.WalkDir(room, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "core/defect/") {
				return err
			}
			files := token.NewFileSet()
			file, err := parser.ParseFile(files, path, nil, parser.SkipObjectResolution)
			if err != nil {
				return err
			}
			looked++
			ast.Inspect(file, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.GoStmt:
					t.Errorf("%s starts a goroutine by itself; defect.Go keeps its defect", files.Position(n.Pos()))
				case *ast.SelectorExpr:
					if x, ok := n.X.(*ast.Ident); ok && x.Name == "sync" && n.Sel.Name == "WaitGroup" {
						t.Errorf("%s waits with sync.WaitGroup; defect.Group hands a defect on", files.Position(n.Pos()))
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if looked < 200 {
		t.Errorf("only %d files were looked at", looked)
	}
}
