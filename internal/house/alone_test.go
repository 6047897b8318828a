package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"testing"
)

// TestAlone: a test that looks for servers, or counts a server's connections, has a network of its own: elsewhere it
// would find other tests' servers, or be counted by them.
func TestAlone(t *testing.T) {
	paths, err := filepath.Glob("../../cmd/gharbor/*_test.go")
	if err != nil || len(paths) == 0 {
		t.Fatal(len(paths), err)
	}
	seen := 0
	for _, path := range paths {
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, decl := range file.Decls {
			f, ok := decl.(*ast.FuncDecl)
			if !ok || f.Body == nil {
				continue
			}
			alone, why := false, ""
			ast.Inspect(f.Body, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				callee, ok := call.Fun.(*ast.SelectorExpr)
				if !ok {
					return true
				}
				switch name := callee.Sel.Name; {
				case name == "Alone":
					alone = true
				case name == "Connections" && len(call.Args) == 0:
					why = "counts connections"
				case (name == "OK" || name == "Run") && len(call.Args) == 1:
					if word, ok := call.Args[0].(*ast.BasicLit); ok && word.Value == `"nearby"` {
						why = "runs nearby"
					}
				}
				return true
			})
			if alone {
				seen++
			}
			if why != "" && !alone && f.Name.IsExported() {
				t.Errorf("%s: %s %s, and does not call testkit.Alone", path, f.Name.Name, why)
			}
		}
	}
	if seen < 20 {
		t.Errorf("%d tests are alone", seen)
	}
}
