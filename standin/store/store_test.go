package store

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

// run is what a statement gives, as text.
func run(s *Store, text string, values ...string) string {
	var parameters []*string
	for _, v := range values {
		parameters = append(parameters, &v)
	}
	a, err := s.Run(text, parameters)
	var wrong *Error
	if errors.As(err, &wrong) {
		return fmt.Sprintf("%s at %d: %s", wrong.Code, wrong.Position, wrong.Message)
	}
	if a.Columns == nil {
		return a.Tag
	}
	var lines []string
	for _, row := range a.Rows {
		var cells []string
		for _, v := range row {
			if v == nil {
				cells = append(cells, "-")
			} else {
				cells = append(cells, *v)
			}
		}
		lines = append(lines, strings.Join(cells, ","))
	}
	return strings.Join(lines, ";")
}

func TestStore(t *testing.T) {
	s := &Store{}
	for _, c := range []struct{ text, want string }{
		{`create table bird (id int primary key, name text not null, place text, heads numeric)`, "CREATE TABLE"},
		{`create table bird (id int)`, `42P07 at 0: relation "bird" already exists`}, {`create table if not exists bird (id int)`, "CREATE TABLE"},
		{`insert into public.bird values (1, 'dunlin', 'creek', 12), (2, 'knot', null, 3)`, "INSERT 0 2"},
		{`insert into bird (name, id) values ('o''k', 3)`, "INSERT 0 1"},
		{`insert into bird (id, name) values (3, 'x')`, `23505 at 0: duplicate key value violates unique constraint "bird_pkey"`},
		{`insert into bird (id, name) values ('x', 'x')`, `22P02 at 0: invalid input syntax for type integer: "x"`},
		{`insert into bird (id) values (4)`, `23502 at 0: null value in column "name" of relation "bird" violates not-null constraint`},
		{`select * from bird`, "1,dunlin,creek,12;2,knot,-,3;3,o'k,-,-"}, {`select name as n from bird where place is null order by heads`, "knot;o'k"},
		{`select name from bird where heads >= 3 and place is not null`, "dunlin"}, {`select place, count(*), sum(heads), min(name), max(heads) from bird group by 1 order by 2 desc`, "-,2,3,knot,3;creek,1,12,dunlin,12"},
		{`select count(*), count(heads) from bird where id < 0`, "0,0"}, {`select sum(heads) from bird where id < 0`, "-"}, {`select name from bird order by id desc limit 1`, "o'k"},
		{`select 1, 'a'`, "1,a"}, {`select nope from bird`, `42703 at 8: column "nope" does not exist`}, {`select 1 from nowhere`, `42P01 at 15: relation "nowhere" does not exist`},
		{`select name frm bird`, `42703 at 8: column "name" does not exist`}, {`nonsense`, `42601 at 1: syntax error at or near "nonsense"`}, {`select name from bird where`, "42601 at 0: syntax error at end of input"},
		{`select name from bird order by 9`, "42P10 at 32: position 9 is not in the list"}, {`set a = b`, "SET"}, {`begin`, "BEGIN"}, {`create index on bird (name)`, "CREATE INDEX"},
		{`comment on table bird is 'x'`, "COMMENT"}, {`drop table nowhere`, `42P01 at 12: table "nowhere" does not exist`}, {`drop table if exists nowhere, bird cascade`, "DROP TABLE"}, {`select 1 from bird`, `42P01 at 15: relation "bird" does not exist`},
	} {
		if got := run(s, c.text); got != c.want {
			t.Errorf("%s: %q, not %q", c.text, got, c.want)
		}
	}
	run(s, `create table a (id int primary key, "Odd" text)`)
	if got := run(s, `insert into a values ($1, $2)`, "1", "x'; drop table a --"); got != "INSERT 0 1" {
		t.Error(got)
	}
	if got := run(s, `select "Odd" from a where id = $1`, "1"); got != "x'; drop table a --" {
		t.Error(got)
	}
	if got := run(s, `select $2 from a`, "1"); !strings.HasPrefix(got, "42P02 at 8") {
		t.Error(got)
	}
}

// TestTake: data is taken row by row, and taken back.
func TestTake(t *testing.T) {
	s := &Store{}
	run(s, `create table a (id int primary key, b text)`)
	answer, err := s.Run(`copy a (b, id) from stdin`, nil)
	if err != nil || answer.Takes == nil {
		t.Fatal(answer, err)
	}
	for line, want := range map[string]string{"x\\ty\t1": "", "\\N\t2": "", "z": "missing data", "z\t3\t4": "extra data", "z\tq": "invalid input"} {
		err := s.Take(answer.Takes, answer.Into, Fields(line))
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", line, err)
		}
	}
	if got := run(s, `select * from a order by id`); got != "1,x\ty;2,-" {
		t.Error(got)
	}
	s.Undo(answer.Takes, 2)
	if got := run(s, `insert into a values (1, 'again')`); got != "INSERT 0 1" {
		t.Error(got)
	}
	if tables, rows := s.Tables(); len(tables) != 1 || rows[0] != 1 || len(tables[0].Columns) != 2 {
		t.Error(tables, rows)
	}
}
