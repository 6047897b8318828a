package base

import (
	"strings"

	"gentleharbor/core/clean"
)

// CommandWith is the command line of this run with another value for a flag, for a line to try.
func (c *Call) CommandWith(flag, value string) string {
	line := []string{"gharbor"}
	set := []string{"-" + flag, clean.Shell(value)}
	if value == "true" {
		set = set[:1]
	}
	done := false
	words := c.typed
	for i := 0; i < len(words); i++ {
		name, _, joined := strings.Cut(strings.TrimLeft(words[i], "-"), "=")
		switch {
		case words[i] == "--":
			if !done {
				line, done = append(line, set...), true
			}
			for _, word := range words[i:] {
				line = append(line, clean.Shell(word))
			}
			return strings.Join(line, " ")
		case strings.HasPrefix(words[i], "-") && name == flag:
			line, done = append(line, set...), true
			if !joined && value != "true" {
				i++
			}
		default:
			line = append(line, clean.Shell(words[i]))
		}
	}
	if !done {
		line = append(line, set...)
	}
	return strings.Join(line, " ")
}
