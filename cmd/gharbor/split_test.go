//go:build unix

package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	_ "github.com/go-sql-driver/mysql"

	"gentleharbor/core/engines"
	"gentleharbor/core/statement"
	"gentleharbor/internal/testkit"
)

// pieces are the statements of a script.
func pieces(t *testing.T, engine, script string) (texts []string) {
	t.Helper()
	s := statement.NewSplitter(strings.NewReader(script), engines.All().ByWord(engine).Statements.Lexis)
	for {
		p, err := s.Next()
		if errors.Is(err, io.EOF) {
			return texts
		}
		if err != nil {
			t.Fatalf("%q: %v", script, err)
		}
		if !p.Empty() {
			texts = append(texts, string(p.Text))
		}
	}
}

// TestSplitAsPostgreSQL: a script that is sent whole, which the server takes apart itself, gives what its pieces give.
func TestSplitAsPostgreSQL(t *testing.T) {
	t.Parallel()
	server := testkit.PostgreSQLServer(t)
	give := func(texts ...string) string {
		conn, err := server.Connect("sightings")
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(context.Background())
		var all strings.Builder
		for _, text := range texts {
			results, err := conn.Exec(t.Context(), text).ReadAll()
			for _, r := range results {
				for _, row := range r.Rows {
					fmt.Fprintf(&all, "%q", row)
				}
				all.WriteString("|")
			}
			if err != nil {
				fmt.Fprintf(&all, "%v", err)
				break
			}
		}
		return all.String()
	}
	for _, c := range []struct {
		script string
		n      int
	}{
		{`select 'a;b''c'; select "x;y" from (select 1 as "x;y") t; select 3`, 3},
		{`select E'a\';b', e'\\'; select 'a\'; select U&'\0041;', U&"d\0061" from (select 1 as "da") t`, 3},
		{"select $$a;b$$, $x$ ; $$ ; $x$; select $a$;$b$;$a$", 2},
		{"select 1 /* ; /* nested ; */ ; */; select 2 -- ; not\n; select 3", 3},
		{"select a$b from (select 1 as a$b) t; select 2", 2}, {"select 1;;; ;select 2;", 2}, {"select (select 1 as \"a;\" ); select 2", 2},
		{"create temporary table r(a int); create rule x as on insert to r do also (select 1; select 2); insert into r values (1); select * from r", 4},
		{"create function pg_temp.f(a int) returns int begin atomic select case when a > 1 then 2 else 3 end; end; select pg_temp.f(1); select pg_temp.f(2)", 3},
		{"create function pg_temp.g() returns int language plpgsql as $f$ begin if true then return 1; end if; end; $f$; select pg_temp.g()", 2},
		{"do $$ begin perform 1; end $$; select 2", 2}, {"begin; select 1; commit; select 2", 4}, {"select 'é;ü' as \"ß;\"; select '\u2028;'", 2},
		{"select 1 as \"a\"\"b;c\"; select 'line\nends;' ", 2}, {"select '' ';'; select ''\n';'", 0}, {"select B'101', x'1F;'", 0}, {"select 1::int, '2'::text; select array[1,2][1:2]", 2}, {"select 5 /*;*/ - -3; select 5 --;\n - 3", 2},
	} {
		texts := pieces(t, "postgresql", c.script)
		if c.n > 0 && len(texts) != c.n {
			t.Errorf("%q has %d pieces, not %d: %q", c.script, len(texts), c.n, texts)
		}
		whole, apart := give(c.script), give(texts...)
		if strings.Contains(whole, "SQLSTATE") { // it ends at its first error, which is the same one
			whole, apart = whole[strings.Index(whole, "SQLSTATE"):], apart[max(0, strings.Index(apart, "SQLSTATE")):]
		}
		if whole != apart {
			t.Errorf("%q\n whole %s\n apart %s", c.script, whole, apart)
		}
	}
}

// TestSplitAsMariaDB likewise.
func TestSplitAsMariaDB(t *testing.T) {
	t.Parallel()
	server := testkit.MariaDBServer(t)
	db, err := sql.Open("mysql", fmt.Sprintf("admin:%s@tcp(127.0.0.1:%d)/?multiStatements=true", testkit.AdminPassword, server.Port))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	give := func(texts ...string) string {
		conn, err := db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		var all strings.Builder
		for _, text := range texts {
			rows, err := conn.QueryContext(t.Context(), text)
			if err != nil {
				return all.String() + err.Error()
			}
			for {
				columns, _ := rows.Columns()
				values := make([]any, len(columns))
				for i := range values {
					values[i] = new(sql.NullString)
				}
				for rows.Next() {
					rows.Scan(values...)
					for _, v := range values {
						fmt.Fprintf(&all, "%q,", v.(*sql.NullString).String)
					}
					all.WriteString("|")
				}
				if !rows.NextResultSet() {
					break
				}
			}
			if err := rows.Err(); err != nil {
				all.WriteString(err.Error())
			}
			rows.Close()
		}
		return all.String()
	}
	for _, c := range []struct {
		script string
		n      int
	}{
		{`select 'a;b''c', 'd\';e'; select "x;""y\";z"; select 3`, 3}, {"select 1 as `a;``b`; select 2 # ; not\n; select 3", 3}, {"select 1 -- ; not\n; select 5--3; select 2", 3},
		{"select 1 /* ; */; select /*! 2; */ select 3", 0}, {"select /*!99999 1; */ 2; select /*M! 3 */", 0}, {"select 1 /*!40000 + 1 */; select 2", 2}, {"select 1;;select 2;", 0},
		{"set @a = 'x;y'; select @a; select 'é;', \"ü;\"", 3}, {"select 'a' ';' 'b'; select 1", 2}, {"select 'line\nends;\\\\'; select 2", 2},
	} {
		texts := pieces(t, "mariadb", c.script)
		if c.n > 0 && len(texts) != c.n {
			t.Errorf("%q has %d pieces, not %d: %q", c.script, len(texts), c.n, texts)
		}
		if c.n == 0 {
			continue // the server takes an empty statement for a mistake
		}
		if whole, apart := give(c.script), give(texts...); whole != apart {
			t.Errorf("%q\n whole %s\n apart %s", c.script, whole, apart)
		}
	}
}
