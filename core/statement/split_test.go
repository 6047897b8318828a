package statement

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"gentleharbor/core/engine"
	"gentleharbor/core/engines"
)

func lexis(word string) engine.Lexis { return engines.All().ByWord(word).Statements.Lexis }

// split is a script's statements, and all that was given, with the lines of data in angle brackets.
func split(t testing.TB, word, script string) (texts []string, whole string, err error) {
	t.Helper()
	s := NewSplitter(iotest.OneByteReader(strings.NewReader(script)), lexis(word))
	var raw bytes.Buffer
	for {
		p, err := s.Next()
		if errors.Is(err, io.EOF) {
			return texts, raw.String(), nil
		}
		if err != nil {
			return texts, raw.String(), err
		}
		raw.Write(p.Raw)
		text := string(p.Text)
		if p.Data {
			d := s.Data().(*data)
			all, err := io.ReadAll(d)
			if err != nil {
				return texts, raw.String(), err
			}
			raw.Write(all)
			raw.WriteString(d.end)
			for line := range strings.Lines(string(all)) {
				text += "<" + strings.TrimRight(line, "\n") + ">"
			}
		}
		if text != "" {
			texts = append(texts, text)
		}
	}
}

// TestSplit: where statements end by each engine's rules; the pieces are the script.
func TestSplit(t *testing.T) {
	for _, c := range []struct{ word, script, want string }{
		{"postgresql", "select 1; select 2", "select 1|select 2"},
		{"postgresql", "  -- a; b\n select 'a;b''c' /* d; /* e; */ */ ; -- f\n", "select 'a;b''c'"},
		{"postgresql", `select E'a\';b'; select 'a\'; select "a;""b"; select U&'\0041;'`, `select E'a\';b'|select 'a\'|select "a;""b"|select U&'\0041;'`},
		{"postgresql", `set standard_conforming_strings = off; select 'a\';b'; set standard_conforming_strings to on; select 'a\'; select 1`,
			`set standard_conforming_strings = off|select 'a\';b'|set standard_conforming_strings to on|select 'a\'|select 1`},
		{"postgresql", "do $$ begin; end $$; select $a$ ; $b$ ; $a$, $1, a$b$c; select 2", "do $$ begin; end $$|select $a$ ; $b$ ; $a$, $1, a$b$c|select 2"},
		{"postgresql", "create rule r as on update to t do (select 1; select 2); select 3", "create rule r as on update to t do (select 1; select 2)|select 3"},
		{"postgresql", "create or replace function f() returns int begin atomic; select case when true then 1 end; select 2; end; begin; end; select 4",
			"create or replace function f() returns int begin atomic; select case when true then 1 end; select 2; end|begin|end|select 4"},
		{"postgresql", "copy sighting (a, b) from stdin with (format csv);\n1;2\n\\.x\n3\n\\.\nselect 1;", "copy sighting (a, b) from stdin with (format csv)<1;2><\\.x><3>|select 1"},
		{"postgresql", "copy t from stdin;\n1\n", "copy t from stdin<1>"},
		{"postgresql", "copy t to stdout; select 1", "copy t to stdout|select 1"},
		{"mysql", "select 'a\\';b', \"c\\\";d\", `e;``f`; # g;\nselect 2 -- h;\n; select 3--1; select 4", "select 'a\\';b', \"c\\\";d\", `e;``f`|select 2|select 3--1|select 4"},
		{"mysql", "/* a; */ /*!50003 set @x = 1 */; /*! select ';' */;select 1", "/*!50003 set @x = 1 */|/*! select ';' */|select 1"},
		{"mariadb", "delimiter //\ncreate procedure p() begin select 1; select 2; end//\ndelimiter ;\nselect 3; DELIMITER $$\nselect 4$$", "create procedure p() begin select 1; select 2; end|select 3|select 4"},
		{"oracle", "select q'[a;']' from dual; select 'b''' from dual;\nbegin null; end;\n/\nselect 1 from dual\n/\ncreate or replace editionable package p as x int; end;\n /\ncreate table t (a int);",
			"select q'[a;']' from dual|select 'b''' from dual|begin null; end;|select 1 from dual|create or replace editionable package p as x int; end;|create table t (a int)"},
		{"oracle", "select 4 / 2 from dual;", "select 4 / 2 from dual"},
		{"postgresql", "", ""}, {"postgresql", " -- nothing\n", ""}, {"postgresql", ";;select 1;", "select 1"},
	} {
		texts, whole, err := split(t, c.word, c.script)
		if got := strings.Join(texts, "|"); err != nil || got != c.want {
			t.Errorf("%s: %q\nis    %q\nnot   %q; %v", c.word, c.script, got, c.want, err)
		}
		if whole != c.script {
			t.Errorf("%s: put together it is %q, not %q", c.word, whole, c.script)
		}
	}
}

// TestPlaces: lines and columns of statements, and of what is not closed.
func TestPlaces(t *testing.T) {
	s := NewSplitter(strings.NewReader("-- a\n  select 1;select\n2; 'open"), lexis("postgresql"))
	for _, want := range [][2]int{{2, 3}, {2, 12}} {
		p, err := s.Next()
		if err != nil || [2]int{p.Line, p.Column} != want {
			t.Errorf("%d:%d, %v", p.Line, p.Column, err)
		}
	}
	_, err := s.Next()
	if wrong := new(SyntaxError); !errors.As(err, &wrong) || wrong.Line != 3 || wrong.Column != 4 || !strings.Contains(err.Error(), "3:4: quotes are not closed: '") {
		t.Errorf("%v", err)
	}
	for script, want := range map[string]string{"select 1 /* a": "1:10", "select $a$ b $a": "1:8", "select \"a": "1:8", "select 'a\\": "1:8"} {
		if _, _, err := split(t, "postgresql", script); err == nil || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%q: %v", script, err)
		}
	}
	if _, _, err := split(t, "mysql", "/*! select 1"); err == nil {
		t.Error("an open /*! is taken")
	}
	failing := NewSplitter(io.MultiReader(strings.NewReader("select 1"), iotest.ErrReader(errors.New("the disk"))), lexis("mysql"))
	if _, err := failing.Next(); err == nil || err.Error() != "the disk" {
		t.Errorf("%v", err)
	}
}

// TestMemory: a long script of short statements needs no more than a few chunks.
func TestMemory(t *testing.T) {
	line := []byte("insert into sighting values (1, 'dunlin');\n")
	s := NewSplitter(io.LimitReader(&repeated{line}, 6<<20), lexis("postgresql"))
	n, most := 0, 0
	for {
		_, err := s.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil && n < 1000 {
			t.Fatal(err)
		}
		if err != nil {
			break // the limit cut a statement
		}
		n, most = n+1, max(most, cap(s.buffer))
	}
	if n < 120_000 || most > 8*chunk {
		t.Errorf("%d statements, a buffer of %d bytes", n, most)
	}
}

// repeated is a text without end.
type repeated struct{ text []byte }

func (r *repeated) Read(p []byte) (n int, err error) {
	for n < len(p) {
		m := copy(p[n:], r.text)
		n += m
		if m < len(r.text) { // go on with the rest the next time
			r.text = append(slices.Clone(r.text[m:]), r.text[:m]...)
		}
	}
	return n, nil
}

// TestFill: values are parameters, names are quoted, and what does not fit is told with its place.
func TestFill(t *testing.T) {
	evil := "x'; drop table sighting --"
	two, name := "3", "od\"d"
	values := Values{"bird": &evil, "least": &two, "table": &name, "nothing": nil}
	for _, c := range []struct{ word, script, text, args string }{
		{"postgresql", "select * from {identifier table} where a = {bird} and b > {least} and c = {bird} -- {x}\n and d = '{y}'", "select * from \"od\"\"d\" where a = $1 and b > $2 and c = $3 -- {x}\n and d = '{y}'", evil + "|3|" + evil},
		{"mysql", "select {nothing}, {least}", "select ?, ?", "NULL|3"},
		{"oracle", "select {bird} from dual", "select :1 from dual", evil},
	} {
		p, err := NewSplitter(strings.NewReader(c.script), lexis(c.word)).Next()
		if err != nil {
			t.Fatal(err)
		}
		used := make(map[string]bool)
		s, err := Fill(p, values, engines.All().ByWord(c.word).Statements, used)
		var args []string
		for _, a := range s.Arguments {
			if a == nil {
				args = append(args, "NULL")
			} else {
				args = append(args, *a)
			}
		}
		if err != nil || s.Text != c.text || strings.Join(args, "|") != c.args {
			t.Errorf("%s: %q with %q, %v", c.script, s.Text, args, err)
		}
	}
	p, _ := NewSplitter(strings.NewReader("select\n {brd}"), lexis("postgresql")).Next()
	by := engines.All().ByWord("postgresql").Statements
	if _, err := Fill(p, values, by, map[string]bool{}); err == nil || !strings.Contains(err.Error(), "2:2: {brd} has no value") || !strings.Contains(err.Error(), "{bird}") {
		t.Errorf("%v", err)
	}
	barred, err := NewSplitter(strings.NewReader("alter role a password {bird}"), by.Lexis).Next()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Fill(barred, values, by, map[string]bool{}); err == nil || !strings.Contains(err.Error(), "ALTER takes no values") {
		t.Errorf("%v", err)
	}
	if s, err := Fill(p, nil, by, nil); err != nil || s.Text != "select\n {brd}" {
		t.Errorf("without values: %q %v", s.Text, err)
	}
	if got := values.UnusedNames(map[string]bool{"bird": true}); !slices.Equal(got, []string{"least", "nothing", "table"}) {
		t.Error(got)
	}
}

// TestLists: the lists of an engine's statements agree with each other.
func TestLists(t *testing.T) {
	for _, spec := range engines.All().All() {
		by := spec.Statements
		if by == nil {
			continue
		}
		looked := append(strings.Fields("DROP TRUNCATE GRANT REVOKE DO CALL EXECUTE BEGIN DECLARE"), by.Known.All()...)
		for _, list := range [][]string{by.Valued.All(), by.Commits.All()} {
			for _, word := range list {
				if !slices.Contains(looked, word) {
					t.Errorf("%s: %s is not known", spec.Word, word)
				}
			}
		}
		if !slices.IsSorted(by.Valued.All()) || !slices.IsSorted(by.Commits.All()) || !slices.IsSorted(by.Known.All()) {
			t.Errorf("%s: a list is not sorted", spec.Word)
		}
	}
}

// TestCommits: what ends a transaction, and what does not.
func TestCommits(t *testing.T) {
	for text, want := range map[string][2]bool{ // PostgreSQL, MySQL
		"commit": {true, true}, "rollback": {true, true}, "rollback to savepoint a": {false, false}, "begin": {true, true},
		"create table a(b int)": {false, true}, "create temporary table a(b int)": {false, false}, "insert into a values (1)": {false, false},
		"savepoint a": {false, false}, "truncate a": {false, true},
	} {
		for i, word := range []string{"postgresql", "mysql"} {
			by := engines.All().ByWord(word).Statements
			p, err := NewSplitter(strings.NewReader(text), by.Lexis).Next()
			if err != nil {
				t.Fatal(err)
			}
			if got := Commits(p.Words, by); got != want[i] {
				t.Errorf("%s on %s: %v", text, word, got)
			}
		}
	}
}

// TestFailureHidesPasswords: of a statement with a password, nothing that the server repeats is kept.
func TestFailureHidesPasswords(t *testing.T) {
	p := &Piece{Text: []byte("alter role warden password 'dunlin'"), Line: 3, Column: 1}
	for said, kept := range map[string]bool{
		`role "warden" does not exist`:            true,
		"near ''dunlin'' at line 1":               false,
		"near 'nlin'' at line 1":                  false,
		"syntax error at or near \"'dunlin'\"":    false,
		"the detail says nothing; permission ...": true,
	} {
		f := NewFailure(p, string(p.Text), &engine.StatementError{Code: "1064", Message: said}, true)
		if f.Source != "" || f.Line != 3 || (f.Message == said) != kept || strings.Contains(f.Error(), "nlin") {
			t.Errorf("%q gives %q", said, f.Error())
		}
	}
	if f := NewFailure(p, string(p.Text), &engine.StatementError{Message: "x", Detail: "dunlin"}, true); f.Detail != "" {
		t.Errorf("%q", f.Detail)
	}
}

// TestRisk: what may destroy something, what can't be seen into, and what has a password in it.
func TestRisk(t *testing.T) {
	for script, want := range map[string]string{
		"select 1": "", "drop table a": "DROP", "truncate a": "TRUNCATE", "delete from a": "DELETE without a condition", "delete from a where b = 1": "",
		"update a set b = 1": "UPDATE without a condition", "update a set b = 'where'": "UPDATE without a condition", "update a set b = 1 where c": "",
		"alter table a drop column b": "ALTER … DROP", "alter table a add b int": "", "grant all on a to b": "GRANT", "revoke all on a from b": "REVOKE",
		"do $$ begin end $$": "what DO does", "call f()": "what CALL does", "with x as (delete from a returning 1) select 1": "DELETE without a condition",
		"select * from a for update": "", "insert into a values (1) on conflict (b) do update set c = 1": "", "create table a (b int references c on delete cascade)": "",
		"explain analyze delete from a": "DELETE without a condition", "create trigger t after update on a execute function f()": "", "/* drop */ select 'drop'": "",
	} {
		p, err := NewSplitter(strings.NewReader(script), lexis("postgresql")).Next()
		if err != nil {
			t.Fatal(err)
		}
		if got := Risk(p.Words, engines.All().ByWord("postgresql").Statements); got != want && (want == "" || !strings.HasPrefix(got, want)) {
			t.Errorf("%s: %q, not %q", script, got, want)
		}
	}
	for script, want := range map[string]bool{
		"postgresql alter role a password 'x'": true, "postgresql create role a login encrypted password 'x'": true, "postgresql select password from a": false,
		"postgresql alter role a password E'x'": true, "postgresql alter role a password U&'x'": true, "postgresql alter role a password $$x$$": true, "postgresql alter role a password $q$x$q$": true, "postgresql alter role a password x, e": false,
		"mysql set password for a = 'x'": true, "mysql set password = password('x')": true, "mysql alter user a identified by password 'x'": true, "oracle grant connect to a identified by \"x\"": true,
		"mysql create user a identified by 'x'": true, "mysql set password = 'x'": true, "mysql alter user a identified with m as 'x'": true, "mysql select 'identified by'": false,
		"mariadb create user a identified via ed25519 using password('x')": true, "oracle alter user a identified by x": true,
	} {
		word, text, _ := strings.Cut(script, " ")
		p, _ := NewSplitter(strings.NewReader(text), lexis(word)).Next()
		if got := HasSecret(p.Words, engines.All().ByWord(word).Statements); got != want {
			t.Errorf("%s: %v", script, got)
		}
	}
}

// FuzzSplit: whatever the script, its pieces are the script, and its statements are the same however it is read.
func FuzzSplit(f *testing.F) {
	for _, seed := range []string{"select 1;", "a 'b' \"c\" $d$ ; $d$ -- e\n/* f */;", "delimiter //\nx//", "copy a from stdin;\n1\n\\.\nb", "create function f() begin atomic case end; end;", "begin x; end;\n/\n", "/*! a */;"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, script string) {
		for _, word := range []string{"postgresql", "mysql", "oracle"} {
			texts, whole, err := split(t, word, script)
			if err == nil && whole != script {
				t.Errorf("%s: put together it is %q, not %q", word, whole, script)
			}
			s := NewSplitter(strings.NewReader(script), lexis(word))
			for _, want := range texts {
				p, nextErr := s.Next()
				for nextErr == nil && p.Empty() {
					p, nextErr = s.Next()
				}
				if nextErr != nil {
					if err == nil {
						t.Errorf("%s: read whole: %v", word, nextErr)
					}
					return
				}
				if !strings.HasPrefix(want, string(p.Text)) {
					t.Errorf("%s: %q read whole is %q", word, want, p.Text)
				}
				if p.Data {
					io.Copy(io.Discard, s.Data())
				}
			}
		}
	})
}
