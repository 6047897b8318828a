//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// TestSecretFromACommand: what a program prints is the password; what it says
// when it fails is shown without what it printed.
func TestSecretFromACommand(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	folder := t.TempDir()
	script := func(name, text string) string {
		path := filepath.Join(folder, name)
		p.Write(path, "#!/bin/sh\n"+text+"\n")
		os.Chmod(path, 0o700)
		return path
	}
	unlock := script("unlock", `printf '%s\nsecond line\n' "$1$2"`)
	cases := map[string]struct {
		flags []string
		stage string
		ends  string
		code  string
		seen  string
	}{
		"words":                  {override("secret=command:" + unlock + " dun lin"), "login", "ok", "", ""},
		"a list":                 {override("secret=command", "command="+unlock+",dun,lin"), "login", "ok", "", ""},
		"a list, by itself":      {override("secret=", "command="+unlock+",dunlin"), "login", "ok", "", ""},
		"found by PATH":          {override("secret=command:printf dunlin"), "login", "ok", "", ""},
		"another password":       {override("secret=command:" + unlock + " knot"), "login", "fail", "login.password", "command " + unlock},
		"a blank in it":          {override("secret=command:" + script("blank", "echo 'dunlin '")), "login", "fail", "login.password", "ends with a blank"},
		"no line end":            {override("secret=command:" + script("bare", "printf dunlin")), "login", "ok", "", ""},
		"a child that stays":     {override("secret=command:" + script("child", "echo dunlin; sleep 30 &")), "login", "ok", "", ""},
		"it fails":               {override("secret=command:" + script("fails", "echo dunlin; echo 'no: dunlin \x1b[2J is not it' >&2; exit 3")), "login", "fail", "secret.command-failed", `"no: [hidden] [2J is not it"`},
		"it prints nothing":      {override("secret=command:" + script("nothing", "true")), "login", "fail", "secret.command-failed", ""},
		"it reads":               {override("secret=command:" + script("reads", "read x; echo \"$x\"")), "login", "fail", "secret.command-failed", ""},
		"it prints without end":  {override("secret=command:" + script("endless", "head -c 200000 /dev/zero | tr '\\0' x")), "login", "fail", "secret.command-failed", ""},
		"it is not there":        {override("secret=command:" + folder + "/none"), "secret", "fail", "secret.missing", "no such file"},
		"it is not in PATH":      {override("secret=command:no-such-program"), "secret", "fail", "secret.missing", "in none of the folders of PATH"},
		"it may not be run":      {override("secret=command:" + filepath.Join(p.Home, "profiles.toml")), "secret", "fail", "secret.missing", "permission denied"},
		"none is named":          {override("secret=command"), "secret", "fail", "secret.missing", ""},
		"another source is said": {override("command=" + unlock), "profile", "warn", "profile.conflict", "secret is from"},
	}
	t.Run("cases", func(t *testing.T) {
		for name, c := range cases {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				r := p.Run(append([]string{"test", "sightings", "-format", "json"}, c.flags...)...)
				s := r.Report().Ends(t, c.stage, c.ends, c.code)
				if !strings.Contains(s.SeenText(), c.seen) {
					t.Errorf("no %q in seen:\n%s", c.seen, s.SeenText())
				}
				if strings.Contains(s.SeenText(), "no: dunlin") || r.Took > 8*time.Second {
					t.Errorf("after %s: %s", r.Took, s.SeenText())
				}
			})
		}
	})
	p.OK("set", "sightings", "secret=", "command="+unlock+",dun,lin")
	p.OK("show", "sightings").Has("default: the key command names one", unlock+",dun,lin")
	p.OK("test", "sightings").Has("command "+unlock, "ready")
	p.OK("wait", "sightings").Has("ready")
}

// TestSecretCommandHasTenSeconds: and what it started ends with it.
func TestSecretCommandHasTenSeconds(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	mark := filepath.Join(t.TempDir(), "mark")
	slow := filepath.Join(t.TempDir(), "slow")
	p.Write(slow, fmt.Sprintf("#!/bin/sh\n(sleep 12; touch %s) & sleep 60\n", mark))
	os.Chmod(slow, 0o700)
	s := p.Test("sightings", override("secret=command:"+slow)...).Ends(t, "login", "fail", "secret.command-failed")
	if !strings.Contains(s.Finding.Cause, "did not end within 10s") {
		t.Error(s.Finding.Cause)
	}
	time.Sleep(3 * time.Second)
	if _, err := os.Stat(mark); err == nil {
		t.Error("what the command started went on")
	}
}

// TestCanaryFromFilesAndCommands: secrets out of option files and commands show
// nowhere, also where reading them fails.
func TestCanaryFromFilesAndCommands(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	folder := t.TempDir()
	p.Setenv("CANARY", "Reed-Bunting:7\\\"q' %7e&")
	canaries := []string{"Reed-Bunting:7\\\"q' %7e&", "Spoonbill<>$HOME`x`"}
	options := filepath.Join(folder, "my.cnf")
	p.Write(options, "[client]\npassword = "+canaries[1]+"\n[broken\n")
	whole := filepath.Join(folder, "whole.cnf")
	p.Write(whole, "[client]\nuser = warden\npassword = '"+canaries[1]+"'\n")
	leak := filepath.Join(folder, "leak")
	p.Write(leak, "#!/bin/sh\nprintf '%s\\n' \"$CANARY\"\necho \"it was $CANARY\" >&2\nexit $1\n")
	os.Chmod(leak, 0o700)
	for _, flags := range [][]string{override("secret=optionfile:" + options), override("secret=optionfile:" + whole), override("secret=optionfile:" + whole + "#none"), override("secret=optionfile:"+whole, "user=x"),
		override("secret=command:" + leak + " 0"), override("secret=command:" + leak + " 3")} {
		for _, more := range [][]string{nil, {"-verbose"}, {"-format", "json"}, {"-format", "junit"}} {
			r := p.Run(append(append([]string{"test", "sightings"}, flags...), more...)...)
			testkit.NoSecret(t, "stdout", r.Stdout, canaries...)
			testkit.NoSecret(t, "stderr", r.Stderr, canaries...)
		}
	}
}
