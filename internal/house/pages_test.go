package house

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"
)

// TestPages: each page of the documentation has the same shape: a title, then what one can do with it in a sentence; and
// no line of text is wider than a window. Tables and examples are as wide as they are.
func TestPages(t *testing.T) {
	pages, err := filepath.Glob("../../docs/*.md")
	if err != nil || len(pages) == 0 {
		t.Fatal(len(pages), err)
	}
	for _, page := range append(pages, "../../README.md", "../../CHANGELOG.md") {
		data, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(string(data), "\n")
		if len(lines) < 4 || !strings.HasPrefix(lines[0], "# ") || lines[1] != "" || strings.HasPrefix(lines[2], "#") {
			t.Errorf("%s begins with %q", page, lines[:min(3, len(lines))])
		}
		example, generated := false, filepath.Base(page) == "findings.md" // which is what explain prints
		for number, line := range lines {
			switch words := strings.TrimLeft(line, " "); {
			case strings.HasPrefix(words, "```"):
				example = !example
			case example || generated || strings.HasPrefix(words, "|") || strings.HasPrefix(line, "    "):
			case utf8.RuneCountInString(line) > 120:
				t.Errorf("%s:%d has %d columns", page, number+1, utf8.RuneCountInString(line))
			}
		}
		if example {
			t.Errorf("%s ends in an example", page)
		}
	}
}
