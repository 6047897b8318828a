package main

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// pagesOf are the pages of the documentation, with the README and the list of changes.
func pagesOf(t *testing.T) map[string]string {
	t.Helper()
	paths, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	all := make(map[string]string)
	for _, path := range append(paths, "../../README.md", "../../CHANGELOG.md") {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		all[path] = string(data)
	}
	return all
}

var (
	fences  = regexp.MustCompile("(?ms)^```([a-z]*).*?\n(.*?)^```")
	inline  = regexp.MustCompile("`gharbor ([^`]+)`")
	aWord   = regexp.MustCompile(`^[a-z][a-z-]*$`)
	aFlag   = regexp.MustCompile(`^-([a-z][a-z-]*)`)
	aLink   = regexp.MustCompile(`\]\(([^)#]+)(#[^)]*)?\)`)
	aHelper = regexp.MustCompile(`(?m)^\s+-([a-z][a-z-]*)`)
)

// TestDocsNameCommands: each command that the text of a page names is one, and has the flags that it is named with.
func TestDocsNameCommands(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	helps := make(map[string]string) // "" for none
	help := func(words ...string) string {
		name := strings.Join(words, " ")
		if _, asked := helps[name]; !asked {
			helps[name] = ""
			if r := p.Run(append([]string{"help"}, words...)...); r.Code == 0 {
				helps[name] = r.Stdout
			}
		}
		return helps[name]
	}
	seen := 0
	for path, text := range pagesOf(t) {
		for _, m := range inline.FindAllStringSubmatch(fences.ReplaceAllString(text, ""), -1) {
			line, _, _ := strings.Cut(strings.Join(strings.Fields(m[1]), " "), " -- ")
			words := strings.Fields(line)
			if words[0] == "help" || !aWord.MatchString(words[0]) || slices.Contains(words, "VERB") {
				continue
			}
			page, verbs := help(words[0]), 1
			if page == "" {
				t.Errorf("%s: there is no such command: gharbor %s", path, m[1])
				continue
			}
			for verbs < len(words) && aWord.MatchString(words[verbs]) && help(words[:verbs+1]...) != "" {
				verbs++
				page = help(words[:verbs]...)
			}
			seen++
			for _, word := range words[verbs:] {
				if f := aFlag.FindStringSubmatch(word); f != nil && !slices.ContainsFunc(aHelper.FindAllStringSubmatch(page, -1),
					func(known []string) bool { return known[1] == f[1] }) {
					t.Errorf("%s: gharbor %s has no flag %s", path, strings.Join(words[:verbs], " "), f[0])
				}
			}
		}
	}
	if seen < 100 {
		t.Errorf("%d commands were looked at", seen)
	}
}

// TestDocsFiles: each example of a file of the tool's own is read as one.
func TestDocsFiles(t *testing.T) {
	t.Parallel()
	seen := 0
	for path, text := range pagesOf(t) {
		for _, m := range fences.FindAllStringSubmatch(text, -1) {
			if m[1] != "toml" {
				continue
			}
			seen++
			p := testkit.NewProgram(t)
			write, read := p.Profiles, []string{"list"}
			if strings.Contains(m[2], "[alias.") {
				write, read = p.Aliases, []string{"alias", "list"}
			}
			write(m[2])
			if r := p.Run(read...); r.Code != 0 {
				t.Errorf("%s: %s\n%s", path, r.Stderr, m[2])
			}
		}
	}
	if seen < 10 {
		t.Errorf("%d files were looked at", seen)
	}
}

// TestDocsLinks: what a page links is there.
func TestDocsLinks(t *testing.T) {
	t.Parallel()
	for path, text := range pagesOf(t) {
		for _, m := range aLink.FindAllStringSubmatch(fences.ReplaceAllString(text, ""), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			if _, err := os.Stat(filepath.Join(filepath.Dir(path), m[1])); err != nil {
				t.Errorf("%s links %s, which does not exist", path, m[1])
			}
		}
	}
}
