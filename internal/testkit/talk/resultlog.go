package talk

import (
	"fmt"
	"strings"

	"gentleharbor/core/engine"
)

// ResultLog writes down what an engine.Results gets: columns in brackets, values, how each result ended, notices.
type ResultLog struct {
	strings.Builder
	Fails error // of each row
	Rows  int
}

// Begin writes the columns.
func (r *ResultLog) Begin(columns []engine.Column) error {
	for _, c := range columns {
		fmt.Fprintf(r, "[%s %s]", c.Name, c.Type)
	}
	return nil
}

// Row writes the values.
func (r *ResultLog) Row(values [][]byte) error {
	for _, v := range values {
		fmt.Fprintf(r, " %s%s", v, map[bool]string{true: "NULL"}[v == nil])
	}
	r.Rows++
	return r.Fails
}

// End writes how it ended: rows, changes, and warnings where there are some.
func (r *ResultLog) End(d engine.Outcome) error {
	fmt.Fprintf(r, " (%s%d %d%s)", strings.TrimPrefix(d.Command+" ", " "), d.Rows, d.Changed,
		map[bool]string{true: fmt.Sprintf(" %d warned", d.Warnings)}[d.Warnings > 0])
	return nil
}

// Notice writes a notice.
func (r *ResultLog) Notice(n engine.Notice) {
	fmt.Fprintf(r, "<%s>", strings.Join(strings.Fields(n.Severity+" "+n.Code+" "+n.Message), " "))
}
