package find

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
	"gentleharbor/standin/engineapi"
)

// field is a machine with one container engine.
type field struct {
	*Engines
	server *engineapi.Server
	home   string
}

// newField starts an engine; a container that runs has a server at each port that it publishes.
func newField(t *testing.T, config engineapi.Config) *field {
	t.Helper()
	home := t.TempDir()
	config.Socket = filepath.Join(home, "engine.sock")
	server, err := engineapi.Start(config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	lookup := func(name string) (string, bool) {
		if name == "GHARBOR_ENGINES" {
			return server.Endpoint(), true
		}
		return "", false
	}
	e := System(keys.Engines(), lookup, home)
	return &field{e, server, home}
}

// of is a profile that leads to a container.
func (f *field) of(t *testing.T, text string) *resolve.Profile {
	t.Helper()
	file, err := profile.Parse(keys, "profiles.toml", []byte("[profile.counts]\nengine = \"postgresql\"\nuser = \"warden\"\n"+text))
	if err != nil {
		t.Fatal(err)
	}
	return resolve.Resolve(file, file.Lookup("counts"), nil, resolve.Environment{Lookup: f.Lookup, Home: f.home})
}

// listening is a port of this machine that takes connections and says nothing.
func listening(t *testing.T) int {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { listener.Close() })
	return listener.Addr().(*net.TCPAddr).Port
}

// counts is a container of PostgreSQL, published at a port of this machine.
func counts(port int) *engineapi.Container {
	return &engineapi.Container{
		Name:    "saltmarsh-counts",
		Image:   "postgres:16",
		Env:     []string{"PG_MAJOR=16", "POSTGRES_USER=warden", "POSTGRES_PASSWORD=dunlin", "POSTGRES_DB=sightings"},
		State:   "running",
		Exposed: []string{"5432/tcp"},
		Ports:   map[string][]engineapi.Binding{"5432/tcp": {{HostIp: "127.0.0.1", HostPort: fmt.Sprint(port)}}},
		Mounts:  []engineapi.Mount{{Type: "volume", Name: "counts-data", Destination: "/var/lib/postgresql/data"}},
		Started: time.Now().Add(-time.Hour),
	}
}

// TestPlace: the address of a container is where it is published now.
func TestPlace(t *testing.T) {
	t.Parallel()
	port := listening(t)
	labelled := counts(port)
	labelled.Name, labelled.Labels = "station-counts-1", map[string]string{"com.docker.compose.project": "station", "com.docker.compose.service": "counts"}
	f := newField(t, engineapi.Config{Containers: []*engineapi.Container{counts(port), labelled}})
	for _, text := range []string{"container = \"saltmarsh-counts\"\n", "container = { project = \"station\", service = \"counts\" }\n"} {
		p := f.of(t, text)
		if found := p.Problem(); found != nil {
			t.Fatal(found.Cause)
		}
		placed, found := f.Place(t.Context(), p)
		if found != nil {
			t.Fatalf("%s: %+v", text, found)
		}
		if placed.Declared == nil || placed.Endpoint == "" {
			t.Errorf("%s: %+v", text, placed)
		}
	}
	client, one, found := f.Find(t.Context(), schema.Container{Name: "saltmarsh-counts"}, "")
	if found != nil {
		t.Fatal(found.Cause)
	}
	seen, ok := f.Look(t.Context(), client, one, false)
	if !ok || seen.Engine != "postgresql" || seen.User != "warden" || seen.Database != "sightings" || seen.LocalPort() != port {
		t.Errorf("%+v", seen)
	}
	if password, err := f.Password(t.Context(), client, one, "POSTGRES_PASSWORD", "counts"); err != nil || password.Disclose() != "dunlin" {
		t.Errorf("%v", err)
	}
	if _, err := f.Password(t.Context(), client, one, "POSTGRES_PASSWROD", "counts"); err == nil {
		t.Error("a variable that is not there has a password")
	}
	if !seen.Leads(f.of(t, "container = \"saltmarsh-counts\"\n"), "") || seen.Leads(f.of(t, "container = \"other\"\n"), "") {
		t.Error("which profile leads to the container is wrong")
	}
	if holder := Holder(t.Context(), client, []int{port}, ""); !strings.Contains(holder, "counts") {
		t.Errorf("%d is held by %q", port, holder)
	}
	if !Listening(port) || Listening(1) {
		t.Error("what listens is wrong")
	}
}

// TestStates: why a container's server can't be reached is told by its state.
func TestStates(t *testing.T) {
	t.Parallel()
	port := listening(t)
	for name, c := range map[string]struct {
		change func(c *engineapi.Container)
		want   finding.Code
	}{
		"stopped": {func(c *engineapi.Container) {
			c.State, c.ExitCode, c.Log = "exited", 1, []string{"FATAL: password=dunlin"}
		}, finding.ContainerStopped},
		"restarting":  {func(c *engineapi.Container) { c.State, c.Restarts = "restarting", 4 }, finding.ContainerRestarting},
		"paused":      {func(c *engineapi.Container) { c.State = "paused" }, finding.ContainerStopped},
		"unpublished": {func(c *engineapi.Container) { c.Ports = nil }, finding.ContainerUnpublished},
		"none":        {func(c *engineapi.Container) { c.Name = "other" }, finding.ContainerUnknown},
	} {
		one := counts(port)
		c.change(one)
		f := newField(t, engineapi.Config{Containers: []*engineapi.Container{one}})
		_, found := f.Place(t.Context(), f.of(t, "container = \"saltmarsh-counts\"\n"))
		if found == nil || found.Code != c.want {
			t.Errorf("%s: %+v, want %s", name, found, c.want)
			continue
		}
		if strings.Contains(fmt.Sprintf("%+v", found), "dunlin") {
			t.Errorf("%s: the finding has the password in it: %+v", name, found)
		}
	}
}

// TestPasswordFileOfLostEngine: an engine that goes away is what is wrong, not the file that it was asked for.
func TestPasswordFileOfLostEngine(t *testing.T) {
	t.Parallel()
	one := counts(listening(t))
	one.Env = []string{"PG_MAJOR=16", "POSTGRES_PASSWORD_FILE=/run/secrets/dunlin"}
	f := newField(t, engineapi.Config{Containers: []*engineapi.Container{one}})
	client, container, found := f.Find(t.Context(), schema.Container{Name: one.Name}, "")
	if found != nil {
		t.Fatal(found.Cause)
	}
	for _, want := range []finding.Code{finding.SecretUnreadable, finding.ContainerNoEngine} {
		_, err := f.Password(t.Context(), client, container, "POSTGRES_PASSWORD_FILE", "counts")
		var failure *secret.Failure
		if !errors.As(err, &failure) || failure.Found.Code != want {
			t.Errorf("%v, want %s", err, want)
		}
		f.server.Close()
	}
}

// TestEngineFaults: what is wrong with the engine itself.
func TestEngineFaults(t *testing.T) {
	t.Parallel()
	for fault, want := range map[engineapi.Fault]finding.Code{
		engineapi.Old:         finding.ContainerEngineOld,
		engineapi.TooNew:      finding.ContainerEngineOld,
		engineapi.NoVersion:   finding.ContainerEngineBroken,
		engineapi.Forbidden:   finding.ContainerEngineRefused,
		engineapi.Slow:        finding.ContainerEngineSlow,
		engineapi.Trickle:     finding.ContainerEngineSlow,
		engineapi.NotHTTP:     finding.ContainerEngineBroken,
		engineapi.Redirects:   finding.ContainerEngineBroken,
		engineapi.Huge:        finding.ContainerEngineBroken,
		engineapi.BrokenJSON:  finding.ContainerEngineBroken,
		engineapi.Deep:        finding.ContainerEngineBroken,
		engineapi.Odd:         finding.ContainerEngineBroken,
		engineapi.ListRefused: finding.ContainerEngineRefused,
	} {
		t.Run(string(fault), func(t *testing.T) {
			t.Parallel()
			f := newField(t, engineapi.Config{Fault: fault, Containers: []*engineapi.Container{counts(1)}})
			ctx := t.Context()
			if want == finding.ContainerEngineSlow { // the others answer, however busy the machine is
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, 3*time.Second)
				defer cancel()
			}
			_, found := f.Place(ctx, f.of(t, "container = \"saltmarsh-other\"\nendpoint = \""+f.server.Endpoint()+"\"\n"))
			if !found.Is(want) || strings.ContainsAny(fmt.Sprintf("%+v", found), "\x1b\x07") {
				t.Errorf("a look-up: %+v, want %s", found, want)
			}
			if views, _ := f.Scan(ctx, f.server.Endpoint(), false); len(views) != 1 || !views[0].Finding.Is(want) {
				t.Errorf("a scan: %+v, want %s", views, want)
			}
		})
	}
	f := newField(t, engineapi.Config{})
	f.server.Close()
	if _, found := f.Place(t.Context(), f.of(t, "container = \"saltmarsh-counts\"\nendpoint = \"unix:///none.sock\"\n")); found == nil || found.Code != finding.ContainerNoEngine {
		t.Errorf("without an engine: %+v", found)
	}
}

// TestScan: what is a server is seen, by its environment, its image or its port; what is none is not.
func TestScan(t *testing.T) {
	t.Parallel()
	port := listening(t)
	cache := &engineapi.Container{Name: "cache", Image: "redis:7", State: "running", Exposed: []string{"6379/tcp"}}
	web := &engineapi.Container{Name: "web", Image: "saltmarsh/web", State: "running", Exposed: []string{"8080/tcp"}}
	odd := &engineapi.Container{Name: "odd", Image: "saltmarsh/own", State: "exited", Exposed: []string{"3306/tcp"}}
	f := newField(t, engineapi.Config{Containers: []*engineapi.Container{counts(port), cache, web, odd}})
	views, found := f.Scan(t.Context(), "", false)
	if found != nil || len(views) != 1 {
		t.Fatalf("%+v %+v", views, found)
	}
	var names []string
	for _, s := range views[0].Containers {
		names = append(names, s.Container+" "+s.Engine)
	}
	slices.Sort(names)
	if got := strings.Join(names, ", "); got != "cache redis, odd mysql, saltmarsh-counts postgresql" {
		t.Error(got)
	}
	near := f.Nearby(t.Context(), "postgresql")
	if len(near) != 1 || near[0].Name != "saltmarsh-counts" || near[0].Port != port {
		t.Errorf("%+v", near)
	}
}

// TestAnotherServer: a name that another engine's container has taken is told as that.
func TestAnotherServer(t *testing.T) {
	t.Parallel()
	one := counts(listening(t))
	one.Image, one.Env = "mariadb:11", []string{"MARIADB_ROOT_PASSWORD=dunlin"}
	f := newField(t, engineapi.Config{Containers: []*engineapi.Container{one}})
	placed, found := f.Place(t.Context(), f.of(t, "container = \"saltmarsh-counts\"\nsecret = \"container:POSTGRES_PASSWORD\"\n"))
	if found != nil {
		t.Fatalf("%+v", found)
	}
	_, found = placed.Declared(secret.Query{Profile: "counts", Source: secret.Source{Kind: "container", Arg: "POSTGRES_PASSWORD"}})
	if found == nil || found.Code != finding.SecretMissing || !strings.Contains(strings.Join(found.Seen, " "), "it has a mariadb server now") || !strings.Contains(found.Try[0], "container adopt") {
		t.Errorf("%+v", found)
	}
}

// TestHostNetwork: of several containers on the host's network, none is taken for the one at the usual port.
func TestHostNetwork(t *testing.T) {
	t.Parallel()
	on := func(name string, env ...string) *engineapi.Container {
		one := counts(0)
		one.Name, one.Mode, one.Ports, one.Exposed = name, "host", nil, nil
		one.Env = append(one.Env, env...)
		return one
	}
	f := newField(t, engineapi.Config{Containers: []*engineapi.Container{on("a"), on("b", "PGPORT=15460"), on("c")}})
	for text, want := range map[string]string{
		"container = \"a\"\n": "", "container = \"b\"\n": "127.0.0.1:15460", "container = \"a\"\nport = 6000\n": "127.0.0.1:6000",
	} {
		placed, found := f.Place(t.Context(), f.of(t, text))
		switch {
		case want == "" && (found == nil || found.Code != finding.ContainerAmbiguous || !strings.Contains(found.Seen[0], "c")):
			t.Errorf("%s: %+v", text, found)
		case want != "" && (found != nil || fmt.Sprintf("%s:%d", placed.Host, placed.Port) != want):
			t.Errorf("%s: %+v %+v", text, placed, found)
		}
	}
	alone := newField(t, engineapi.Config{Containers: []*engineapi.Container{on("a"), on("b", "PGPORT=15460")}})
	if placed, found := alone.Place(t.Context(), alone.of(t, "container = \"a\"\n")); found != nil || placed.Port != 5432 {
		t.Errorf("alone at its port: %+v", found)
	}
}

// TestReady: a container that was started is waited for by its health check and its log.
func TestReady(t *testing.T) {
	t.Parallel()
	one := counts(listening(t))
	one.Health = "healthy"
	f := newField(t, engineapi.Config{Containers: []*engineapi.Container{one}})
	client, at, found := f.Find(t.Context(), schema.Container{Name: "saltmarsh-counts"}, "")
	if found != nil {
		t.Fatal(found.Cause)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
	defer cancel()
	if state, found := f.Ready(ctx, client, at.ID); found != nil || state == "" {
		t.Errorf("%q %+v", state, found)
	}
	f.server.Change(func(all *[]*engineapi.Container) { (*all)[0].State, (*all)[0].ExitCode = "exited", 3 })
	if _, found := f.Ready(ctx, client, at.ID); found == nil {
		t.Error("a container that ended is waited for")
	}
	if again, err := client.Inspect(t.Context(), at.ID); err != nil || State(again) != "exited" {
		t.Errorf("%v", err)
	}
}
