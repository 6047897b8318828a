package compose

import (
	"regexp"
	"strconv"
	"strings"
	"sync"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
)

var (
	// yamlLine matches the line's number in an error of the YAML library.
	yamlLine = once(`^yaml: line ([0-9]+): `)
	// quoted are the values that an error repeats.
	quoted = once("\"[^\"]*\"|'[^']*'")
)

// once compiles an expression when it is first used: no start of the program waits for it.
func once(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}

// notYAML is the error for a file that is not YAML.
func notYAML(path string, err error) error {
	text, line := err.Error(), 0
	if m := yamlLine().FindStringSubmatch(text); m != nil {
		line, _ = strconv.Atoi(m[1])
		text = text[len(m[0]):]
	}
	text = withoutQuotes(strings.TrimPrefix(text, "yaml: "))
	return &profile.FileError{Path: path, Line: line, What: "is not YAML: " + text}
}

// withoutQuotes removes the values that an error's text quotes, which may be passwords.
func withoutQuotes(text string) string {
	text, _, _ = strings.Cut(strings.TrimSpace(text), "\n") // what follows is the value itself
	text = quoted().ReplaceAllString(text, "…")
	return clean.Line(clean.CutSecrets([]string{text})[0], 300)
}

// unknownKey is the error for a key that is nearly one of the known ones, nil where there is none like it.
func unknownKey(value *node, whole, key string, known []string) error {
	near := nearest.Name(key, known)
	if near == "" {
		return nil
	}
	what := "unknown key " + strconv.Quote(clean.Line(whole, 100)) + "; did you mean " + strconv.Quote(near) + "?"
	return &profile.FileError{Path: value.file, Line: value.keyLine, What: what}
}
