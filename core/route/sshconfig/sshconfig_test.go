package sshconfig

import (
	"errors"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

// reader is one whose user's configuration is this text, and the system's that.
func reader(t testing.TB, files map[string]string) Reader {
	t.Helper()
	home := t.TempDir()
	for name, text := range files {
		path := filepath.Join(home, name)
		os.MkdirAll(filepath.Dir(path), 0o700)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return Reader{Home: home, User: "warden", System: filepath.Join(home, "etc"), Lookup: func(name string) (string, bool) {
		value, ok := map[string]string{"STATION": "saltmarsh", "AGENT": "/run/agent"}[name]
		return value, ok
	}}
}

const config = `# the station
Include conf.d/*.conf

Host gate gate.saltmarsh.example
    HostName gate.saltmarsh.example
    Port = 2222
    User keeper      # not the account here
    IdentityFile ~/.ssh/%n-${STATION}
    IdentityFile "~/.ssh/with blank"
    UserKnownHostsFile /dev/null ~/.ssh/known_gate
    HostKeyAlias station
    ServerAliveInterval 30
    ConnectTimeout 1m

Host *.internal !secret.internal
    ProxyJump keeper@gate:2222,sluice
    IdentitiesOnly yes
    StrictHostKeyChecking no

Host sluice
    ProxyJump none
    IdentityAgent $AGENT

Match host gate.saltmarsh.example user keeper
    HostKeyAlias too-late

Match originalhost curlew localuser warden
    User from-match

Match exec "test -f /nowhere" host knot
    User from-exec

Match host dunlin exec "true"
    ProxyCommand nc %h %p

Host proxied
    ProxyCommand nc %h %p

Host half
    ProxyCommand none
    ProxyJump gate

Host *
    User everybody
    Port 22
`

func TestRead(t *testing.T) {
	t.Parallel()
	r := reader(t, map[string]string{".ssh/config": config, ".ssh/conf.d/a.conf": "Host brent\n  HostName brent.example\nHost gate\n  Compression yes\n", "etc/ssh_config": "Host gate\n  User system\nHost avocet\n  HostName avocet.example\n"})
	read := func(alias string) *Host {
		t.Helper()
		h, err := r.Read(Request{Alias: alias})
		if err != nil {
			t.Fatalf("%s: %v", alias, err)
		}
		return h
	}
	h := read("gate")
	if h.HostName.Value != "gate.saltmarsh.example" || h.Port.Value != "2222" || h.User.Value != "keeper" || h.HostKeyAlias.Value != "station" || h.AliveInterval != 30*time.Second || h.ConnectTimeout != time.Minute || !h.Listed {
		t.Errorf("%+v", h)
	}
	if h.HostName.Line != 5 || !strings.HasSuffix(h.HostName.File, ".ssh/config") {
		t.Errorf("%s", h.HostName)
	}
	ssh := filepath.Join(r.Home, ".ssh")
	if len(h.IdentityFiles) != 2 || h.IdentityFiles[0].Value != filepath.Join(ssh, "gate-saltmarsh") || h.IdentityFiles[1].Value != filepath.Join(ssh, "with blank") {
		t.Errorf("%+v", h.IdentityFiles)
	}
	if len(h.UserKnownHosts) != 2 || h.UserKnownHosts[1].Value != filepath.Join(ssh, "known_gate") {
		t.Errorf("%+v", h.UserKnownHosts)
	}
	h = read("tide-db.internal")
	if len(h.Jump) != 2 || h.Jump[0] != (Jump{"keeper", "gate", 2222}) || h.Jump[1] != (Jump{Host: "sluice"}) || !h.IdentitiesOnly || len(h.NotHonoured) != 1 || !strings.Contains(h.NotHonoured[0], "config:18: StrictHostKeyChecking is ignored") {
		t.Errorf("%+v", h)
	}
	if h := read("secret.internal"); h.Jump != nil {
		t.Errorf("a negated pattern: %v", h.Jump)
	}
	if h := read("sluice"); h.Jump != nil || h.IdentityAgent.Value != "/run/agent" {
		t.Errorf("%+v", h)
	}
	if h := read("curlew"); h.User.Value != "from-match" {
		t.Errorf("%+v", h.User)
	}
	if h := read("knot"); h.User.Value != "everybody" || len(h.NotHonoured) != 1 || !strings.Contains(h.NotHonoured[0], "gharbor can't evaluate Match exec") {
		t.Errorf("%+v", h)
	}
	if h := read("brent"); h.HostName.Value != "brent.example" {
		t.Errorf("an included file: %+v", h.HostName)
	}
	if h := read("avocet"); h.HostName.Value != "avocet.example" {
		t.Errorf("the system's file: %+v", h.HostName)
	}
	if h := read("nobody"); h.HostName.Value != "nobody" || h.User.Value != "everybody" || h.Listed {
		t.Errorf("%+v", h)
	}
	if h := read("half"); len(h.Jump) != 1 && h.Jump != nil {
		t.Errorf("%+v", h)
	}
	for alias, line := range map[string]int{"proxied": 37, "dunlin": 33} {
		var refusal *Refusal
		if _, err := r.Read(Request{Alias: alias}); !errors.As(err, &refusal) || refusal.At.Line != line {
			t.Errorf("%s: %v", alias, err)
		}
	}
}

// TestHomes: "~" is the user's home, and "~NAME" that of another account of this machine.
func TestHomes(t *testing.T) {
	t.Parallel()
	account, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	p := &parser{Reader: Reader{Home: "/home/warden"}}
	for text, want := range map[string]string{"~": "/home/warden", "~/k": "/home/warden/k", "/k/~": "/k/~",
		"~" + account.Username + "/k": filepath.Join(account.HomeDir, "k"), "~no-such-account/k": "~no-such-account/k"} {
		if got := p.home(text); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

// TestParseJump: what stands in a ProxyJump, and what OpenSSH refuses there.
func TestParseJump(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Jump{
		"gate": {"", "gate", 0}, "keeper@gate:2222": {"keeper", "gate", 2222}, "ssh://keeper@gate:22/": {"keeper", "gate", 22},
		"[2001:db8::1]:2222": {"", "2001:db8::1", 2222}, "a@b@gate": {"a@b", "gate", 0}, "gate:ssh": {"", "gate", 22},
	} {
		if j, ok := ParseJump(text); !ok || j != want {
			t.Errorf("%s: %+v %v", text, j, ok)
		}
	}
	for _, text := range []string{"jump:2000blah", "jump:blah2000", "jump:0", "jump:65536", "jump:131073", "someuser@some.host:some/path",
		"ssh://someuser@some.host:22/some/path", "ssh://jump/x", "jump;x", "2001:db8::1", "", "@jump", "-l@jump", "jump/22", "[::1", "[::1]x"} {
		if j, ok := ParseJump(text); ok {
			t.Errorf("%q: %+v", text, j)
		}
	}
}

// TestAsOpenSSH: this reader and the system's own client make the same of a configuration, or this one refuses.
func TestAsOpenSSH(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("ssh"); err != nil {
		t.Skip("the system's SSH client judges here: ", err)
	}
	account, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	agreed, refused := 0, 0
	for _, c := range configurations(t) {
		r := reader(t, c.files)
		os.WriteFile(filepath.Join(r.Home, "c"), []byte(strings.ReplaceAll(c.files[".ssh/config"], "Include ", "Include "+filepath.Join(r.Home, ".ssh")+"/")), 0o600)
		os.WriteFile(filepath.Join(r.Home, ".ssh", "config"), []byte(strings.ReplaceAll(c.files[".ssh/config"], "Include ", "Include "+filepath.Join(r.Home, ".ssh")+"/")), 0o600)
		r.User, r.System = account.Username, "/nowhere"
		words := []string{"-G", "-F", filepath.Join(r.Home, "c")}
		if c.asked.User != "" {
			words = append(words, "-l", c.asked.User)
		}
		if c.asked.Port != "" {
			words = append(words, "-p", c.asked.Port)
		}
		out, sshErr := exec.Command("ssh", append(words, "--", c.asked.Alias)...).Output()
		h, err := r.Read(c.asked)
		var refusal *Refusal
		if errors.As(err, &refusal) {
			if c.mustRead {
				t.Errorf("%q for %+v: %v", c.files, c.asked, err)
			}
			refused++
			continue
		}
		if err == nil && sshErr != nil && c.asked.Alias != "gate" {
			continue // it refuses a file for lines about others too
		}
		if err != nil || sshErr != nil {
			t.Errorf("%q for %+v: ours %v, ssh's %v", c.files, c.asked, err, sshErr)
			continue
		}
		ours, theirs := way(h), sshWay(string(out))
		if !slices.Equal(ours, theirs) && !(len(h.NotHonoured) > 0 && len(theirs) == 4 && theirs[3] == ours[3]) {
			t.Errorf("%q for %+v: ours %q, ssh's %q", c.files, c.asked, ours, theirs)
		}
		agreed++
	}
	if agreed < 150 || refused > agreed {
		t.Errorf("%d agreed, %d were refused: too few prove anything", agreed, refused)
	}
}

// way is where a host leads: its name, port, account and jumps.
func way(h *Host) []string {
	var jumps []string
	for _, j := range h.Jump {
		text := j.Host
		if strings.Contains(text, ":") {
			text = "[" + text + "]"
		}
		if j.User != "" {
			text = j.User + "@" + text
		}
		if j.Port != 0 {
			text += ":" + strconv.Itoa(j.Port)
		}
		jumps = append(jumps, text)
	}
	return []string{h.HostName.Value, h.Port.Value, h.User.Value, strings.Join(jumps, ",")}
}

// sshWay is the same of a view that ssh -G prints, and a command that makes the connection, where there is one.
func sshWay(out string) []string {
	way := []string{shown(out, "hostname"), shown(out, "port"), shown(out, "user"), shown(out, "proxyjump")}
	if command := shown(out, "proxycommand"); command != "" && command != "none" {
		way = append(way, command)
	}
	return way
}

// shown is the first value of a keyword in a view that ssh -G prints, "" for none.
func shown(out, keyword string) string {
	for line := range strings.Lines(out) {
		if word, value, _ := strings.Cut(strings.TrimSpace(line), " "); word == keyword {
			return value
		}
	}
	return ""
}

// configuration is one that both read.
type configuration struct {
	files    map[string]string
	asked    Request
	mustRead bool // it is one that is to be read, and not refused
}

// configurations are some that people write, some that went wrong once, and many that are made of parts by chance.
func configurations(t *testing.T) (all []configuration) {
	t.Helper()
	written := []struct {
		text string
		read bool
	}{
		{"Host gate\n HostName 'x.example'\n Port 7\n", true}, {"Host 'gate'\n Port 7\n", true}, {"Host GATE\n Port 7\n", true},
		{"Host=gate\nPort = 7\n", true}, {"Match host = gate\n Port 7\n", true}, {"Match host=gate\n Port 7\n", true}, {"Match user keeper\n Port 7\n", true},
		{"Match user KEEPER\n Port 7\n", true}, {"Match originalhost GATE\n Port 7\n", true}, {"Host *\n User smiley\\ leamas\n", true},
		{"Host *\n User \"smiley leamas\"\n", true}, {"Host *\n User smiley leamas\n", false}, {"Host *\n HostName a b\n", false},
		{"Host gate\n ProxyJump none\n ProxyCommand sh -c x\n", false}, {"Host gate\n ProxyCommand none\n ProxyJump jump\n", true},
		{"Host gate\n ProxyJump jump\n ProxyCommand x\n", true}, {"Host gate\n ProxyJump none\n ProxyJump jump\n", true},
		{"Host gate\n ProxyJump jump:2000blah\n", false}, {"Host gate\n ProxyJump jump:0\n", false}, {"Host gate\n ProxyJump a@b:22,c\n", true},
		{"Host gate\n Port ssh\n", true}, {"Host gate\n HostName %h.example\n", true}, {"Host gate\n HostName %n.example\n", false},
		{"Host gate\n HostName x%\n", false}, {"Match host\n Port 7\n", false}, {"Match all host gate\n Port 7\n", false}, {"Match all\n Port 7\n", true},
		{"Match !all\n Port 7\n", true}, {"Match host gate all\n Port 7\n", true}, {"Match host gate user x all\n Port 7\n", false},
		{"Match canonical all\n Port 7\n", true}, {"Match !canonical host gate\n Port 7\n", true}, {"CanonicalizeHostname yes\nMatch canonical host *\n ProxyJump jump\n", false},
		{"Match host gate exec \"true\"\n Include vpn\n", false}, {"Include d/*\n", true}, {"Host gate\n ConnectTimeout 3550w5d3h14m8s\n", false},
		{"Host gate\n Hostname x.example # why\n", true}, {"  Host\tgate # x\n\tPort\t7\t\r\n", true}, {"Host *.example !gate.example\n Port 7\n", true},
		{"Match localuser " + "root" + "\n Port 7\n", true}, {"Host gate gate.example\n Port 7\nHost *\n Port 8\n User z\n", true},
	}
	for _, w := range written {
		for _, asked := range []Request{{Alias: "gate"}, {Alias: "GATE"}, {Alias: "gate", User: "keeper", Port: "2222"}, {Alias: "gate.example"}} {
			all = append(all, configuration{files: map[string]string{".ssh/config": w.text, ".ssh/vpn": "ProxyJump jump\n",
				".ssh/d/.hidden": "HostName hidden\n", ".ssh/d/a": "Port 77\n"}, asked: asked, mustRead: w.read})
		}
	}
	chance := rand.New(rand.NewPCG(3, 5))
	pick := func(words ...string) string { return words[chance.IntN(len(words))] }
	for range 300 {
		var text strings.Builder
		for range 2 + chance.IntN(7) {
			switch chance.IntN(3) {
			case 0:
				text.WriteString(pick("Host ", "host=", "HOST\t", "Match host ", "Match originalhost ", "Match user ", "Match !host ", "Match localuser ") +
					pick("gate", "GATE", "*", "g?te", "*.example", "keeper", "root", "\"gate\"", "'gate'", "jump", "ga*,!gate.example"))
			default:
				text.WriteString(pick("  HostName "+pick("gate.example", "%h.example", "'a.example'", "\"b.example\" # x", "JUMP"), "  Port "+pick("22", "2222", "7 # x", "\"8\""),
					"  Port="+pick("9", " 10"), "  User "+pick("keeper", "\"keeper\"", "'k p'", "k\\ p", "none", "7 # x", "\\'k", "k\\p"), "  User = keeper",
					"  ProxyJump "+pick("jump", "none", "keeper@jump:2222", "a,b", "a@b,c:7", "JUMP"), "  ProxyCommand "+pick("none", "nc %h %p"), "  IdentityFile x", "Compression yes"))
			}
			text.WriteString(pick("\n", "\n", "\n\n", "\r\n", " \n"))
		}
		all = append(all, configuration{files: map[string]string{".ssh/config": text.String()},
			asked: Request{Alias: pick("gate", "GATE", "gate.example", "jump"), User: pick("", "", "keeper"), Port: pick("", "", "2222")}})
	}
	return all
}

func TestRefusals(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"Host gate\n  Port many\n":                       "config:2: Port: expected a number",
		"Host gate\n  HostName -oProxyCommand=x\n":       "expected a host name",
		"Host gate\n  IdentitiesOnly maybe\n":            "expected yes or no",
		"Host gate\n  ConnectTimeout soon\n":             "expected a time",
		"Host gate\n  User \"keeper\n":                   "a quote is not closed",
		"Host\n":                                         "has no value",
		"Host gate\n  RevokedHostKeys /etc/revoked\n":    "gharbor does not read RevokedHostKeys",
		"Include config\n":                               "too many files",
		"Match host gate exec \"x\"\n  ProxyJump sluice": "decides about proxyjump",
	} {
		_, err := reader(t, map[string]string{".ssh/config": text}).Read(Request{Alias: "gate"})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	r := reader(t, map[string]string{".ssh/config": "Host gate\n"})
	os.Chmod(filepath.Join(r.Home, ".ssh", "config"), 0o666)
	if _, err := r.Read(Request{Alias: "gate"}); err == nil || !strings.Contains(err.Error(), "others can change") {
		t.Errorf("a file that others can write: %v", err)
	}
	if _, err := (Reader{Home: t.TempDir(), System: "/nowhere"}).Read(Request{Alias: "gate"}); err != nil {
		t.Errorf("no file: %v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(config, "gate")
	f.Add("Match all\nUser x\nHost = \"a\nb\"\n", "a")
	f.Fuzz(func(t *testing.T, text, alias string) {
		p := &parser{Reader: Reader{Home: "/home/w", System: "/etc/ssh"}, host: &Host{Alias: alias}, seen: make(map[string]Setting)}
		path := filepath.Join(t.TempDir(), "config")
		if strings.Contains(strings.ToLower(text), "include") {
			return // other files are not this test's
		}
		os.WriteFile(path, []byte(text), 0o600)
		if p.file(path, "/nowhere", 0, true) == nil {
			p.finish()
		}
	})
}
