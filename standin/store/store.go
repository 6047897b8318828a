// Package store is a small database in memory behind the simulated servers: tables with rows of texts, and as much
// SQL as the demo and the docs need. It has no transactions, and of types it checks only numbers. It refuses unknown
// statements as a syntax error.
package store

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Table is a table with its rows; a nil value is NULL.
type Table struct {
	Name    string
	Columns []Column
	Rows    [][]*string
	Comment string

	keys map[string]bool // values of the primary key
}

// Column is one of a table's.
type Column struct {
	Name    string
	Type    string
	NotNull bool
	Key     string // "primary", "unique", "refers to …", or ""
}

// number reports whether a column's values are numbers.
func (c Column) number() bool {
	return strings.HasPrefix(c.Type, "int") || strings.HasPrefix(c.Type, "numeric") || strings.HasPrefix(c.Type, "bigint")
}

// Store is tables. The zero Store has none.
type Store struct {
	mu     sync.Mutex
	tables []*Table
}

// Tables are copies of the tables, without rows, and how many rows each has.
func (s *Store) Tables() (all []Table, rows []int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, t := range s.tables {
		all = append(all, Table{Name: t.Name, Columns: slices.Clone(t.Columns), Comment: t.Comment})
		rows = append(rows, len(t.Rows))
	}
	return all, rows
}

// Answer is what a statement gives.
type Answer struct {
	Columns []Column // nil for a statement without rows
	Rows    [][]*string
	Tag     string // "INSERT 0 5"
	Takes   *Table // the table that takes the data which follows
	Into    []int  // the columns, of their values
	Notice  string
}

// Error is a refusal.
type Error struct {
	Code     string // SQLSTATE
	Message  string
	Position int // in the statement, in bytes from 1; 0 where there is none
	Detail   string
}

func (e *Error) Error() string { return e.Message }

// Run runs a statement with the values of its parameters.
func (s *Store) Run(text string, values []*string) (*Answer, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := &parser{store: s, tokens: tokens(text), values: values}
	answer, err := p.statement()
	if err == nil && p.at < len(p.tokens) {
		err = p.wrong()
	}
	return answer, err
}

// Take adds a row of a statement's data. Its error is an *Error.
func (s *Store) Take(t *Table, into []int, values []*string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return t.add(into, values)
}

func (s *Store) find(name string) *Table {
	for _, t := range s.tables {
		if t.Name == name {
			return t
		}
	}
	return nil
}

// add adds a row, once its values fit.
func (t *Table) add(into []int, values []*string) error {
	if len(values) < len(into) {
		return &Error{Code: "22P04", Message: fmt.Sprintf("missing data for column %q", t.Columns[into[len(values)]].Name)}
	}
	if len(values) > len(into) {
		return &Error{Code: "22P04", Message: "extra data after last expected column"}
	}
	row := make([]*string, len(t.Columns))
	for i, column := range into {
		row[column] = values[i]
	}
	for i, c := range t.Columns {
		v := row[i]
		if v == nil {
			if c.NotNull {
				const what = "null value in column %q of relation %q violates not-null constraint"
				return &Error{Code: "23502", Message: fmt.Sprintf(what, c.Name, t.Name)}
			}
			continue
		}
		if _, err := strconv.ParseFloat(*v, 64); err != nil && c.number() {
			return &Error{Code: "22P02", Message: fmt.Sprintf("invalid input syntax for type %s: \"%s\"", c.Type, *v)}
		}
		if c.Key == "primary" && t.keys[*v] {
			const what = "duplicate key value violates unique constraint \"%s_pkey\""
			return &Error{Code: "23505", Message: fmt.Sprintf(what, t.Name)}
		}
	}
	t.Rows = append(t.Rows, row)
	t.note(row, true)
	return nil
}

// note adds or removes the key of a row.
func (t *Table) note(row []*string, there bool) {
	if t.keys == nil {
		t.keys = make(map[string]bool)
	}
	for i, c := range t.Columns {
		if c.Key == "primary" && row[i] != nil {
			t.keys[*row[i]] = there
		}
	}
}

// Undo takes the last rows of a table back.
func (s *Store) Undo(t *Table, rows int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, row := range t.Rows[len(t.Rows)-rows:] {
		t.note(row, false)
	}
	t.Rows = t.Rows[:len(t.Rows)-rows]
}

// compare orders two values of a column: NULL comes last.
func compare(a, b *string, number bool) int {
	switch {
	case a == nil && b == nil:
		return 0
	case a == nil:
		return 1
	case b == nil:
		return -1
	case number:
		x, _ := strconv.ParseFloat(*a, 64)
		y, _ := strconv.ParseFloat(*b, 64)
		return cmp.Compare(x, y)
	}
	return strings.Compare(*a, *b)
}

// Fields splits a line of data: tabs between values, \N for NULL.
func Fields(line string) (values []*string) {
	for text := range strings.SplitSeq(line, "\t") {
		if text == `\N` {
			values = append(values, nil)
			continue
		}
		text = strings.NewReplacer(`\\`, `\`, `\t`, "\t", `\n`, "\n", `\r`, "\r").Replace(text)
		values = append(values, &text)
	}
	return values
}
