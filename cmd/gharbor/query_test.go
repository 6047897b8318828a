//go:build linux

package main

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// TestQuery runs the statements that the page of query begins with.
func TestQuery(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	server.SQL(t, "sightings", "CREATE TABLE count_of_birds(place text, species text, head_count int)",
		"INSERT INTO count_of_birds VALUES ('east hide', 'dunlin', 12), ('east hide', 'knot', 2), ('spit', 'dunlin', 1), ('spit', NULL, NULL)",
		"GRANT ALL ON count_of_birds TO warden")
	want := func(want string, args ...string) {
		t.Helper()
		if got := p.OK(append([]string{"query", "sightings"}, args...)...).Stdout; got != want {
			t.Errorf("%q gives %q, not %q", args, got, want)
		}
	}
	const all = "select * from count_of_birds order by 1, 2"
	want("place\tcount\neast hide\t2\nspit\t2\n", "select place, count(*) from count_of_birds group by 1 order by 1")
	want("species\thead_count\ndunlin\t12\n", "-let", "bird=dunlin", "-let", "least=3",
		"select species, head_count from count_of_birds where species = {bird} and head_count >= {least}")
	want("count\n4\n", "-let", "table=count_of_birds", "select count(*) from {identifier table}")
	want("count\n0\n", "-let", "bird=x'; drop table count_of_birds --", "select count(*) from count_of_birds where species = {bird}")
	want("4\n", "-format", "bare", "select count(*) from count_of_birds")
	want("place,species,head_count\r\neast hide,dunlin,12\r\neast hide,knot,2\r\nspit,dunlin,1\r\nspit,,\r\n", "-format", "csv", all)
	want("place\tspecies\thead_count\neast hide\tdunlin\t12\n", "-rows", "1", all)
	want("place      species  head_count\neast hide  dunlin           12\neast hide  knot              2\nspit       dunlin            1\nspit       null           null\n",
		"-format", "table", all)
	want("place       spit\nspecies     null\nhead_count  null\n", "-stacked", all+" offset 3")
	want("current_database\npostgres\n", "-database", "postgres", "select current_database()")

	file := filepath.Join(p.Home, "report.sql")
	p.Write(file, "-- a report\nselect place\n  from count_of_birds\n order by 1 limit 1;\n")
	out := filepath.Join(p.Home, "report.csv")
	want("", "-file", file, "-format", "csv", "-out", out)
	if data, err := os.ReadFile(out); err != nil || string(data) != "place\r\neast hide\r\n" {
		t.Errorf("%q %v", data, err)
	}
	r := p.Feed("select 1 as a; select 'b' as b", "query", "sightings", "-format", "json-lines").Want(0)
	if r.Stdout != "{\"result\":1,\"row\":{\"a\":1}}\n{\"result\":2,\"row\":{\"b\":\"b\"}}\n" {
		t.Errorf("%q", r.Stdout)
	}
}

// TestQueryRefuses: what is wrong is said in one line, with the right exit code, and nothing was sent.
func TestQueryRefuses(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	server.SQL(t, "sightings", "CREATE TABLE refused(id int)", "GRANT ALL ON refused TO warden", "INSERT INTO refused VALUES (1)", "ALTER TABLE refused OWNER TO warden")
	script := filepath.Join(p.Home, "two.sql")
	p.Write(script, "delete from refused;\nselect 'open")
	asks, still := []string{"-override", "guard=ask"}, []string{"-override", "guard=read-only"}
	for _, c := range []struct {
		name string
		code int
		says string
		args []string
	}{
		{"nothing", 2, "no statement", []string{"query", "sightings", ""}},
		{"a comment", 2, "no statement", []string{"query", "sightings", "/* nothing */"}},
		{"a line of another client", 2, "gharbor browse sightings", []string{"query", "sightings", `\d refused`}},
		{"no such profile", 2, "no profile of that name", []string{"query", "sighting", "select 1"}},
		{"quotes in the second statement", 2, "two.sql:2:8: quotes are not closed", []string{"query", "sightings", "-file", script}},
		{"both", 2, "not both", []string{"query", "sightings", "-file", script, "select 1"}},
		{"no file", 3, "no such file", []string{"query", "sightings", "-file", script + "x"}},
		{"a placeholder without a value", 2, "{b} has no value", []string{"query", "sightings", "-let", "a=1", "select {a}, {b}"}},
		{"a value without a placeholder", 2, "no statement has {a}", []string{"query", "sightings", "-let", "a=1", "select '{a}'"}},
		{"a password", 2, "-file FILE", []string{"query", "sightings", "alter role warden password 'knot'"}},
		{"an unknown format", 2, "json-lines", []string{"query", "sightings", "-format", "xml", "select 1"}},
		{"not both", 2, "not both", []string{"query", "sightings", "-atomic", "-keep-going", "select 1"}},
		{"an end within -atomic", 2, "COMMIT ends the transaction of -atomic", []string{"query", "sightings", "-atomic", "delete from refused; commit"}},
		{"a guarded statement", 2, "DELETE without a condition", append(asks, "query", "sightings", "delete from refused")},
		{"a read-only session", 1, "read-only", append(still, "query", "sightings", "-yes", "delete from refused")},
		{"a looser guard", 2, "at least as strict as the profile's (ask)", []string{"query", "asks", "-override", "guard=none", "delete from refused"}},
		{"several results", 2, "for several: -format json", []string{"query", "sightings", "-format", "csv", "select 1; select 2"}},
		{"two columns", 2, "one column", []string{"query", "sightings", "-format", "bare", "select 1, 2"}},
		{"a wrong password", 5, "login.password", []string{"query", "sightings", "-override", "secret=env:KNOT", "delete from refused"}},
		{"an empty variable", 4, "secret.", []string{"query", "sightings", "-override", "secret=env:NOT_SET", "delete from refused"}},
		{"an expectation", 1, "expect.version", []string{"query", "sightings", "-override", "expect.version=99", "delete from refused"}},
	} {
		args := c.args
		if args[0] != "query" { // the flags come after the names
			args = append(append([]string{"query", args[3]}, args[:2]...), args[4:]...)
		}
		p.Profiles(p.ReadProfiles() + "\n")
		if c.name == "a looser guard" {
			p.Profiles(p.ReadProfiles() + "\n[profile.asks]\nlike = \"sightings\"\nguard = \"ask\"\n")
		}
		t.Run(c.name, func(t *testing.T) { p.Run(args...).Want(c.code).Has(c.says) })
	}
	if left := p.OK("query", "sightings", "-format", "bare", "select count(*) from refused").Stdout; left != "1\n" {
		t.Errorf("%s rows are left: something was sent", left)
	}
	p.OK("query", "sightings", "-ignore-expectations", "-override", "expect.version=99", "select 1")
	p.OK("query", "sightings", "-override", "guard=ask", "-yes", "delete from refused")
}

// TestQueryFailures: a refused statement is reported as compilers do; what came before it stays.
func TestQueryFailures(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	server.SQL(t, "sightings", "CREATE TABLE failing(id int CHECK (id < 10))", "GRANT ALL ON failing TO warden")
	count := func(want string) {
		t.Helper()
		if got := p.OK("query", "sightings", "-format", "bare", "select count(*) from failing").Stdout; got != want+"\n" {
			t.Errorf("%s rows, not %s", got, want)
		}
	}
	file := filepath.Join(p.Home, "report.sql")
	p.Write(file, "insert into failing values (1);\nselect id,\n\tidd from failing;\n")
	p.Run("query", "sightings", "-file", file).Want(1).
		Has("report.sql:3:2: column \"idd\" does not exist (SQLSTATE 42703)\n  idd from failing\n  ~~~\n", "  hint: ")
	count("1")
	p.Run("query", "sightings", "insert into failing values (2); insert into failing values (99); insert into failing values (3)").Want(1).
		Has("statement:1: new row for relation \"failing\" violates check constraint", "detail: Failing row contains (99)")
	count("2")
	p.Run("query", "sightings", "-atomic", "insert into failing values (2); insert into failing values (99)").Want(1)
	count("2")
	p.OK("query", "sightings", "-atomic", "insert into failing values (2); insert into failing values (3)")
	count("4")
	p.Run("query", "sightings", "-keep-going", "insert into failing values (99); insert into failing values (5)").Want(1)
	count("5")
	p.Run("query", "sightings", "begin; insert into failing values (6)").Want(1).Has("which was rolled back")
	count("5")
	p.Run("query", "sightings", "-keep-going", "insert into failing values (7); select pg_terminate_backend(pg_backend_pid()); insert into failing values (8)").Want(1).
		Has("terminating connection")
	count("6")
	p.Run("query", "sightings", "-let", "n=99", "insert into failing values ({n})").Want(1).Has("violates check constraint")
	out := filepath.Join(p.Home, "out.csv")
	p.Write(out, "as it was")
	p.Run("query", "sightings", "-format", "csv", "-out", out, "select 1/(5 - i) from generate_series(1, 10) i").Want(1)
	if data, err := os.ReadFile(out); err != nil || string(data) != "as it was" {
		t.Errorf("%q %v", data, err)
	}
	left, err := filepath.Glob(filepath.Join(p.Home, ".out.csv.*"))
	if err != nil || len(left) > 0 {
		t.Errorf("left behind: %v %v", left, err)
	}
	p.OK("query", "sightings", "do $$ begin raise notice 'the tide is in'; end $$").Has("notice: the tide is in")
}

// TestQueryIsCancelled: Ctrl-C and -statement-timeout end the statement at the server.
func TestQueryIsCancelled(t *testing.T) {
	t.Parallel()
	p, _ := onReal(t)
	m, _ := onMariaDB(t)
	p.Run("query", "sightings", "-statement-timeout", "200ms", "select pg_sleep(60), 'by time'").Want(1).
		Has("statement:1:1: the statement was cancelled at the server after 200ms")
	m.Run("query", "moult", "-statement-timeout", "200ms", "select sleep(60)").Want(1).
		Has("statement:1:1: the statement was cancelled at the server after 200ms")
	s := p.OnTerminal("query", "sightings", "select pg_sleep(60), 'by hand'")
	running := func() string {
		return p.OK("query", "admin", "-database", "sightings", "-format", "bare",
			"select count(*) from pg_stat_activity where state = 'active' and query like '%by'||' hand%'").Stdout
	}
	for range 200 {
		if running() == "1\n" {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	s.Signal(syscall.SIGINT)
	if text := s.Ends(130); !strings.Contains(text, "the statement was cancelled at the server") {
		t.Error(text)
	}
	if got := running(); got != "0\n" {
		t.Errorf("%s statements still run", got)
	}
}

// queryTypes is a value of each type, by its name.
var queryTypes = map[string][][2]string{
	"sightings": {
		{"smallint", "-32768"}, {"bigint", "9223372036854775807"}, {"numeric", "123456789012345678901234567890.12345678901234567890"},
		{"real", "0.1"}, {"double precision", "1e-300"}, {"money", "12.50"}, {"text", "a\tb\n\"c\",'d'\\e\r\n ü€😀"}, {"char(5)", "ab"},
		{"bytea", `\x00ff5c`}, {"timestamp", "2026-02-28 23:59:59.999999"}, {"timestamptz", "2026-02-28 23:59:59.999999+05:45"}, {"date", "infinity"},
		{"date", "0044-03-15 BC"}, {"time", "24:00:00"}, {"timetz", "12:00:00-03:30"}, {"interval", "1 year 2 mons -3 days 04:05:06.789"},
		{"boolean", "false"}, {"point", "(1.5,-2)"}, {"inet", "192.0.2.0/24"}, {"macaddr", "08:00:2b:01:02:03"}, {"bit(5)", "10101"},
		{"tsvector", "'ebb':1 'tide':2"}, {"uuid", "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"}, {"xml", "<a>b</a>"}, {"json", `{"b": [1, 2.50],  "a": null}`},
		{"jsonb", `{"a": 1e400}`}, {"int[]", "{{1,NULL},{3,4}}"}, {"text[]", `{"a,b","c\"d",NULL,"NULL",""}`}, {"int4range", "[1,5)"}, {"text", ""},
		{"numeric", "NaN"}, {"double precision", "-Infinity"}, {"text", "\\N"}, {"text", "null"}, {"text", "\x1b[31mred"},
	},
	"moult": {
		{"bigint unsigned", "18446744073709551615"}, {"decimal(65,30)", "12345678901234567890123456789012345.123456789012345678901234567890"},
		{"double", "1e-300"}, {"tinyint(1)", "-1"}, {"text", "a\tb\n\"c\",'d'\\e\r\n ü€😀"}, {"text", ""}, {"varbinary(9)", "\x00\xff\\"}, {"date", "2026-02-28"},
		{"datetime(6)", "2026-02-28 23:59:59.999999"}, {"time(3)", "-838:59:59.999"}, {"year", "1901"}, {"bit(9)", "\x01\x55"},
		{"enum('ebb','flood')", "flood"}, {"set('a','b')", "a,b"}, {"json", `{"b": [1, 2.50],  "a": null}`}, {"uuid", "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"},
		{"inet6", "2001:db8::1"}, {"text", "\\N"}, {"text", "null"},
	},
}

// TestQueryTypes: a row with a value of each type comes back equal in every format, beside NULLs.
func TestQueryTypes(t *testing.T) {
	t.Parallel()
	for profile, types := range queryTypes {
		p, _ := onReal(t)
		if profile == "moult" {
			p, _ = onMariaDB(t)
		}
		var made, names []string
		insert := []string{"query", profile}
		for i, c := range types {
			made = append(made, fmt.Sprintf("c%d %s, n%d %s null", i, c[0], i, c[0]))
			names = append(names, fmt.Sprintf("{v%d}", i))
			value := filepath.Join(p.Home, fmt.Sprintf("v%d", i))
			p.Write(value, c[1])
			insert = append(insert, "-let-file", fmt.Sprintf("v%d=%s", i, value))
		}
		into := make([]string, len(types))
		for i := range types {
			into[i] = fmt.Sprintf("c%d", i)
		}
		p.OK("query", profile, "create table every_type("+strings.Join(made, ", ")+")")
		p.OK(append(insert, "insert into every_type("+strings.Join(into, ", ")+") values ("+strings.Join(names, ", ")+")")...)
		// What the server takes for equal: each value that was written is the one that was meant.
		for i, c := range types {
			if slices.Contains([]string{"json", "xml", "point", "bit(9)"}, c[0]) {
				continue // types that have no equal, or not with a text
			}
			same := fmt.Sprintf("select count(*) from every_type where c%d = {v}", i)
			if n := p.OK("query", profile, "-format", "bare", "-let-file", "v="+filepath.Join(p.Home, fmt.Sprintf("v%d", i)), same).Stdout; n != "1\n" {
				t.Errorf("%s: %s %q was not written as it is", profile, c[0], c[1])
			}
		}
		meant := everyValue(t, p, profile, types)
		for _, format := range []string{"csv", "tsv", "json", "json-lines"} {
			got := p.OK("query", profile, "-format", format, "select * from every_type").Stdout
			read := readBack(t, format, got, 2*len(types))
			for i, want := range meant {
				switch kind := types[i/2][0]; {
				case want == "NULL":
				case kind == "boolean" && !strings.HasPrefix(format, "json"):
					want = want[:1]
				case profile == "sightings" && strings.HasPrefix(kind, "json") && strings.HasPrefix(format, "json"):
					var compact bytes.Buffer
					if err := json.Compact(&compact, []byte(want)); err != nil {
						t.Fatal(err)
					}
					want = compact.String()
				case format == "csv":
					want = strings.ReplaceAll(want, "\r\n", "\n") // as the standard reader has it
				}
				if read[i] != want {
					t.Errorf("%s as %s: %s is %q, not %q", profile, format, types[i/2][0], read[i], want)
				}
			}
		}
	}
}

// everyValue is what the server itself says the values are as texts, a NULL behind each.
func everyValue(t *testing.T, p *testkit.Program, profile string, types [][2]string) []string {
	t.Helper()
	var all []string
	for i, c := range types {
		text := fmt.Sprintf("c%d::text", i)
		if c[0] == "char(5)" {
			text = fmt.Sprintf("rpad(c%d::text, 5)", i) // the cast takes blanks away
		}
		if profile == "moult" {
			text = fmt.Sprintf("cast(c%d as char)", i)
			if strings.HasPrefix(c[0], "varbinary") || strings.HasPrefix(c[0], "bit") {
				text = fmt.Sprintf(`concat('\\x', lower(hex(c%d)))`, i)
				if strings.HasPrefix(c[0], "bit") {
					text = fmt.Sprintf(`concat('\\x', lpad(lower(hex(c%d)), 4, '0'))`, i)
				}
			}
		}
		value := p.OK("query", profile, "-format", "bare", "select "+text+" from every_type").Stdout
		all = append(all, strings.TrimSuffix(value, "\n"), "NULL")
	}
	return all
}

// readBack reads the one row of a format as a reader of docs/query.md would. A NULL is NULL.
func readBack(t *testing.T, format, text string, n int) []string {
	t.Helper()
	var row []string
	switch format {
	case "csv":
		records, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		if err != nil || len(records) != 2 {
			t.Fatalf("%v: %q", err, text)
		}
		row = records[1]
		for i := range row { // the standard reader can't tell NULL from an empty text
			if i%2 == 1 && row[i] == "" {
				row[i] = "NULL"
			}
		}
	case "tsv":
		lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
		if len(lines) != 2 {
			t.Fatalf("%q", text)
		}
		back := strings.NewReplacer(`\t`, "\t", `\n`, "\n", `\r`, "\r", `\\`, `\`)
		for _, v := range strings.Split(lines[1], "\t") {
			if v == `\N` {
				row = append(row, "NULL")
				continue
			}
			row = append(row, back.Replace(v))
		}
	default:
		row = jsonRow(t, format, text)
	}
	if len(row) != n {
		t.Fatalf("%s: %d values, not %d: %q", format, len(row), n, text)
	}
	return row
}

// jsonRow is the one row of JSON in the order of its columns: c0, n0, c1, …
func jsonRow(t *testing.T, format, text string) []string {
	t.Helper()
	var object map[string]json.RawMessage
	if format == "json" {
		var all struct {
			Results []struct{ Rows []map[string]json.RawMessage }
		}
		if err := json.Unmarshal([]byte(text), &all); err != nil {
			t.Fatalf("%v: %q", err, text)
		}
		object = all.Results[0].Rows[0]
	} else if err := json.Unmarshal([]byte(text), &object); err != nil {
		t.Fatalf("%v: %q", err, text)
	}
	var row []string
	for i := 0; i < len(object); i++ {
		raw := object[fmt.Sprintf("%c%d", "cn"[i%2], i/2)]
		var value string
		switch {
		case string(raw) == "null":
			value = "NULL"
		case raw[0] == '"':
			if err := json.Unmarshal(raw, &value); err != nil {
				t.Fatal(err)
			}
		default:
			value = string(raw)
		}
		row = append(row, value)
	}
	return row
}

// TestQueryValuesAreValues: values and names by -let come back equal, whatever they hold.
func TestQueryValuesAreValues(t *testing.T) {
	t.Parallel()
	signs := []rune("'\"`\\;-{}$#%/*()é€😀\n\t ab01,?:@\x1b\u200b")
	random := rand.New(rand.NewPCG(16, 1))
	word := func(most int) string {
		var b strings.Builder
		for range 1 + random.IntN(most) {
			b.WriteRune(signs[random.IntN(len(signs))])
		}
		return b.String()
	}
	maria, _ := onMariaDB(t)
	postgres, _ := onReal(t)
	for profile, p := range map[string]*testkit.Program{"moult": maria, "sightings": postgres} {
		for range 10 {
			args := []string{"query", profile, "-format", "json-lines"}
			var columns, values []string
			for i := range 50 {
				name, value := fmt.Sprintf("x%d", i)+strings.TrimRight(word(12), " \n\t"), word(40)
				if profile == "moult" {
					name = strings.ReplaceAll(name, "😀", "") // names there have no signs beyond U+FFFF
				}
				args = append(args, "-let", fmt.Sprintf("n%d=%s", i, name), "-let", fmt.Sprintf("v%d=%s", i, value))
				columns = append(columns, name)
				values = append(values, value)
			}
			var text []string
			for i := range columns {
				text = append(text, fmt.Sprintf("{v%d} as {identifier n%d}", i, i))
			}
			got := p.OK(append(args, "select "+strings.Join(text, ", "))...).Stdout
			var row map[string]string
			if err := json.Unmarshal([]byte(got), &row); err != nil {
				t.Fatal(err)
			}
			for i, name := range columns {
				if row[name] != values[i] {
					t.Errorf("%s: %q = %q, not %q", profile, name, row[name], values[i])
				}
			}
		}
	}
}

// TestQueryOnATerminal: the table is cleaned and dimmed there, and each statement says how long it took.
func TestQueryOnATerminal(t *testing.T) {
	t.Parallel()
	p, _ := onReal(t)
	text := p.OnTerminal("query", "sightings", "select E'a\\x1b]0;b' as one, null as two; create temporary table gone(a int); insert into gone values (1), (2)").Ends(0)
	for _, want := range []string{"one  ", "\x1b[2mnull\x1b[0m", "1 row; ", " at the server", "create table: done; ", "2 rows changed; "} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in %q", want, text)
		}
	}
	if strings.Contains(text, "\x1b]0;") {
		t.Errorf("an escape sequence of a value reached the terminal: %q", text)
	}
	p.OnTerminal("query", "sightings").Expect("no statement was given").Ends(2)
	secret := p.OnTerminal("query", "sightings", "-format", "bare", "-let", "word", "select length({word})").Expect("{word}")
	secret.Type("dunlin and knot\n")
	if text := secret.Ends(0); !strings.Contains(text, "15") || strings.Contains(text, "dunlin") {
		t.Errorf("%q", text)
	}
	s := p.OnTerminal("query", "sightings", "-override", "guard=ask", "drop table no_such_table").Expect("run them on sightings?")
	s.Type("n\n")
	if text := s.Ends(1); !strings.Contains(text, "nothing was sent") {
		t.Errorf("%q", text)
	}
}

// TestQueryMariaDB: the same on the other family, with its own protocol and rules.
func TestQueryMariaDB(t *testing.T) {
	t.Parallel()
	p, _ := onMariaDB(t)
	if got := p.OK("query", "moult", "select 1 as a, null as b; ").Stdout; got != "a\tb\n1\t\\N\n" {
		t.Errorf("%q", got)
	}
	p.Run("query", "moult", "select 1;\nselect nope from ring").Want(1).Has("statement:2:8: Unknown column 'nope'", "~~~~")
	p.Run("query", "moult", "select 1 frm ring").Want(1).Has("(1064, SQLSTATE 42000)", "~")
	p.Run("query", "moult", "-read-only", "insert into ring values (1)").Want(1).Has("READ ONLY transaction")
	p.Run("query", "moult", "-atomic", "insert into ring values (1); create table x(a int)").Want(2).Has("CREATE ends the transaction of -atomic")
	p.Run("query", "moult", "-atomic", "insert into ring values (1); insert into ring values ('x')").Want(1)
	p.Run("query", "moult", "create user x identified by 'knot'").Want(2).Has("-file FILE")
	p.OK("query", "moult", "drop table if exists nowhere").Has("note: Unknown table 'moult.nowhere'")
	body := "delimiter //\ncreate procedure twice()\nbegin\n  select 1 as one;\n  select 2 as two;\nend//\ndelimiter ;\ncall twice();\ndrop procedure twice;\n"
	got := p.Feed(body, "query", "moult", "-format", "json-lines").Want(0).Stdout
	if got != "{\"result\":1,\"row\":{\"one\":1}}\n{\"result\":2,\"row\":{\"two\":2}}\n" {
		t.Errorf("%q", got)
	}
	if n := p.OK("query", "moult", "-format", "bare", "select count(*) from ring").Stdout; n != "0\n" {
		t.Errorf("%s rows are left", n)
	}
	numbers := "1e-7, 1e-13, 1e-14, 1e-15, 123456.789e0, 1e14, 1e15, 1e16, 1.5e17, -2.5e-300, 0e0, cast(0.1 as float), cast(1e20 as float), 1e308"
	asText := p.OK("query", "moult", "-format", "csv", "select 'x', "+numbers).Stdout
	asValue := p.OK("query", "moult", "-format", "csv", "-let", "x=x", "select {x}, "+numbers).Stdout
	if _, text, _ := strings.Cut(asText, "\n"); !strings.HasSuffix(asValue, text) {
		t.Errorf("%q with values, %q without", asValue, asText)
	}
	big := filepath.Join(p.Home, "big")
	p.Write(big, strings.Repeat("tide", 5<<20)) // more than one packet of 16 MiB
	r := p.Run("query", "moult", "-format", "bare", "-let-file", "v="+big, "select length({v})")
	if r.Code != 1 || !strings.Contains(r.Stderr, "max_allowed_packet") {
		if r.Want(0); r.Stdout != "20971520\n" {
			t.Errorf("%q", r.Stdout)
		}
	}
}

// TestQueryWhereTheNetworkEnds: a connection that is lost in the middle is said, and nothing is sent again.
func TestQueryWhereTheNetworkEnds(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cut := context.WithCancel(context.Background())
	t.Cleanup(cut)
	testkit.Serve(t, listener, func(conn net.Conn) {
		next, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", server.Port))
		if err != nil {
			return
		}
		context.AfterFunc(ctx, func() { next.Close() })
		go io.Copy(next, conn)
		io.Copy(conn, next)
	})
	port := listener.Addr().String()[len("127.0.0.1:"):]
	s := p.OnTerminal("query", "sightings", "-override", "port="+port, "select pg_sleep(60), 'over a cut line'")
	for range 200 {
		if n := p.OK("query", "admin", "-database", "sightings", "-format", "bare",
			"select count(*) from pg_stat_activity where state = 'active' and query like '%over'||' a cut line%'").Stdout; n == "1\n" {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	cut()
	if text := s.Ends(1); !strings.Contains(text, "it is not known whether the server ran this statement") {
		t.Errorf("%q", text)
	}
}

// TestQueryHidesPasswords: a password in a statement of a file, and in a value, is in no output.
func TestQueryHidesPasswords(t *testing.T) {
	t.Parallel()
	p, _ := onReal(t)
	file := filepath.Join(p.Home, "account.sql")
	p.Write(file, "alter role nobody_at_all password 'canary-in-a-file';\n")
	r := p.Run("query", "sightings", "-verbose", "-file", file).Want(1)
	if bytes.Contains([]byte(r.Stdout+r.Stderr), []byte("canary-in-a-file")) {
		t.Errorf("%s", r.Stderr)
	}
}
