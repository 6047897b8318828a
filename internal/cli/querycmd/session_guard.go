package querycmd

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"gentleharbor/core/catalogue"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/statement"
	"gentleharbor/internal/cli/wording"
)

// askName asks the guard's question: a person must type the name of what the statement changes.
func (s *session) askName(ctx context.Context, p *statement.Piece) error {
	why := statement.Risk(p.Words, s.by)
	if s.guard != "ask" || why == "" {
		return nil
	}
	s.Say("the guard asks first: %s", why)
	names := s.findTouched(ctx, p)
	word := clean.Word(s.profile.Called)
	if len(names) > 0 {
		word = names[0]
	}
	answer, err := s.editor.Read(fmt.Sprintf("type %s to run it: ", word))
	if err != nil || strings.TrimSpace(answer) != word {
		return errors.New("nothing was sent")
	}
	return nil
}

// findTouched returns the things that a statement changes, by their names in a statement, and what depends on them.
func (s *session) findTouched(ctx context.Context, p *statement.Piece) (names []string) {
	for _, e := range statement.Effects(p, s.by) {
		for _, n := range e.Names {
			name := typedName(n, s.by)
			names = append(names, name)
			s.Say("  the %s %s%s", e.Kind, clean.Visible(name), s.size(ctx, e, n))
			for _, line := range s.dependents(ctx, n) {
				s.Say("    on it depends %s", clean.Visible(line))
			}
		}
	}
	return names
}

// size is how many rows a table has, as the server estimates them.
func (s *session) size(ctx context.Context, e statement.Effect, n statement.Name) string {
	if e.Kind != "table" {
		return ""
	}
	second, err := s.secondConnection(ctx)
	if err != nil {
		return ""
	}
	list, err := second.server.Read(ctx, catalogue.Find(engine.KindTables), "")
	if err != nil {
		s.drop(err)
		return ""
	}
	for _, row := range list.Rows {
		if row.Text(1) == n.Name && (n.Schema == "" || row.Text(0) == n.Schema) && row.Values[3] != nil {
			if n, err := strconv.Atoi(row.Text(3)); err == nil {
				return ": about " + wording.Count(n, "row", "rows")
			}
		}
	}
	return ""
}

// mostDependents is how many dependents are listed.
const mostDependents = 20

// dependents are the things that depend on another.
func (s *session) dependents(ctx context.Context, n statement.Name) (all []string) {
	if s.by.Catalogue == nil || s.by.Catalogue.Dependents == "" {
		return nil
	}
	second, err := s.secondConnection(ctx)
	if err != nil {
		return nil
	}
	name := n.Name
	list := &firstColumn{most: mostDependents}
	err = second.server.Runner.Run(ctx, engine.Statement{
		Text:      s.by.Catalogue.Dependents,
		Arguments: []*string{&name},
	}, list)
	if err != nil {
		s.drop(err)
	}
	return list.texts
}

// firstColumn collects the first column of a result.
type firstColumn struct {
	texts []string
	most  int
}

func (f *firstColumn) Begin([]engine.Column) error { return nil }
func (f *firstColumn) End(engine.Outcome) error    { return nil }
func (f *firstColumn) Notice(engine.Notice)        {}

func (f *firstColumn) Row(values [][]byte) error {
	switch {
	case len(f.texts) < f.most:
		f.texts = append(f.texts, string(values[0]))
	case len(f.texts) == f.most:
		f.texts = append(f.texts, "and more")
	}
	return nil
}
