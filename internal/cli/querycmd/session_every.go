package querycmd

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/statement"
	"gentleharbor/internal/render"
)

// everyWord runs the last statement again and again, until a key is pressed.
func (s *session) everyWord(ctx context.Context, args []string) error {
	if len(args) != 1 {
		return needs("every")
	}
	every, err := time.ParseDuration(args[0])
	if err != nil || every < 100*time.Millisecond {
		return errors.New("expected a time of 100ms or more, such as /every 5s")
	}
	text, err := s.statementFor(nil)
	if err != nil {
		return err
	}
	p, err := one(text+s.ending(text), s.by)
	if err != nil {
		return err
	}
	if !changesNothing(p.Words, s.by) {
		return fmt.Errorf("/every runs statements that only read, and this begins with %s", p.Words[0])
	}
	var before [][]string
	for {
		gathered := &firstRows{most: int(s.set.rows)}
		if err := s.send(ctx, p, gathered, func() {}); err != nil {
			return s.failedWith(err, 0)
		}
		s.Say("%s", time.Now().Format(time.TimeOnly))
		mark := func(row, column int) bool {
			return before != nil && (row >= len(before) || column >= len(before[row]) ||
				before[row][column] != gathered.rows[row][column])
		}
		if err := render.MarkedTable(s.Stdout, s.NoColour, gathered.columns, gathered.rows, mark); err != nil {
			return err
		}
		before = gathered.rows
		if render.Key(s.Stdin, every) {
			s.Say("ended")
			return nil
		}
	}
}

// changesNothing reports whether a statement only reads, by its first word.
func changesNothing(words []string, by *engine.Statements) bool {
	if by.Rules != nil {
		return by.Rules.Reads(words)
	}
	return len(words) > 0 && engine.Words("SELECT SHOW TABLE VALUES EXPLAIN DESCRIBE DESC").Has(words[0]) &&
		!strings.Contains(" "+strings.Join(words, " ")+" ", " INTO ") &&
		!strings.Contains(" "+strings.Join(words, " ")+" ", " ANALYZE ")
}

// one is the one statement of a text.
func one(text string, by *engine.Statements) (*statement.Piece, error) {
	t := &statement.LineReader{Lexis: by.Lexis}
	t.Add(text)
	p, _, err := t.Next()
	if err == nil && p == nil {
		err = errors.New("the statement has no end")
	}
	return p, err
}

// firstRows is the first rows of a result, as text.
type firstRows struct {
	most    int
	columns []string
	rows    [][]string
}

func (g *firstRows) Begin(columns []engine.Column) error {
	g.columns, g.rows = nil, nil
	for _, c := range columns {
		g.columns = append(g.columns, c.Name)
	}
	return nil
}

func (g *firstRows) Row(values [][]byte) error {
	if len(g.rows) >= g.most {
		return nil
	}
	row := make([]string, len(values))
	for i, v := range values {
		row[i] = "null"
		if v != nil {
			row[i] = string(v)
		}
	}
	g.rows = append(g.rows, row)
	return nil
}

func (g *firstRows) End(engine.Outcome) error { return nil }
func (g *firstRows) Notice(engine.Notice)     {}
