package statement

import (
	"testing"

	"gentleharbor/core/engine"
)

// TestTyped: statements come out of lines as they end; before, what is open is told.
func TestTyped(t *testing.T) {
	standard := engine.Lexis{EscapeStrings: true, DollarQuotes: true, NestedComments: true}
	blocks := engine.Lexis{OtherQuotes: true, Blocks: true}
	delimiter := engine.Lexis{Backslashes: true, Backticks: true, Delimiter: true}
	for _, c := range []struct {
		lexis engine.Lexis
		lines []string
		open  []string // after each line
		want  []string
	}{
		{standard, []string{"select 1;"}, []string{""}, []string{"select 1"}},
		{standard, []string{"select", "1", ";"}, []string{"statement", "statement", ""}, []string{"select\n1"}},
		{standard, []string{"select 'a;", "b';"}, []string{"quote", ""}, []string{"select 'a;\nb'"}},
		{standard, []string{"select $x$ ;", "$x$", ";"}, []string{"quote", "statement", ""}, []string{"select $x$ ;\n$x$"}},
		{standard, []string{"/* a", ";", "*/ select 2;"}, []string{"comment", "comment", ""}, []string{"select 2"}},
		{standard, []string{"select (1", "+ 2);"}, []string{"brackets", ""}, []string{"select (1\n+ 2)"}},
		{standard, []string{"select 1; select 2; sel"}, []string{"statement"}, []string{"select 1", "select 2"}},
		{standard, []string{"-- only a comment", ";"}, []string{"", ""}, nil},
		{blocks, []string{"begin", "null;", "end;", "/"}, []string{"statement", "statement", "statement", ""}, []string{"begin\nnull;\nend;"}},
		{delimiter, []string{"DELIMITER //", "select 1; select 2 //", "DELIMITER ;", "select 3;"}, []string{"", "", "", ""}, []string{"select 1; select 2", "select 3"}},
	} {
		typed := &LineReader{Lexis: c.lexis}
		var got []string
		for i, line := range c.lines {
			typed.Add(line)
			for {
				p, open, err := typed.Next()
				if err != nil {
					t.Fatalf("%q: %v", c.lines, err)
				}
				if p == nil {
					if open != c.open[i] || typed.Empty() != (open == "") {
						t.Errorf("%q: after line %d %q is open, and %q is left", c.lines, i+1, open, typed.Text())
					}
					break
				}
				got = append(got, string(p.Text))
			}
		}
		if len(got) != len(c.want) {
			t.Errorf("%q: %q", c.lines, got)
			continue
		}
		for i := range got {
			if got[i] != c.want[i] {
				t.Errorf("%q: %q", c.lines, got)
			}
		}
	}
	typed := &LineReader{Lexis: standard}
	typed.Add("select 'x")
	typed.Drop()
	if p, open, err := typed.Next(); p != nil || open != "" || err != nil || !typed.Empty() {
		t.Errorf("after a drop: %v %q %v", p, open, err)
	}
}
