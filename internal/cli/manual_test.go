package cli

import (
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"gentleharbor/core/engines"
	"gentleharbor/core/profile/schema"
	"gentleharbor/internal/cli/base"
)

// TestManual: each command has a page with its flags and those of its verbs, and no text of it is taken for a macro.
func TestManual(t *testing.T) {
	pages := base.Manual(schema.New(engines.All()), makers(), "2026-11-29")
	macro := regexp.MustCompile(`^\.(TH|SH|SS|PP|TP|B|nf|fi)( |$)`)
	for name, page := range pages {
		for number, line := range strings.Split(page, "\n") {
			if strings.HasPrefix(line, ".") && !macro.MatchString(line) || strings.HasPrefix(line, "'") {
				t.Errorf("%s:%d: %s", name, number+1, line)
			}
			if strings.Contains(line, "{{") {
				t.Errorf("%s:%d has a place that was not filled: %s", name, number+1, line)
			}
		}
	}
	shown := 0
	for _, m := range makers() {
		if cmd := m.Make(); !cmd.Hidden {
			shown++
			if !strings.Contains(pages["gharbor.1"], ".B gharbor\\-"+strings.ReplaceAll(cmd.Name, "-", "\\-")) || pages["gharbor-"+cmd.Name+".1"] == "" {
				t.Errorf("%s has no page", cmd.Name)
			}
		}
	}
	if len(pages) != shown+1 {
		t.Errorf("%d pages for %d commands", len(pages), shown)
	}
	for page, words := range map[string][]string{
		"gharbor-test.1": {".B \\-override\n", ".SS Examples", "gharbor test sightings \\-override"}, "gharbor-wallet.1": {".SH gharbor wallet reader add", ".B \\-for\n"},
		"gharbor-add.1": {".SS Where the server is", ".B \\-tls\\-ca\n"}, "gharbor.1": {".SH EXIT CODES", ".B 130\n"},
	} {
		for _, word := range words {
			if !strings.Contains(pages[page], word) {
				t.Errorf("%s has no %q", page, word)
			}
		}
	}
}

// TestExitCodes: the page about output has a row for each exit code.
func TestExitCodes(t *testing.T) {
	data, err := os.ReadFile("../../docs/output.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, code := range base.ExitCodes() {
		if !strings.Contains(string(data), "\n| "+strconv.Itoa(code.Code)+" |") {
			t.Errorf("docs/output.md has no row for %d", code.Code)
		}
	}
}
