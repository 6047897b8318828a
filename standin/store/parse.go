package store

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// token is a word, a number, a text, a parameter, or a sign.
type token struct {
	word  string // in small letters; as it is where it was in quotes; the sign itself
	text  string // of a text or number
	kind  byte   // 'w', 'q' (a name in quotes), 't', 'n', '$', 's'
	place int    // from 1
}

func tokens(text string) (all []token) {
	for i := 0; i < len(text); {
		c := text[i]
		from := i
		switch {
		case c <= ' ':
			i++
			continue
		case strings.HasPrefix(text[i:], "--"):
			for i < len(text) && text[i] != '\n' {
				i++
			}
			continue
		case c == '\'' || c == '"':
			var b strings.Builder
			for i++; i < len(text); i++ {
				if text[i] == c {
					if i+1 == len(text) || text[i+1] != c {
						break
					}
					i++
				}
				b.WriteByte(text[i])
			}
			i++
			if c == '"' {
				all = append(all, token{b.String(), "", 'q', from + 1})
			} else {
				all = append(all, token{"'", b.String(), 't', from + 1})
			}
			continue
		case isLetter(c):
			for i < len(text) && (isLetter(text[i]) || digit(text[i])) {
				i++
			}
			all = append(all, token{strings.ToLower(text[from:i]), "", 'w', from + 1})
			continue
		case digit(c):
			for i < len(text) && (digit(text[i]) || text[i] == '.') {
				i++
			}
			all = append(all, token{"0", text[from:i], 'n', from + 1})
			continue
		case c == '$':
			for i++; i < len(text) && digit(text[i]); i++ {
			}
			all = append(all, token{"$", text[from+1 : i], '$', from + 1})
			continue
		}
		i++
		if i < len(text) && slices.Contains([]string{"<=", ">=", "<>", "::"}, text[from:i+1]) {
			i++
		}
		all = append(all, token{text[from:i], "", 's', from + 1})
	}
	return all
}

func isLetter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= 0x80
}
func digit(c byte) bool { return c >= '0' && c <= '9' }

// parser reads a statement and carries it out.
type parser struct {
	store  *Store
	tokens []token
	at     int
	values []*string
}

func (p *parser) peek() token {
	if p.at < len(p.tokens) {
		return p.tokens[p.at]
	}
	return token{}
}

// accept goes over words if they are next.
func (p *parser) accept(words ...string) bool {
	for i, w := range words {
		if p.at+i >= len(p.tokens) || p.tokens[p.at+i].word != w || p.tokens[p.at+i].kind == 'q' {
			return false
		}
	}
	p.at += len(words)
	return true
}

// wrong is the error at the next word.
func (p *parser) wrong() error {
	if p.at >= len(p.tokens) {
		return &Error{Code: "42601", Message: "syntax error at end of input"}
	}
	t := p.peek()
	shown := t.word
	if t.text != "" {
		shown = t.text
	}
	return &Error{Code: "42601", Message: fmt.Sprintf("syntax error at or near \"%s\"", shown), Position: t.place}
}

func (p *parser) name() (string, error) {
	t := p.peek()
	if t.kind != 'w' && t.kind != 'q' {
		return "", p.wrong()
	}
	p.at++
	if p.accept(".") { // the one schema
		return p.name()
	}
	return t.word, nil
}

// table reads the name of an existing table.
func (p *parser) table() (*Table, error) {
	place := p.peek().place
	name, err := p.name()
	if err != nil {
		return nil, err
	}
	if t := p.store.find(name); t != nil {
		return t, nil
	}
	return nil, &Error{Code: "42P01", Message: fmt.Sprintf("relation \"%s\" does not exist", name), Position: place}
}

// column reads the name of a column of a table.
func (p *parser) column(t *Table) (int, error) {
	place := p.peek().place
	name, err := p.name()
	if err != nil {
		return 0, err
	}
	for i, c := range t.Columns {
		if c.Name == name {
			return i, nil
		}
	}
	return 0, &Error{Code: "42703", Message: fmt.Sprintf("column \"%s\" does not exist", name), Position: place}
}

func (p *parser) statement() (*Answer, error) {
	switch {
	case p.accept("create", "table"):
		return p.createTable()
	case p.accept("drop", "table"):
		return p.dropTable()
	case p.accept("insert", "into"):
		return p.insert()
	case p.accept("copy"):
		return p.copyFrom()
	case p.accept("comment", "on", "table"):
		return p.comment()
	case p.accept("select"):
		return p.selectRows()
	}
	for tag, words := range map[string][]string{
		"BEGIN":        {"begin"},
		"COMMIT":       {"commit"},
		"ROLLBACK":     {"rollback"},
		"SET":          {"set"},
		"CREATE INDEX": {"create", "index"},
	} {
		if p.accept(words...) {
			p.at = len(p.tokens)
			return &Answer{Tag: tag}, nil
		}
	}
	return nil, p.wrong()
}

func (p *parser) createTable() (*Answer, error) {
	quietly := p.accept("if", "not", "exists")
	name, err := p.name()
	if err != nil {
		return nil, err
	}
	t := &Table{Name: name}
	if !p.accept("(") {
		return nil, p.wrong()
	}
	for {
		c, err := p.definition()
		if err != nil {
			return nil, err
		}
		t.Columns = append(t.Columns, c)
		if p.accept(")") {
			break
		}
		if !p.accept(",") {
			return nil, p.wrong()
		}
	}
	if p.store.find(name) != nil {
		if quietly {
			return &Answer{Tag: "CREATE TABLE"}, nil
		}
		return nil, &Error{Code: "42P07", Message: fmt.Sprintf("relation \"%s\" already exists", name)}
	}
	p.store.tables = append(p.store.tables, t)
	slices.SortFunc(p.store.tables, func(a, b *Table) int { return strings.Compare(a.Name, b.Name) })
	return &Answer{Tag: "CREATE TABLE"}, nil
}

// definition reads a column of a new table.
func (p *parser) definition() (c Column, err error) {
	if c.Name, err = p.name(); err != nil {
		return c, err
	}
	if c.Type, err = p.name(); err != nil {
		return c, err
	}
	c.Type = map[bool]string{true: "integer", false: c.Type}[c.Type == "int"]
	for {
		switch {
		case p.accept("primary", "key"):
			c.Key, c.NotNull = "primary", true
		case p.accept("unique"):
			c.Key = "unique"
		case p.accept("not", "null"):
			c.NotNull = true
		case p.accept("references"):
			name, err := p.name()
			if err != nil {
				return c, err
			}
			c.Key = "refers to public." + name
		default:
			return c, nil
		}
	}
}

func (p *parser) dropTable() (*Answer, error) {
	quietly := p.accept("if", "exists")
	answer := &Answer{Tag: "DROP TABLE"}
	for {
		place := p.peek().place
		name, err := p.name()
		if err != nil {
			return nil, err
		}
		switch i := slices.IndexFunc(p.store.tables, func(t *Table) bool { return t.Name == name }); {
		case i >= 0:
			p.store.tables = slices.Delete(p.store.tables, i, i+1)
		case quietly:
			answer.Notice = fmt.Sprintf("table \"%s\" does not exist, skipping", name)
		default:
			return nil, &Error{Code: "42P01", Message: fmt.Sprintf("table \"%s\" does not exist", name), Position: place}
		}
		if !p.accept(",") {
			p.accept("cascade")
			return answer, nil
		}
	}
}

// columns reads the columns in parentheses; without them, all.
func (p *parser) columns(t *Table) (into []int, err error) {
	if !p.accept("(") {
		for i := range t.Columns {
			into = append(into, i)
		}
		return into, nil
	}
	for {
		i, err := p.column(t)
		if err != nil {
			return nil, err
		}
		into = append(into, i)
		if p.accept(")") {
			return into, nil
		}
		if !p.accept(",") {
			return nil, p.wrong()
		}
	}
}

func (p *parser) insert() (*Answer, error) {
	t, err := p.table()
	if err != nil {
		return nil, err
	}
	into, err := p.columns(t)
	if err != nil {
		return nil, err
	}
	if !p.accept("values") {
		return nil, p.wrong()
	}
	for n := 1; ; n++ {
		if !p.accept("(") {
			return nil, p.wrong()
		}
		var row []*string
		for {
			v, err := p.value()
			if err != nil {
				return nil, err
			}
			row = append(row, v)
			if p.accept(")") {
				break
			}
			if !p.accept(",") {
				return nil, p.wrong()
			}
		}
		if err := t.add(into, row); err != nil {
			return nil, err
		}
		if !p.accept(",") {
			return &Answer{Tag: "INSERT 0 " + strconv.Itoa(n)}, nil
		}
	}
}

// value reads a constant or a parameter.
func (p *parser) value() (*string, error) {
	t := p.peek()
	switch {
	case t.kind == 't', t.kind == 'n':
		p.at++
		return &t.text, nil
	case t.kind == '$':
		n, _ := strconv.Atoi(t.text)
		if n < 1 || n > len(p.values) {
			return nil, &Error{Code: "42P02", Message: "there is no parameter $" + t.text, Position: t.place}
		}
		p.at++
		return p.values[n-1], nil
	case p.accept("null"):
		return nil, nil
	}
	return nil, p.wrong()
}

func (p *parser) copyFrom() (*Answer, error) {
	t, err := p.table()
	if err != nil {
		return nil, err
	}
	into, err := p.columns(t)
	if err != nil {
		return nil, err
	}
	if !p.accept("from", "stdin") {
		return nil, p.wrong()
	}
	return &Answer{Takes: t, Into: into}, nil
}

func (p *parser) comment() (*Answer, error) {
	t, err := p.table()
	if err != nil {
		return nil, err
	}
	if !p.accept("is") {
		return nil, p.wrong()
	}
	v, err := p.value()
	if err == nil && v != nil {
		t.Comment = *v
	}
	return &Answer{Tag: "COMMENT"}, err
}
