// Command codes tells which findings no test made happen. Its words are a coverage profile of the packages' own
// tests, and a file with the codes that the built program printed in its tests, one a line. scripts/test runs it.
package main

import (
	"bufio"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/finding"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "codes: give a coverage profile and a file of codes")
		os.Exit(2)
	}
	missing, err := missing(os.Args[1], os.Args[2])
	if err != nil {
		fmt.Fprintln(os.Stderr, "codes:", err)
		os.Exit(1)
	}
	for _, code := range missing {
		fmt.Fprintf(os.Stderr, "codes: no test makes %s happen\n", code)
	}
	if len(missing) > 0 {
		os.Exit(1)
	}
}

// missing are the codes of the catalogue that are in neither.
func missing(profile, printed string) ([]finding.Code, error) {
	blocks, err := coveredBlocks(profile)
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(printed)
	if err != nil {
		return nil, err
	}
	happened := make(map[finding.Code]bool)
	for line := range strings.Lines(string(data)) {
		happened[finding.Code(strings.TrimSpace(line))] = true
	}
	names, err := constants()
	if err != nil {
		return nil, err
	}
	if err := fromBlocks(blocks, names, happened); err != nil {
		return nil, err
	}
	var all []finding.Code
	for _, page := range finding.Pages() {
		if !happened[page.Code] {
			all = append(all, page.Code)
		}
	}
	slices.Sort(all)
	return all, nil
}

// block is lines of a file that were run.
type block struct{ first, last int }

// blockLine is a line of a profile: "MODULE/FILE:LINE.COLUMN,LINE.COLUMN STATEMENTS COUNT".
var blockLine = regexp.MustCompile(`^gentleharbor/(.*):([0-9]+)\.[0-9]+,([0-9]+)\.[0-9]+ [0-9]+ ([0-9]+)$`)

// coveredBlocks are the blocks of a profile that were run, by file.
func coveredBlocks(profile string) (map[string][]block, error) {
	file, err := os.Open(profile)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	all := make(map[string][]block)
	for lines := bufio.NewScanner(file); lines.Scan(); {
		m := blockLine.FindStringSubmatch(lines.Text())
		if m == nil || m[4] == "0" {
			continue
		}
		first, _ := strconv.Atoi(m[2])
		last, _ := strconv.Atoi(m[3])
		all[m[1]] = append(all[m[1]], block{first, last})
	}
	return all, nil
}

// constants are the codes by the names of their constants.
func constants() (map[string]finding.Code, error) {
	file, err := parser.ParseFile(token.NewFileSet(), "core/finding/codes.go", nil, 0)
	if err != nil {
		return nil, err
	}
	all := make(map[string]finding.Code)
	ast.Inspect(file, func(n ast.Node) bool {
		if spec, ok := n.(*ast.ValueSpec); ok && len(spec.Values) == 1 {
			if text, ok := spec.Values[0].(*ast.BasicLit); ok {
				all[spec.Names[0].Name] = finding.Code(strings.Trim(text.Value, `"`))
			}
		}
		return true
	})
	return all, nil
}

// fromBlocks adds the codes whose constants stand in blocks that were run.
func fromBlocks(blocks map[string][]block, names map[string]finding.Code, happened map[finding.Code]bool) error {
	return filepath.WalkDir("core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || len(blocks[path]) == 0 {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		var look func(ast.Node) bool
		look = func(n ast.Node) bool {
			if c, ok := n.(*ast.CaseClause); ok { // its list compares, its body makes
				for _, statement := range c.Body {
					ast.Inspect(statement, look)
				}
				return false
			}
			name, ok := n.(*ast.SelectorExpr)
			if !ok {
				return !asks(n)
			}
			code, known := names[name.Sel.Name]
			line := set.Position(name.Pos()).Line
			if known && slices.ContainsFunc(blocks[path], func(b block) bool { return b.first <= line && line <= b.last }) {
				happened[code] = true
			}
			return true
		}
		ast.Inspect(file, look)
		return nil
	})
}

// asks reports whether a node compares codes: that makes none happen.
func asks(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.BinaryExpr:
		return n.Op == token.EQL || n.Op == token.NEQ
	case *ast.CallExpr:
		name, ok := n.Fun.(*ast.SelectorExpr)
		return ok && name.Sel.Name == "Is"
	}
	return false
}
