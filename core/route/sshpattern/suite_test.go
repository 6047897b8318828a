//go:build unix

package sshpattern

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// TestTheirPatterns: patterns and lists of them match as in OpenSSH's own unit test.
func TestTheirPatterns(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile(testkit.Source(t, "openssh/regress/unittests/match/tests.c"))
	if err != nil {
		t.Fatal(err)
	}
	tried := 0
	for _, c := range regexp.MustCompile(`(?m)^\s*ASSERT_INT_EQ\(match_pattern\("(.*?)", "(.*?)"\), (\d)\);`).FindAllStringSubmatch(string(data), -1) {
		tried++
		if got := Match(c[2], c[1]); got != (c[3] == "1") {
			t.Errorf("%s: %v", c[0], got)
		}
	}
	for _, c := range regexp.MustCompile(`(?m)^\s*ASSERT_INT_EQ\(match_pattern_list\("(.*?)", "(.*?)", (\d)\), (-?\d)\);`).FindAllStringSubmatch(string(data), -1) {
		tried++
		patterns := strings.Split(c[2], ",")
		if c[2] == "" {
			patterns = nil
		}
		if c[3] == "1" {
			continue // it lowers the patterns alone there, where names come lowered; List lowers both
		}
		if got := Exact(patterns, c[1]); got != (c[4] == "1") {
			t.Errorf("%s: %v", c[0], got)
		}
	}
	if tried < 40 {
		t.Errorf("only %d cases were found", tried)
	}
}
