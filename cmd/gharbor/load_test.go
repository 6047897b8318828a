//go:build linux

package main

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/postgresql"
	"gentleharbor/standin/store"
)

// scripts writes files into a folder of the program's home, and gives the folder.
func scripts(t *testing.T, p *testkit.Program, files map[string]string) string {
	t.Helper()
	folder := filepath.Join(p.Home, "scripts")
	for name, text := range files {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		p.Write(path, text)
	}
	return folder
}

// TestLoad runs a tree of scripts, which asks before it drops what is there.
func TestLoad(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	server.SQL(t, "sightings", "CREATE SCHEMA loading AUTHORIZATION warden")
	folder := scripts(t, p, map[string]string{
		"all.sql":              "\\set ON_ERROR_STOP on\n\\set place 'the spit'\n\\echo for :place\ndrop table if exists loading.perch cascade;\n\\i 'parts/the tables.sql'\n\\ir parts/rows.sql\n",
		"parts/the tables.sql": "create table loading.perch(id int primary key, name text);\ncreate index on loading.perch(name);\n",
		"parts/rows.sql":       "copy loading.perch from stdin;\n1\tdunlin\\ttab\n2\t\\N\n\\.\ninsert into loading.perch values (3, :'place');\n",
	})
	all := filepath.Join(folder, "all.sql")
	r := p.OK("load", "sightings", all, "-dry-run")
	r.Has("drops    table loading.perch  "+all+":4:1", "makes    table loading.perch  "+folder+"/parts/the tables.sql:1:1", "fills    table loading.perch", ", 2 statements", "5 statements; nothing was sent")
	p.OK("load", "sightings", all).Has("for the spit", "loaded: 5 statements, 3 rows; made 1 table, 1 index; ")
	p.Run("load", "sightings", all).Want(2).Has(all+":4:1: drops the table loading.perch, which is there", "nothing was sent; to do it: -yes")
	rows := func() string {
		return p.OK("query", "sightings", "-format", "csv", "select * from loading.perch order by id").Stdout
	}
	const want = "id,name\r\n1,dunlin\ttab\r\n2,\r\n3,the spit\r\n"
	if got := rows(); got != want {
		t.Errorf("%q", got)
	}
	s := p.OnTerminal("load", "sightings", all).Expect("do it on sightings?")
	s.Type("n\n")
	s.Ends(1)
	p.OK("load", "sightings", all, "-yes")
	if got := rows(); got != want {
		t.Errorf("%q", got)
	}
	p.Feed("insert into loading.perch values (4, 'from a pipe')", "load", "sightings", "-", "-yes").Want(0).Has("1 statement, 1 row")
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	fmt.Fprint(w, "delete from loading.perch where id = 4; truncate loading.perch")
	w.Close()
	p.Write(filepath.Join(folder, "packed.sql.gz"), packed.String())
	p.Run("load", "sightings", filepath.Join(folder, "packed.sql.gz")).Want(2).Has("empties the table loading.perch, which is there")
	p.OK("load", "sightings", filepath.Join(folder, "packed.sql.gz"), "-yes")
	p.OK("load", "sightings", all, filepath.Join(folder, "parts/rows.sql"), "-dry-run").Has("7 statements", ", 4 statements")
}

// TestLoadRefuses: what can't be carried out is said before anything is sent.
func TestLoadRefuses(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	server.SQL(t, "sightings", "CREATE TABLE never(id int)", "GRANT ALL ON never TO warden")
	p.Profiles(p.ReadProfiles() + "\n[profile.still]\nlike = \"sightings\"\nguard = \"read-only\"\n\n[profile.asks]\nlike = \"sightings\"\nguard = \"ask\"\n")
	folder := scripts(t, p, map[string]string{"../elsewhere.sql": "select 1", "data.csv": "id\n1\n", "data.txt": "id\n1\n"})
	for _, c := range []struct {
		text string
		code int
		says string
		args []string
	}{
		{"insert into never values (1);\n\\! ls", 3, "main.sql:2:1: gharbor can't run this line: it runs a program", nil},
		{"insert into never values (1);\n\\copy never from 'x'", 3, "file of this machine", nil},
		{"insert into never values (1);\n\\i ../elsewhere.sql", 3, "is outside of the folder", nil},
		{"insert into never values (1);\n\\i main.sql", 3, "includes itself", nil},
		{"insert into never values (1);\n\\c postgres admin", 3, "only the database can be changed", nil},
		{"insert into never values (1);\nselect 'open", 3, "main.sql:2:8: quotes are not closed", nil},
		{"-- nothing", 2, "no statement", nil},
		{"insert into never values (1);\ncommit;", 2, "main.sql:2:1: this statement ends the transaction of -atomic", []string{"-atomic"}},
		{"insert into never values (1);\n\\c postgres", 2, "another database", []string{"-atomic"}},
		{"insert into never values (1)", 2, "not both", []string{"-atomic", "-keep-going"}},
		{"insert into never values (1)", 2, "add -table", []string{"-columns", "id"}},
		{"insert into never values (1)", 2, "expected FILE:LINE", []string{"-from", "main.sql"}},
		{"insert into never values (1)", 5, "login.password", []string{"-override", "secret=env:KNOT"}},
		{"insert into never values (1)", 1, "login", []string{"-override", "expect.version=99"}},
	} {
		main := filepath.Join(folder, "main.sql")
		p.Write(main, c.text)
		r := p.Run(append([]string{"load", "sightings", main}, c.args...)...).Want(c.code)
		if c.code != 1 {
			r.Has(c.says)
		}
	}
	main := filepath.Join(folder, "main.sql")
	p.Write(main, "do $$ begin insert into never values (1); end $$;")
	p.Run("load", "still", main).Want(1).Has("the guard of still is read-only")
	p.Run("load", "asks", main).Want(2).Has("what DO does is not known: the profile's guard asks first")
	p.Run("load", "sightings", filepath.Join(folder, "data.csv")).Want(2).Has("add -table")
	p.Run("load", "sightings", filepath.Join(folder, "data.txt"), "-table", "never").Want(2).Has("add -written")
	p.Run("load", "sightings", filepath.Join(folder, "none.sql")).Want(3).Has("no such file")
	p.Run("load", "sightings", filepath.Join(folder, "none.csv"), "-table", "never").Want(3).Has("no such file")
	p.Run("load", "sightings", "-", main).Want(2).Has("is read alone")
	p.Run("load", "sightings", "-").Want(2).Has("add -yes")
	p.Run("load", "sightings", filepath.Join(folder, "data.csv"), "-table", "nevr").Want(1).Has("near: never")
	if n := p.OK("query", "sightings", "-format", "bare", "select count(*) from never").Stdout; n != "0\n" {
		t.Errorf("something was sent: %s rows", n)
	}
	p.OK("load", "asks", main, "-yes")
}

// TestLoadStops: where a statement fails, what is in is said, and the line to go on with works.
func TestLoadStops(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	server.SQL(t, "sightings", "CREATE TABLE stopping(id int PRIMARY KEY)", "GRANT ALL ON stopping TO warden")
	folder := scripts(t, p, map[string]string{
		"main.sql": "set search_path = public;\ninsert into stopping values (1);\n\\i part.sql\ninsert into stopping values (9);\n",
		"part.sql": "insert into stopping values (2);\ncopy stopping from stdin;\n3\nx\n\\.\ninsert into stopping values (4);\n",
	})
	main, part := filepath.Join(folder, "main.sql"), filepath.Join(folder, "part.sql")
	ids := func() string {
		return strings.ReplaceAll(strings.TrimSpace(p.OK("query", "sightings", "-format", "bare", "select id from stopping order by id").Stdout), "\n", " ")
	}
	r := p.Run("load", "sightings", main).Want(1)
	again := "gharbor load sightings " + main + " -from " + part + ":2"
	r.Has(part+":4: invalid input syntax for type integer: \"x\"", "stopped at "+part+":2:1, which was not done; done before: 3 statements, 2 rows; ", "try: "+again)
	if got := ids(); got != "1 2" {
		t.Errorf("%s is in", got)
	}
	p.Write(part, strings.Replace(p.Read(part), "x\n", "5\n", 1))
	p.OK(strings.Fields(again)[1:]...).Has("3 statements")
	if got := ids(); got != "1 2 3 4 5 9" {
		t.Errorf("%s is in", got)
	}
	p.OK("query", "sightings", "delete from stopping")
	p.Write(part, strings.Replace(p.Read(part), "5\n", "x\n", 1))
	p.Run("load", "sightings", main, "-atomic").Want(1).Has("nothing stays")
	if got := ids(); got != "" {
		t.Errorf("%s is in", got)
	}
	p.Run("load", "sightings", main, "-keep-going").Want(1).Has("loaded, except what failed: 5 statements, 4 rows, 1 failed")
	if got := ids(); got != "1 2 4 9" {
		t.Errorf("%s is in", got)
	}
	p.Write(main, "begin;\ninsert into stopping values (20);\n")
	p.Run("load", "sightings", main).Want(1).Has("which was rolled back")

	p.Write(main, "insert into stopping values (30);\nselect pg_sleep(60), 'while loading';\n")
	s := p.OnTerminal("load", "sightings", main)
	active := "select count(*) from pg_stat_activity where state = 'active' and query like '%while'||' loading%'"
	for range 200 {
		if p.OK("query", "admin", "-database", "sightings", "-format", "bare", active).Stdout == "1\n" {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	s.Signal(syscall.SIGINT)
	if text := s.Ends(130); !strings.Contains(joined(text), "cancelled at the server") || !strings.Contains(joined(text), "main.sql:2:1, which was not done") {
		t.Error(text)
	}
	p.Write(main, "insert into stopping values (31);\nselect pg_terminate_backend(pg_backend_pid());\ninsert into stopping values (32);\n")
	p.Run("load", "sightings", main).Want(1).Has("(SQLSTATE 57P01)", "stopped at "+main+":2:1, which was not done")
	if got := ids(); got != "1 2 4 9 30 31" {
		t.Errorf("%s is in", got)
	}
}

// TestLoadDumps: what the servers' own programs dump is loaded, and dumped again it is the same.
func TestLoadDumps(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	dump, err := exec.LookPath("pg_dump")
	if err != nil {
		t.Skip("no dump program here")
	}
	server.SQL(t, "postgres", "CREATE DATABASE dumped", "CREATE DATABASE loaded")
	server.SQL(t, "dumped", `CREATE SCHEMA "Odd s"`, `CREATE TABLE "Odd s"."T t"("a b" serial PRIMARY KEY, c text DEFAULT 'x;y', d bytea, e text[])`,
		`INSERT INTO "Odd s"."T t"(c, d, e) SELECT E'a\tb\\c\nd;--' || i, decode(md5(i::text), 'hex'), ARRAY['x', NULL, i::text] FROM generate_series(1, 5000) i`,
		`CREATE FUNCTION f(a int) RETURNS int LANGUAGE plpgsql AS $$ BEGIN RETURN a; -- ; $q$ '
END $$`, `CREATE VIEW v AS SELECT count(*) FROM "Odd s"."T t"`, `COMMENT ON VIEW v IS 'it''s \ odd'`)
	dumped := func(database string) string {
		t.Helper()
		cmd := exec.Command(dump, "-h", "127.0.0.1", "-p", fmt.Sprint(server.Port), "-U", "admin", database)
		cmd.Env = append(os.Environ(), "PGPASSWORD="+testkit.AdminPassword)
		out, err := cmd.Output()
		if err != nil {
			t.Fatal(err)
		}
		return string(out)
	}
	first := dumped("dumped")
	folder := scripts(t, p, map[string]string{"dump.sql": first})
	p.OK("load", "admin", "-database", "loaded", filepath.Join(folder, "dump.sql")).Has("5,000 rows")
	same := func(text string) string {
		var kept []string
		for line := range strings.Lines(text) {
			if !strings.HasPrefix(line, `\restrict`) && !strings.HasPrefix(line, `\unrestrict`) {
				kept = append(kept, line)
			}
		}
		return strings.Join(kept, "")
	}
	if second := dumped("loaded"); same(second) != same(first) {
		t.Error("dumped again it is not the same")
	}
}

// TestLoadDumpsMariaDB likewise.
func TestLoadDumpsMariaDB(t *testing.T) {
	t.Parallel()
	p, server := onMariaDB(t)
	dump, err := exec.LookPath("mariadb-dump")
	if err != nil {
		t.Skip("no dump program here")
	}
	server.SQL(t, "CREATE DATABASE dumped", "CREATE DATABASE loaded", "CREATE TABLE dumped.`odd t`(`a b` int AUTO_INCREMENT PRIMARY KEY, c text, d blob)",
		"INSERT INTO dumped.`odd t`(c, d) SELECT CONCAT('a\\\\b;''\"--\\n', seq), UNHEX(MD5(seq)) FROM dumped.seq_1_to_5000", "CREATE VIEW dumped.v AS SELECT COUNT(*) FROM dumped.`odd t`",
		"CREATE PROCEDURE dumped.p() BEGIN SELECT 1; SELECT ';'; END")
	p.Feed("DELIMITER //\nCREATE TRIGGER tr BEFORE INSERT ON `odd t` FOR EACH ROW BEGIN SET NEW.c = CONCAT(NEW.c, ''); END//", "load", "admin", "-database", "dumped", "-", "-yes").Want(0)
	dumped := func(database string) string {
		t.Helper()
		cmd := exec.Command(dump, "--routines", "--skip-comments", "-h", "127.0.0.1", "-P", fmt.Sprint(server.Port), "-u", "admin", database)
		cmd.Env = append(os.Environ(), "MYSQL_PWD="+testkit.AdminPassword)
		out, err := cmd.Output()
		if err != nil {
			t.Fatal(err)
		}
		return string(out)
	}
	first := dumped("dumped")
	folder := scripts(t, p, map[string]string{"dump.sql": first, "all.sql": "select 1;\nsource dump.sql\n"})
	p.OK("load", "admin", "-database", "loaded", filepath.Join(folder, "all.sql")).Has("5,000 rows", "1 trigger")
	if second := dumped("loaded"); strings.ReplaceAll(second, "`loaded`", "`dumped`") != first {
		t.Error("dumped again it is not the same")
	}
	p.Run("load", "admin", "-database", "loaded", filepath.Join(folder, "all.sql")).Want(2).Has("drops the table `odd t`, which is there")
	p.Run("load", "admin", "-database", "loaded", filepath.Join(folder, "all.sql"), "-atomic").Want(2).Has("of -atomic on this engine")
}

// TestLoadRows takes files of rows into a table, all or none, or all but those that can't be.
func TestLoadRows(t *testing.T) {
	t.Parallel()
	pg, server := onReal(t)
	server.SQL(t, "sightings", `CREATE TABLE filling(id int PRIMARY KEY, name text, "Odd Name" text, data bytea)`, "GRANT ALL ON filling TO warden")
	maria, other := onMariaDB(t)
	other.SQL(t, "CREATE TABLE moult.filling(id int PRIMARY KEY, name text, `Odd Name` text, data blob)")
	for _, on := range []struct {
		p       *testkit.Program
		profile string
		quote   string
		wrong   string
	}{{pg, "sightings", `"`, `invalid input syntax for type integer: "many"`}, {maria, "moult", "`", "Incorrect integer value: 'many'"}} {
		p, profile := on.p, on.profile
		folder := scripts(t, p, map[string]string{
			"good.csv":  "name,ID,Odd Name,data\r\n\"a \"\"q\"\", b\",1,\"two\nlines\",\\x00ff41\r\n,2,\"\",\r\n",
			"good.tsv":  "3\tx\\ty\t\\N\n",
			"bad.csv":   "id,name\n4,ok\nmany,two\n5\n1,again\n6,\"six\"\n",
			"near.csv":  "id,nmae\n7,x\n",
			"twice.csv": "id,name,id\n7,x,8\n",
			"empty.csv": "", "semi.csv": "id;name\n7;x\n",
		})
		in := func(name string, args ...string) *testkit.Result {
			t.Helper()
			return p.Run(append([]string{"load", profile, filepath.Join(folder, name), "-table", "filling"}, args...)...)
		}
		in("good.csv").Want(0).Has("loaded: 2 rows into ")
		in("good.tsv", "-columns", "id,name,Odd Name").Want(0).Has("loaded: 1 row into ")
		count := func() string {
			return p.OK("query", profile, "-format", "csv", "select id, name, "+on.quote+"Odd Name"+on.quote+", data from filling order by id").Stdout
		}
		const want = "id,name,Odd Name,data\r\n1,\"a \"\"q\"\", b\",\"two\nlines\",\\x00ff41\r\n2,,\"\",\r\n3,x\ty,,\r\n"
		if got := count(); got != want {
			t.Errorf("%s: %q", profile, got)
		}
		bad := filepath.Join(folder, "bad.csv")
		in("bad.csv").Want(1).Has(bad+":", "stopped: nothing was loaded", "-bad-rows bad.csv")
		if got := count(); got != want {
			t.Errorf("%s: %q", profile, got)
		}
		kept := filepath.Join(folder, "kept.csv")
		in("bad.csv", "-bad-rows", kept).Want(1).Has(bad+":3: ", on.wrong, bad+":4: 1 values where 2 are expected", bad+":5: ", "loaded: 2 rows", "not loaded: 3 rows, kept in "+kept)
		if got := p.Read(kept); !strings.HasPrefix(got, "id,name\n") || strings.Count(got, "\n") != 4 || !strings.Contains(got, "many,two\n") {
			t.Errorf("%q", got)
		}
		in("bad.csv", "-bad-rows", kept).Want(3).Has("exists")
		in("near.csv").Want(3).Has(`near.csv:1: `, `has no column "nmae"; did you mean "name"?`)
		in("semi.csv").Want(3).Has(`are the values separated by ";"?`)
		in("twice.csv").Want(3).Has("is named twice")
		in("empty.csv").Want(3).Has("no line with the columns' names")
		in("good.tsv", "-columns", "id,nmae,data").Want(2).Has("did you mean")
		p.Feed("id,name\n40,from a pipe\n", "load", profile, "-", "-written", "csv", "-table", "filling").Want(0).Has("loaded: 1 row")
		p.Run("load", profile, filepath.Join(folder, "good.tsv"), "-table", "filling", "-columns", "id,name,Odd Name", "-null", "x\ty", "-keep-going").Want(1)
	}
}

// TestLoadShowsProgress: on a terminal a line says how far it is.
func TestLoadShowsProgress(t *testing.T) {
	t.Parallel()
	p, _ := onReal(t)
	folder := scripts(t, p, map[string]string{"slow.sql": "select 1;\nselect pg_sleep(1.5);\n" + strings.Repeat("-- a long comment\n", 20000) + "select 2;\n"})
	text := p.OnTerminal("load", "sightings", filepath.Join(folder, "slow.sql")).Ends(0)
	for _, want := range []string{" of 352 KiB (", " statements a second", "loaded: 3 statements"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in %q", want, text)
		}
	}
}

// TestLoadHides: no password of a script is shown, and nothing of a file's name or a server's words steers a terminal.
func TestLoadHides(t *testing.T) {
	t.Parallel()
	p, _ := onReal(t)
	const password = "curlew-at-the-sluice-9"
	folder := scripts(t, p, map[string]string{
		"role.sql":               "select 1;\ncreate role loading_canary login password '" + password + "';\n",
		"syntax.sql":             "alter user mapping for x options (password '" + password + "');\n",
		"\x1b]0;title\x07\n.sql": "do $$ begin raise notice E'\\x1b]0;from the server\\x07'; end $$;\nselect nowhere;\n",
	})
	for _, args := range [][]string{
		{"load", "sightings", filepath.Join(folder, "role.sql")}, {"load", "sightings", filepath.Join(folder, "role.sql"), "-dry-run"},
		{"load", "sightings", filepath.Join(folder, "role.sql"), "-verbose", "-keep-going"}, {"load", "sightings", filepath.Join(folder, "role.sql"), "-atomic"},
		{"load", "sightings", filepath.Join(folder, "syntax.sql")}, {"query", "sightings", "-file", filepath.Join(folder, "syntax.sql")},
	} {
		r := p.Run(args...)
		testkit.NoSecret(t, strings.Join(args, " "), r.Stdout+r.Stderr, password)
	}
	testkit.NoSecretIn(t, p.Home, []string{filepath.Join(folder, "role.sql"), filepath.Join(folder, "syntax.sql")}, password)
	text := p.OnTerminal("load", "sightings", filepath.Join(folder, "\x1b]0;title\x07\n.sql"), "-yes").Ends(1)
	if strings.Contains(text, "\x1b]0;") || !strings.Contains(text, "from the server") || !strings.Contains(text, "nowhere") {
		t.Errorf("%q", text)
	}
}

// TestTypesComeBack: a row with a value of each type is written and loaded again, and is the same.
func TestTypesComeBack(t *testing.T) {
	t.Parallel()
	pg, _ := onReal(t)
	maria, _ := onMariaDB(t)
	for profile, p := range map[string]*testkit.Program{"sightings": pg, "moult": maria} {
		on, database := "admin", profile
		var columns, marks []string
		flags := []string{"query", on, "-database", database}
		for i, one := range queryTypes[profile] {
			columns = append(columns, fmt.Sprintf("c%d %s", i, one[0]))
			mark := fmt.Sprintf("{v%d}", i)
			if strings.HasPrefix(one[0], "bit(") && profile == "sightings" {
				mark = "cast(" + mark + " as " + one[0] + ")"
			}
			marks = append(marks, mark)
			path := filepath.Join(p.Home, fmt.Sprint("value", i))
			p.Write(path, one[1])
			flags = append(flags, "-let-file", fmt.Sprintf("v%d=%s", i, path))
		}
		p.OK("query", on, "-database", database, "create table written ("+strings.Join(columns, ", ")+")")
		p.OK("query", on, "-database", database, "create table again ("+strings.Join(columns, ", ")+")")
		p.OK(append(flags, "insert into written values ("+strings.Join(marks, ", ")+")")...)
		p.OK("query", on, "-database", database, "insert into written (c0) values (null)")
		for _, format := range []string{"csv", "tsv"} {
			file := filepath.Join(p.Home, "types."+format)
			p.OK("query", on, "-database", database, "-format", format, "-out", file, "select * from written")
			p.OK("query", on, "-database", database, "delete from again")
			table := "again"
			if profile == "sightings" {
				table = "public.again"
			}
			p.OK("load", on, "-database", database, file, "-table", table).Has("loaded: 2 rows")
			want := p.OK("query", on, "-database", database, "-format", "json", "select * from written").Stdout
			if got := p.OK("query", on, "-database", database, "-format", "json", "select * from again").Stdout; got != want {
				t.Errorf("%s, %s:\n%s\nnot\n%s", profile, format, got, want)
			}
		}
	}
}

// TestLoadFindsWhoTakesIt: of several servers load takes the first that can be written to; query takes the first.
func TestLoadFindsWhoTakesIt(t *testing.T) {
	t.Parallel()
	still, primary := birds(), birds()
	still.ReadOnly = true
	primary.Answer = postgresql.Statements(&store.Store{}, &primary)
	p, standby := standin(t, still)
	other, err := postgresql.Start(primary)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(other.Close)
	p.Setenv("DUNLIN", "dunlin")
	hosts := func(more string) string {
		return fmt.Sprintf("[profile.sightings]\nengine = \"postgresql\"\nhosts = [\"127.0.0.1:%d\", \"127.0.0.1:%d\"]\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"env:DUNLIN\"\n%s", standby.Port(), other.Port(), more)
	}
	folder := scripts(t, p, map[string]string{"a.sql": "create table a(id int); insert into a values (1);"})
	p.Profiles(hosts(""))
	p.OK("load", "sightings", filepath.Join(folder, "a.sql")).Has("2 statements, 1 row")
	p.Profiles(hosts("target = \"read-only\"\n"))
	p.Run("load", "sightings", filepath.Join(folder, "a.sql")).Want(1).Has("sightings can't be loaded into")
	p.Profiles(strings.Replace(hosts(""), fmt.Sprintf(", \"127.0.0.1:%d\"", other.Port()), "", 1))
	p.Run("load", "sightings", filepath.Join(folder, "a.sql")).Want(1).Has("sightings can't be loaded into")
}

// TestLoadRowsStops: Ctrl-C, a time limit and a killed server leave nothing half taken in, and what is known is said.
func TestLoadRowsStops(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	server.SQL(t, "sightings", "CREATE TABLE slow_rows(id int)", "GRANT ALL ON slow_rows TO warden",
		"CREATE FUNCTION slow_row() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_sleep(0.02); RETURN NEW; END $$",
		"CREATE TRIGGER slow BEFORE INSERT ON slow_rows FOR EACH ROW EXECUTE FUNCTION slow_row()")
	var rows strings.Builder
	rows.WriteString("id\n")
	for i := range 5000 {
		fmt.Fprintln(&rows, i)
	}
	file := filepath.Join(scripts(t, p, map[string]string{"slow.csv": rows.String()}), "slow.csv")
	p.Run("load", "sightings", file, "-table", "slow_rows", "-statement-timeout", "300ms").Want(1).Has("cancelled at the server after 300ms", "nothing was loaded")
	active := "select count(*) from pg_stat_activity where state = 'active' and query like 'COPY %slow_'||'rows%'"
	begun := func() {
		for range 200 {
			if p.OK("query", "admin", "-database", "sightings", "-format", "bare", active).Stdout == "1\n" {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	s := p.OnTerminal("load", "sightings", file, "-table", "slow_rows")
	begun()
	s.Signal(syscall.SIGINT)
	if text := s.Ends(130); !strings.Contains(text, "cancelled at the server") || !strings.Contains(text, "nothing was loaded") {
		t.Errorf("%q", text)
	}
	s = p.OnTerminal("load", "sightings", file, "-table", "slow_rows")
	begun()
	p.OK("query", "admin", "-database", "sightings", "select pg_terminate_backend(pid) from pg_stat_activity where query like 'COPY %slow_'||'rows%'")
	if text := s.Ends(1); !strings.Contains(text, "57P01") && !strings.Contains(text, "it is not known whether") {
		t.Errorf("%q", text)
	}
	if n := p.OK("query", "sightings", "-format", "bare", "select count(*) from slow_rows").Stdout; n != "0\n" {
		t.Errorf("%s rows are there", n)
	}
}
