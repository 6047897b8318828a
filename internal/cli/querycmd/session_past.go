package querycmd

import (
	"context"
	"time"

	"gentleharbor/core/history"
)

// past is the history of a session: of the profile's file, and what was typed since.
type past struct {
	file    *history.File // nil for none
	entries []history.Entry
	words   []string // the session's own words among them stay in memory
}

// read reads the file.
func (p *past) read() (err error) {
	p.entries, err = p.file.Entries()
	for _, e := range p.entries {
		p.words = append(p.words, e.Text)
	}
	return err
}

// texts are what the keys of the history go through.
func (p *past) texts() []string { return p.words }

// say adds a line that is kept in memory only.
func (p *past) say(line string) { p.words = append(p.words, line) }

// add adds a statement.
func (p *past) add(e history.Entry) error {
	p.entries = append(p.entries, e)
	if n := len(p.words); n == 0 || p.words[n-1] != e.Text {
		p.words = append(p.words, e.Text)
	}
	if p.file == nil {
		return nil
	}
	return p.file.Add(context.Background(), e)
}

// took notes how long the last statement took.
func (p *past) took(d time.Duration) {
	if n := len(p.entries); n > 0 {
		p.entries[n-1].MS = float64(d.Microseconds()) / 1000
	}
}
