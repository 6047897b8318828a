package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/wallet"
	"gentleharbor/internal/testkit"
)

// rotated rotates a profile's password and sees that the profile is ready with it, and that nothing is left open.
func rotated(t *testing.T, p *testkit.Program, name string, flags ...string) *testkit.Result {
	t.Helper()
	r := p.OK(append([]string{"secret", "rotate", name, "-yes"}, flags...)...).Has("[hidden]", "rotated: the password of "+name, "ready with the new password: ")
	p.Test(name).Ends(t, "login", "ok", "")
	if left, _ := filepath.Glob(filepath.Join(p.Home, "rotate", "*")); len(left) > 0 {
		t.Errorf("left behind: %q", left)
	}
	return r
}

// TestRotateSources rotates in each source that can be written, by the account itself and by an administrator.
func TestRotateSources(t *testing.T) {
	t.Parallel()
	pg, p := freshPostgreSQL(t, "")
	pg.SQL(t, "postgres", "CREATE ROLE warden LOGIN PASSWORD 'first knot'", "CREATE DATABASE sightings")
	w := withWallet(t, p)
	first := filepath.Join(t.TempDir(), "first")
	reset := func() {
		p.Write(first, "first knot\n")
		pg.SQL(t, "postgres", "ALTER ROLE warden PASSWORD 'first knot'")
	}
	reset()
	p.OK("add", "counts", "-engine", "postgresql", "-host", "127.0.0.1", "-port", fmt.Sprint(pg.Port), "-user", "warden", "-database", "sightings", "-secret", "file:"+first)
	rotated(t, p, "counts").Has("by the account itself")
	unseenIn(t, first, filepath.Join(pg.Folder, "log"))
	rotated(t, p, "counts", "-length", "64")
	if data, _ := os.ReadFile(first); len(strings.TrimSpace(string(data))) != 64 {
		t.Errorf("the password is %q", data)
	}

	// A line of a password file, beside others; a profile of the same account with a copy.
	reset()
	passfile := p.Passfile(fmt.Sprintf("127.0.0.1:%d:*:warden:first knot", pg.Port), "other:*:*:other:kept")
	p.OK("copy", "counts", "copied")
	p.OK("set", "counts", "secret=passfile:"+passfile)
	rotated(t, p, "counts").Has("the profile copied has the old password still, from file:")
	if text := p.Read(passfile); !strings.Contains(text, "other:*:*:other:kept") || strings.Contains(text, "first knot") {
		t.Errorf("the password file is\n%s", text)
	}

	// The wallet, with a reader, and another profile that has the same entry.
	reset()
	p.OK("set", "counts", "secret=wallet:shared")
	p.OK("copy", "counts", "reports")
	w.quickPut("shared", "first knot", "counts")
	w.quickReader("nightly", filepath.Join(t.TempDir(), "nightly.pin"))
	p.Run("secret", "rotate", "counts", "-yes").Want(4).Has("no terminal to ask for")
	rotatedInWallet(t, p, w, "counts").Has("entry shared", "the profile reports has it from the same entry", "the reader nightly gets the new password")

	// An account that does not get in any more, by an administrator.
	reset()
	p.OK("set", "counts", "secret=file:"+first)
	pg.SQL(t, "postgres", "ALTER ROLE warden PASSWORD 'somebody changed it'")
	p.Run("secret", "rotate", "counts", "-yes").Want(5).Has("login.password")
	rotated(t, p, "counts", "-as", "admin").Has("by the profile admin")

	// What can't be, and what is asked.
	for source, want := range map[string]string{"env:KNOT": "environment variable", "ask": "asks for it each time", "none": "sends no password", "command:cat x": "from a command"} {
		p.Run("secret", "rotate", "counts", "-yes", "-override", "secret="+source).Want(2).Has("counts can't be rotated", want)
	}
	p.Run("secret", "rotate", "counts").Want(2).Has("no terminal to ask on", "-yes")
	p.OnTerminal("secret", "rotate", "counts").Expect("rotate the password of counts?").Type("n\n").Ends(1)
	p.OK("secret", "rotate", "counts", "-dry-run").Has("nothing was sent: -dry-run")
	p.Run("secret", "rotate", "counts", "-length", "8").Want(2).Has("-length: expected a number from 16 to 128")
	p.Run("secret", "rotate", "counts", "-keep-old", "-as", "admin", "-yes").Want(2).Has("keeps only one password")
	p.Run("secret", "rotate", "counts", "-keep-old", "-yes").Want(2).Has("need -as")
	p.Run("secret", "rotate", "-all", "-as", "admin").Want(2).Has("name one profile")
	p.OK("copy", "counts", "stranger")
	p.OK("set", "stranger", "user=visitor")
	p.Run("secret", "rotate", "counts", "-yes").Want(2).Has("the profile stranger takes its password from the same place", "would no longer get in")
	p.OK("set", "stranger", "user=warden", "host=localhost") // the same, by another name
	rotated(t, p, "counts").Has("the profile stranger has it from the same place")
	p.OK("remove", "stranger", "-yes")
	p.OK("secret", "rotate", "-resume").Has("no rotation is open")
	p.OK("set", "counts", "guard=read-only")
	p.Run("secret", "rotate", "counts", "-yes").Want(1).Has("the guard of counts is read-only", "-as ADMIN")
	rotated(t, p, "counts", "-as", "admin")
	p.OK("set", "counts", "guard=", "tags=weekly")

	// Several, one after another, up to the first that fails.
	second := filepath.Join(t.TempDir(), "second")
	pg.SQL(t, "postgres", "CREATE ROLE visitor LOGIN PASSWORD 'second knot'")
	p.Write(second, "second knot\n")
	p.OK("copy", "counts", "visits")
	p.OK("set", "visits", "user=visitor", "secret=file:"+second)
	p.OK("secret", "rotate", "-all", "-tag", "weekly", "-yes").Has("rotated: the password of counts", "rotated: the password of visits")
	pg.SQL(t, "postgres", "ALTER ROLE warden PASSWORD 'somebody changed it'")
	p.Run("secret", "rotate", "-tag", "weekly", "-yes").Want(5).Has("stopped at counts: 1 profile left as they are")
}

// rotatedInWallet is rotated for a wallet that is opened by its passphrase.
func rotatedInWallet(t *testing.T, p *testkit.Program, w *testWallet, name string, flags ...string) *testkit.Result {
	t.Helper()
	r := p.OK(append(append([]string{"secret", "rotate", name, "-yes"}, w.open...), flags...)...).Has("ready with the new password: ")
	noPending(t, w)
	return r
}

// noPending sees that no new password waits in the wallet.
func noPending(t *testing.T, w *testWallet) {
	t.Helper()
	made, err := template()
	if err != nil {
		t.Fatal(err)
	}
	s := wallet.Store{Path: w.path, Seen: filepath.Join(w.Home, "wallets-seen.json")}
	opened, err := s.Open(context.Background(), made.pass)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range opened.Entries {
		if e.Pending.Present() {
			t.Errorf("the entry %s has a password that waits", e.Name)
		}
	}
}

// TestRotateMariaDB rotates by the account itself, by an administrator, and with both passwords good for a while.
func TestRotateMariaDB(t *testing.T) {
	t.Parallel()
	m, p := freshMariaDB(t)
	m.SQL(t, "CREATE DATABASE moult", "CREATE USER bander@'%' IDENTIFIED BY 'first knot'", "GRANT SELECT ON moult.* TO bander@'%'")
	file := filepath.Join(t.TempDir(), "bander")
	p.Write(file, "first knot\n")
	p.OK("add", "moult", "-engine", "mariadb", "-host", "127.0.0.1", "-port", fmt.Sprint(m.Port), "-user", "bander", "-database", "moult", "-secret", "file:"+file)
	rotated(t, p, "moult").Has("SET PASSWORD = '[hidden]'")
	p.Setenv("BEFORE", strings.TrimSpace(p.Read(file)))
	rotated(t, p, "moult", "-as", "admin", "-keep-old").Has("the old password is good too")
	p.Test("moult", "-override", "secret=env:BEFORE").Ends(t, "login", "ok", "")
	p.OK("secret", "rotate", "moult", "-as", "admin", "-drop-old", "-yes").Has("ready: ")
	p.Test("moult", "-override", "secret=env:BEFORE").Ends(t, "login", "fail", "login.password")
	p.OK("secret", "rotate", "moult", "-as", "admin", "-drop-old").Has("there is no old password")
	m.SQL(t, "ALTER USER bander@'%' PASSWORD EXPIRE")
	rotated(t, p, "moult", "-as", "admin").Has("by the profile admin")
	options := filepath.Join(t.TempDir(), "my.cnf")
	p.Write(options, "[client]\nuser = bander\npassword = "+strings.TrimSpace(p.Read(file))+"\n")
	p.OK("set", "moult", "secret=optionfile:"+options)
	rotated(t, p, "moult")
}

// killAfter runs the program and kills it after a while, wherever it is.
func killAfter(p *testkit.Program, d time.Duration, args ...string) (ended bool) {
	cmd := exec.Command(p.Path, args...)
	cmd.Env, cmd.Dir = p.Env, p.Dir
	if err := cmd.Start(); err != nil {
		return false
	}
	killed := time.AfterFunc(d, func() { cmd.Process.Kill() })
	defer killed.Stop()
	return cmd.Wait() == nil
}

// TestRotateKilled kills a rotation at 50 random points, some of them of the wallet: after -resume the profile is ready,
// always, and nothing is left that waits.
func TestRotateKilled(t *testing.T) {
	t.Parallel()
	pg, p := freshPostgreSQL(t, "")
	pg.SQL(t, "postgres", "CREATE ROLE warden LOGIN PASSWORD 'first knot'", "CREATE ROLE keeper LOGIN PASSWORD 'first knot'", "CREATE DATABASE sightings")
	w := withWallet(t, p)
	file := filepath.Join(t.TempDir(), "warden")
	p.Write(file, "first knot\n")
	p.OK("add", "filed", "-engine", "postgresql", "-host", "127.0.0.1", "-port", fmt.Sprint(pg.Port), "-user", "warden", "-database", "sightings", "-secret", "file:"+file)
	p.OK("copy", "filed", "walled")
	p.OK("set", "walled", "user=keeper", "secret=wallet")
	w.quickPut("walled", "first knot", "walled")
	w.ok("unlock", "-lifetime", "10m")
	for _, one := range []struct {
		name  string
		runs  int
		flags []string
	}{{"filed", 35, nil}, {"walled", 15, w.open}} {
		start := time.Now()
		p.OK(append([]string{"secret", "rotate", one.name, "-yes"}, one.flags...)...)
		whole := time.Since(start)
		open, through := 0, 0
		for i := range one.runs {
			after := time.Duration(rand.Int64N(int64(whole)*11/10) + 1)
			if len(one.flags) > 0 { // most of its time goes into the passphrase's key, before anything is done
				after = whole*3/4 + after/3
			}
			if killAfter(p, after, append([]string{"secret", "rotate", one.name, "-yes"}, one.flags...)...) {
				through++
			}
			if _, err := os.Stat(filepath.Join(p.Home, "rotate", one.name+".pending")); err == nil {
				open++
				if r := p.Run("test", one.name); r.Code != 0 && !strings.Contains(r.Stdout, "gharbor secret rotate "+one.name+" -resume") {
					t.Errorf("killed after %s, the finding does not say how to go on:\n%s", after, r.Stdout)
				}
				p.Run("remove", one.name, "-yes").Want(1).Has("-resume")
				p.Run(append([]string{"secret", "rotate", one.name, "-yes"}, one.flags...)...).Want(1).Has("has not ended")
			}
			p.OK(append([]string{"secret", "rotate", one.name, "-resume"}, one.flags...)...)
			if r := p.Run("test", one.name); r.Code != 0 {
				t.Fatalf("run %d, killed after %s of %s: after -resume the profile is not ready\n%s", i, after, whole, r.Stdout)
			}
			if left, _ := filepath.Glob(filepath.Join(p.Home, "rotate", "*.pending")); len(left) > 0 {
				t.Fatalf("left behind: %q", left)
			}
		}
		t.Logf("%s: of %d runs %d came through, and %d left something to resume", one.name, one.runs, through, open)
	}
	noPending(t, w)
}

// TestCanaryProvision: a password that an account gets, and one that it had, stand in no output, log or file but their
// own.
func TestCanaryProvision(t *testing.T) {
	t.Parallel()
	pg, p := freshPostgreSQL(t, "")
	m, other := freshMariaDB(t, "--general-log=1")
	p.Setenv("CANARY", canary)
	other.Setenv("CANARY", canary)
	file := filepath.Join(t.TempDir(), "canary")
	p.Write(file, canary+"\n")
	p.OK("add", "counts", "-engine", "postgresql", "-host", "127.0.0.1", "-port", fmt.Sprint(pg.Port), "-user", "warden", "-database", "counts", "-secret", "env:CANARY")
	other.OK("add", "moult", "-engine", "mariadb", "-host", "127.0.0.1", "-port", fmt.Sprint(m.Port), "-user", "bander", "-database", "moult", "-secret", "env:CANARY")
	for _, args := range [][]string{
		{"provision", "make", "counts", "-as", "admin", "-dry-run"}, {"provision", "make", "counts", "-as", "admin", "-yes", "-verbose"}, {"provision", "make", "counts", "-as", "admin"},
		{"provision", "make", "counts", "-as", "admin", "-override", "user=x;y'z", "-yes"}, {"provision", "unlock", "counts", "-as", "admin"}, {"provision", "database", canary, "-as", "nobody"},
		{"secret", "rotate", "counts", "-yes"}, {"secret", "rotate", "counts", "-override", "secret=file:" + file, "-dry-run", "-verbose"}, {"secret", "rotate", "counts", "-length", canary},
		{"secret", "rotate", "counts", "-override", "secret=file:" + file, "-yes", "-verbose"}, {"provision", canary}, {"provision", "expire", "counts", "-on", canary},
	} {
		same := slices.Clone(args)
		if i := slices.Index(same, "counts"); i >= 0 {
			same[i] = "moult"
		}
		for who, r := range map[string]*testkit.Result{"PostgreSQL": p.Run(args...), "MariaDB": other.Run(same...)} {
			testkit.NoSecret(t, who+", gharbor "+args[0]+" on stdout", r.Stdout, canary)
			testkit.NoSecret(t, who+", gharbor "+args[0]+" on stderr", r.Stderr, canary)
			if r.Code == 70 {
				t.Errorf("a defect\n%s", r.Stderr)
			}
		}
	}
	testkit.NoSecretIn(t, filepath.Dir(p.Home), nil, canary)
	testkit.NoSecretIn(t, filepath.Dir(other.Home), nil, canary)
	log, err := os.ReadFile(filepath.Join(pg.Folder, "log"))
	if err != nil || !strings.Contains(string(log), "CREATE ROLE warden") {
		t.Fatalf("the log has no statements: %v", err)
	}
	testkit.NoSecret(t, "the log of PostgreSQL", string(log), canary)
	logs, _ := filepath.Glob(filepath.Join(m.Folder, "data", "*.log"))
	if len(logs) == 0 {
		t.Fatal("MariaDB has no log")
	}
	for _, path := range logs {
		log, _ := os.ReadFile(path)
		testkit.NoSecret(t, "the log of MariaDB", string(log), canary)
	}
}
