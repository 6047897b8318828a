package making

import (
	"context"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/container/api"
	"gentleharbor/core/container/find"
	"gentleharbor/core/engines"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret"
	"gentleharbor/standin/engineapi"
)

// newEngine is a container engine, and a client of it.
func newEngine(t *testing.T, config engineapi.Config) (*find.Engines, *api.Client, *engineapi.Server) {
	t.Helper()
	config.Socket = filepath.Join(t.TempDir(), "engine.sock")
	server, err := engineapi.Start(config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	e := find.System(engines.All(), func(string) (string, bool) { return "", false }, t.TempDir())
	client, found := e.Client(t.Context(), server.Endpoint())
	if found != nil {
		t.Fatal(found.Cause)
	}
	return e, client, server
}

// wish is a container of an engine that is not there yet.
func wish(word, user string) Request {
	spec := engines.All().ByWord(word)
	return Request{Profile: "counts", Entry: "counts", Engine: spec, User: user, Inside: spec.Port, Image: spec.Image.Name + ":1", Name: "counts"}
}

// TestAccounts: each image is told of the account by its own variables, and a secret stands in a file.
func TestAccounts(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ word, user, variables, secrets, check string }{
		{"postgresql", "warden", "POSTGRES_USER=warden POSTGRES_PASSWORD_FILE=/run/secrets/counts POSTGRES_DB=warden", "POSTGRES_PASSWORD", "-d warden"},
		{"mariadb", "ringer", "MARIADB_USER=ringer MARIADB_PASSWORD_FILE=/run/secrets/counts MARIADB_ROOT_PASSWORD_FILE=/run/secrets/counts-root", "MARIADB_PASSWORD MARIADB_ROOT_PASSWORD", "ping"},
		{"mysql", "root", "MYSQL_ROOT_PASSWORD_FILE=/run/secrets/counts", "MYSQL_ROOT_PASSWORD", "-P 3306"},
	} {
		p := Draft(wish(c.word, c.user))
		var secrets []string
		for _, s := range p.Secrets {
			secrets = append(secrets, s.Variable)
		}
		if got := strings.Join(p.Variables, " "); got != c.variables {
			t.Errorf("%s: %s", c.word, got)
		}
		if got := strings.Join(secrets, " "); got != c.secrets || !strings.Contains(strings.Join(p.Check, " "), c.check) {
			t.Errorf("%s: %s, checked by %q", c.word, got, p.Check)
		}
	}
}

// TestMake: a container is made with its volumes and secrets, started, found again as ours, and removed.
func TestMake(t *testing.T) {
	t.Parallel()
	engines, client, server := newEngine(t, engineapi.Config{Registry: []string{"postgres:1"}})
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	p, found := New(ctx, client, wish("postgresql", "warden"))
	if found != nil {
		t.Fatal(found.Cause)
	}
	if !p.Pull || p.OldVolume {
		t.Errorf("%+v", p)
	}
	steps := 0
	if found := p.PullImage(ctx, func(int64, int64) { steps++ }); found != nil {
		t.Fatal(found.Cause)
	}
	values := map[string]secret.Value{"POSTGRES_PASSWORD": secret.NewValue("dunlin")}
	undo, found := p.Make(ctx, engines, values)
	if found != nil {
		t.Fatalf("%+v", found)
	}
	one := server.Find("counts")
	if one == nil || one.State != "running" || strings.Contains(strings.Join(one.Env, " "), "dunlin") || one.Files["/run/secrets/counts"] != "dunlin" {
		t.Fatalf("%+v", one)
	}
	if got := strings.Join(server.Volumes(), " "); got != "counts-data counts-secrets" {
		t.Errorf("the volumes are %s", got)
	}
	made, err := client.Inspect(ctx, "counts")
	if err != nil || ProfileOf(made) != "counts" {
		t.Fatalf("%+v %v", made, err)
	}
	if _, found := New(ctx, client, wish("postgresql", "warden")); found == nil || found.Code != finding.ContainerNameTaken {
		t.Errorf("the same name again: %+v", found)
	}
	removed, found := Remove(ctx, client, made, true)
	if found != nil || server.Find("counts") != nil || len(server.Volumes()) != 0 {
		t.Errorf("%+v %+v, left are %q", removed, found, server.Volumes())
	}
	undo() // nothing of it is there any more
}

// TestNothingHalfMade: where a step fails, what was made before it is removed.
func TestNothingHalfMade(t *testing.T) {
	t.Parallel()
	for fault, want := range map[engineapi.Fault]finding.Code{engineapi.StartFails: finding.ContainerEngineRefused, engineapi.PortIsTaken: finding.ContainerPortTaken} {
		engines, client, server := newEngine(t, engineapi.Config{Images: []string{"mariadb:1"}, Fault: fault})
		p, found := New(t.Context(), client, wish("mariadb", "ringer"))
		if found != nil {
			t.Fatal(found.Cause)
		}
		_, found = p.Make(t.Context(), engines, map[string]secret.Value{"MARIADB_PASSWORD": secret.NewValue("a"), "MARIADB_ROOT_PASSWORD": secret.NewValue("b")})
		if found == nil || found.Code != want {
			t.Errorf("%s: %+v, want %s", fault, found, want)
		}
		if server.Find("counts") != nil || len(server.Volumes()) != 0 {
			t.Errorf("%s: left are %v", fault, server.Volumes())
		}
	}
}

// TestPulls: an image that is nowhere, and a pull that breaks off.
func TestPulls(t *testing.T) {
	t.Parallel()
	for _, config := range []engineapi.Config{{}, {Registry: []string{"postgres:1"}, Fault: engineapi.PullFails}} {
		_, client, _ := newEngine(t, config)
		p, found := New(t.Context(), client, wish("postgresql", "warden"))
		if found != nil {
			t.Fatal(found.Cause)
		}
		if found := p.PullImage(t.Context(), func(int64, int64) {}); found == nil || found.Code != finding.ContainerImage {
			t.Errorf("%+v", found)
		}
	}
}

// TestPorts: a port that is taken is told where it was asked for, and passed over where it was not.
func TestPorts(t *testing.T) {
	t.Parallel()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	taken := listener.Addr().(*net.TCPAddr).Port
	_, client, server := newEngine(t, engineapi.Config{Images: []string{"postgres:1"}})
	w := wish("postgresql", "warden")
	w.Port = taken
	if _, found := New(t.Context(), client, w); found == nil || found.Code != finding.ContainerPortTaken {
		t.Errorf("%+v", found)
	}
	w.Port, w.Inside = 0, taken
	p, found := New(t.Context(), client, w)
	if found != nil || p.Port == taken || p.Port == 0 || !strings.Contains(p.Moved, fmt.Sprint(taken)) {
		t.Errorf("%+v %+v", p, found)
	}
	server.AddVolume("counts-secrets")
	if _, found := New(t.Context(), client, wish("postgresql", "warden")); found == nil || found.Code != finding.ContainerNameTaken {
		t.Errorf("somebody else's volume of the secrets' name: %+v", found)
	}
}

// TestMakeService makes what a compose service says, with the labels by which it is found again.
func TestMakeService(t *testing.T) {
	t.Parallel()
	_, client, server := newEngine(t, engineapi.Config{Images: []string{"postgres:1"}})
	s := Service{
		Project: "station", Name: "counts", Container: "station-counts-1", Image: "postgres:1", Engine: engines.All().ByWord("postgresql"),
		Environment: api.Environment{"POSTGRES_USER": secret.NewValue("warden")}, Ports: map[int]api.Binding{5432: {HostIp: "127.0.0.1", HostPort: "15432"}},
		Volumes: map[string]string{"/data": "station_data"}, Mounts: []api.SpecMount{{Type: "bind", Source: "/srv/first", Target: "/first", ReadOnly: true}},
	}
	id, found := MakeService(t.Context(), client, s)
	if found != nil {
		t.Fatalf("%+v", found)
	}
	one := server.Find("station-counts-1")
	if one == nil || one.State != "running" || one.Labels["com.docker.compose.service"] != "counts" || one.Labels["com.docker.compose.project"] != "station" || strings.Join(one.Env, " ") != "POSTGRES_USER=warden" {
		t.Fatalf("%+v", one)
	}
	if got := strings.Join(server.Volumes(), " "); got != "station_data" || id == "" {
		t.Errorf("the volumes are %s", got)
	}
	spec := s.spec()
	if len(spec.HostConfig.Mounts) != 2 || spec.HostConfig.Mounts[0].Source != "/srv/first" || spec.HostConfig.PortBindings["5432/tcp"][0].HostPort != "15432" {
		t.Errorf("%+v", spec)
	}
	if _, found := MakeService(t.Context(), client, s); found == nil {
		t.Error("a name that is taken was taken again")
	}
	s.Container, s.Image = "other", "nobody's:1"
	if _, found := MakeService(t.Context(), client, s); found == nil || server.Find("other") != nil {
		t.Errorf("%+v", found)
	}
}
