package main

import (
	"bytes"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/mysql"
	"gentleharbor/standin/postgresql"
)

// The canaries are secrets that would break quoting, escaping and encoding.
const (
	canary      = `Reed-Bunting:7\"q' %7e&é`
	otherCanary = "Spoonbill<>$HOME`x`"
)

// TestCanary drives unusual secrets through every command, failing and
// succeeding, and searches all that comes out and all that stays behind.
func TestCanary(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	config := birds()
	config.Roles["warden"] = postgresql.Role{Password: canary}
	config.Roles["plain"] = postgresql.Role{Password: canary, Method: "password"}
	config.Roles["oldhand"] = postgresql.Role{Password: canary, Method: "md5"}
	p, _ := standin(t, config)
	work := filepath.Dir(p.Home)
	p.Setenv("CANARY", canary)
	p.Setenv("OTHER", otherCanary)
	p.Setenv("PGPASSWORD", otherCanary)
	p.Setenv("DB_PASSWORD", canary)
	secretFile := filepath.Join(work, "secret")
	p.Write(secretFile, canary+"\nsecond line "+otherCanary+"\n")
	passfile := p.Passfile("127.0.0.1:*:sightings:warden:" + strings.NewReplacer(`\`, `\\`, `:`, `\:`).Replace(canary))
	looseFile := filepath.Join(work, "loose")
	p.Write(looseFile, canary)
	os.Chmod(looseFile, 0o644)
	shortLine := filepath.Join(work, "short")
	p.Write(shortLine, "127.0.0.1:*:"+canary+"\n")
	address := "postgresql://warden:" + strings.ReplaceAll(otherCanary, "/", "") + "@127.0.0.1/sightings"
	runs := [][]string{
		{"test", "sightings", "-override", "secret=env:CANARY"},
		{"test", "sightings", "-override", "secret=env:OTHER"},
		{"test", "sightings", "-override", "secret=file:" + secretFile},
		{"test", "sightings", "-override", "secret=file:" + looseFile},
		{"test", "sightings", "-override", "secret=passfile"},
		{"test", "sightings", "-override", "secret=passfile:" + shortLine},
		{"test", "sightings", "-override", "secret=passfile", "-override", "database=ringing"},
		{"test", "sightings", "-override", "secret=env:CANARY", "-override", "database=none"},
		{"test", "sightings", "-override", "secret=env:CANARY", "-override", "user=plain"},
		{"test", "sightings", "-override", "secret=env:CANARY", "-override", "user=oldhand"},
		{"test", "sightings", "-override", "secret=env:OTHER", "-as", "sightings"},
		{"test", "sightings", "-override", "secret=" + canary},
		{"test", "sightings", "-override", "password=" + canary},
		{"test", "sightings", "-password", canary},
		{"test", "sightings", "-timeout", canary},
		{"test", "sightings", "-" + otherCanary},
		{"test", canary},
		{"test", "sightings", "-as", canary},
		{"add", "x", address}, {"add", "x", "postgresql://h/?password=" + otherCanary}, {"add", "x", address, "-secret", canary},
		{"add", "x", "-engine", "postgresql", "-secret", canary}, {"add", "x", "-engine", canary}, {"add", canary}, {"add", "x", canary},
		{"add", "x", "-engine", "postgresql", "-host", address}, {"add", "x", "-engine", "postgresql", "-note", address},
		{"set", "sightings", "secret=" + canary}, {"set", "sightings", "password=" + canary}, {"set", "sightings", canary + "=x"}, {"set", canary, "port=1"},
		{"set", "sightings", "user=${DB_PASSWORD}"}, {"show", "sightings"}, {"show", "sightings", "-format", "json"}, {"list"}, {"list", "-format", "json"},
		{"set", "sightings", "user=warden"},
		{"show", "sightings", "-override", "secret=" + canary}, {"list", "-tag", canary}, {"list", "-engine", canary}, {"list", canary},
		{"copy", "sightings", canary}, {"rename", "sightings", canary}, {"remove", canary, "-yes"}, {"nearby"}, {"nearby", canary},
		{"certificate", "sightings"}, {"certificate", "sightings", "-save", "-fingerprint", canary}, {"explain", canary}, {"help", canary}, {"version"}, {canary}, {"demo", canary},
	}
	for _, args := range runs {
		for _, more := range [][]string{nil, {"-verbose"}, {"-format", "json"}} {
			r := p.Run(append(append([]string{}, args...), more...)...)
			where := "gharbor " + args[0]
			testkit.NoSecret(t, where+" on stdout", r.Stdout, canary, otherCanary)
			testkit.NoSecret(t, where+" on stderr", r.Stderr, canary, otherCanary)
			if strings.Contains(r.Stderr, "panic") || r.Code == 70 {
				t.Errorf("%s: a defect\n%s", where, r.Stderr)
			}
		}
	}
	if r := p.Test("sightings", "-override", "secret=passfile"); r.Outcome != "ok" {
		t.Errorf("the canary itself does not log in: %+v", r.Stages)
	}
	testkit.NoSecretIn(t, work, []string{secretFile, looseFile, shortLine, passfile}, canary, otherCanary)
}

// TestCanaryMySQL does the same with MySQL's ways to log in, and with the
// commands that test several profiles.
func TestCanaryMySQL(t *testing.T) {
	t.Parallel()
	ca, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	config := rings()
	if config.TLS, err = ca.TLS([]string{"127.0.0.1"}, 90*24*time.Hour); err != nil {
		t.Fatal(err)
	}
	for i := range config.Accounts {
		if config.Accounts[i].Password != "" {
			config.Accounts[i].Password = canary
		}
	}
	p, server := onRings(t, config)
	clear := config
	clear.Fault = mysql.ClearMethod
	asking, err := mysql.Start(clear)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(asking.Close)
	p.Setenv("CANARY", canary)
	p.Setenv("OTHER", otherCanary)
	p.Setenv("MYSQL_PWD", otherCanary)
	work := filepath.Dir(p.Home)
	p.Write(filepath.Join(p.Home, "authority.pem"), string(ca.PEM))
	p.Write(filepath.Join(work, "server.pem"), string(server.PublicKey()))
	p.OK("set", "moult", "secret=env:CANARY", "tls=verified", "tls-ca="+p.Home+"/authority.pem")
	p.OK("add", "asking", "-like", "moult", "-port", fmt.Sprint(asking.Port()))
	for _, args := range [][]string{
		{"test", "moult", "asking", "admin"}, {"test", "-all", "-strict"}, {"test", "-all", "-quiet"}, {"test", "-all", "-format", "junit"}, {"test", "-all", "-format", "json", "-verbose"},
		{"test", "-all", "-override", "secret=env:OTHER"}, {"test", "-all", "-override", "tls=off", "-format", "junit"}, {"test", "-all", "-override", "user=bander", "-override", "tls=required"},
		{"test", "moult", "-override", "user=bander"}, {"test", "moult", "-override", "user=bander", "-override", "tls=off", "-override", "server-key=" + work + "/server.pem"},
		{"test", "moult", "-override", "secret=env:OTHER", "-as", "admin", "-verbose"}, {"test", "moult", "-override", "user=locked", "-as", "admin"}, {"test", "admin", "-override", "database=none"},
		{"wait", "moult", "admin", "-verbose"}, {"wait", "moult", "-override", "secret=env:OTHER"}, {"wait", "moult", "-override", "secret=env:OTHER", "-persist", "-within", "1s", "-format", "json"},
		{"compare", "moult", "admin"}, {"compare", "moult", "asking", "-format", "json", "-verbose"}, {"compare", "moult", canary}, {"wait", canary}, {"test", "-tag", canary}, {"test", "moult", canary},
		{"wait", "moult", "-within", canary}, {"add", "x", "mysql://bander:" + url.QueryEscape(otherCanary) + "@127.0.0.1/moult"},
	} {
		r := p.Run(args...)
		testkit.NoSecret(t, "gharbor "+args[0]+" on stdout", r.Stdout, canary, otherCanary)
		testkit.NoSecret(t, "gharbor "+args[0]+" on stderr", r.Stderr, canary, otherCanary)
		if r.Code == 70 {
			t.Errorf("a defect\n%s", r.Stderr)
		}
	}
	if r := p.Test("asking"); r.Stage("login").Outcome != "ok" {
		t.Errorf("the canary itself does not log in: %+v", r.Stage("login"))
	}
	testkit.NoSecretIn(t, work, nil, canary, otherCanary)
}

// TestCanaryTyped: a password that was typed stands nowhere.
func TestCanaryTyped(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	s := p.OnTerminal("test", "sightings", "-override", "secret=ask", "-verbose").Expect("(not shown)")
	testkit.NoSecret(t, "the terminal", s.Type(canary+"\n").Ends(1), canary)
	testkit.NoSecretIn(t, filepath.Dir(p.Home), nil, canary)
}

// TestCrash ends the program while it holds a password, in ways that would
// leave a dump: there is none, and the last words have no secret in them.
func TestCrash(t *testing.T) {
	t.Parallel()
	config := birds()
	config.Roles["plain"] = postgresql.Role{Password: canary, Method: "password"}
	config.Fault = postgresql.HangAtLogin
	came := make(chan struct{}, 1)
	config.PasswordCame = func() { came <- struct{}{} }
	p, _ := standin(t, config)
	p.Setenv("CANARY", canary)
	p.Setenv("GOTRACEBACK", "crash")
	for _, signal := range []syscall.Signal{syscall.SIGQUIT, syscall.SIGABRT, syscall.SIGSEGV, syscall.SIGTERM, syscall.SIGHUP} {
		cmd := exec.Command(p.Path, "test", "sightings", "-override", "secret=env:CANARY", "-verbose", "-timeout", "60s")
		cmd.Env, cmd.Dir = p.Env, t.TempDir()
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		select {
		case <-came:
		case <-time.After(time.Minute):
			t.Fatalf("no password came:\n%s", out.String())
		}
		limits, _ := os.ReadFile(fmt.Sprintf("/proc/%d/limits", cmd.Process.Pid))
		for line := range strings.SplitSeq(string(limits), "\n") {
			if strings.HasPrefix(line, "Max core file size") && strings.Join(strings.Fields(line)[4:6], " ") != "0 0" {
				t.Errorf("core dumps are possible: %s", line)
			}
		}
		arguments, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", cmd.Process.Pid))
		testkit.NoSecret(t, "the arguments", string(arguments), canary)
		cmd.Process.Signal(signal)
		cmd.Wait()
		testkit.NoSecret(t, "the last words after "+signal.String(), out.String(), canary)
		if entries, _ := os.ReadDir(cmd.Dir); len(entries) > 0 {
			t.Errorf("left behind after %s: %v", signal, entries)
		}
	}
}

// TestNoDefect: words that no person would type end in words, not in a panic.
func TestNoDefect(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	for _, args := range [][]string{{"\x00"}, {""}, {"-"}, {"--"}, {"test", ""}, {"test", "--", "-x"}, {"set", "a", "="}, {"set", "a", "=x"}, {"add", "a", "://"}, {"add", "a", "postgresql://"}, {"add", "a", ""}, {"-format=", "list"}, {"list", "-="}, {"list", "---x"}} {
		if strings.Contains(strings.Join(args, ""), "\x00") {
			continue // the system does not pass it on
		}
		if r := p.Run(args...); r.Code == 70 || strings.Contains(r.Stderr, "goroutine") {
			t.Errorf("%q: %d\n%s", args, r.Code, r.Stderr)
		}
	}
}

// TestCanaryAlias does the same with aliases, and with a login to an oracle database.
func TestCanaryAlias(t *testing.T) {
	t.Parallel()
	config := archive()
	for i := range config.Accounts {
		config.Accounts[i].Password = canary
	}
	p, server := listening(t, config)
	p.Setenv("CANARY", canary)
	p.Setenv("OTHER", otherCanary)
	work := filepath.Dir(p.Home)
	service := filepath.Join(work, ".pg_service.conf")
	p.Write(service, "[birds]\nhost=127.0.0.1\nport="+fmt.Sprint(server.Port())+"\nuser=warden\npassword="+otherCanary+"\n")
	p.Aliases(fmt.Sprintf("[alias.skein]\nengine = \"oracle\"\naddresses = [\"127.0.0.1:%d\"]\nservice = \"SKEIN\"\ntls = \"offered\"\n", server.Port()))
	p.OK("set", "archive", "secret=env:CANARY", "host=", "port=", "service=", "engine=", "alias=skein")
	for _, args := range [][]string{
		{"test", "archive"}, {"test", "archive", "-verbose"}, {"test", "archive", "-format", "json", "-verbose"}, {"test", "archive", "-override", "secret=env:OTHER", "-as", "sys"},
		{"test", "archive", "-override", "user=locked"}, {"test", "archive", "-override", "user=grace", "-verbose"}, {"test", "archive", "-override", "service=" + canary[:4], "-verbose"},
		{"test", "archive", "-override", "alias=service:birds", "-override", "engine=oracle"}, {"show", "archive"}, {"show", "archive", "-override", "alias=service:birds", "-format", "json"},
		{"alias", "add", canary, "addresses=a"}, {"alias", "add", "x", "password=" + canary}, {"alias", "add", "x", canary + "=a"}, {"alias", "add", "x", "addresses=postgresql://u:" + otherCanary + "@h"},
		{"alias", "set", "skein", "pick=" + canary}, {"alias", "set", "skein", canary}, {"alias", "set", canary, "note=x"}, {"alias", "show", canary}, {"alias", "rename", "skein", canary}, {"alias", "remove", canary, "-yes"},
		{"alias", "resolve", canary}, {"alias", "resolve", "skein", "-timeout", canary}, {"alias", "knock", canary}, {"alias", "knock", "skein", "-count", canary}, {"alias", "knock", "skein", "-verbose"}, {"alias", "used", canary},
		{"alias", "show", "service:birds"}, {"alias", "show", "service:birds", "-format", "json"}, {"alias", "resolve", "service:birds"}, {"alias", "knock", "service:birds"}, {"alias", "used", "service:birds"}, {"alias", "check", "-format", "json"}, {"alias", canary}, {"vouch", "alias:" + canary},
		{"wait", "archive", "-override", "secret=env:OTHER"}, {"compare", "archive", "sys"}, {"export", "archive", "-as", "url"}, {"with", "archive", "--", "true"}, {"with", "archive", "--", "printenv"},
	} {
		r := p.Run(args...)
		if args[0] == "with" && len(args) > 3 && args[3] == "printenv" {
			r.Stdout = strings.ReplaceAll(strings.ReplaceAll(r.Stdout, "CANARY="+canary, ""), "OTHER="+otherCanary, "") // its own environment
		}
		testkit.NoSecret(t, "gharbor "+strings.Join(args[:2], " ")+" on stdout", r.Stdout, canary, otherCanary)
		testkit.NoSecret(t, "gharbor "+strings.Join(args[:2], " ")+" on stderr", r.Stderr, canary, otherCanary)
		if r.Code == 70 || strings.Contains(r.Stderr, "goroutine") {
			t.Errorf("a defect\n%s", r.Stderr)
		}
	}
	if r := p.Test("archive"); r.Stage("login").Outcome != "ok" {
		t.Errorf("the canary itself does not log in: %+v", r.Stages)
	}
	for _, asked := range server.Descriptors() {
		testkit.NoSecret(t, "the listener", asked, canary, otherCanary)
	}
	testkit.NoSecretIn(t, work, []string{service}, canary, otherCanary)
}
