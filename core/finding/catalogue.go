package finding

import (
	_ "embed"
	"strings"
	"sync"
)

// pages holds the long text of every code. Its form: a line "## CODE
// OUTCOME", a line of summary, and paragraphs up to the next "## ".
//
//go:embed pages.txt
var pages string

// Page is the long text of a code.
type Page struct {
	Code    string
	Outcome Outcome // what it makes of its stage
	Summary string  // one line
	Text    string  // paragraphs
}

// Pages returns the page of every code, in the order of the stages.
var Pages = sync.OnceValue(func() []Page {
	var all []Page
	for part := range strings.SplitSeq(pages, "\n## ") {
		part = strings.TrimPrefix(part, "## ")
		head, body, _ := strings.Cut(part, "\n")
		code, outcome, ok := strings.Cut(head, " ")
		if !ok {
			continue
		}
		summary, text, _ := strings.Cut(body, "\n")
		all = append(all, Page{Code: code, Outcome: Outcome(outcome), Summary: summary, Text: strings.TrimSpace(text)})
	}
	return all
})

// PageOf returns the page of a code.
func PageOf(code string) (Page, bool) {
	for _, p := range Pages() {
		if p.Code == code {
			return p, true
		}
	}
	return Page{}, false
}
