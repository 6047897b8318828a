package main

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/engineapi"
	"gentleharbor/standin/mysql"
)

const ringerPassword = `Curlew:Knot\"q' %7e&é9`

// harbour is a simulated container engine, and a program that asks it alone.
type harbour struct {
	*testkit.Program
	t      *testing.T
	engine *engineapi.Server
	server *mysql.Server // in the container saltmarsh-ringing
}

// newHarbour starts an engine with a container whose server is simulated too. change may
// change what it has before it starts; nil for nothing.
func newHarbour(t *testing.T, change func(*harbour, *engineapi.Config)) *harbour {
	t.Helper()
	return harbourFor(t, testkit.NewProgram(t), change)
}

// harbourFor is newHarbour for a program that is there.
func harbourFor(t *testing.T, p *testkit.Program, change func(*harbour, *engineapi.Config)) *harbour {
	t.Helper()
	h := &harbour{Program: p, t: t}
	var err error
	h.server, err = mysql.Start(mysql.Config{Version: "10.11.6-MariaDB", NoNames: true, Method: "mysql_native_password", Databases: []string{"ringing"}, Tables: []string{"ring"},
		Accounts: []mysql.Account{{User: "ringer", Host: "%", Password: ringerPassword, Method: "mysql_native_password", Databases: []string{"ringing"}}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.server.Close)
	config := engineapi.Config{Socket: socketPath(t), Containers: []*engineapi.Container{h.ringing("saltmarsh-ringing")}, Images: []string{"mariadb:11"}, Registry: []string{"postgres:16"}}
	if change != nil {
		change(h, &config)
	}
	if h.engine, err = engineapi.Start(config); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.engine.Close)
	if config.Socket != "" {
		h.Setenv("GHARBOR_ENGINES", config.Socket)
	}
	return h
}

// startsHealthy makes every container that is started from now on a healthy one.
func (h *harbour) startsHealthy() {
	h.engine.Change(func(*[]*engineapi.Container) {
		h.engine.OnStart = func(c *engineapi.Container) error { c.Health = "healthy"; return nil }
	})
}

// socketPath is a place for a socket, short enough for its address.
func socketPath(t *testing.T) string {
	t.Helper()
	folder, err := os.MkdirTemp("", "gh-eng-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	return filepath.Join(folder, "engine.sock")
}

// ringing is the container of the simulated server.
func (h *harbour) ringing(name string) *engineapi.Container {
	return &engineapi.Container{Name: name, Image: "mariadb:11", Env: []string{"MARIADB_USER=ringer", "MARIADB_DATABASE=ringing", "MARIADB_PASSWORD=" + ringerPassword, "MARIADB_VERSION=1:11.4.2"},
		Exposed: []string{"3306/tcp"}, Ports: h.at(), Mounts: []engineapi.Mount{{Type: "volume", Name: "ringing-data", Destination: "/var/lib/mysql"}}}
}

// at is where the simulated server is published.
func (h *harbour) at() map[string][]engineapi.Binding {
	return map[string][]engineapi.Binding{"3306/tcp": {{HostIp: "127.0.0.1", HostPort: strconv.Itoa(h.server.Port())}}}
}

const byContainer = "[profile.ringing]\nengine = \"mariadb\"\ncontainer = \"saltmarsh-ringing\"\nuser = \"ringer\"\ndatabase = \"ringing\"\nsecret = \"container:MARIADB_PASSWORD\"\n"

// TestContainerEngineFaults: an engine that is not well is a finding, by every command
// that needs it, and nothing for those that do not.
func TestContainerEngineFaults(t *testing.T) {
	t.Parallel()
	for fault, code := range map[engineapi.Fault]string{engineapi.Slow: "container.engine-slow", engineapi.Redirects: "container.engine-broken"} {
		t.Run(string(fault), func(t *testing.T) {
			t.Parallel()
			h := newHarbour(t, func(h *harbour, c *engineapi.Config) { c.Fault = fault })
			h.Profiles("format = 1\n" + byContainer + fmt.Sprintf("[profile.plain]\nengine = \"mariadb\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"ringer\"\nsecret = \"env:RINGER\"\n", h.server.Port()))
			h.Setenv("RINGER", ringerPassword)
			h.Test("ringing").Ends(t, "route", "fail", code)
			h.Run("container", "scan").Want(5).Has(code, "unix://")
			h.Run("container", "start", "saltmarsh-ringing").Want(5).Has(code)
			for _, args := range [][]string{{"test", "plain", "-quiet"}, {"list"}, {"show", "ringing"}, {"with", "plain", "--", "true"}} {
				if r := h.OK(args...); r.Took > 2*time.Second {
					t.Errorf("%v took %v", args, r.Took)
				}
			}
		})
	}
	t.Run("waiting", func(t *testing.T) {
		t.Parallel()
		h := newHarbour(t, func(h *harbour, c *engineapi.Config) { c.Fault = engineapi.Slow })
		h.Profiles("format = 1\n" + byContainer)
		h.Run("wait", "ringing", "-within", "4s").Want(1).HasNot("gave up")
		many := "format = 1\n"
		for i := range 40 { // each does not wait for the engine by itself
			many += strings.Replace(byContainer, "profile.ringing", fmt.Sprintf("profile.ringing-%d", i), 1)
		}
		h.Profiles(many)
		if r := h.Run("test", "-all", "-parallel", "4", "-quiet").Want(1); r.Took > 15*time.Second {
			t.Errorf("40 profiles took %v", r.Took)
		}
	})
}

// TestContainerEndpoints names engines that are not there, not to be used, or not to be
// believed.
func TestContainerEndpoints(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, nil)
	h.Profiles("format = 1\n" + byContainer)
	h.Setenv("GHARBOR_ENGINES", "")
	h.Test("ringing").Ends(t, "route", "fail", "container.no-engine")
	h.Run("container", "scan").Want(5).Has("container.no-engine", "DOCKER_HOST")
	h.Run("container", "scan", "-format", "json").Want(5).Has(`"engines": []`, "container.no-engine")
	h.Setenv("DOCKER_HOST", h.engine.Endpoint())
	h.OK("test", "ringing", "-quiet")
	h.OK("container", "scan").Has("(DOCKER_HOST)")
	for _, named := range []string{"ssh://warden@gate.saltmarsh.example", "unix://relative", "127.0.0.1:port", "\x1b[31mred"} {
		h.Setenv("DOCKER_HOST", named)
		h.Test("ringing").Ends(t, "route", "fail", "container.endpoint")
		h.Run("container", "scan").Want(5).HasNot("\x1b")
	}
	h.Setenv("GHARBOR_ENGINES", h.engine.Socket) // the others are shown all the same
	h.Setenv("DOCKER_HOST", "ssh://warden@gate.saltmarsh.example")
	h.OK("container", "scan").Has("container.endpoint", "saltmarsh-ringing")
	h.OK("test", "ringing", "-quiet") // who names sockets means those
	h.Setenv("GHARBOR_ENGINES", "")
	h.Setenv("DOCKER_HOST", "tcp://192.0.2.9:2375") // another machine, without TLS: nothing is dialled
	if s := h.Test("ringing").Ends(t, "route", "fail", "container.engine-tls"); !strings.Contains(s.SeenText(), "plain TCP") {
		t.Errorf("seen is %s", s.SeenText())
	}
	h.Setenv("DOCKER_HOST", "")
	h.Test("ringing", "-override", "endpoint=unix:///no/such.sock").Ends(t, "route", "fail", "container.no-engine")
	h.OK("test", "ringing", "-quiet", "-override", "endpoint="+h.engine.Endpoint())
	h.Run("test", "ringing", "-override", "endpoint=http://x:1").Want(2).Has("it is tcp:// also with TLS")
	h.Run("set", "ringing", "endpoint=/var/run/docker.sock").Want(2).Has("unix://, followed by it")
	if os.Getuid() == 0 {
		h.Prefix = []string{"setpriv", "--reuid=65534", "--clear-groups"}
		os.Chmod(filepath.Dir(filepath.Dir(h.Home)), 0o755)
		os.Chmod(filepath.Dir(h.engine.Socket), 0o755)
		h.Setenv("GHARBOR_HOME", filepath.Join(filepath.Dir(h.engine.Socket), "none"))
		h.Setenv("GHARBOR_ENGINES", h.engine.Socket)
		h.Run("container", "scan").Want(5).Has("container.no-permission", "usermod")
	}
}

// TestContainerTLS asks an engine over TCP, with TLS and a certificate to show.
func TestContainerTLS(t *testing.T) {
	t.Parallel()
	ca, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	config, err := ca.TLS([]string{"127.0.0.1"}, 24*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	config.ClientAuth = tls.RequireAnyClientCert
	h := newHarbour(t, func(h *harbour, c *engineapi.Config) { c.Socket, c.TLS = "", config })
	h.Profiles("format = 1\n" + byContainer)
	folder := filepath.Join(filepath.Dir(h.Home), "certificates")
	_, cert, key, err := ca.Issue("warden", nil, time.Now().Add(-time.Hour), time.Now().Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	h.Write(filepath.Join(folder, "ca.pem"), string(ca.PEM))
	h.Setenv("DOCKER_HOST", h.engine.Endpoint())
	h.Test("ringing").Ends(t, "route", "fail", "container.engine-tls") // it wants TLS, and plain was spoken
	h.Setenv("DOCKER_CERT_PATH", folder)
	h.Test("ringing").Ends(t, "route", "fail", "container.engine-tls") // without a certificate of one's own
	h.Write(filepath.Join(folder, "cert.pem"), string(cert))
	h.Write(filepath.Join(folder, "key.pem"), string(key))
	h.OK("test", "ringing", "-quiet")
	os.Chmod(filepath.Join(folder, "key.pem"), 0o644)
	if s := h.Test("ringing").Ends(t, "route", "fail", "container.engine-tls"); !strings.Contains(s.SeenText(), "private key") {
		t.Errorf("seen is %s", s.SeenText())
	}
	os.Chmod(filepath.Join(folder, "key.pem"), 0o600)
	stranger, _ := authority.New()
	h.Write(filepath.Join(folder, "ca.pem"), string(stranger.PEM))
	h.Test("ringing").Ends(t, "route", "fail", "container.engine-tls")
}

// TestContainerTwoEngines: both are shown, and a name that both have is no choice.
func TestContainerTwoEngines(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, nil)
	other, err := engineapi.Start(engineapi.Config{Socket: socketPath(t), Name: "Podman Engine", Release: "4.9.3", APIVersion: "1.41", Containers: []*engineapi.Container{h.ringing("saltmarsh-ringing"), h.ringing("saltmarsh-other")}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(other.Close)
	h.Setenv("GHARBOR_ENGINES", h.engine.Socket+string(filepath.ListSeparator)+other.Socket)
	h.OK("container", "scan").Has("Docker Engine 26.1.5, interface 1.45", "Podman Engine 4.9.3, interface 1.41", "saltmarsh-other", "-endpoint "+other.Endpoint())
	h.Profiles("format = 1\n" + byContainer)
	if s := h.Test("ringing").Ends(t, "route", "fail", "container.ambiguous"); !strings.Contains(s.Try(), "endpoint=") {
		t.Errorf("the lines to try are %s", s.Try())
	}
	h.Run("container", "adopt", "saltmarsh-ringing", "rings").Want(5).Has("container.ambiguous")
	h.OK("container", "adopt", "saltmarsh-ringing", "rings", "-endpoint", other.Endpoint())
	h.OK("test", "rings", "-quiet")
	h.OK("container", "adopt", "saltmarsh-other")
	if text := h.ReadProfiles(); strings.Count(text, fmt.Sprintf("endpoint  = %q", other.Endpoint())) != 2 {
		t.Errorf("the profiles are\n%s", text)
	}
	h.OK("add", "fresh", "-engine", "mariadb", "-container", "fresh", "-user", "ringer")
	h.Run("container", "make", "fresh", "-image", "mariadb:11", "-dry-run").Want(5).Has("container.ambiguous", "-endpoint unix://")
	h.OK("container", "make", "fresh", "-image", "mariadb:11", "-dry-run", "-endpoint", other.Endpoint()).Has("endpoint=" + other.Endpoint())
	h.Setenv("DOCKER_HOST", h.engine.Endpoint())
	h.OK("container", "make", "fresh", "-image", "mariadb:11", "-dry-run").Has(" at "+h.engine.Endpoint(), "is here")
	h.Setenv("DOCKER_HOST", "")
	h.engine.Close() // one that is gone takes nothing from what the other has
	leaveSocket(t, h.engine.Socket)
	h.OK("container", "scan").Has("container.no-engine", "saltmarsh-other")
	h.OK("test", "rings", "saltmarsh-other", "-quiet")
	h.Run("test", "ringing", "-override", "container=saltmarsh-nobody").Want(1).Has("container.unknown", "no container engine listens at")
}

// TestContainerStates are states that a real engine shows too briefly, or not here.
func TestContainerStates(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, nil)
	h.Profiles("format = 1\n" + byContainer)
	var one *engineapi.Container // which is looked at and changed under the engine's lock
	h.engine.Change(func(all *[]*engineapi.Container) { one = (*all)[0] })
	set := func(change func()) { h.engine.Change(func(*[]*engineapi.Container) { change() }) }

	set(func() { one.Mounts = nil })
	h.Test("ringing").Ends(t, "route", "warn", "container.no-volume")
	set(func() {
		one.Mounts = []engineapi.Mount{{Type: "volume", Name: strings.Repeat("5a", 32), Destination: "/var/lib/mysql"}}
	})
	h.Test("ringing").Ends(t, "route", "warn", "container.no-volume")
	set(func() { one.Mounts[0].Type, one.Mounts[0].Name = "bind", "" })
	h.Test("ringing").Ends(t, "route", "ok", "")
	set(func() { one.Health, one.Checked = "unhealthy", "\x1b[31mpassword="+ringerPassword })
	s := h.Test("ringing").Ends(t, "route", "warn", "container.unhealthy")
	testkit.NoSecret(t, "the finding", s.SeenText(), ringerPassword)
	set(func() {
		one.Health, one.Checked = "starting", ""
		one.Ports = map[string][]engineapi.Binding{"3306/tcp": {{HostIp: "127.0.0.1", HostPort: strconv.Itoa(testkit.FreePort(t))}}}
	})
	h.Test("ringing").Ends(t, "reach", "fail", "container.starting")
	set(func() {
		one.Health = ""
		one.Log = []string{"ready for connections.", "Version: '11' socket: '/run/mysqld.sock' port: 0", "\x1b]0;owned\x07[Entrypoint]: Temporary server started.", "its password is " + ringerPassword}
	})
	s = h.Test("ringing").Ends(t, "reach", "fail", "container.starting")
	if strings.Contains(s.SeenText(), "\x1b") {
		t.Errorf("seen is %q", s.SeenText())
	}
	set(func() { one.Log = append(one.Log, "ready for connections.", "Version: '11' port: 3307") })
	if s = h.Test("ringing").Ends(t, "reach", "fail", "reach.refused"); !strings.Contains(s.SeenText(), "port: 3307") {
		t.Errorf("seen is %s", s.SeenText())
	}
	set(func() { one.State, one.Restarts, one.ExitCode = "restarting", 4, 1 })
	if s = h.Test("ringing").Ends(t, "route", "fail", "container.restarting"); !strings.Contains(s.Finding.Cause, "4 times") || !strings.Contains(s.SeenText(), "[cut out]") {
		t.Errorf("the finding is %+v", s.Finding)
	}
	testkit.NoSecret(t, "the finding", s.SeenText(), ringerPassword)

	// An engine in a virtual machine: its networks are none of this machine's.
	set(func() {
		one.State, one.Ports = "running", nil
		one.Networks = map[string]engineapi.Network{"bridge": {NetworkID: "b0", IPAddress: "10.250.7.2", Gateway: "10.250.7.1"}}
	})
	if s = h.Test("ringing").Ends(t, "route", "fail", "container.unpublished"); !strings.Contains(s.Try(), "-p 127.0.0.1:3306:3306") {
		t.Errorf("the lines to try are %s", s.Try())
	}
	set(func() {
		one.Labels = map[string]string{"com.docker.compose.project": "fieldstation", "com.docker.compose.service": "rings"}
		one.Ports = map[string][]engineapi.Binding{"3307/tcp": {{HostIp: "127.0.0.1", HostPort: "3307"}}}
	})
	if s = h.Test("ringing").Ends(t, "route", "fail", "container.unpublished"); !strings.Contains(s.Try(), `ports: ["127.0.0.1:3306:3306"]`) || !strings.Contains(s.Try(), "gharbor set ringing port=3307") {
		t.Errorf("the lines to try are %s", s.Try())
	}
	h.Run("test", "ringing", "-override", "container=saltmarsh-ringin").Want(1).Has("container.unknown", `the nearest name is "saltmarsh-ringing"`, "gharbor test ringing -override container=saltmarsh-ringing")
	h.Run("test", "ringing", "-override", "container="+h.engine.Find("saltmarsh-ringing").ID[:12]).Want(1).Has("container.unknown") // an id is no name
}

// TestContainerWallet binds a password to a container, wherever it is published, and to
// no other.
func TestContainerWallet(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, nil)
	pass := filepath.Join(filepath.Dir(h.Home), "pass")
	h.Write(pass, "seven brown curlews\n")
	open := []string{"-passphrase-file", pass}
	h.OK("wallet", "create", "-opening", "100ms", "-passphrase-file", pass)
	h.OK(append([]string{"container", "adopt", "saltmarsh-ringing", "ringing", "-into", "wallet"}, open...)...).Has("bound to the container", "is still in the container's environment").HasNot(ringerPassword)
	h.OK(append([]string{"wallet", "list"}, open...)...).Has("container:saltmarsh-ringing of unix://" + h.engine.Socket)
	h.OK(append([]string{"wallet", "reader", "add", "me", "-out", filepath.Join(h.Home, "reader.pin")}, open...)...)
	h.OK("test", "ringing", "-quiet")
	h.OK("container", "stop", "ringing") // a stopped one declares it too
	h.OK(append([]string{"container", "adopt", "saltmarsh-ringing", "stopped", "-into", "wallet"}, open...)...)

	h.engine.Change(func(all *[]*engineapi.Container) { // made again: another id, another port
		*all = []*engineapi.Container{h.ringing("saltmarsh-ringing"), h.ringing("saltmarsh-copy")}
		(*all)[0].Env = []string{"MARIADB_USER=ringer"}
	})
	h.OK("test", "ringing", "-quiet")
	h.Test("ringing", "-override", "container=saltmarsh-copy").Ends(t, "secret", "fail", "secret.bound-elsewhere")
	h.Test("ringing", "-override", "container=", "-override", "host=127.0.0.1", "-override", fmt.Sprintf("port=%d", h.server.Port())).Ends(t, "secret", "fail", "secret.bound-elsewhere")
	link := filepath.Join(filepath.Dir(h.Home), "link.sock")
	if err := os.Symlink(h.engine.Socket, link); err != nil {
		t.Fatal(err)
	}
	h.OK("test", "ringing", "-quiet", "-override", "endpoint=unix://"+link) // the same engine
	other, err := engineapi.Start(engineapi.Config{Socket: socketPath(t), Containers: []*engineapi.Container{h.ringing("saltmarsh-ringing")}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(other.Close)
	h.Test("ringing", "-override", "endpoint="+other.Endpoint()).Ends(t, "secret", "fail", "secret.bound-elsewhere")

	// What is bound to an address goes to no container.
	h.OK("add", "plain", "-engine", "mariadb", "-host", "127.0.0.1", "-port", strconv.Itoa(h.server.Port()), "-user", "ringer", "-secret", "wallet")
	h.Feed(ringerPassword+"\n", append([]string{"wallet", "keep", "plain", "-secret-stdin"}, open...)...).Want(0)
	h.OK("test", "plain", "-quiet")
	h.Test("plain", "-override", "host=", "-override", "port=", "-override", "container=saltmarsh-copy", "-override", "secret=wallet:plain").Ends(t, "secret", "fail", "secret.bound-elsewhere")
}

// TestContainerAdopt reads what containers declare, and what they do not.
func TestContainerAdopt(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, func(h *harbour, c *engineapi.Config) {
		c.Containers = append(c.Containers,
			&engineapi.Container{Name: "open-counts", Image: "postgres:16", Env: []string{"POSTGRES_HOST_AUTH_METHOD=trust", "PG_MAJOR=16"}, Exposed: []string{"5432/tcp"}, State: "exited"},
			&engineapi.Container{Name: "made-rings", Image: "mysql:8", Env: []string{"MYSQL_RANDOM_ROOT_PASSWORD=yes", "MYSQL_MAJOR=8.0"}, Exposed: []string{"3306/tcp", "33060/tcp"}, State: "exited"},
			&engineapi.Container{Name: "web", Image: "saltmarsh/web", Env: []string{"POSTGRES_HOST=counts", "POSTGRES_USER=warden", "POSTGRES_PASSWORD=" + ringerPassword}, Exposed: []string{"8080/tcp"}},
			&engineapi.Container{Name: "unnamed", Image: "saltmarsh/own", Exposed: []string{"9999/tcp"}, Ports: map[string][]engineapi.Binding{"9999/tcp": h.at()["3306/tcp"]}},
			&engineapi.Container{Name: "filed", Image: "postgres:16", Env: []string{"POSTGRES_USER=warden", "POSTGRES_PASSWORD_FILE=/run/secrets/warden", "PG_MAJOR=16"}, Exposed: []string{"5432/tcp"}, Ports: map[string][]engineapi.Binding{"5432/tcp": h.at()["3306/tcp"]}, Files: map[string]string{}},
		)
	})
	h.OK("container", "scan", "-format", "json").Has(`"by": "greeting"`, `"by": "environment"`, `"other_containers": 1`)
	h.OK("container", "scan").Has("1 other container is no known database server", "connections were made")
	h.OK("container", "adopt", "open-counts").HasNot(ringerPassword)
	h.OK("container", "adopt", "made-rings").Has("printed it in its log")
	h.Run("container", "adopt", "web").Want(2).Has("it is not known which database server the container web is", "-engine postgresql")
	h.OK("container", "adopt", "unnamed", "own").Has("declares no user")
	h.Run("container", "adopt", "own").Want(5).Has("container.unknown")
	h.Run("container", "adopt", "unnamed", "own").Want(2).Has("exists already")
	h.Run("container", "adopt", "x/y/z").Want(2).Has("expected a container's name")
	for text, profile := range map[string]string{`secret    = "none"`: "open-counts", `user      = "root"`: "made-rings", "port      = 9999": "own"} {
		if !strings.Contains(h.ReadProfiles(), text) {
			t.Errorf("the profile %s has no %s in\n%s", profile, text, h.ReadProfiles())
		}
	}
	h.OK("container", "adopt", "filed")
	h.Test("filed").Ends(t, "secret", "ok", "")
	h.Run("with", "filed", "--", "true").Want(125).Has("secret.unreadable", "/run/secrets/warden")
	h.Run("test", "filed", "-override", "secret=container:POSTGRES_PASSWORT_FILE").Want(1).Has("secret.missing", "it has POSTGRES_PASSWORD_FILE", "secret=container:POSTGRES_PASSWORD_FILE")
	h.Run("add", "none", "-engine", "postgresql", "-host", "127.0.0.1", "-user", "warden", "-secret", "container:X").Want(0)
	h.Run("test", "none").Want(1).Has("secret.missing", "the profile's address is not a container")
}

// TestContainerNearby: containers stand among the servers of this machine, and in hints for
// a local address that refuses.
func TestContainerNearby(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	port := testkit.FreePort(t)
	h := newHarbour(t, func(h *harbour, c *engineapi.Config) {
		stopped := h.ringing("old-ringing")
		stopped.State, stopped.Ports = "exited", map[string][]engineapi.Binding{"3306/tcp": {{HostIp: "127.0.0.1", HostPort: strconv.Itoa(port)}}}
		inner := h.ringing("inner-ringing")
		inner.Ports = nil
		mute, again := h.ringing("mute-ringing"), h.ringing("again-ringing")
		mute.Ports = map[string][]engineapi.Binding{"3306/tcp": {{HostIp: "127.0.0.1", HostPort: strconv.Itoa(testkit.FreePort(t))}}}
		again.State, again.Ports = "restarting", nil
		c.Containers = append(c.Containers, stopped, inner, mute, again)
	})
	var seen struct {
		Servers []struct{ Container, State string }
	}
	if err := json.Unmarshal([]byte(h.OK("nearby", "-format", "json").Stdout), &seen); err != nil {
		t.Fatal(err)
	}
	for _, s := range seen.Servers {
		if want := map[string]string{"mute-ringing": "silent", "again-ringing": "restarting", "inner-ringing": "unpublished"}[s.Container]; want != "" && s.State != want {
			t.Errorf("%s is %s, not %s", s.Container, s.State, want)
		}
	}
	h.OK("nearby").Has(fmt.Sprintf("127.0.0.1:%d (container saltmarsh-ringing)", h.server.Port()), "container old-ringing", "stopped", "container inner-ringing", "unpublished", "gharbor container start old-ringing", "gharbor container adopt inner-ringing")
	h.OK("nearby", "-format", "json").Has(`"container": "saltmarsh-ringing"`)
	h.Profiles(fmt.Sprintf("format = 1\n[profile.ringing]\nengine = \"mariadb\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"ringer\"\nsecret = \"env:RINGER\"\n", port))
	h.Setenv("RINGER", ringerPassword)
	s := h.Test("ringing").Ends(t, "reach", "fail", "reach.refused")
	if !strings.Contains(s.SeenText(), `container "old-ringing" publishes its server at this port when it runs; it is exited`) || !strings.Contains(s.Try(), "gharbor container start old-ringing") || !strings.Contains(s.Try(), "gharbor set ringing host= port= container=saltmarsh-ringing") {
		t.Errorf("the finding is %+v", s.Finding)
	}
	h.OK("set", "ringing", "host=", "port=", "container=saltmarsh-ringing")
	h.OK("test", "ringing", "-quiet")
	h.Setenv("GHARBOR_ENGINES", "")
	h.OK("nearby").HasNot("container ")
}

// TestCanaryContainers: whatever a container declares, logs or has in a file, no command
// shows a password of it, and none is left in a file.
func TestCanaryContainers(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	const rootPassword = "Spoonbill<>$HOME`x`9"
	h := newHarbour(t, func(h *harbour, c *engineapi.Config) {
		one := c.Containers[0]
		one.Env = append(one.Env, "MARIADB_ROOT_PASSWORD="+rootPassword, "OTHER_TOKEN="+rootPassword)
		one.Log = []string{"+ mariadb --password=" + ringerPassword, "GENERATED ROOT PASSWORD: " + rootPassword, "just " + ringerPassword + " by itself", "mysql://root:" + rootPassword + "@db/x"}
		one.Health, one.Checked = "unhealthy", "denied for "+ringerPassword
		loops := h.ringing("loops")
		loops.State, loops.Log, loops.Env = "restarting", one.Log, one.Env
		ended := h.ringing("ended")
		ended.State, ended.ExitCode, ended.Log, ended.Env, ended.Error = "exited", 1, one.Log, one.Env, "exec: MARIADB_PASSWORD="+ringerPassword
		filed := h.ringing("filed")
		filed.Env, filed.Files = []string{"MARIADB_USER=ringer", "MARIADB_PASSWORD_FILE=/run/secrets/ringer"}, map[string]string{"/run/secrets/ringer": ringerPassword + "\n"}
		c.Containers = append(c.Containers, loops, ended, filed)
	})
	open := walletFor(h.Program)
	station(h.Program, filepath.Join(filepath.Dir(h.Home), "station"))
	h.Write(filepath.Join(h.Dir, "ringer.txt"), ringerPassword+"\n")
	for _, args := range [][]string{
		{"container", "scan"}, {"container", "scan", "-format", "json"}, {"nearby"},
		{"container", "adopt", "saltmarsh-ringing", "ringing", "-test"}, {"container", "adopt", "loops"}, {"container", "adopt", "ended"}, {"container", "adopt", "filed"},
		append([]string{"container", "adopt", "saltmarsh-ringing", "kept", "-into", "wallet"}, open...),
		{"list"}, {"show", "ringing"}, {"show", "ringing", "-format", "json"},
		{"test", "ringing"}, {"test", "loops"}, {"test", "ended"}, {"test", "filed"}, {"test", "-all", "-format", "json"}, {"test", "-all", "-format", "junit"},
		{"test", "ringing", "-override", "secret=container:MARIADB_ROOT_PASSWORD", "-override", "user=root"}, {"test", "ringing", "-override", "secret=container:MARIADB_PASSWORT"},
		{"wait", "ended", "-within", "1s"}, {"container", "stop", "ringing"}, {"container", "start", "ringing", "-within", "1s"}, {"container", "start", "ended", "-within", "1s"},
		{"with", "ringing", "--", "true"}, {"with", "filed", "--", "printenv", "GHARBOR_PROFILE"}, {"export", "ringing", "-as", "url"}, {"export", "ringing", "-as", "compose"},
		append([]string{"container", "make", "ringing", "-image", "mariadb:11"}, open...), {"container", "remove", "ringing", "-yes"},
		append([]string{"import", "compose.yaml", "-compose-profile", "rings", "-into", "wallet"}, open...), {"audit"},
	} {
		for _, more := range [][]string{nil, {"-verbose"}} {
			words := append(append([]string{args[0]}, more...), args[1:]...)
			if args[0] == "container" {
				words = append(append([]string{args[0], args[1]}, more...), args[2:]...)
			}
			r := h.Run(words...)
			testkit.NoSecret(t, strings.Join(words, " "), r.Stdout+r.Stderr, ringerPassword, rootPassword)
			if r.Code == 70 {
				t.Errorf("%v: a defect\n%s", words, r.Stderr)
			}
		}
	}
	testkit.NoSecretIn(t, h.Home, nil, ringerPassword, rootPassword)
}

// TestContainerHostile: what an engine says steers no terminal, and no line to paste runs
// anything of it.
func TestContainerHostile(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	const evil = "x\x1b[31m$(touch owned)`touch owned`'\"\u202e;touch owned"
	h := newHarbour(t, func(h *harbour, c *engineapi.Config) {
		one := h.ringing(evil)
		one.Image, one.State, one.Health, one.Checked, one.Error, one.Log = evil, evil, evil, evil, evil, []string{evil}
		one.Env = []string{"MARIADB_USER=" + evil, "MARIADB_DATABASE=" + evil, evil + "=" + evil, "MARIADB_VERSION=11"}
		one.Labels = map[string]string{"com.docker.compose.project": evil, "com.docker.compose.service": evil, "com.docker.compose.project.config_files": evil}
		stopped := h.ringing("stopped")
		stopped.State, stopped.Error, stopped.Log, stopped.Image = "exited", evil, []string{evil}, evil
		c.Containers, c.Name, c.Release = []*engineapi.Container{one, stopped}, evil, evil
	})
	h.Profiles("format = 1\n" + strings.Replace(byContainer, "saltmarsh-ringing", "stopped", 1))
	folder := t.TempDir()
	for _, args := range [][]string{{"container", "scan"}, {"container", "scan", "-format", "json"}, {"nearby"}, {"test", "ringing"}, {"container", "start", "ringing", "-within", "1s"}, {"container", "adopt", "stopped"}, {"export", "stopped", "-as", "compose"}, {"test", "ringing", "-override", "container=nobody"}} {
		r := h.Run(args...)
		if out := r.Stdout + r.Stderr; strings.ContainsAny(out, "\x1b\u202e") || r.Code == 70 {
			t.Errorf("%v ends with %d:\n%q", args, r.Code, out)
		}
		for line := range strings.Lines(r.Stdout + r.Stderr) {
			_, command, ok := strings.Cut(line, "try")
			if !ok || !strings.Contains(command, "gharbor ") {
				continue
			}
			cmd := exec.Command("sh", "-c", "gharbor() { :; }\n"+strings.TrimLeft(command, ": "))
			cmd.Dir = folder
			cmd.Run()
		}
	}
	if left, _ := os.ReadDir(folder); len(left) > 0 {
		t.Errorf("a line to try made %v", left)
	}
}
