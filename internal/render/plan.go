package render

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"gentleharbor/core/clean"
)

// Plan shows the planned statements for a server, with their reasons.
type Plan struct {
	out   io.Writer
	width int
	last  string // the reason that was shown last
}

// NewPlan shows a plan on out.
func NewPlan(out io.Writer) *Plan { return &Plan{out: out, width: pageWidth(out)} }

// planColumn is the column of reasons and statements, after the word for what a statement does.
const planColumn = 10

// Note writes something to know before a yes.
func (p *Plan) Note(text string) {
	p.reason("note", clean.Visible(text))
}

// Change writes a statement with its reason, unless that is the same as the last one's. word says what it does:
// "add", "change", "remove".
func (p *Plan) Change(word, why, statement string) {
	if why = clean.Visible(why); why != p.last {
		p.reason(word, why)
	}
	p.last = why
	const indent = planColumn + 2
	lines := wrapStatement(clean.Visible(statement), p.width-indent)
	fmt.Fprintln(p.out, strings.Repeat(" ", planColumn)+strings.Join(lines, "\n"+strings.Repeat(" ", indent)))
}

// reason shows a text behind a word.
func (p *Plan) reason(word, text string) {
	lines := strings.Split(wrap(text, p.width-planColumn, 0), "\n")
	fmt.Fprintf(p.out, "  %-8s%s\n", word, strings.Join(lines, "\n"+strings.Repeat(" ", planColumn)))
}

// wrapStatement breaks a statement at blanks outside of quotes, so that it means the same when it is pasted.
func wrapStatement(text string, width int) (lines []string) {
	var quote rune
	line, word := "", ""
	flush := func() {
		if line != "" && utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) > width {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += " "
		}
		line, word = line+word, ""
	}
	for _, r := range text {
		switch {
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case r == '\'' || r == '"' || r == '`':
			quote = r
		case r == ' ':
			flush()
			continue
		}
		word += string(r)
	}
	flush()
	return append(lines, line)
}
