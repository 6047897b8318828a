package profile

import (
	"slices"
	"strings"

	"gentleharbor/core/profile/syntax"
)

// Heads are the names of the tables of a kind, "profile", "alias" or "cloud", in the order of a file's text. It looks
// at the lines alone: a file with a mistake has names too, and one with 10,000 profiles is read in a few milliseconds.
func Heads(data []byte, kind string) (names []string) {
	for line := range strings.Lines(string(data)) {
		inside, ok := strings.CutPrefix(strings.TrimSpace(line), "["+kind+".")
		if !ok {
			continue
		}
		inside, _, _ = strings.Cut(inside, "#")
		inside = strings.TrimSpace(inside)
		name, ok := strings.CutSuffix(inside, "]")
		if !ok {
			continue
		}
		if quote := name[:min(len(name), 1)]; quote == `"` || quote == "'" {
			name = strings.TrimSuffix(name[1:], quote)
		} else if strings.Contains(name, ".") {
			continue // a table within it
		}
		if syntax.ValidName(name) {
			names = append(names, name)
		}
	}
	return names
}

// Values are what a key is set to in a file's lines, each once; of a list, its items. As Heads, it looks at the lines
// alone: a value over several lines is not seen.
func Values(data []byte, name string) (all []string) {
	for line := range strings.Lines(string(data)) {
		before, rest, ok := strings.Cut(line, "=")
		if !ok || strings.TrimSpace(before) != name {
			continue
		}
		for {
			at := strings.IndexAny(rest, `"'#`)
			if at < 0 || rest[at] == '#' {
				break
			}
			value, after, closed := strings.Cut(rest[at+1:], rest[at:at+1])
			if !closed {
				break
			}
			if !strings.Contains(value, `\`) && !slices.Contains(all, value) {
				all = append(all, value)
			}
			rest = after
		}
	}
	return all
}
