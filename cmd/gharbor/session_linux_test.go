package main

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// inSession is a program with a session on a real PostgreSQL of its own.
func inSession(t *testing.T, keys ...string) (*testkit.Program, *testkit.PostgreSQL) {
	t.Helper()
	server := testkit.ThrowAwayWith(t, "local all all trust\nhost all all 127.0.0.1/32 trust\n", "CREATE ROLE warden LOGIN", "CREATE DATABASE sightings OWNER warden",
		"CREATE DATABASE tides OWNER warden", `\c sightings`, "CREATE TABLE public.sighting AS SELECT n AS id, 'knot' AS species FROM generate_series(1, 1000) n",
		"ALTER TABLE sighting OWNER TO warden", "CREATE VIEW knots AS SELECT * FROM sighting", "ANALYZE")
	p := atPort(t, server.Port, append(keys, "")...)
	p.OK("set", "x", "secret=none")
	return p, server
}

// TestSession: statements of one and of many lines, what is open in words, and what the session's own words do.
func TestSession(t *testing.T) {
	t.Parallel()
	for _, columns := range []int{40, 80, 200} {
		p, _ := inSession(t)
		s := p.OnColumns(columns, "session", "x")
		s.Expect("warden in sightings at 127.0.0.1").Expect("PostgreSQL").Expect("at x: ")
		s.Type("select 6 * 7 as answer;\r").Expect("answer\n    42\n1 row; ")
		s.Type("select\r").Expect("in the statement: ").Type("\r").Expect("Ctrl-C to drop it").Type("'a\r").Expect("in a quote: ").Type("b' as\r").Type("(\x7f\"möwe 鳥\"\r").Type(";\r").Expect(`möwe 鳥`).Expect(`a\nb`)
		s.Type("select (1\r").Expect("in brackets: ").Type("\x03")
		s.Type("/* a\r").Expect("in a comment: ").Type("*/ select 'dropped and on';\r").Expect("dropped and on\n1 row")
		s.Type("begin;\r").Expect("at x, transaction open: ").Type("selec 1;\r").Expect("syntax error").Expect("~~~~~").Expect("at x, transaction failed: ")
		s.Type("rollback;\r").Expect("rollback: done")
		s.Type("/stacked on\r").Type("select 1 as one, 2 as two;\r").Expect("one  1\ntwo  2\n").Type("/sta off\r")
		s.Type("/format json\r").Type("select 3 as three;\r").Expect(`"three":3`).Type("/format table\r")
		s.Type("/clock off\r").Type("select 'still' as x;\r").Expect("still\n1 row\n").Type("/clock on\r")
		s.Type("/let bird=dunlin\r").Type("select {bird}::text as bird;\r").Expect("bird\ndunlin\n")
		s.Type("/again 1\r").Expect("select 6 * 7 as answer\n").Expect("    42\n")
		s.Type("/history answer\r").Expect("number").Expect("select 6 * 7 as answer")
		s.Type("/browse tables\r").Expect("sighting").Type("/browse\r").Expect("may ").Expect("schema ").Type("/browse tabels\r").Expect("did you mean \"tables\"?")
		if columns == 40 {
			s.Type("select 1 as a_rather_long_name, 2 as another_such_name, 3 as and_one_more;\r").Expect("and 1 more column: /stacked on")
		}
		s.Type("/hep\r").Expect("did you mean /help?").Type("/st\r").Expect("expected /stacked on | off").Type("/nothing\r").Expect("there is no word /nothing").Type("/\r").Expect("a word follows the /").Type("/l\r").Expect("may be /load or /let or /leave")
		s.Type("/help out\r").Expect("/out FILE | -").Type("/who\r").Expect("warden, no superuser")
		s.Type("/use tides\r").Expect("a new connection: warden in tides").Expect("at x in tides: ")
		s.Type("/use nowhere\r").Expect("database.missing").Type("select current_database() as here;\r").Expect("here\ntides\n")
		s.Type("exit\r").Ends(0)
	}
}

// TestSessionManyRows: of a large result a part is shown, the rest is there for /more, and all of it goes to a file.
func TestSessionManyRows(t *testing.T) {
	t.Parallel()
	p, _ := inSession(t)
	s := p.OnTerminal("session", "x").Expect("at x: ")
	s.Type("select id as number from sighting order by 1;\r").Expect("   200\n200 of 1,000 rows shown").Type("/more\r").Expect("   400\n400 shown, 600 more").Type("/more\r/more\r/more\r").Expect("  1000\nthese were the last rows")
	s.Type("/more\r").Expect("there are no more rows")
	path := filepath.Join(t.TempDir(), "all.csv")
	s.Type("/format csv\r/out " + path + "\r").Expect("/out - ends the file").Type("select id from sighting;\r").Expect("written to").Type("/out -\r").Expect("is complete")
	s.Type("/leave\r").Ends(0)
	if data := p.Read(path); strings.Count(data, "\n") != 1001 {
		t.Errorf("the file has %d lines", strings.Count(data, "\n"))
	}
	s = p.OnTerminal("session", "x").Expect("at x: ")
	s.Type("select n, repeat('x', 100) from generate_series(1, 2000000) n;\r").Expect("200 of 2,000,000 rows shown")
	waitFor(t, "the next prompt", func() bool { // before it, Ctrl-D is nobody's
		_, rest, _ := strings.Cut(s.Text(), "rows shown")
		return strings.Contains(rest, "at x: ")
	})
	s.Type("\x04").Ends(0)
}

// TestSessionCancels: Ctrl-C ends what runs, at the server, and never the session.
func TestSessionCancels(t *testing.T) {
	t.Parallel()
	p, server := inSession(t)
	s := p.OnTerminal("session", "x").Expect("at x: ")
	s.Type("select pg_sleep(60);\r").Expect("running for 1 s; Ctrl-C cancels it").Type("\x03").Expect("the statement was cancelled at the server").Expect("at x: ")
	s.Type("select generate_series(1, 1000000000);\r").Expect("   200\n").Type("\x03").Expect("cancelled at the server, after")
	s.Type("begin;\r").Expect("transaction open").Type("select pg_sleep(60);\r")
	time.Sleep(300 * time.Millisecond)
	s.Type("\x03").Expect("the transaction can only be rolled back").Expect("transaction failed: ")
	s.Type("\x04").Expect("leaving rolls it back. Leave? [y/N]: ").Type("\r").Expect("the session goes on").Type("rollback;\r").Expect("rollback: done")
	s.Type("select 'and on' as x;\r").Expect("and on\n").Type("half a statement\x03").Expect("at x: ")
	// What ends the program gives the terminal back.
	s.Signal(syscall.SIGTERM).Ends(130)
	_ = server
}

// TestSessionLost: a connection that the server ends is said, with what is gone; Enter connects again, and nothing is run
// again by itself.
func TestSessionLost(t *testing.T) {
	t.Parallel()
	p, server := inSession(t)
	s := p.OnTerminal("session", "x").Expect("at x: ")
	s.Type("begin;\r").Expect("transaction open: ").Type("insert into sighting values (1001, 'tern');\r").Expect("1 row changed")
	server.SQL(t, "postgres", "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = 'warden'")
	s.Type("insert into sighting values (1002, 'tern');\r").Expect("the transaction that was open is gone").Expect("connection lost, Enter connects again: ")
	s.Type("select 1;\r").Expect("no statement is repeated").Type("\r").Expect("connected again: warden in sightings")
	s.Type("select count(*) as terns from sighting where species = 'tern';\r").Expect("terns\n    0\n")
	s.Type("exit\r").Ends(0)
}

// TestSessionGuard: what destroys is shown with what it touches, and asked by the name.
func TestSessionGuard(t *testing.T) {
	t.Parallel()
	p, _ := inSession(t, `guard = "ask"`)
	s := p.OnTerminal("session", "x").Expect("guard: statements that destroy are asked about first").Expect("at x: ")
	s.Type("drop table sighting;\r").Expect("the guard asks first: DROP").Expect("the table sighting: about 1,000 rows").Expect("on it depends").Expect("knots").Expect("type sighting to run it: ").Type("y\r").Expect("nothing was sent")
	s.Type("delete from sighting;\r").Expect("DELETE without a condition")
	time.Sleep(500 * time.Millisecond) // the question is the same as before
	s.Type("sighting\r").Expect("1,000 rows changed")
	s.Type("/guard none\r").Expect("can only be made stricter").Type("/guard read-only\r").Type("insert into sighting values (1, 'x');\r").Expect("read-only transaction").Expect("at x, read-only: ")
	s.Type("\x04").Ends(0)
}

// TestSessionHistory: statements are kept for each profile, by two sessions at once, but for those with a password.
func TestSessionHistory(t *testing.T) {
	t.Parallel()
	p, _ := inSession(t)
	a, b := p.OnTerminal("session", "x").Expect("at x: "), p.OnTerminal("session", "x").Expect("at x: ")
	a.Type("select 'of a';\r").Expect("of a\n")
	b.Type("select 'of b';\r").Expect("of b\n")
	a.Type("alter role warden password 'avocet-77';\r").Expect("alter role: done").Type("/history\r").Expect("(a statement with a password)").Type("exit\r").Ends(0)
	b.Type("exit\r").Ends(0)
	path := filepath.Join(p.Home, "history", "x.statements")
	text := p.Read(path)
	if !strings.Contains(text, "of a") || !strings.Contains(text, "of b") || strings.Contains(text, "avocet-77") {
		t.Errorf("the history has\n%s", text)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Error(info.Mode(), err)
	}
	c := p.OnTerminal("session", "x").Expect("at x: ")
	c.Type("/history OF B\r").Expect("-").Expect("select 'of b';").Type("/again -1\r").Expect("1 row")
	c.Type("\x15exit;\r").Ends(0)
	c = p.OnTerminal("session", "x", "-override", "user=postgres").Expect("at x, administrator: ")
	c.Type("\x1b[A\x1b[A").Expect("select 'of ").Type("\r").Expect("1 row").Type("\x12of b").Expect("of b").Type("\r\r").Expect("of b\n").Type("exit\r").Ends(0)
	if d := p.OnTerminal("session", "x", "-no-history").Expect("at x: ").Type("select 'not kept';\r").Expect("not kept\n").Type("exit\r").Ends(0); strings.Contains(p.Read(path), "not kept") {
		t.Error(d)
	}
	p.OK("rename", "x", "y").Has("history")
	p.OK("remove", "y", "-yes").Has("history")
	if left, _ := os.ReadDir(filepath.Dir(path)); len(left) > 0 {
		t.Errorf("the history is left: %v", left)
	}
}

// TestSessionPaste: a pasted script runs statement by statement, its tabs complete nothing, and it stops where one fails.
func TestSessionPaste(t *testing.T) {
	t.Parallel()
	p, _ := inSession(t)
	s := p.OnTerminal("session", "x").Expect("at x: ")
	var script strings.Builder
	script.WriteString("create table pasted(\n\tid int,\n\tname text);\n")
	for i := range 300 {
		fmt.Fprintf(&script, "insert into pasted\tvalues (%d, 'line %d');\n", i, i)
	}
	s.Type("\x1b[200~" + script.String() + "select count(*) as pasted_rows from pasted;\x1b[201~").Type("\r").Expect("pasted_rows\n        300\n")
	s.Type("\x1b[200~select 'one';\nselec 2;\nselect 'never';\x1b[201~\r").Expect("one\n1 row").Expect("syntax error")
	s.Type("select 'after';\r").Expect("after\n1 row")
	if strings.Contains(s.Text(), "never\n1 row") {
		t.Error("what was pasted behind a statement that failed was run")
	}
	s.Type("sel\t").Expect("select").Type("\x15select * from sigh\t").Expect("sighting").Type(" where spec\t").Expect("species").Type("='knot' limit 1;\r").Expect("knot\n1 row")
	s.Type("exit\r").Ends(0)
}

// TestSessionSettings: [session] sets what a session begins with; a terminal that can't place its cursor reads plainly;
// a pipe is a script.
func TestSessionSettings(t *testing.T) {
	t.Parallel()
	p, _ := inSession(t)
	profiles := p.ReadProfiles()
	p.Profiles(profiles + "\n[session]\nclock = false\nrows = 3\nkeys = \"vi\"\nfirst = [\"SET application_name = 'birds'\"]\n[session.postgresql]\nfirst = [\"SET statement_timeout = '7s'\"]\n")
	s := p.OnTerminal("session", "x").Expect("at x: ").Type("show application_name;\r").Expect("birds\n1 row\n").Type("show statement_timeout;\r").Expect("7s\n").Type("select id from sighting;\r").Expect("3 of 1,000 rows shown")
	for _, keys := range []string{"xit", "\x1b", "0", "i", "e", "\r"} { // an Esc is one where nothing follows at once
		s.Type(keys)
		time.Sleep(200 * time.Millisecond)
	}
	s.Ends(0)
	for _, wrong := range [][2]string{{"rows = 0", "a number from 1"}, {"keys = \"ed\"", "emacs or vi"}, {"clok = true", "did you mean \"clock\""}, {"first = \"x\"", "a list of statements"}} {
		p.Profiles(profiles + "\n[session]\n" + wrong[0] + "\n")
		p.Run("session", "x").Has(wrong[1])
	}
	p.Profiles(profiles + "\n[session]\nformat = \"tables\"\n")
	p.OnTerminal("session", "x").Expect("session: format: expected one of table").Ends(3)
	p.Profiles(profiles + "\n[session.nosuch]\nfirst = []\n")
	p.Run("list").Want(3).Has("no engine of that name")
	p.Profiles(profiles)
	p.Setenv("TERM", "dumb")
	p.OnTerminal("session", "x").Expect("at x: ").Type("select 'plain' as x;\n").Expect("plain\n1 row").Type("exit\n").Ends(0)
	p.Feed("select 'piped';", "session", "x").Want(0).Has("piped")
}

// TestSessionElsewhere: /load, /every and /profile; a session on MariaDB, with its own ways to end a statement and to
// change the database.
func TestSessionElsewhere(t *testing.T) {
	t.Parallel()
	p, _ := inSession(t)
	rings := testkit.MariaDBServer(t)
	p.Setenv("BANDER", testkit.BanderPassword)
	p.OK("add", "rings", "-engine", "mariadb", "-host", "127.0.0.1", "-port", fmt.Sprint(rings.Port), "-user", "bander", "-database", "ringing", "-secret", "env:BANDER", "-tls", "offered")
	script := filepath.Join(t.TempDir(), "more.sql")
	p.Write(script, "create table loaded(id int);\ninsert into loaded select * from generate_series(1, 5);\n")
	s := p.OnTerminal("session", "x").Expect("at x: ")
	s.Type("/load " + script + "\r").Expect("at x: ").Type("select count(*) as loaded_rows from loaded;\r").Expect("loaded_rows\n          5\n")
	s.Type("\\d\r").Expect("is for another client").Type("help\r").Expect("and /help lists them")
	asking := filepath.Join(t.TempDir(), "asking.sql")
	p.Write(asking, "delete from loaded where id < 3;\nupdate loaded set id = 7;\n")
	s.Type("/guard ask\r").Type("/load " + asking + "\r").Expect("UPDATE without a condition: the profile's guard asks first").Expect("[y/N]: ").Type("n\n").Expect("nothing was sent")
	s.Type("/load nowhere.sql\r").Expect("nowhere.sql: ")
	s.Type("select clock_timestamp()::time(0) as now, 'same' as x;\r").Expect("same\n1 row")
	s.Type("/every 1s\r")
	time.Sleep(2500 * time.Millisecond)
	s.Type(" ").Expect("ended")
	if n := strings.Count(s.Text(), "same"); n < 4 {
		t.Errorf("the statement ran %d times", n)
	}
	s.Type("delete from loaded where id > 0;\r").Expect("5 rows changed").Type("/every 1s\r").Expect("/every runs statements that only read")
	s.Type("begin;\r").Expect("transaction open").Type("/profile rings\r").Expect("a new connection rolls it back. Go on? [y/N]: ").Type("y\r").Expect("a new connection: bander")
	s.Type("select 'maria' as x;\r").Expect("at rings").Expect("maria\n1 row")
	s.Type("delimiter //\r").Type("begin not atomic select 1; select 'both'; end //\r").Expect("both\n").Type("delimiter ;\r")
	s.Type("select sleep(60);\r").Expect("running for 1 s").Type("\x03").Expect("the statement was cancelled at the server")
	s.Type("use information_schema;\r").Expect("at rings in information_schema: ").Type("select database() as here;\r").Expect("here\ninformation_schema\n")
	s.Type("select nothing from nowhere;\r").Expect("nowhere").Type("quit\r").Ends(0)
	// Ctrl-C while it connects ends it.
	p.OK("add", "silent", "-engine", "postgresql", "-host", "127.0.0.1", "-port", fmt.Sprint(listen(t, func(c net.Conn) { time.Sleep(time.Minute) })), "-user", "warden", "-secret", "none")
	q := p.OnTerminal("session", "silent")
	time.Sleep(500 * time.Millisecond)
	q.Type("\x03").Ends(130)
}

// TestSessionInPipe: Ctrl-C at a script in a pipe cancels at the server, as with query.
func TestSessionInPipe(t *testing.T) {
	t.Parallel()
	p, _ := inSession(t)
	shell := *p
	shell.Path = "/bin/sh"
	s := shell.OnTerminal("-c", "trap : INT; echo 'select pg_sleep(60);' | "+p.Path+" session x; echo ended with $?")
	time.Sleep(1500 * time.Millisecond)
	s.Type("\x03").Expect("the statement was cancelled at the server").Expect("ended with 130").Ends(0)
}
