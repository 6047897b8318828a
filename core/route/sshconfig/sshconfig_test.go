package sshconfig

import (
	"errors"
	"os"
	"path/filepath"
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
		h, err := r.Read(alias)
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
	if strings.Join(h.Jump, " ") != "keeper@gate:2222 sluice" || !h.IdentitiesOnly || len(h.NotHonoured) != 1 || !strings.Contains(h.NotHonoured[0], "config:18: StrictHostKeyChecking is ignored") {
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
		if _, err := r.Read(alias); !errors.As(err, &refusal) || refusal.At.Line != line {
			t.Errorf("%s: %v", alias, err)
		}
	}
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
		_, err := reader(t, map[string]string{".ssh/config": text}).Read("gate")
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	r := reader(t, map[string]string{".ssh/config": "Host gate\n"})
	os.Chmod(filepath.Join(r.Home, ".ssh", "config"), 0o666)
	if _, err := r.Read("gate"); err == nil || !strings.Contains(err.Error(), "others can change") {
		t.Errorf("a file that others can write: %v", err)
	}
	if _, err := (Reader{Home: t.TempDir(), System: "/nowhere"}).Read("gate"); err != nil {
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
