package statement

import (
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
)

// Values are the values of placeholders, by name. A nil value is NULL.
type Values map[string]*string

// identifier marks a placeholder for a name, not a value: {identifier NAME}.
const identifier = "identifier "

// Fill makes a statement of a piece. With values, {NAME} becomes a parameter with the value of that name, and
// {identifier NAME} a name in the engine's quotes; used gets the names. Without values, braces have no meaning.
func Fill(p *Piece, values Values, by *engine.Statements, used map[string]bool) (engine.Statement, error) {
	p.moves = nil
	if values == nil {
		return engine.Statement{Text: string(p.Text)}, nil
	}
	var text strings.Builder
	var s engine.Statement
	from := 0
	for _, b := range p.braces {
		word := strings.Trim(string(p.Text[b.from+1:b.to-1]), "{}")
		name, isName := strings.CutPrefix(word, identifier)
		name = strings.TrimSpace(name)
		value, ok := values[name]
		if !ok {
			return s, p.placeholderError(b, unknownValue(name, values))
		}
		used[name] = true
		text.Write(p.Text[from:b.from])
		from = b.to
		before := text.Len()
		switch {
		case isName && (value == nil || *value == ""):
			return s, p.placeholderError(b, fmt.Sprintf("{identifier %s} needs a name, and its value is empty", name))
		case isName && strings.ContainsRune(*value, 0):
			return s, p.placeholderError(b, fmt.Sprintf("{identifier %s} has a zero byte in it", name))
		case isName:
			text.WriteString(by.Quote(*value))
		case !takesValues(p.Words, by):
			return s, p.placeholderError(b, fmt.Sprintf("{%s}: %s takes no values on this engine; {identifier %s} "+
				"is a name",
				name, p.Words[0], name))
		default:
			s.Arguments = append(s.Arguments, value)
			text.WriteString(by.Parameter(len(s.Arguments)))
		}
		p.moves = append(p.moves, substitution{b, span{before, text.Len()}})
	}
	text.Write(p.Text[from:])
	s.Text = text.String()
	return s, nil
}

// takesValues reports whether the engine takes parameters in a statement: in CREATE, only with a query after it.
func takesValues(words []string, by *engine.Statements) bool {
	if by.Rules != nil {
		return true
	}
	if len(words) == 0 || !by.Valued.Has(words[0]) {
		return false
	}
	isQuery := func(word string) bool { return word == "SELECT" || word == "VALUES" || word == "WITH" }
	return words[0] != "CREATE" || slices.ContainsFunc(words, isQuery)
}

// substitution is a placeholder, and the text that replaces it.
type substitution struct{ was, is span }

// original is the byte in a piece's text for a byte of the statement that Fill made of it.
func (p *Piece) original(at int) int {
	shift := 0
	for _, m := range p.moves {
		switch {
		case at >= m.is.to:
			shift = m.was.to - m.is.to
		case at >= m.is.from:
			return m.was.from
		}
	}
	return at + shift
}

// placeholderError is an error at a placeholder.
func (p *Piece) placeholderError(at span, what string) error {
	line, column := place(p, at.from)
	return &SyntaxError{Line: line, Column: column, What: what}
}

// place is the line and column in the script of a byte of a piece's text.
func place(p *Piece, at int) (line, column int) {
	before := string(p.Text[:min(at, len(p.Text))])
	line = p.Line + strings.Count(before, "\n")
	if i := strings.LastIndexByte(before, '\n'); i >= 0 {
		return line, len(before) - i
	}
	return line, p.Column + len(before)
}

func unknownValue(name string, values Values) string {
	var names []string
	for n := range values {
		names = append(names, n)
	}
	slices.Sort(names)
	what := fmt.Sprintf("{%s} has no value; give it one: -let %s=VALUE", name, name)
	if near := nearest.Name(name, names); near != "" {
		what += fmt.Sprintf("; did you mean {%s}?", near)
	}
	return what
}

// UnusedNames are the names of values that no placeholder used, sorted.
func (v Values) UnusedNames(used map[string]bool) []string {
	var names []string
	for name := range v {
		if !used[name] {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
