package finding

import (
	_ "embed"
	"slices"
	"strings"
	"sync"
)

// pages has the long text of every code. Its form: a line "## CODE OUTCOME", with "passing" after it where waiting
// may help, "blames KEY,KEY" where a profile's value may be wrong, and "at STAGE,STAGE" where the stage is not the
// code's first word; a line of summary; and paragraphs up to the next "## ".
//
//go:embed pages.txt
var pages string

// Page is the long text of a code.
type Page struct {
	Code    Code
	Outcome Outcome // what it makes of its stage
	Stages  []string
	Passing bool     // it may be over without anybody's doing
	Blames  []string // the keys of the profile whose values may be wrong, the likeliest first
	Summary string   // one line
	Text    string   // paragraphs
}

// Pages returns the page of every code, in the order of the stages.
var Pages = sync.OnceValue(func() []Page {
	var all []Page
	for part := range strings.SplitSeq(pages, "\n## ") {
		part = strings.TrimPrefix(part, "## ")
		head, body, _ := strings.Cut(part, "\n")
		words := strings.Fields(head)
		if len(words) < 2 {
			continue
		}
		area, _, _ := strings.Cut(words[0], ".")
		p := Page{
			Code:    Code(words[0]),
			Outcome: Outcome(words[1]),
			Stages:  []string{area},
			Passing: slices.Contains(words, "passing"),
		}
		if at := slices.Index(words, "blames"); at >= 0 && at+1 < len(words) {
			p.Blames = strings.Split(words[at+1], ",")
		}
		if _, stages, ok := strings.Cut(head, " at "); ok {
			p.Stages = strings.Split(stages, ",")
		}
		summary, text, _ := strings.Cut(body, "\n")
		p.Summary, p.Text = summary, strings.TrimSpace(text)
		all = append(all, p)
	}
	return all
})

// PageOf returns the page of a code.
func PageOf(code Code) (Page, bool) {
	for _, p := range Pages() {
		if p.Code == code {
			return p, true
		}
	}
	return Page{}, false
}
