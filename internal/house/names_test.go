package house

import (
	"go/ast"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// participles that do not end in "ed", and words that say of which kind a thing is and not what it is.
var participles = strings.Fields(`begun bound broken brought built chosen drawn driven fallen felt found frozen given
	gone grown heard held hidden kept known laid led left lent lost made meant met paid said seen sent shown sold sought
	spent spoken stolen struck sworn taken taught thought thrown told torn understood unknown untaken unseen withdrawn
	written astray crew deed moult seam whole who what where why of`)

// nouns that end in "ed".
var nouns = strings.Fields("need seed feed embed speed bleed exceed proceed shed")

// standard are names that the standard library uses in the same sense.
var standard = map[string]bool{"Buffered": true} // bufio.Reader

// isParticiple reports whether a name is one word that names no thing and no action.
func isParticiple(name string) bool {
	word := strings.ToLower(name)
	switch {
	case standard[name], name[1:] != word[1:]: // or several words
		return false
	case slices.Contains(nouns, strings.TrimPrefix(word, "un")):
		return false
	}
	return slices.Contains(participles, word) || len(word) > 3 && strings.HasSuffix(word, "ed")
}

// isPredicate reports whether a function answers yes or no: for it a participle is a name ("locked").
func isPredicate(f *ast.FuncType) bool {
	if f.Results == nil || len(f.Results.List) != 1 {
		return false
	}
	result, ok := f.Results.List[0].Type.(*ast.Ident)
	return ok && result.Name == "bool"
}

// TestNames: a function is named by what it does, a type by a noun.
func TestNames(t *testing.T) {
	for word, want := range map[string]bool{"found": true, "Refused": true, "findTable": false, "need": false, "refusedLogin": false, "ID": false} {
		if isParticiple(word) != want {
			t.Errorf("%s: %v", word, !want)
		}
	}
	for _, s := range allSources(t) {
		judge := func(name *ast.Ident) {
			if isParticiple(name.Name) {
				t.Errorf("%s:%d names something %s: name a function by a verb, a type by a noun", s.path,
					s.set.Position(name.Pos()).Line, name.Name)
			}
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.FuncDecl:
				if !isPredicate(n.Type) {
					judge(n.Name)
				}
			case *ast.TypeSpec:
				judge(n.Name)
			case *ast.InterfaceType:
				for _, m := range n.Methods.List {
					if f, ok := m.Type.(*ast.FuncType); ok && !isPredicate(f) {
						judge(m.Names[0])
					}
				}
			}
			return true
		})
	}
}

// TestComments: a comment begins with the name of what it is about, so that it moved with it and was renamed with it.
func TestComments(t *testing.T) {
	for comment, want := range map[string]bool{"row is a": true, "row: a": true, "row's": true, "rows are": false, "A row": false} {
		if beginsWith(comment, "row") != want {
			t.Errorf("%q: %v", comment, !want)
		}
	}
	for _, s := range allSources(t) {
		judge := func(name *ast.Ident, comment *ast.CommentGroup) {
			if text := comment.Text(); text != "" && !beginsWith(text, name.Name) {
				t.Errorf("%s:%d: the comment of %s begins with %q", s.path, s.set.Position(name.Pos()).Line, name.Name, strings.Fields(text)[0])
			}
		}
		for _, d := range s.file.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				judge(d.Name, d.Doc)
			case *ast.GenDecl:
				if len(d.Specs) != 1 {
					continue // a comment on several
				}
				switch spec := d.Specs[0].(type) {
				case *ast.TypeSpec:
					judge(spec.Name, d.Doc)
				case *ast.ValueSpec:
					if len(spec.Names) == 1 {
						judge(spec.Names[0], d.Doc)
					}
				}
			}
		}
	}
}

// beginsWith reports whether a comment's first word is the name, with what punctuation follows it.
func beginsWith(comment, name string) bool {
	word := strings.Fields(comment)[0]
	return word == name || strings.TrimRight(word, ",:;") == name || strings.TrimSuffix(word, "'s") == name
}

// hardWords are phrases that a reader must read twice, each with a plainer one.
var hardWords = map[*regexp.Regexp]string{
	regexp.MustCompile(`(?i)\b(is|are|was|were|be|been) (told|said)\b`):                 `say who says it: "the report says", "gharbor says"`,
	regexp.MustCompile(`(?i)\bcom(e|es|ing) to (nothing|this|that|an end|[a-z]+ as)\b`): "fails, ends, is",
	regexp.MustCompile(`(?i)\bmend(s|ed|ing)?\b`):                                       "fix, repair",
	regexp.MustCompile(`(?i)\b(anew|alike|of its own making)\b`):                        "again; the same",
}

// TestPlainWords: comments, messages and pages are understood at the first reading.
func TestPlainWords(t *testing.T) {
	for path, text := range texts(t) {
		for number, line := range lines([]byte(text)) {
			for hard, plain := range hardWords {
				if found := hard.FindString(line); found != "" {
					t.Errorf("%s:%d: %q is hard to read; plainer: %s", path, number+1, found, plain)
				}
			}
		}
	}
}

// texts are the sources without tests, the pages, and the text of the findings, by path.
func texts(t *testing.T) map[string]string {
	t.Helper()
	all := make(map[string]string)
	for _, s := range allSources(t) {
		all[s.path] = string(s.data)
	}
	for _, pattern := range []string{"docs/*.md", "*.md", "core/finding/*.txt", "scripts/*"} {
		paths, err := filepath.Glob(filepath.Join(root, pattern))
		if err != nil || len(paths) == 0 {
			t.Fatal(pattern, len(paths), err)
		}
		for _, path := range paths {
			data, err := os.ReadFile(path)
			if err != nil {
				continue // a folder
			}
			all[strings.TrimPrefix(path, root+"/")] = string(data)
		}
	}
	return all
}
