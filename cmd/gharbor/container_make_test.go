package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/engineapi"
)

// walletFor makes a wallet whose passphrase is in a file, and returns the flags that open
// it.
func walletFor(p *testkit.Program) []string {
	pass := filepath.Join(filepath.Dir(p.Home), "passphrase")
	p.Write(pass, "seven brown curlews\n")
	p.OK("wallet", "create", "-opening", "100ms", "-passphrase-file", pass)
	return []string{"-passphrase-file", pass}
}

// TestContainerMake goes through the making of a container where something is in the way.
func TestContainerMake(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, func(h *harbour, c *engineapi.Config) { c.Images = append(c.Images, "saltmarsh/own:1") })
	open := walletFor(h.Program)
	make := func(profile string, more ...string) *testkit.Result {
		return h.Run(append(append([]string{"container", "make", profile}, more...), open...)...)
	}
	make("rings", "-image", "mariadb:11").Want(2).Has("no profile rings", "gharbor add rings -engine mariadb -container rings")
	h.OK("add", "rings", "-engine", "mariadb", "-container", "saltmarsh-rings", "-user", "ringer", "-database", "ringing")
	make("rings").Want(2).Has("-image is missing")
	make("rings", "-image", "../mariadb").Want(2).HasNot("..")
	make("rings", "-image", "mariadb:11", "-mount", "/a").Want(2).Has("SOURCE:TARGET")
	make("rings", "-image", "mariadb:11", "-name", "other").Want(2).Has("different containers")
	make("rings", "-image", "mariadb:11", "-port", "0").Want(2).Has("-port")
	for words, says := range map[string]string{"engine=mongodb": "can be made for", "secret=none": "could log in", "host=db.saltmarsh.example container=": "another machine", "container=a/b": "compose service", "user=": "which user"} {
		h.OK("copy", "rings", "odd")
		h.OK(append([]string{"set", "odd"}, strings.Fields(words)...)...)
		make("odd", "-image", "mariadb:11").Want(2).Has(says)
		h.OK("remove", "odd", "-yes")
	}
	before := h.ReadProfiles()
	make("rings", "-image", "mariadb:11", "-dry-run").Want(0).Has("mariadb:11, is here", "volume saltmarsh-rings-data", "MARIADB_USER=ringer", "MARIADB_PASSWORD_FILE=/run/secrets/rings", "entry rings-root", "secret=wallet:rings", "nothing was made")
	if calls := strings.Join(h.engine.Calls(), "\n"); strings.Contains(calls, "POST") || strings.Contains(calls, "PUT") || h.ReadProfiles() != before {
		t.Errorf("a dry run did\n%s", calls)
	}
	make("rings", "-image", "mariadb:12").Want(5).Has("container.image", "docker pull mariadb:12")
	make("rings", "-image", "mariadb:11", "-port", strconv.Itoa(h.server.Port())).Want(5).Has("container.port-taken", "saltmarsh-ringing")

	h.engine.AddVolume("somebodys-secrets")
	h.OK("add", "somebodys", "-engine", "mariadb", "-container", "somebodys", "-user", "ringer")
	make("somebodys", "-image", "mariadb:11").Want(5).Has("container.name-taken", "the volume somebodys-secrets exists")

	h.engine.Change(func(*[]*engineapi.Container) { h.engine.Fault = engineapi.PortIsTaken })
	make("rings", "-image", "mariadb:11").Want(5).Has("container.port-taken", "already allocated")
	h.engine.Change(func(*[]*engineapi.Container) { h.engine.Fault = engineapi.StartFails })
	make("rings", "-image", "mariadb:11").Want(5).Has("container.engine-refused", "exec format error").HasNot("\x1b")
	h.OK("remove", "somebodys", "-yes")
	if h.engine.Find("saltmarsh-rings") != nil || len(h.engine.Volumes()) != 1 || h.ReadProfiles() != before {
		t.Errorf("half of it was made: %v", h.engine.Volumes())
	}
	h.engine.Change(func(*[]*engineapi.Container) { h.engine.Fault = engineapi.NoFault })

	h.startsHealthy()
	make("rings", "-image", "mariadb:11").Want(0).Has("started: container saltmarsh-rings", "ready: container saltmarsh-rings (running, healthy)", "gharbor test rings")
	one := h.engine.Find("saltmarsh-rings")
	files := one.Files
	if len(files["/run/secrets/rings"]) != 32 || len(files["/run/secrets/rings-root"]) != 32 || files["/run/secrets/rings"] == files["/run/secrets/rings-root"] {
		t.Errorf("the secrets are of %d files", len(files))
	}
	if all := fmt.Sprint(one.Env, one.Cmd, one.Labels); strings.Contains(all, files["/run/secrets/rings"]) {
		t.Errorf("the password stands in %s", all)
	}
	for key, bindings := range one.Ports {
		if len(bindings) != 1 || bindings[0].HostIp != "127.0.0.1" || key != "3306/tcp" {
			t.Errorf("%s is published at %v", key, bindings)
		}
	}
	make("rings", "-image", "mariadb:11").Want(5).Has("container.name-taken", "made by gharbor for the profile", "gharbor container remove saltmarsh-rings")
	h.OK("add", "copy", "-engine", "mariadb", "-container", "saltmarsh-ringing", "-user", "ringer")
	make("copy", "-image", "mariadb:11").Want(5).Has("container.name-taken", "not made by gharbor", "gharbor set copy container=saltmarsh-ringing-2 && gharbor container make copy -image mariadb:11", "gharbor container adopt saltmarsh-ringing")
	h.OK("set", "copy", "container=", "host=127.0.0.1")
	make("copy", "-image", "mariadb:11", "-name", "saltmarsh-ringing").Want(5).Has("gharbor container make copy -image mariadb:11 -name saltmarsh-ringing-2")
	h.OK("remove", "copy", "-yes")

	h.Run("container", "remove", "saltmarsh-ringing", "-yes").Want(2).Has("gharbor did not make")
	h.Run("container", "remove", "rings").Want(2).Has("-yes")
	h.OK("container", "remove", "rings", "-yes").Has("removed: container saltmarsh-rings", "its volume saltmarsh-rings-data stays")
	if have := strings.Join(h.engine.Volumes(), " "); have != "saltmarsh-rings-data somebodys-secrets" {
		t.Errorf("the volumes are %q", have)
	}
	password := files["/run/secrets/rings"]
	make("rings", "-image", "mariadb:11").Want(0).Has("which exists with data")
	if again := h.engine.Find("saltmarsh-rings").Files["/run/secrets/rings"]; again != password {
		t.Error("the volume's password was not taken again")
	}
	h.OK("container", "remove", "rings", "-yes")
	h.OK(append([]string{"wallet", "remove", "rings", "-yes"}, open...)...)
	make("rings", "-image", "mariadb:11").Want(2).Has("the volume saltmarsh-rings-data exists", "gharbor wallet keep rings")
	make("rings", "-image", "mariadb:11", "-volume", "saltmarsh-fresh").Want(0)
	h.OK("container", "remove", "rings", "-yes", "-data").Has("removed: volume saltmarsh-fresh")

	// A profile with a source of its own, and one of this machine, which follows.
	h.Setenv("RINGER", ringerPassword)
	h.OK("add", "local", "-engine", "mysql", "-host", "127.0.0.1", "-port", strconv.Itoa(testkit.FreePort(t)), "-user", "root", "-secret", "env:RINGER")
	make("local", "-image", "saltmarsh/own:1", "-within", "500ms").Want(1).HasNot("entry local").Has("host= port= container=local")
	if have := h.engine.Find("local").Files["/run/secrets/local"]; have != ringerPassword {
		t.Errorf("the password handed over is %q", have)
	}
	if text := h.ReadProfiles(); !strings.Contains(text, `container = "local"`) || strings.Contains(text, "127.0.0.1") {
		t.Errorf("the profiles are\n%s", text)
	}
	make("local", "-image", "mariadb:11", "-name", "x").Want(2)
	testkit.NoSecretIn(t, filepath.Dir(h.Home), nil, password, ringerPassword)
}

// TestContainerPull fetches an image, with progress on a terminal alone.
func TestContainerPull(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, nil)
	open := walletFor(h.Program)
	h.OK("add", "counts", "-engine", "postgresql", "-container", "counts", "-user", "warden")
	h.startsHealthy()
	words := append([]string{"container", "make", "counts", "-image", "postgres:16"}, open...)
	h.Run(append(words, "-dry-run")...).Want(0).Has("will be fetched first")
	h.engine.Change(func(*[]*engineapi.Container) { h.engine.Fault = engineapi.PullFails })
	h.Run(words...).Want(5).Has("container.image", "unexpected EOF from registry")
	h.engine.Change(func(*[]*engineapi.Container) { h.engine.Fault = engineapi.NoFault })
	h.Run(words...).Want(0).Has("fetching the image postgres:16", "ready").HasNot("MiB")
}

// TestContainerPort chooses another port where the usual one is taken.
func TestContainerPort(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, func(h *harbour, c *engineapi.Config) {
		c.Containers[0].Ports = map[string][]engineapi.Binding{"3306/tcp": {{HostIp: "127.0.0.1", HostPort: "3306"}}}
	})
	h.OK("add", "rings", "-engine", "mariadb", "-container", "rings", "-user", "ringer")
	out := h.OK("container", "make", "rings", "-image", "mariadb:11", "-dry-run").Has("3306 is taken by the container saltmarsh-ringing").Stdout
	if strings.Contains(out, "127.0.0.1:3306 ") {
		t.Error(out)
	}
}

// TestContainerProject: a container that a project's profile names is not asked for before
// the profile is vouched for.
func TestContainerProject(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, nil)
	root := filepath.Join(filepath.Dir(h.Home), "repository")
	h.Write(filepath.Join(root, "gharbor.toml"), "format = 1\n\n"+byContainer)
	if err := os.MkdirAll(filepath.Join(root, ".git"), 0o700); err != nil {
		t.Fatal(err)
	}
	h.Dir = root
	h.Test("ringing").Ends(t, "profile", "fail", "profile.not-vouched")
	h.Run("container", "start", "ringing").Want(5).Has("profile.not-vouched")
	if calls := h.engine.Calls(); len(calls) > 0 {
		t.Errorf("before that the engine was asked %v", calls)
	}
	out := h.Run("vouch").Want(2).Has("container", "saltmarsh-ringing", "container:MARIADB_PASSWORD").Stdout
	h.OK("vouch", "-expect", out[strings.LastIndex(out, " ")+1:len(out)-1])
	h.OK("test", "ringing", "-quiet")
	h.Write(filepath.Join(root, "gharbor.toml"), "format = 1\n\n"+strings.Replace(byContainer, "saltmarsh-ringing", "saltmarsh-other", 1))
	h.Test("ringing").Ends(t, "profile", "fail", "profile.not-vouched")
}
