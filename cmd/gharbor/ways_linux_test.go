package main

import (
	"fmt"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// runsStatements runs statements, looks around, loads and cancels, by the way that a profile goes.
func runsStatements(t *testing.T, p *testkit.Program, profile string) {
	t.Helper()
	folder := scripts(t, p, map[string]string{"ways.sql": "create table ways_here(id int, word text);\ncopy ways_here from stdin;\n1\tebb\n2\tflood\n\\.\n", "ways.csv": "id,word\n3,slack\n"})
	p.OK("load", profile, filepath.Join(folder, "ways.sql")).Has("2 statements, 2 rows; made 1 table")
	p.OK("load", profile, filepath.Join(folder, "ways.csv"), "-table", "ways_here").Has("1 row")
	if got := p.OK("query", profile, "-let", "n=2", "select word from ways_here where id >= {n} order by 1").Stdout; got != "word\nflood\nslack\n" {
		t.Errorf("%s: %q", profile, got)
	}
	p.OK("browse", profile, "columns", "ways_here").Has("ways_here\tword\ttext\tyes")
	start := time.Now()
	p.Run("query", profile, "-statement-timeout", "300ms", "select pg_sleep(60), 'by this way'").Want(1).Has("cancelled at the server after 300ms")
	if took := time.Since(start); took > 20*time.Second {
		t.Errorf("%s: it took %s", profile, took)
	}
	if left := p.OK("query", profile, "-format", "bare", "select count(*) from pg_stat_activity where query like '%by this'||' way%' and state = 'active'").Stdout; left != "0\n" {
		t.Errorf("%s: %s statements still run at the server", profile, left)
	}
	p.OK("load", profile, filepath.Join(folder, "ways.sql"), "-dry-run")
	p.OK("query", profile, "drop table ways_here")
}

// TestStatementsThroughAHop: a server that only a jump host reaches, with TLS that was verified. The request to cancel goes
// the same way.
func TestStatementsThroughAHop(t *testing.T) {
	t.Parallel()
	p, _, _ := tides(t)
	runsStatements(t, p, "tides")
}

// TestStatementsByAnAlias: by an alias, with TLS that was verified.
func TestStatementsByAnAlias(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAwayWith(t, "local all all trust\nhostssl all all 127.0.0.1/32 scram-sha-256\n", "CREATE ROLE warden LOGIN PASSWORD 'knot'", "CREATE DATABASE sightings OWNER warden")
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Aliases(fmt.Sprintf("[alias.counts]\nengine = \"postgresql\"\naddresses = [\"127.0.0.1:%d\"]\ndatabase = \"sightings\"\n", server.Port))
	p.Profiles(fmt.Sprintf("[profile.sightings]\nalias = \"counts\"\nuser = \"warden\"\nsecret = \"env:KNOT\"\ntls = \"verified\"\ntls-ca = %q\ntls-name = \"sightings.saltmarsh.example\"\n", server.Authority))
	runsStatements(t, p, "sightings")
}

// TestRealContainerStatements: by the container that the server is in.
func TestRealContainerStatements(t *testing.T) {
	t.Parallel()
	e, p := engineProgram(t)
	name := named(t, "pg")
	e.Serve(t, name, counts("-p", "127.0.0.1::5432"))
	p.OK("container", "adopt", name, "sightings")
	p.OK("wait", "sightings")
	runsStatements(t, p, "sightings")
}

// TestKilledWhileLoading: where the server or the program is killed in the middle, the state is as it was said.
func TestKilledWhileLoading(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAway(t)
	p := testkit.NewProgram(t)
	p.Profiles(fmt.Sprintf("[profile.kept]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"postgres\"\nuser = \"postgres\"\nsecret = \"none\"\n", server.Port))
	var rows strings.Builder
	for i := range 200000 {
		fmt.Fprintf(&rows, "%d\tebb\n", i)
	}
	folder := scripts(t, p, map[string]string{
		"main.sql": "create table kept(id int, word text);\ninsert into kept values (-1, 'first');\nselect pg_sleep(60);\ncopy kept from stdin;\n" + rows.String() + "\\.\n",
	})
	main := filepath.Join(folder, "main.sql")
	waits := func() {
		t.Helper()
		for range 500 {
			if p.Run("query", "kept", "-format", "bare", "select count(*) from pg_stat_activity where query like '%pg_sleep'||'(60)%' and state = 'active'").Stdout == "1\n" {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
		t.Fatal("it never came to the statement that waits")
	}
	s := p.OnTerminal("load", "kept", main)
	waits()
	s.Signal(syscall.SIGKILL)
	s.Ends(-1)
	if n := p.OK("query", "kept", "-format", "bare", "select count(*) from kept").Stdout; n != "1\n" {
		t.Errorf("after the program was killed %s rows are there", n)
	}
	p.OK("query", "kept", "select pg_terminate_backend(pid) from pg_stat_activity where query like '%pg_sleep'||'(60)%'; drop table kept")
	s = p.OnTerminal("load", "kept", main)
	waits()
	p.OK("query", "kept", "checkpoint") // the server of the tests trusts its memory
	server.Stop("immediate")
	text := s.Ends(1)
	if !strings.Contains(text, main+":3") || !strings.Contains(text, "Done before: 2 statements, 1 row") {
		t.Errorf("%q", text)
	}
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	p.OK("wait", "kept")
	if n := p.OK("query", "kept", "-format", "bare", "select count(*) from kept").Stdout; n != "1\n" {
		t.Errorf("after the server was killed %s rows are there", n)
	}
}

// TestStopped: Ctrl-C at a question ends with one word.
func TestStopped(t *testing.T) {
	t.Parallel()
	p, _ := onReal(t)
	for _, args := range [][]string{
		{"with", "sightings", "-override", "secret=ask", "--", "true"}, {"query", "sightings", "-override", "secret=ask", "select 1"},
		{"browse", "sightings", "-override", "secret=ask"},
	} {
		s := p.OnTerminal(args...).Expect("password of ")
		s.Signal(syscall.SIGINT)
		if text := s.Ends(130); !strings.HasSuffix(strings.TrimSpace(text), "stopped") || strings.Contains(text, "signal") || strings.Contains(text, "canceled") {
			t.Errorf("%v: %q", args, text)
		}
	}
}
