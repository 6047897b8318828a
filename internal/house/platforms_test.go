package house

import (
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// TestPlatforms: docs/platforms.md has a row for each file of the product that is for some systems alone, and no other.
func TestPlatforms(t *testing.T) {
	data, err := os.ReadFile("../../docs/platforms.md")
	if err != nil {
		t.Fatal(err)
	}
	var said, have []string
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+/[^`]+)` \\|").FindAllStringSubmatch(string(data), -1) {
		said = append(said, m[1])
	}
	system := regexp.MustCompile(`_(linux|darwin|windows|unix|other)\.go$`)
	for _, s := range product(t) {
		if name := system.ReplaceAllString(s.path, ""); name != s.path && !slices.Contains(have, name) {
			have = append(have, name)
		}
	}
	for _, name := range have {
		if !slices.Contains(said, name) {
			t.Errorf("%s differs by system, and docs/platforms.md does not say how", name)
		}
	}
	for _, name := range said {
		if !slices.Contains(have, name) && !strings.HasPrefix(name, "standin/") {
			t.Errorf("docs/platforms.md has %s, which no file is for", name)
		}
	}
}
