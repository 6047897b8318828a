package store

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// outputColumn is one column of a query's result.
type outputColumn struct {
	name   string
	column int    // of the table; -1 for none
	over   string // "count", "sum", "min", "max", or ""
	value  *string
}

// condition compares a column with a value.
type condition struct {
	column int
	sign   string
	value  *string
}

// query is what is asked.
type query struct {
	table *Table
	shown []outputColumn
	where []condition
	group []int
	extra int // shown only to sort by it
	order []order
	limit int // -1 for none
}

type order struct {
	at   int // among what is shown
	down bool
}

// selectRows runs a query on one table, or on none.
func (p *parser) selectRows() (*Answer, error) {
	from := slices.IndexFunc(p.tokens, func(t token) bool { return t.kind == 'w' && t.word == "from" })
	q := &query{table: &Table{Rows: [][]*string{{}}}, limit: -1}
	if from >= 0 {
		here := p.at
		p.at = from + 1
		t, err := p.table()
		if err != nil {
			return nil, err
		}
		q.table = t
		behind := p.at
		p.at = here
		if err := p.list(q); err != nil {
			return nil, err
		}
		if p.at != from {
			return nil, p.wrong()
		}
		p.at = behind
	} else if err := p.list(q); err != nil {
		return nil, err
	}
	if err := p.clauses(q); err != nil {
		return nil, err
	}
	return q.run(), nil
}

// list reads what is to be shown.
func (p *parser) list(q *query) error {
	for {
		if p.accept("*") {
			for i, c := range q.table.Columns {
				q.shown = append(q.shown, outputColumn{name: c.Name, column: i})
			}
		} else if err := p.one(q); err != nil {
			return err
		}
		if !p.accept(",") {
			return nil
		}
	}
}

// one reads one thing that is to be shown.
func (p *parser) one(q *query) error {
	one := outputColumn{column: -1}
	t := p.peek()
	ahead := p.at+1 < len(p.tokens) && p.tokens[p.at+1].word == "("
	switch {
	case t.kind == 'w' && ahead && slices.Contains([]string{"count", "sum", "min", "max"}, t.word):
		p.at += 2
		one.name, one.over = t.word, t.word
		if !p.accept("*") {
			i, err := p.column(q.table)
			if err != nil {
				return err
			}
			one.column = i
		}
		if !p.accept(")") {
			return p.wrong()
		}
	case t.kind == 'w' && t.word != "null" || t.kind == 'q':
		i, err := p.column(q.table)
		if err != nil {
			return err
		}
		one.name, one.column = q.table.Columns[i].Name, i
	default:
		v, err := p.value()
		if err != nil {
			return err
		}
		one.name, one.value = "?column?", v
	}
	if p.accept("as") {
		name, err := p.name()
		if err != nil {
			return err
		}
		one.name = name
	}
	q.shown = append(q.shown, one)
	return nil
}

// clauses reads what stands behind the table.
func (p *parser) clauses(q *query) error {
	if p.accept("where") {
		for {
			c, err := p.condition(q.table)
			if err != nil {
				return err
			}
			q.where = append(q.where, c)
			if !p.accept("and") {
				break
			}
		}
	}
	if p.accept("group", "by") {
		for {
			i, err := p.place(q)
			if err != nil {
				return err
			}
			q.group = append(q.group, q.shown[i].column)
			if !p.accept(",") {
				break
			}
		}
	}
	if p.accept("order", "by") {
		for {
			i, err := p.place(q)
			if err != nil {
				return err
			}
			down := p.accept("desc")
			p.accept("asc")
			q.order = append(q.order, order{i, down})
			if !p.accept(",") {
				break
			}
		}
	}
	if p.accept("limit") {
		v, err := p.value()
		if err != nil {
			return err
		}
		if v != nil {
			q.limit, _ = strconv.Atoi(*v)
		}
	}
	return nil
}

// condition reads COLUMN SIGN VALUE, or COLUMN IS [NOT] NULL.
func (p *parser) condition(t *Table) (c condition, err error) {
	if c.column, err = p.column(t); err != nil {
		return c, err
	}
	switch {
	case p.accept("is", "not", "null"):
		c.sign = "is not"
		return c, nil
	case p.accept("is", "null"):
		c.sign = "is"
		return c, nil
	}
	c.sign = p.peek().word
	if !slices.Contains([]string{"=", "<>", "<", ">", "<=", ">="}, c.sign) {
		return c, p.wrong()
	}
	p.at++
	c.value, err = p.value()
	return c, err
}

// place reads a column of the result, by its number or its name.
func (p *parser) place(q *query) (int, error) {
	t := p.peek()
	if t.kind == 'n' {
		n, err := strconv.Atoi(t.text)
		if err != nil || n < 1 || n > len(q.shown) {
			return 0, &Error{Code: "42P10", Message: "position " + t.text + " is not in the list", Position: t.place}
		}
		p.at++
		return n - 1, nil
	}
	name, err := p.name()
	if err != nil {
		return 0, err
	}
	for i, one := range q.shown {
		if one.name == name || one.column >= 0 && one.over == "" && q.table.Columns[one.column].Name == name {
			return i, nil
		}
	}
	for i, c := range q.table.Columns {
		if c.Name == name && len(q.group) == 0 {
			q.shown = append(q.shown, outputColumn{name: name, column: i})
			q.extra++
			return len(q.shown) - 1, nil
		}
	}
	return 0, &Error{Code: "42703", Message: fmt.Sprintf("column \"%s\" does not exist", name), Position: t.place}
}

// holds reports whether a row meets the conditions.
func (q *query) holds(row []*string) bool {
	for _, c := range q.where {
		v := row[c.column]
		switch {
		case c.sign == "is":
			if v != nil {
				return false
			}
			continue
		case v == nil, c.value == nil && c.sign != "is not":
			return false
		case c.sign == "is not":
			continue
		}
		n := compare(v, c.value, q.table.Columns[c.column].number())
		if !map[string]bool{"=": n == 0, "<>": n != 0, "<": n < 0, ">": n > 0, "<=": n <= 0, ">=": n >= 0}[c.sign] {
			return false
		}
	}
	return true
}

// run carries the query out.
func (q *query) run() *Answer {
	answer := &Answer{}
	counts := len(q.group) > 0
	for _, one := range q.shown {
		c := Column{Name: one.name, Type: "text"}
		if one.column >= 0 {
			c.Type = q.table.Columns[one.column].Type
		}
		if one.over == "count" || one.over == "sum" {
			c.Type = "bigint"
		}
		counts = counts || one.over != ""
		answer.Columns = append(answer.Columns, c)
	}
	groups, keys := make(map[string][][]*string), []string(nil)
	for _, row := range q.table.Rows {
		if !q.holds(row) {
			continue
		}
		key := ""
		for _, column := range q.group {
			if v := row[column]; v != nil {
				key += "=" + *v
			}
			key += "\x00"
		}
		if !counts {
			key = strconv.Itoa(len(keys))
		}
		if groups[key] == nil {
			keys = append(keys, key)
		}
		groups[key] = append(groups[key], row)
	}
	if counts && len(q.group) == 0 && len(keys) == 0 {
		keys = []string{""}
	}
	for _, key := range keys {
		var row []*string
		for _, one := range q.shown {
			row = append(row, one.valueOf(groups[key], q.table))
		}
		answer.Rows = append(answer.Rows, row)
	}
	slices.SortStableFunc(answer.Rows, func(a, b []*string) int {
		for _, o := range q.order {
			c := answer.Columns[o.at]
			if n := compare(a[o.at], b[o.at], c.number()); n != 0 {
				return map[bool]int{false: n, true: -n}[o.down]
			}
		}
		return 0
	})
	if q.limit >= 0 && len(answer.Rows) > q.limit {
		answer.Rows = answer.Rows[:q.limit]
	}
	n := len(q.shown) - q.extra
	answer.Columns = answer.Columns[:n]
	for i := range answer.Rows {
		answer.Rows[i] = answer.Rows[i][:n]
	}
	answer.Tag = "SELECT " + strconv.Itoa(len(answer.Rows))
	return answer
}

// valueOf is a column's value for a group of rows.
func (one outputColumn) valueOf(rows [][]*string, t *Table) *string {
	text := func(n int) *string { s := strconv.Itoa(n); return &s }
	switch {
	case one.over == "count" && one.column < 0:
		return text(len(rows))
	case one.over == "":
		if one.column < 0 || len(rows) == 0 {
			return one.value
		}
		return rows[0][one.column]
	}
	n, sum := 0, 0
	var best *string
	for _, row := range rows {
		v := row[one.column]
		if v == nil {
			continue
		}
		n++
		number, _ := strconv.Atoi(strings.TrimSpace(*v))
		sum += number
		order := compare(v, best, t.Columns[one.column].number())
		if best == nil || one.over == "min" && order < 0 || one.over == "max" && order > 0 {
			best = v
		}
	}
	switch {
	case one.over == "count":
		return text(n)
	case n == 0:
		return nil
	case one.over == "sum":
		return text(sum)
	}
	return best
}
