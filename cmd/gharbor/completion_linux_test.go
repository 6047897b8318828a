package main

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// completing is a program with some profiles, aliases and a project.
func completing(t *testing.T) *testkit.Program {
	p := testkit.NewProgram(t)
	p.Profiles("[profile.sightings]\nengine = \"postgresql\"\nhost = \"h\"\nuser = \"u\"\ntags = [\"birds\"]\n" +
		"[profile.sightings-ro]\nlike = \"sightings\"\nsecret = \"wallet:nightly\"\n" +
		"[profile.rings]\nengine = \"mysql\"\ncontainer = \"saltmarsh-ringing\"\nuser = \"u\"\n[cloud.station]\nservice = \"https://cloud.example/v1\"\n")
	p.Aliases("[alias.skein]\naddresses = [\"h:1\"]\nengine = \"postgresql\"\n")
	p.Setenv("PATH", filepath.Dir(p.Path)+":"+p.Getenv("PATH"))
	return p
}

// completions are what the program offers for the last of words, without what each is.
func completions(p *testkit.Program, words ...string) (kind string, offers []string) {
	kind, rest, _ := strings.Cut(p.OK(append([]string{"completion-words", "--"}, words...)...).Stdout, "\n")
	for line := range strings.Lines(rest) {
		word, _, _ := strings.Cut(line, "\t")
		offers = append(offers, word)
	}
	return kind, offers
}

func TestCompletion(t *testing.T) {
	t.Parallel()
	p := completing(t)
	root := project(t, p, "[profile.team]\nengine = \"postgresql\"\nhost = \"h\"\nuser = \"u\"\n[profile.rings]\nengine = \"postgresql\"\nhost = \"h\"\nuser = \"u\"\n")
	p.Dir = filepath.Dir(p.Home)
	for line, want := range map[string]string{
		"te": "test", "test sight": "sightings sightings-ro", "test rings sightings-": "sightings-ro", "show -f": "-format", "show --f": "--format",
		"show -format ": "text json", "show -format=j": "-format=json", "set sightings tls": "tls= tls-ca= tls-name= tls-cert= tls-key= tls-key-secret= tls-crl= tls-start=",
		"set sightings tls=": "tls=off tls=offered tls=required tls=verified", "set rings engine=m": "engine=mysql engine=mariadb engine=mongodb",
		"set x hop.2.po": "hop.2.port=", "set x expect.tls=r": "expect.tls=required", "add new": "", "add x -like ri": "rings", "copy rings ": "",
		"alias show ": "skein", "alias add ": "", "cloud instances s": "station", "container logs ": "saltmarsh-ringing", "wallet disclose night": "nightly",
		"wallet disclose ring": "rings", "explain login.local": "login.local-password", "help tu": "tunnel", "help tunnel cl": "close", "tunnel op": "open",
		"wallet reader re": "remove", "test -tag ": "birds", "test -override tls=v": "tls=verified", "export rings -as j": "json", "import comp": "compose",
		"demo tid": "tides", "browse sightings tab": "tables", "nothing ": "", "nearby st": "start", "list -engine o": "oracle", "completion ": "bash fish zsh",
		"provision grant sightings -access w": "write", "provision grant sightings -as ri": "rings", "hop add x ssh": "ssh=", "bogus": "", "test -v": "-verbose",
		"cloud set station iss": "issuer=", "alias set skein pi": "pick=", "set x like=ri": "like=rings", "set x secret=wal": "secret=wallet",
	} {
		words := strings.Split(line, " ")
		kind, offers := completions(p, append([]string{"zsh"}, words...)...)
		if got := strings.Join(offers, " "); got != want || kind != "words" {
			t.Errorf("%q: %s %q, want %q", line, kind, got, want)
		}
	}
	for _, line := range []string{"query x -file ", "load x ", "with x -- ", "import dotenv ", "wallet merge ", "set x tls-ca="} {
		if kind, _ := completions(p, append([]string{"zsh"}, strings.Split(line, " ")...)...); kind != "files" {
			t.Errorf("%q: %s", line, kind)
		}
	}
	// A project's names are marked until they were approved; one that the user has too is the user's.
	p.Dir = root
	r := p.OK("completion-words", "--", "fish", "test", "")
	r.Has("team\tof the project, not approved", "project:rings\tof the project, not approved", "rings\t\n")
	vouchFor(t, p, "team")
	p.OK("completion-words", "--", "fish", "test", "te").Has("team\tof the project\n")
	p.Write(filepath.Join(p.Home, "profiles.toml"), "[profile.broken]\nengine = \n")
	if _, offers := completions(p, "zsh", "test", "bro"); !slices.Equal(offers, []string{"broken"}) {
		t.Errorf("a file with a mistake: %q", offers)
	}
	p.Run("completion", "tcsh").Want(2).Has("expected one of bash, fish, zsh")
}

// TestCompletionInShells: each shell completes with the script that is printed for it.
func TestCompletionInShells(t *testing.T) {
	t.Parallel()
	p := completing(t)
	have := func(shell string) bool {
		_, err := exec.LookPath(shell)
		return err == nil
	}
	run := func(name string, args ...string) string {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Env, cmd.Dir = p.Env, filepath.Dir(p.Home)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("%s: %v: %s", name, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	if have("bash") {
		// What the shell does at Tab: it takes the line apart, "=" and ":" too, and calls the function.
		const ask = `eval "$(gharbor completion bash)"; COMP_WORDS=("$@"); COMP_CWORD=$(($# - 1)); _gharbor_complete; printf '%s\n' "${COMPREPLY[@]}"`
		for line, want := range map[string]string{"gharbor te": "test", "gharbor test sightings-": "sightings-ro", "gharbor set rings tls = ver": "verified",
			"gharbor set rings tls =": "off offered required verified", "gharbor show -format = j": "json"} {
			if got := strings.Join(strings.Fields(run("bash", append([]string{"-c", ask}, append([]string{"x"}, strings.Split(line, " ")...)...)...)), " "); got != want {
				t.Errorf("bash, %q: %q, want %q", line, got, want)
			}
		}
	}
	if have("fish") {
		for line, want := range map[string]string{"gharbor te": "test", "gharbor test sightings-": "sightings-ro", "gharbor set rings tls=ver": "tls=verified", "gharbor tunnel op": "open"} {
			got := run("fish", "--no-config", "-c", "gharbor completion fish | source; complete -C "+fmt.Sprintf("%q", line))
			if word, _, _ := strings.Cut(got, "\t"); word != want {
				t.Errorf("fish, %q: %q, want %q", line, got, want)
			}
		}
	}
	if have("zsh") {
		for line, want := range map[string]string{"te": "test ", "test sightings-": "test sightings-ro ", "set rings tls=ver": "set rings tls=verified ", "tunnel op": "tunnel open "} {
			s := p.ShellOnTerminal("zsh", "-f", "-i")
			s.Type("PS1='> '; autoload -Uz compinit && compinit -u -D; eval \"$(gharbor completion zsh)\"; bindkey '^X' beep; echo ready-$((1+1))\n").Expect("ready-2")
			s.Type("gharbor " + line + "\t").Expect("gharbor " + strings.TrimSpace(want))
			s.Type("\x15exit\n").Ends(0)
		}
	}
}
