package main

import (
	"net/url"
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

// TestWalletLinux has more of TestWallet's kind.
func TestWalletLinux(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]func(*testing.T){"canary": testCanaryWallet, "with": testCanaryWith, "terminal": testWalletOnTerminal} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			test(t)
		})
	}
}

// testCanaryWallet drives unusual secrets and an unusual passphrase through every
// command that keeps, hands over or looks at secrets, failing and succeeding.
func testCanaryWallet(t *testing.T) {
	const pass = `Avocet "two" \ 'three' é%41`
	config := birds()
	role := config.Roles["warden"]
	role.Password = canary
	config.Roles["warden"] = role
	p, server := standin(t, config)
	w := withWallet(t, p)
	work := filepath.Dir(p.Home)
	file := filepath.Join(t.TempDir(), "new")
	p.Write(file, pass+"\n")
	w.ok("passphrase", "-opening", "1ms", "-new-passphrase-file", file)
	w.open[1] = file
	pasted := "postgres://warden:" + url.PathEscape(canary) + "@127.0.0.1:" + port(server) + "/sightings"
	dotenv, service := filepath.Join(t.TempDir(), ".env"), filepath.Join(t.TempDir(), "service")
	p.Write(dotenv, "A_URL='"+strings.ReplaceAll(pasted, "'", "%27")+"'\n")
	p.Write(service, "[a]\nhost=127.0.0.1\nuser=warden\npassword="+canary+"\n")
	passfile, options, secret := filepath.Join(work, "pgpass"), filepath.Join(work, "my.cnf"), filepath.Join(work, "secret")
	p.Setenv("DBUS_SESSION_BUS_ADDRESS", testkit.StartKeyring(t).Address)
	open := w.open
	pin := filepath.Join(work, "pin")
	with := func(args ...string) []string { return slices.Concat(args, open) }
	for _, c := range []struct {
		input string
		args  []string
	}{
		{canary, with("wallet", "keep", "sightings", "-secret-stdin")}, {otherCanary, with("wallet", "keep", "other", "-secret-stdin", "-note", "n")},
		{canary, with("wallet", "keep", "sightings", "-secret-stdin")}, {"", with("wallet", "keep", "sightings", "-secret-stdin", "-replace")}, {"", with("wallet", "keep", canary)},
		{"", with("wallet", "list")}, {"", with("wallet", "list", "-format", "json")}, {"", with("wallet", "bind", "other", "sightings")}, {"", with("wallet", "bind", "other", pasted)},
		{"", with("wallet", "unbind", "other", canary)}, {"", with("wallet", "rename", "other", canary)}, {"", with("wallet", "disclose", "sightings")}, {"", with("wallet", "disclose", canary, "-stdout")},
		{"", with("wallet", "reader", "add", "nightly", "-out", pin)}, {"", []string{"wallet", "reader", "list", "-format", "json"}}, {"", with("wallet", "verify")},
		{"", []string{"wallet", "backup", filepath.Join(work, "backup")}}, {"", with("wallet", "merge", filepath.Join(work, "backup"))}, {"", with("wallet", "unlock", "-lifetime", "30s")},
		{"", []string{"set", "sightings", "secret=wallet"}}, {"", []string{"test", "sightings"}}, {"", []string{"test", "sightings", "-override", "port=1"}}, {"", []string{"test", "sightings", "-override", "secret=wallet:" + "nosuch"}},
		{"", []string{"with", "sightings", "--", "true"}}, {"", []string{"with", "sightings", "--", "echo", "{passfile}", "{password}"}}, {"", []string{"with", "sightings", "-check", "-override", "database=none", "--", "true"}},
		{"", []string{"with", "sightings", "-url", canary, "--", "true"}}, {"", []string{"with", "sightings", "--", canary}}, {"", []string{"with", canary, "--", "true"}},
		{"", []string{"export", "sightings", "-as", "url"}}, {"", []string{"export", "sightings", "-as", "env", "-with-secret"}}, {"", []string{"export", "sightings", "-as", canary}},
		{pasted, with("add", "pasted", "-url-stdin", "-into", "wallet")}, {pasted, []string{"add", "x", "-url-stdin"}}, {pasted, with("import", "url", "-into", "wallet", "-name", "again")}, {pasted, []string{"import", "url"}},
		{"", []string{"import", "url", pasted}}, {"", with("import", "dotenv", dotenv, "-into", "wallet")}, {"", []string{"import", "dotenv", dotenv, "-dry-run"}}, {"", with("import", "service", service, "-into", "wallet")},
		{"", []string{"import", canary}}, {"", []string{"import", "dotenv", service}}, {"", []string{"import", "passfile", service}},
		{canary, []string{"secret", "keep", "sightings", "-secret-stdin"}}, {"", []string{"secret", "keep", canary}},
		{"", with("audit")}, {"", with("audit", "-format", "sarif")}, {"", with("audit", "-format", "json")}, {"", []string{"vouch", canary}}, {"", []string{"vouch", "-expect", canary}},
		{"", []string{"shortcut", "sightings", canary, "--", "true"}}, {"", []string{"shortcut", "sightings", "x-birds", "-into", t.TempDir(), "--", "true"}},
		{"", []string{"set", "sightings", "secret=passfile:" + passfile}}, {canary, []string{"secret", "keep", "sightings", "-secret-stdin"}}, {"", []string{"test", "sightings"}}, {"", []string{"audit"}}, {"", []string{"with", "sightings", "--", "true"}},
		{"", []string{"set", "sightings", "secret=optionfile:" + options}}, {canary, []string{"secret", "keep", "sightings", "-secret-stdin"}}, {"", []string{"test", "sightings"}},
		{"", []string{"set", "sightings", "secret=file:" + secret}}, {canary, []string{"secret", "keep", "sightings", "-secret-stdin"}}, {"", []string{"test", "sightings"}},
		{"", []string{"set", "sightings", "secret=keyring"}}, {canary, []string{"secret", "keep", "sightings", "-secret-stdin"}}, {"", []string{"test", "sightings"}},
		{"", with("wallet", "passphrase", "-new-passphrase-file", service)}, {"", with("wallet", "restore", filepath.Join(work, "backup"))}, {"", with("wallet", "rotate")}, {"", with("wallet", "reader", "remove", "nightly")},
		{"", with("wallet", "remove", canary, "-yes")}, {"", []string{"wallet", canary}}, {"", []string{"wallet", "list", "-passphrase-file", canary}}, {"", []string{"wallet", "unlock", "-lifetime", canary}},
	} {
		args, more := c.args, []string{"-verbose"} // which says all that is said without it
		if at := slices.Index(args, "--"); at >= 0 {
			args = slices.Concat(args[:at], more, args[at:])
		} else {
			args = slices.Concat(args, more)
		}
		r := p.Feed(c.input, args...)
		where := "gharbor " + strings.Join(c.args[:min(2, len(c.args))], " ")
		testkit.NoSecret(t, where+" on stdout", r.Stdout, canary, otherCanary, pass)
		testkit.NoSecret(t, where+" on stderr", r.Stderr, canary, otherCanary, pass)
		if strings.Contains(r.Stderr, "panic") || r.Code == 70 {
			t.Errorf("%s: a defect\n%s", where, r.Stderr)
		}
	}
	if r := p.Test("sightings"); r.Outcome != "ok" {
		t.Errorf("the canary itself does not log in: %+v", r.Stages)
	}
	testkit.NoSecretIn(t, work, []string{passfile, options, secret}, canary, otherCanary, pass)
}

// testCanaryWith: while a program runs with a connection, its arguments and those
// of gharbor have no secret in them, nor has its environment, and the one file
// that has it is private.
func testCanaryWith(t *testing.T) {
	p, _ := standin(t, birds())
	w := withWallet(t, p)
	w.put("sightings", canary).Want(0)
	w.ok("unlock", "-lifetime", "30s")
	p.OK("set", "sightings", "secret=wallet")
	cmd := exec.Command(p.Path, "with", "sightings", "-verbose", "--", "sh", "-c", "echo $$ $PGPASSFILE; sleep 30")
	cmd.Env = p.Env
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	line := make([]byte, 1000)
	n, _ := out.Read(line)
	words := strings.Fields(string(line[:n]))
	if len(words) != 2 {
		t.Fatalf("%q", words)
	}
	for _, pid := range []string{words[0], strconv.Itoa(cmd.Process.Pid)} {
		for _, name := range []string{"cmdline", "environ"} {
			data, err := os.ReadFile("/proc/" + pid + "/" + name)
			if os.IsPermission(err) && pid != words[0] {
				continue // gharbor's own can't be read, but by root
			}
			if err != nil {
				t.Fatal(err)
			}
			testkit.NoSecret(t, name+" of "+pid, string(data), canary, passphrase)
		}
	}
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline") // the process that keeps the wallet open is among them
	for _, path := range all {
		if data, err := os.ReadFile(path); err == nil && strings.Contains(string(data), "wallet\x00keep") {
			testkit.NoSecret(t, path, string(data), canary, passphrase)
		}
	}
	data, err := os.ReadFile(words[1])
	if err != nil || testkit.Shows(string(data), canary) == "" {
		t.Errorf("the password is not where it should be: %v", err)
	}
	cmd.Process.Signal(syscall.SIGTERM)
	cmd.Wait()
	time.Sleep(50 * time.Millisecond)
	if _, err := os.Stat(filepath.Dir(words[1])); err == nil {
		t.Error("its folder is left behind")
	}
}
