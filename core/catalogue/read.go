package catalogue

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/statement"
)

// Server is where to read.
type Server struct {
	Runner engine.Runner
	By     *engine.Statements // with a catalogue
	Facts  *engine.Facts
}

// Row is a thing: a value for each column of its kind, nil where it is not known.
type Row struct {
	Values []*string
	System bool // it is the system's own
}

// Text is a value, "" for one that is not known.
func (r Row) Text(column int) string {
	if v := r.Values[column]; v != nil {
		return *v
	}
	return ""
}

// List is what was read.
type List struct {
	Rows []Row
	// Less is why the server left things out, nil where it gave all.
	Less *engine.StatementError
}

// Read reads the things of a kind, or those of the one database or table that is named. Its error is a
// *engine.StatementError where the server refuses, or that of Runner.Run.
func (s *Server) Read(ctx context.Context, kind *Kind, one string) (list *List, err error) {
	by := s.By.Catalogue
	if by.Read != nil {
		return s.readBy(ctx, kind, one)
	}
	for i, text := range by.Statement(kind.Word, s.Facts, one != "") {
		statement := engine.Statement{Text: text}
		if one != "" {
			statement.Arguments = []*string{&one}
		}
		read := &reader{kind: kind, turn: by.Turn[kind.Word]}
		err = s.between(ctx, statement, read)
		var refused *engine.StatementError
		if errors.As(err, &refused) && ctx.Err() == nil && !refused.Fatal {
			if i == 0 {
				list = &List{Less: refused}
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		if list == nil {
			list = &List{}
		}
		list.Rows = read.rows
		s.hidePasswords(kind, list.Rows)
		return list, nil
	}
	return nil, err
}

// readBy reads a kind by the engine's own code.
func (s *Server) readBy(ctx context.Context, kind *Kind, one string) (*List, error) {
	rows, less, err := s.By.Catalogue.Read(ctx, s.Runner, kind.Word, s.Facts, one)
	if err != nil {
		return nil, err
	}
	read := &reader{kind: kind}
	for _, values := range rows {
		if len(values) != len(kind.Columns)+1 {
			return nil, fmt.Errorf("there are %d values for %d columns of %s", len(values), len(kind.Columns)+1, kind.Word)
		}
		read.add(values)
	}
	s.hidePasswords(kind, read.rows)
	return &List{Rows: read.rows, Less: less}, nil
}

// between runs a statement between those that go before and after.
func (s *Server) between(ctx context.Context, st engine.Statement, to engine.Results) error {
	for _, text := range s.By.Catalogue.Before {
		if err := s.Runner.Run(ctx, engine.Statement{Text: text}, &reader{}); err != nil {
			return err
		}
	}
	err := s.Runner.Run(ctx, st, to)
	for _, text := range s.By.Catalogue.After {
		if afterErr := s.Runner.Run(context.WithoutCancel(ctx), engine.Statement{Text: text}, &reader{}); err == nil {
			err = afterErr
		}
	}
	return err
}

// Path is the schemas in which the server looks for a name without one, in order.
func (s *Server) Path(ctx context.Context) ([]string, error) {
	read := &reader{kind: &Kind{Columns: []Column{{"schema", Name}}}, short: true}
	err := s.Runner.Run(ctx, engine.Statement{Text: s.By.Catalogue.Path}, read)
	var path []string
	for _, row := range read.rows {
		if name := row.Text(0); name != "" {
			path = append(path, name)
		}
	}
	return path, err
}

// reader collects the rows of a kind. Without a kind it collects none.
type reader struct {
	kind  *Kind
	short bool // without the column that tells the system's own
	turn  func([][]byte) [][][]byte
	rows  []Row
}

func (r *reader) Begin(columns []engine.Column) error {
	if r.kind == nil {
		return nil
	}
	want := len(r.kind.Columns) + 1
	if r.short {
		want--
	}
	if r.turn == nil && len(columns) != want {
		return fmt.Errorf("the server gave %d columns for %d of %s", len(columns), want, r.kind.Word)
	}
	return nil
}

func (r *reader) Row(values [][]byte) error {
	switch {
	case r.kind == nil:
	case r.turn != nil:
		for _, values := range r.turn(values) {
			r.add(values)
		}
	default:
		r.add(values)
	}
	return nil
}

// add adds a row of the kind.
func (r *reader) add(values [][]byte) {
	row := Row{Values: make([]*string, len(r.kind.Columns))}
	for i, c := range r.kind.Columns {
		if values[i] == nil {
			continue
		}
		text := string(values[i])
		if c.Is == Truth {
			text = map[bool]string{true: "true", false: "false"}[truth(text)]
		}
		row.Values[i] = &text
	}
	row.System = !r.short && truth(string(values[len(values)-1]))
	r.rows = append(r.rows, row)
}

func (r *reader) End(engine.Outcome) error { return nil }
func (r *reader) Notice(engine.Notice)     {}

// truth reads a truth as the servers write it.
func truth(s string) bool {
	switch strings.ToLower(s) {
	case "t", "true", "1", "y", "yes":
		return true
	}
	return false
}

// hidden replaces a statement with a password.
const hidden = "(not shown: it has a password)"

// hidePasswords cuts passwords out of other sessions' statements and a server's settings.
func (s *Server) hidePasswords(kind *Kind, rows []Row) {
	for i, c := range kind.Columns {
		for _, row := range rows {
			v := row.Values[i]
			switch {
			case v == nil:
			case (kind.Word == engine.KindActivity || kind.Word == engine.KindSlow) && c.Name == "statement":
				text := hidden
				if !s.hasPassword(*v) {
					text = clean.WithoutPasswords(*v)
				}
				row.Values[i] = &text
			case kind.Word == engine.KindSettings && c.Name == "value":
				text := strings.Join(clean.CutSecrets([]string{*v}), "")
				row.Values[i] = &text
			}
		}
	}
}

// hasPassword reports whether a statement in a text has a password. It is true for a text that can't be split into
// statements.
func (s *Server) hasPassword(text string) bool {
	splitter := statement.NewSplitter(strings.NewReader(text), s.By.Lexis)
	for {
		p, err := splitter.Next()
		if errors.Is(err, io.EOF) {
			return false
		}
		if err != nil { // what can't be taken apart, and is no SQL, is not shown
			return !s.By.Lexis.SQL() || !strings.Contains(err.Error(), "EOF") && mayHavePassword(text)
		}
		if statement.HasSecret(p.Words, s.By) {
			return true
		}
	}
}

// mayHavePassword is hasPassword for a text that the server cut off.
func mayHavePassword(text string) bool {
	text = strings.ToUpper(text)
	return strings.Contains(text, "PASSWORD") || strings.Contains(text, "IDENTIFIED")
}
