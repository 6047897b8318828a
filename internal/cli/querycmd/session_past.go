package querycmd

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/history"
)

// sessionHistory is the history of a session: the profile's file, and the statements since.
type sessionHistory struct {
	file   *history.File // nil for none
	before []history.Entry
	words  []string // what the keys go through; the session's own words among them stay in memory
}

// read reads the file.
func (p *sessionHistory) read() (err error) {
	p.before, err = p.file.Entries()
	for _, e := range p.before {
		p.words = append(p.words, e.Text)
	}
	return err
}

// texts are the lines that the history keys show.
func (p *sessionHistory) texts() []string { return p.words }

// say adds a line that is kept in memory only.
func (p *sessionHistory) say(line string) { p.words = append(p.words, line) }

// add adds a statement.
func (p *sessionHistory) add(e history.Entry) error {
	if n := len(p.words); n == 0 || p.words[n-1] != e.Text {
		p.words = append(p.words, e.Text)
	}
	if p.file == nil {
		return nil
	}
	return p.file.Add(context.Background(), e)
}

// statementAt is an earlier statement by its number: -1 is the last one.
func (p *sessionHistory) statementAt(n int) (string, bool) {
	at := len(p.before) + n
	if n >= 0 || at < 0 {
		return "", false
	}
	return p.before[at].Text, true
}

// mostFound bounds how many earlier statements are listed.
const mostFound = 50

// find returns the earlier statements with a text in them, as rows of a table: number, time, nothing, statement.
func (p *sessionHistory) find(pattern string) (rows [][]string) {
	for i := len(p.before) - 1; i >= 0 && len(rows) < mostFound; i-- {
		e := p.before[i]
		if strings.Contains(strings.ToLower(e.Text), pattern) {
			rows = append(rows, []string{
				strconv.Itoa(i - len(p.before)), e.At.Local().Format("2006-01-02 15:04"), "", oneLine(e.Text),
			})
		}
	}
	slices.Reverse(rows)
	return rows
}

// oneLine is a statement in one line, cut where it is long.
func oneLine(text string) string { return clean.Line(strings.Join(strings.Fields(text), " "), 200) }
