package querycmd

import (
	"errors"
	"strings"

	"gentleharbor/core/results"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// form has the flags for the form of results.
type form struct {
	format  string // "" where none was given
	stacked bool
}

func (f *form) flags(fs *base.FlagSet) {
	fs.Choose("format", results.Formats...)
	fs.Func("format", strings.Join(results.Formats, ", ")+" (default table on a terminal, else tsv)", f.set)
	fs.BoolVar(&f.stacked, "stacked", false, "a table with one value on each line")
}

func (f *form) set(word string) error {
	if _, err := results.NewWriter(nil, results.Layout{Format: word}); err != nil {
		return errors.New("expected one of " + strings.Join(results.Formats, ", "))
	}
	f.format = word
	return nil
}

// conflict is the error for flags that exclude each other, nil for none.
func (f form) conflict() error {
	if f.stacked && f.format != "" && f.format != "table" {
		return base.Usage("-stacked is for -format table")
	}
	return nil
}

// layout is the layout of results on standard output, or elsewhere.
func (c *call) layout(f form, here bool) results.Layout {
	terminal := here && render.IsTerminal(c.Stdout)
	l := results.Layout{Format: f.format, Stacked: f.stacked, Terminal: terminal}
	if l.Format == "" {
		l.Format = map[bool]string{true: "table", false: "tsv"}[terminal || f.stacked]
	}
	if terminal {
		l.Width = render.Columns(c.Stdout)
		if render.Colours(c.Stdout, c.NoColour) {
			l.Dim = func(text string) string { return "\x1b[2m" + text + "\x1b[0m" }
		}
	}
	return l
}
