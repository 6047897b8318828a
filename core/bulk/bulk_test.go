package bulk

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/engines"
)

// rowsOf reads all rows; NULL is "-".
func rowsOf(in io.Reader, form Form) (all []string) {
	s := NewSource(in, form)
	for {
		row, err := s.Next()
		var wrong *RowError
		switch {
		case errors.Is(err, io.EOF):
			return all
		case errors.As(err, &wrong):
			all = append(all, fmt.Sprintf("%d! %s", wrong.Line, wrong.What))
			continue
		case err != nil:
			return append(all, err.Error())
		}
		var values []string
		for _, v := range row.Values {
			if v == nil {
				values = append(values, "-")
			} else {
				values = append(values, fmt.Sprintf("%q", v))
			}
		}
		all = append(all, fmt.Sprintf("%d %s", row.Line, strings.Join(values, " ")))
	}
}

func TestSource(t *testing.T) {
	null := "NULL"
	for _, c := range []struct {
		form Form
		text string
		want []string
	}{
		{Form{}, "a,b\r\n1,\r\n\"\",x\n", []string{`1 "a" "b"`, `2 "1" -`, `3 "" "x"`}},
		{Form{}, "\"a \"\"q\"\"\",\"two\nlines\",c\nnext,,\n\n\nlast", []string{`1 "a \"q\"" "two\nlines" "c"`, `3 "next" - -`, `6 "last"`}},
		{Form{}, "a\"b,c\n\"x\"y,z\nok,1\n\"never closed\n", []string{"1! value 1 has a quote in it and does not begin with one", "2! value 1 goes on after its closing quote", `3 "ok" "1"`, "4! value 1: quotes are not closed"}},
		{Form{}, "\"a\",\"b\"\n", []string{`1 "a" "b"`}}, {Form{}, "a,\"\"\"\"\n", []string{`1 "a" "\""`}}, {Form{}, "a,\n", []string{`1 "a" -`}},
		{Form{Null: &null}, "NULL,\"NULL\",\n", []string{`1 - "NULL" ""`}},
		{Form{Tabs: true}, "a\tb\n\\N\t\n\\t\\\\\\n\\r\\x\t\"q\n", []string{`1 "a" "b"`, `2 - ""`, `3 "\t\\\n\rx" "\"q"`}},
		{Form{Tabs: true, Null: &null}, "NULL\t\\N", []string{`1 - "N"`}},
		{Form{}, "", nil},
	} {
		for _, in := range []io.Reader{strings.NewReader(c.text), iotest.OneByteReader(strings.NewReader(c.text))} {
			if got := rowsOf(in, c.form); !slices.Equal(got, c.want) {
				t.Errorf("%q: %q, not %q", c.text, got, c.want)
			}
		}
	}
	if got := rowsOf(io.MultiReader(strings.NewReader("a\n"), iotest.ErrReader(errors.New("gone"))), Form{}); !slices.Equal(got, []string{`1 "a"`, "gone"}) {
		t.Errorf("%q", got)
	}
}

// FuzzSource: rows that the standard library writes are read as they were.
func FuzzSource(f *testing.F) {
	f.Add("a", "b,c", "d\"e\nf")
	f.Add("", "\\N", "\r\n")
	f.Fuzz(func(t *testing.T, a, b, c string) {
		var text bytes.Buffer
		w := csv.NewWriter(&text)
		w.Write([]string{a, b, c})
		w.Flush()
		row, err := NewSource(&text, Form{}).Next()
		if err != nil || len(row.Values) != 3 {
			t.Fatalf("%q: %v %q", text.String(), err, row.Values)
		}
		for i, want := range []string{a, b, c} {
			if got := string(row.Values[i]); got != strings.ReplaceAll(want, "\r\n", "\n") && got != want {
				t.Errorf("%q, not %q", got, want)
			}
		}
	})
}

// table is a server with one table: numbers, each of which it takes once.
type table struct {
	rows    []string
	pending []string
	open    bool
	took    int // statements that brought rows
	silent  bool
	lost    int // at which statement the connection ends; 0 for never
}

func (s *table) put(values []string) error {
	s.took++
	if s.took == s.lost {
		return &engine.LostError{Err: io.ErrUnexpectedEOF}
	}
	for i, v := range values {
		if strings.Contains(v, "x") || slices.Contains(s.rows, v) || slices.Contains(s.pending, v) || slices.Contains(values[:i], v) {
			e := &engine.StatementError{Message: "no " + v, DataLine: i + 1}
			if s.silent {
				e.DataLine = 0
			}
			return e
		}
	}
	if s.open {
		s.pending = append(s.pending, values...)
	} else {
		s.rows = append(s.rows, values...)
	}
	return nil
}

func (s *table) Run(_ context.Context, st engine.Statement, to engine.Results) error {
	switch {
	case st.Text == "BEGIN":
		s.open = true
	case st.Text == "COMMIT":
		s.rows, s.pending, s.open = append(s.rows, s.pending...), nil, false
	case st.Text == "ROLLBACK":
		s.pending, s.open = nil, false
	case strings.HasPrefix(st.Text, "INSERT INTO"):
		if n := strings.Count(st.Text, "?"); n != len(st.Arguments) {
			return fmt.Errorf("%d parameters for %d values", n, len(st.Arguments))
		}
		var values []string
		for i := 0; i < len(st.Arguments); i += 2 {
			v := "-"
			if st.Arguments[i+1] != nil {
				v = *st.Arguments[i+1]
			}
			values = append(values, *st.Arguments[i]+v)
		}
		return s.put(values)
	}
	to.Notice(engine.Notice{Message: "hello"})
	return to.End(engine.Outcome{})
}

func (s *table) InTransaction() bool { return s.open }
func (s *table) Took() time.Duration { return 0 }

// taking is a table that takes rows as data.
type taking struct{ *table }

func (s taking) Take(_ context.Context, text string, data io.Reader, _ engine.Results) error {
	if text != `COPY "a b"."t" ("id", "v") FROM STDIN` {
		return errors.New(text)
	}
	all, err := io.ReadAll(data)
	if err != nil {
		return &engine.StatementError{Message: "the client gave up"}
	}
	var values []string
	for line := range strings.Lines(string(all)) {
		id, v, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		values = append(values, id+strings.ReplaceAll(v, `\N`, "-"))
	}
	return s.put(values)
}

// senders are the two ways.
func senders(s *table) map[string]*Sender {
	return map[string]*Sender{
		"data":       {Runner: taking{s}, By: engines.All().ByWord("postgresql").Statements},
		"statements": {Runner: s, By: engines.All().ByWord("mariadb").Statements},
	}
}

// TestSend: all rows or none; with Bad all but those that are refused, whichever way the server finds them.
func TestSend(t *testing.T) {
	for _, way := range []string{"data", "statements"} {
		for _, c := range []struct {
			name, text string
			keeps      bool
			silent     bool
			want, bad  string
			line       int
		}{
			{"all", "1,a\n2,\n3,c\n", false, false, "1a 2- 3c", "", 0},
			{"none for one", "1,a\n2,x\n3,c\n", false, false, "", "", 2},
			{"none for a short one", "1,a\n2\n3,c\n", false, false, "", "", 2},
			{"all but one", "1,a\n2,x\n3,c\n", true, false, "1a 3c", "2", 0},
			{"all but several", "9,x\n1,a\n2,x\n3\n4,\"q\"q\n1,a\n5,e\n6,x", true, false, "1a 5e", "1 3 4 5 6 8", 0},
			{"all but several that are not named", "9,x\n1,a\n2,x\n3,c\n1,a\n5,e\n6,x", true, true, "1a 3c 5e", "1 3 5 7", 0},
			{"nothing", "", true, false, "", "", 0},
		} {
			server := &table{silent: c.silent}
			s := senders(server)[way]
			s.Schema, s.Name, s.Columns = "a b", "t", []Column{{Name: "id"}, {Name: "v"}}
			var bad []int
			if c.keeps {
				s.Bad = func(line int, raw []byte, why error) error {
					bad = append(bad, line)
					if len(raw) == 0 || why == nil {
						t.Errorf("%s: %q %v", c.name, raw, why)
					}
					return nil
				}
			}
			counted := int64(-1)
			s.Counted = func(n int64) { counted = n }
			err := s.Send(t.Context(), NewSource(strings.NewReader(c.text), Form{}))
			got := strings.Join(server.rows, " ")
			slices.Sort(bad)
			if got != c.want || strings.Trim(fmt.Sprint(bad), "[]") != c.bad || (err != nil) != (c.line > 0) || server.open {
				t.Errorf("%s, %s: %q, bad %v, %v", way, c.name, got, bad, err)
			}
			if n := int64(len(server.rows)); s.SentRows() != n || err == nil && n > 0 && counted != n {
				t.Errorf("%s, %s: %d sent, %d counted, %d there", way, c.name, s.SentRows(), counted, n)
			}
			var refused *RefusedError
			if c.line > 0 && (!errors.As(err, &refused) || refused.Line != c.line && refused.Row != c.line) {
				t.Errorf("%s, %s: %#v", way, c.name, err)
			}
		}
	}
}

// TestSendManyRows goes over the bounds of a batch; a connection that ends is no row's fault.
func TestSendManyRows(t *testing.T) {
	var text strings.Builder
	for i := range 4321 {
		fmt.Fprintf(&text, "%d,a\n", i)
	}
	for _, way := range []string{"data", "statements"} {
		server := &table{}
		s := senders(server)[way]
		s.Schema, s.Name, s.Columns, s.From = "a b", "t", []Column{{Name: "id"}, {Name: "v"}}, 22
		if err := s.Send(t.Context(), NewSource(strings.NewReader(text.String()), Form{})); err != nil || len(server.rows) != 4300 || server.rows[0] != "21a" {
			t.Errorf("%s: %v, %d rows", way, err, len(server.rows))
		}
		if way == "statements" && server.took != 5 {
			t.Errorf("%d statements", server.took)
		}
		server = &table{lost: 1}
		s = senders(server)[way]
		s.Schema, s.Name, s.Columns = "a b", "t", []Column{{Name: "id"}, {Name: "v"}}
		s.Bad = func(int, []byte, error) error { t.Error("a row is blamed"); return nil }
		if err := s.Send(t.Context(), NewSource(strings.NewReader(text.String()), Form{})); !errors.As(err, new(*engine.LostError)) {
			t.Errorf("%s: %v", way, err)
		}
	}
}

// TestValues: what is sent is what the file says, whatever its characters, in the order of the columns.
func TestValues(t *testing.T) {
	s := &Sender{Columns: []Column{{Name: "a"}, {Name: "b"}, {Name: "c"}}}
	if got := string(s.appendRow(nil, [][]byte{[]byte("a\tb\\c"), nil, []byte("d\ne\rf")})); got != "a\\tb\\\\c\t\\N\td\\ne\\rf\n" {
		t.Errorf("%q", got)
	}
	for _, c := range []struct {
		value   string
		isBytes bool
		want    string
	}{{`\x6162`, true, "ab"}, {`\x6162`, false, `\x6162`}, {`\x616`, true, `\x616`}, {`ab`, true, "ab"}, {`\x`, true, ""}} {
		if got := string(appendBytes(nil, []byte(c.value), c.isBytes)); got != c.want {
			t.Errorf("%q is %q", c.value, got)
		}
	}
}
