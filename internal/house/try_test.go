package house

import (
	"go/ast"
	"go/token"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// placeholder finds a word that somebody must fill in: HOST, NEW-PASSWORD.
var placeholder = regexp.MustCompile(`(^|[ =:/'"])[A-Z][A-Z-]{2,}\b`)

// begins are the words by which a command to try begins: programs, and what a shell knows.
var begins = strings.Fields("gharbor getent cat ip ls head ssh ssh-add ssh-copy-id ssh-keygen sudo chmod mv rm read " +
	"openssl apt-get docker time export unset ${EDITOR:-vi} %s")

// TestTryLines: what is suggested can be pasted. It begins with a program, and nothing in it must be filled in: that is
// advice. cmd/gharbor runs the lines of each finding that it makes happen.
func TestTryLines(t *testing.T) {
	seen := 0
	for _, s := range product(t) {
		ast.Inspect(s.file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) == 0 {
				return true
			}
			lines := suggested(call)
			if len(lines) == 0 {
				return true
			}
			format, ok := text(lines[0])
			if !ok {
				return true
			}
			seen++
			command, _, _ := strings.Cut(format, "   # ")
			first, _, _ := strings.Cut(command, " ")
			if !slices.Contains(begins, first) {
				t.Errorf("%s: %q begins with no program", s.set.Position(call.Pos()), format)
			}
			if word := placeholder.FindString(strings.ReplaceAll(command, "unset DOCKER_HOST", "")); word != "" && !strings.HasPrefix(command, "export ") {
				t.Errorf("%s: %q has%s to fill in; Advise it", s.set.Position(call.Pos()), format, word)
			}
			for _, more := range lines[1:] {
				ast.Inspect(more, func(n ast.Node) bool {
					if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING && regexp.MustCompile(`^"[A-Z][A-Z-]{2,}"$`).MatchString(lit.Value) {
						t.Errorf("%s: %s must be filled in; Advise it", s.set.Position(call.Pos()), lit.Value)
					}
					return true
				})
			}
			return true
		})
	}
	if seen < 200 {
		t.Errorf("only %d lines to try were found in the sources", seen)
	}
}

// suggested are the arguments of a call that are lines to try: those of Suggest, and those of Failure behind the error.
func suggested(call *ast.CallExpr) []ast.Expr {
	switch fun := call.Fun.(type) {
	case *ast.SelectorExpr:
		switch {
		case fun.Sel.Name == "Suggest":
			return call.Args
		case fun.Sel.Name == "Failure" && len(call.Args) > 2:
			return call.Args[2:]
		}
	case *ast.Ident:
		if fun.Name == "Failure" && len(call.Args) > 2 {
			return call.Args[2:]
		}
	}
	return nil
}

// text is the value of a string literal, or of several with + between them.
func text(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		s, err := strconv.Unquote(e.Value)
		return s, err == nil && e.Kind == token.STRING
	case *ast.BinaryExpr:
		a, okA := text(e.X)
		b, okB := text(e.Y)
		return a + b, okA && okB && e.Op == token.ADD
	}
	return "", false
}
