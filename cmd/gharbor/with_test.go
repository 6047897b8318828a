//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// TestWithPostgreSQL: psql finds the connection, whatever the environment had
// before.
func TestWithPostgreSQL(t *testing.T) {
	t.Parallel()
	server := testkit.PostgreSQLServer(t)
	p := testkit.NewProgram(t)
	p.Setenv("WARDEN", testkit.WardenPassword)
	for name, value := range map[string]string{"PGHOST": "evil.example", "PGPORT": "1", "PGUSER": "nobody", "PGPASSWORD": "wrong", "PGSERVICE": "nosuch", "PGSSLMODE": "disable", "PGOPTIONS": "-c work_mem=1"} {
		p.Setenv(name, value)
	}
	p.Profiles(fmt.Sprintf("[profile.sightings]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"env:WARDEN\"\n\n"+
		"[profile.verified]\nlike = \"sightings\"\ntls = \"verified\"\ntls-ca = %q\ntls-name = \"sightings.saltmarsh.example\"\n\n"+
		"[profile.socket]\nengine = \"postgresql\"\nsocket = %q\nport = %d\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"env:WARDEN\"\n\n"+
		"[profile.hosts]\nengine = \"postgresql\"\nhosts = [\"127.0.0.1:%d\", \"127.0.0.1:%d\"]\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"env:WARDEN\"\n",
		server.Port, server.Authority, server.Folder, server.Port, testkit.ClosedPort(t), server.Port))
	query := "select current_user || ' ' || coalesce((select ssl::text from pg_stat_ssl where pid = pg_backend_pid()), '')"
	for _, c := range []struct {
		profile string
		want    string
		flags   []string
	}{
		{"sightings", "warden true", nil}, {"verified", "warden true", nil}, {"hosts", "warden true", nil},
		{"sightings", "warden true", []string{"-check"}}, {"sightings", "warden false", override("tls=off")},
	} {
		r := p.OK(append(slices.Concat([]string{"with", c.profile}, c.flags), "--", "psql", "-XAtqc", query)...)
		if strings.TrimSpace(r.Stdout) != c.want {
			t.Errorf("%s %v: %q", c.profile, c.flags, r.Stdout+r.Stderr)
		}
	}
	p.OK(append(append([]string{"with", "sightings"}, override("guard=read-only")...), "--", "true")...).Has("other programs are not bound by the profile's guard (read-only)")
	p.OK("with", "sightings", "--", "true").HasNot("guard")
	// The certificate is still verified for its name: another name ends it.
	p.Run("with", "verified", "-override", "tls-name=other.saltmarsh.example", "--", "psql", "-XAtqc", "select 1").Want(2).Has("does not match host name")
	r := p.OK("with", "sightings", "--", "sh", "-c", `ls -ld $(dirname $PGPASSFILE) $PGPASSFILE; env`)
	if !strings.Contains(r.Stdout, "drwx------") || !strings.Contains(r.Stdout, "-rw-------") {
		t.Errorf("%s", r.Stdout)
	}
	testkit.NoSecret(t, "the environment", strings.ReplaceAll(r.Stdout, "WARDEN="+testkit.WardenPassword, ""), testkit.WardenPassword)
	r.Has("GHARBOR_HOST=127.0.0.1\n", fmt.Sprintf("GHARBOR_PORT=%d\n", server.Port), "GHARBOR_USER=warden", "GHARBOR_DATABASE=sightings", "GHARBOR_ENGINE=postgresql", "GHARBOR_PROFILE=sightings").
		HasNot("PGPASSWORD", "PGSERVICE", "PGOPTIONS", "evil.example")
	r = p.OK("with", "sightings", "-url", "DATABASE_URL", "--", "sh", "-c", `psql -XAtq "$DATABASE_URL" -c 'select current_user'`)
	if strings.TrimSpace(r.Stdout) != "warden" {
		t.Errorf("%s%s", r.Stdout, r.Stderr)
	}
	p.OK("with", "socket", "--", "sh", "-c", "echo $PGHOST $GHARBOR_SOCKET {socket} {passfile}").Has(server.Folder + " " + server.Folder + "/.s.PGSQL.")
	p.Run("with", "sightings", "-check", "-override", "database=nosuch", "--", "touch", filepath.Join(p.Dir, "x")).Want(125).Has("database.missing", "not ready")
}

// TestWithServing: a program gets the server that serves and the password that is for it, or is not started where
// the server wants one and none was found.
func TestWithServing(t *testing.T) {
	t.Parallel()
	server := testkit.PostgreSQLServer(t)
	p := testkit.NewProgram(t)
	p.Profiles(fmt.Sprintf("[profile.one]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"sightings\"\nuser = \"warden\"\n\n"+
		"[profile.hosts]\nlike = \"one\"\nhosts = [\"127.0.0.1:1\", \"127.0.0.1:%d\"]\n", server.Port, server.Port))
	p.Write(filepath.Join(filepath.Dir(p.Home), ".pgpass"), fmt.Sprintf("127.0.0.1:%d:sightings:warden:%s\n", server.Port, strings.NewReplacer(`\`, `\\`, ":", `\:`).Replace(testkit.WardenPassword)))
	for _, profile := range []string{"one", "hosts"} {
		r := p.OK("with", profile, "--", "psql", "-XAtqc", "select current_user")
		if r.Has("warden"); profile == "hosts" {
			r.Has("127.0.0.1:1 is down", "reach.passed-over")
		}
	}
	p.Run("with", "one", "-override", "database=postgres", "--", "touch", filepath.Join(p.Dir, "x")).Want(125).
		Has("secret.missing", "line 1 is the nearest", "gharbor secret keep one")
	if _, err := os.Stat(filepath.Join(p.Dir, "x")); err == nil {
		t.Error("the program was started")
	}
}

// TestWithMariaDB: the servers' own client finds the connection in an option file,
// with a password that needs quoting.
func TestWithMariaDB(t *testing.T) {
	t.Parallel()
	p, _ := onMariaDB(t)
	p.Setenv("MYSQL_PWD", "wrong")
	p.Setenv("MYSQL_TCP_PORT", "1")
	for _, profile := range []string{"moult", "socket"} {
		r := p.OK("with", profile, "--", "mariadb", "-N", "-e", "select current_user(), database()")
		if got := strings.Fields(r.Stdout); len(got) != 2 || got[0] != "bander@%" || got[1] != "moult" {
			t.Errorf("%s: %q %s", profile, r.Stdout, r.Stderr)
		}
		p.OK("with", profile, "--", "mariadb", "--defaults-file={optionfile}", "-N", "-e", "select 1")
		p.OK("with", profile, "--", "mariadb-dump", "--no-data", "moult")
	}
	p.Write(filepath.Join(filepath.Dir(p.Home), ".my.cnf"), "[client]\nuser=somebody\n")
	p.OK("with", "moult", "--", "true").Has(".my.cnf, line 2, sets user", "--defaults-file={optionfile}")
	p.OK("with", "moult", "--", "mariadb", "--defaults-file={optionfile}", "-N", "-e", "select current_user()").Has("bander@%")
	p.OK("with", "moult", "--", "sh", "-c", "env").HasNot("MYSQL_PWD", "MYSQL_TCP_PORT=1\n")
}

// TestWithPrograms: exit codes, signals, streams, what is left behind, and what
// can't be run.
func TestWithPrograms(t *testing.T) {
	t.Parallel()
	p, server := standin(t, birds())
	runtime := t.TempDir()
	p.Setenv("XDG_RUNTIME_DIR", runtime)
	left := func() []string {
		entries, _ := os.ReadDir(runtime)
		var names []string
		for _, e := range entries {
			names = append(names, e.Name())
		}
		return names
	}
	p.Run("with", "sightings", "--", "sh", "-c", "echo out; echo err >&2; exit 7").Want(7).Has("out", "err")
	p.Run("with", "sightings", "--", "sh", "-c", "kill -9 $$").Want(137)
	if r := p.Feed("through\n", "with", "sightings", "--", "cat"); r.Stdout != "through\n" {
		t.Errorf("%q", r.Stdout)
	}
	p.OK("with", "sightings", "--", "echo", "{host}:{port}/{database}", "{user}", "{unknown} {}", "-verbose").Has("127.0.0.1:" + port(server) + "/sightings warden {unknown} {} -verbose\n")
	for _, words := range [][]string{{"{password}"}, {"x{socket}"}, {"{optionfile}"}} {
		p.Run(append([]string{"with", "sightings", "--", "echo"}, words...)...).Want(125)
	}
	p.Run("with", "sightings", "--", "echo", "--password={password}").Want(125).Has("there is no placeholder for the password", "everybody on this machine can read")
	p.Run("with", "sightings", "echo", "x").Want(125).Has("two dashes")
	p.Run("with", "sightings", "--").Want(125)
	p.Run("with", "nosuch", "--", "true").Want(125).Has("no profile")
	p.Run("with", "sightings", "-url", "not a command's name", "--", "true").Want(2).Has("environment variable")
	p.Run("with", "sightings", "-override", "secret=env:NOSUCH", "--", "true").Want(125).Has("NOSUCH is not set")
	p.Run("with", "sightings", "--", "no-such-program-here").Want(127).Has("no program")
	p.Run("with", "sightings", "--", "./no-such").Want(127)
	plain := filepath.Join(t.TempDir(), "plain")
	p.Write(plain, "x")
	p.Run("with", "sightings", "--", plain).Want(126).Has("permission denied", "chmod +x")
	home := filepath.Dir(p.Home)
	for _, version := range []string{"9.6", "15", "16"} {
		path := filepath.Join(home, "go", "bin", "pg_tool") // one of the usual folders
		_ = version
		p.Write(path, "#!/bin/sh\n")
		os.Chmod(path, 0o755)
	}
	p.Run("with", "sightings", "--", "pg_tool").Want(127).Has("it is at "+home+"/go/bin/pg_tool", "try: export PATH="+home+"/go/bin:$PATH")
	if names := left(); len(names) > 0 {
		t.Errorf("left behind: %v", names)
	}

	for _, c := range []struct {
		signal syscall.Signal
		trap   string
		code   int
	}{{syscall.SIGTERM, "trap 'exit 9' TERM; ", 9}, {syscall.SIGHUP, "", 129}, {syscall.SIGTERM, "", 143}, {syscall.SIGINT, "trap 'exit 3' INT; ", 3}} {
		cmd := exec.Command(p.Path, "with", "sightings", "--", "sh", "-c", c.trap+"echo ready; while :; do sleep 0.05; done")
		cmd.Env, cmd.Dir = p.Env, p.Dir
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		out.Read(make([]byte, 6))
		if len(left()) != 1 {
			t.Errorf("%v", left())
		}
		cmd.Process.Signal(c.signal)
		cmd.Wait()
		if cmd.ProcessState.ExitCode() != c.code || len(left()) != 0 {
			t.Errorf("after %s: exit code %d, left %v", c.signal, cmd.ProcessState.ExitCode(), left())
		}
	}

	// A gharbor that is killed can't clean up; the next one does, once its program
	// has ended too.
	cmd := exec.Command(p.Path, "with", "sightings", "--", "sh", "-c", "echo $$; sleep 60")
	cmd.Env = p.Env
	out, _ := cmd.StdoutPipe()
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	line := make([]byte, 20)
	n, _ := out.Read(line)
	pid, err := strconv.Atoi(strings.TrimSpace(string(line[:n])))
	if err != nil {
		t.Fatal(err)
	}
	noted := filepath.Join(runtime, strings.Join(left(), ""), "process")
	for _, err := os.Stat(noted); err != nil; _, err = os.Stat(noted) {
		time.Sleep(5 * time.Millisecond)
	}
	cmd.Process.Kill()
	cmd.Wait()
	p.OK("with", "sightings", "--", "true")
	if len(left()) != 1 {
		t.Errorf("the program still runs, and its file is gone: %v", left())
	}
	syscall.Kill(pid, syscall.SIGKILL)
	for deadline := time.Now().Add(20 * time.Second); len(left()) > 0; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("not swept: %v", left())
		}
		p.OK("with", "sightings", "--", "true")
	}
}

// TestOlderClient: a client much older than the server was at the last test.
func TestOlderClient(t *testing.T) {
	t.Parallel()
	config := birds()
	config.Version = "18.1"
	p, _ := standin(t, config)
	bin := t.TempDir()
	for name, says := range map[string]string{"psql": "psql (PostgreSQL) 15.4", "pg_dump": "pg_dump (PostgreSQL) 17.2", "report": "must not be run"} {
		p.Write(filepath.Join(bin, name), "#!/bin/sh\n[ \"$1\" = --version ] && echo '"+says+"' && touch "+bin+"/asked-"+name+"\nexit 0\n")
		os.Chmod(filepath.Join(bin, name), 0o755)
	}
	p.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	p.OK("with", "sightings", "--", "psql").HasNot("older")
	p.OK("test", "sightings")
	p.OK("with", "sightings", "--", "psql").Has("psql is version 15, much older than the server (18.1")
	p.OK("with", "sightings", "--", "pg_dump").Has("pg_dump is version 17")
	p.OK("with", "sightings", "--", "report").HasNot("older")
	if _, err := os.Stat(filepath.Join(bin, "asked-report")); err == nil {
		t.Error("a program of the user's own was run to ask its version")
	}
}

func TestShortcut(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	bin := filepath.Join(filepath.Dir(p.Home), "bin")
	os.Mkdir(bin, 0o755)
	p.OK("shortcut", "sightings", "count-birds", "-into", bin, "--", "sh", "-c", `echo "$PGUSER it's $1 $2"`, "name").Has("made: "+bin+"/count-birds", "is not on your PATH")
	cmd := exec.Command(filepath.Join(bin, "count-birds"), "two words", "$HOME")
	cmd.Env = append(slices.Clone(p.Env), "GHARBOR_HOME=")
	out, err := cmd.CombinedOutput()
	if string(out) != "warden it's two words $HOME\n" {
		t.Errorf("%s %v", out, err)
	}
	p.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	p.OK("shortcut", "sightings", "more-birds", "-into", bin, "--", "true").HasNot("PATH")
	p.Run("shortcut", "sightings", "count-birds", "-into", bin, "--", "true").Want(2).Has("exists already")
	p.Run("shortcut", "sightings", "ls", "-into", bin, "--", "true").Want(2).Has("there is a command ls already")
	p.Run("shortcut", "sightings", "cd", "-into", bin, "--", "true").Want(2)
	p.Run("shortcut", "sightings", "../x", "-into", bin, "--", "true").Want(2).Has("not a command's name")
	p.Run("shortcut", "sightings", "new-birds", "--", "true").Want(2).Has("no terminal", "-into "+bin)
	p.OK("shortcut", "sightings", "new-birds", "-into", bin+"/none", "--", "true").Has("made: " + bin + "/none/new-birds")
	p.Run("shortcut", "sightings", "newer-birds", "-into", bin+"/none/new-birds", "--", "true").Want(2).Has("is no folder")
	p.Run("shortcut", "sightings", "new-birds").Want(2).Has("two dashes")
	p.Run("shortcut", "nosuch", "new-birds", "-into", bin, "--", "true").Want(2)
}
