package main

import (
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"gentleharbor/core/finding"
	"gentleharbor/demo"
	"gentleharbor/internal/testkit"
)

// colours finds what a terminal takes as a colour or as the start of a line.
var colours = regexp.MustCompile(`\x1b\[[0-9;]*[mK]|\r`)

// shellWords finds the words of a line as a shell does.
var shellWords = regexp.MustCompile(`(?:'[^']*'|\\'|[^ '])+`)

// TestEightyColumns: on a terminal of 80 columns the help of each command, the page of each finding, and the output
// of each part of the demo have no longer line, except for a single long word, such as a path or a text in quotes.
func TestEightyColumns(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p := testkit.NewProgram(t)
	look := func(t *testing.T, words ...string) {
		text := p.OnColumns(80, words...).Ends(0)
		for line := range strings.SplitSeq(colours.ReplaceAllString(text, ""), "\n") {
			words := shellWords.FindAllString(line, -1)
			if n := utf8.RuneCountInString(line); n > 80 && !slices.ContainsFunc(words, func(word string) bool { return len(word) > 60 }) {
				t.Errorf("%s: a line of %d columns:\n%s", strings.Join(words, " "), n, line)
			}
		}
	}
	for _, page := range finding.Pages() {
		t.Run(string(page.Code), func(t *testing.T) { t.Parallel(); look(t, "explain", string(page.Code)) })
	}
	t.Run("explain", func(t *testing.T) { t.Parallel(); look(t, "explain") })
	t.Run("help", func(t *testing.T) { t.Parallel(); look(t, "help") })
	for _, part := range demo.Parts() {
		t.Run(part.Name, func(t *testing.T) { t.Parallel(); look(t, "demo", part.Name) })
	}
}
