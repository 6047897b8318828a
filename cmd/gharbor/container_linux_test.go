package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// engineProgram is a program that asks the real container engine alone, and runs where
// its containers' ports are published.
func engineProgram(t *testing.T) (*testkit.ContainerEngine, *testkit.Program) {
	t.Helper()
	e := testkit.Containers(t)
	p := testkit.NewProgram(t)
	p.Prefix = e.Inside()
	p.Setenv("GHARBOR_ENGINES", e.Socket)
	return e, p
}

const knotPassword = "knot & dunlin: 7"

// counts are the options of a container with the counts.
func counts(more ...string) []string {
	return append([]string{"-e", "POSTGRES_USER=warden", "-e", "POSTGRES_PASSWORD=" + knotPassword, "-e", "POSTGRES_DB=sightings"}, more...)
}

// named makes names that no other test's containers have.
func named(t *testing.T, word string) string {
	return "saltmarsh-" + strings.ToLower(strings.ReplaceAll(t.Name(), "/", "-")) + "-" + word
}

// scanned is `container scan -format json`.
func scanned(t *testing.T, p *testkit.Program) map[string]map[string]any {
	t.Helper()
	var scan struct {
		Format  int
		Engines []struct{ Containers []map[string]any }
	}
	if err := json.Unmarshal([]byte(p.OK("container", "scan", "-format", "json").Stdout), &scan); err != nil || scan.Format != 1 {
		t.Fatal(err, scan.Format)
	}
	all := make(map[string]map[string]any)
	for _, e := range scan.Engines {
		for _, one := range e.Containers {
			all[one["container"].(string)] = one
		}
	}
	return all
}

// TestRealContainerMoves adopts a container, makes it again on another port, and finds it
// still; stops, pauses and renames it.
func TestRealContainerMoves(t *testing.T) {
	t.Parallel()
	e, p := engineProgram(t)
	name := named(t, "pg")
	volume := []string{"-v", name + ":/var/lib/postgresql/data"}
	t.Cleanup(func() { e.Docker(t, "volume", "rm", "-f", name) })
	e.Serve(t, name, counts(append(volume, "-p", "127.0.0.1::5432")...))

	one := scanned(t, p)[name]
	if one["engine"] != "postgresql" || one["user"] != "warden" || one["database"] != "sightings" || one["by"] != "environment" || one["variable"] != "POSTGRES_PASSWORD" || !strings.HasPrefix(one["state"].(string), "running") {
		t.Fatalf("the scan has %v", one)
	}
	first := one["published"].([]any)[0].(string)
	p.OK("container", "adopt", name, "sightings").Has("saved: profile sightings", "POSTGRES_PASSWORD. Everybody who").HasNot(knotPassword)
	if text := p.ReadProfiles(); strings.Contains(text, first) || !strings.Contains(text, fmt.Sprintf("container = %q", name)) {
		t.Errorf("the profile is\n%s", text)
	}
	p.OK("wait", "sightings")
	r := p.Test("sightings")
	s := r.Ends(t, "route", "ok", "")
	if !strings.Contains(s.Detail, name) || !strings.Contains(s.Detail, first) {
		t.Errorf("the route is %q", s.Detail)
	}
	if have := fmt.Sprint(scanned(t, p)[name]["profiles"]); have != "[sightings]" {
		t.Errorf("its profiles are %s", have)
	}

	e.Docker(t, "rm", "-f", name)
	p.Test("sightings").Ends(t, "route", "fail", "container.unknown")
	e.Serve(t, name, counts(append(volume, "-p", "127.0.0.1::5432", "-p", "127.0.0.1::5432")...))
	p.OK("wait", "sightings")
	if s := p.Test("sightings").Ends(t, "route", "ok", ""); strings.Contains(s.Detail, first) || !strings.Contains(s.Detail, ", and at ") {
		t.Errorf("after the container was made again with two ports the route is %q", s.Detail)
	}
	if out := p.OK("with", "sightings", "--", "printenv", "PGHOST", "PGPORT").Stdout; !strings.HasPrefix(out, "127.0.0.1\n") || strings.Contains(out, "5432\n") {
		t.Errorf("a program gets %q", out)
	}
	p.OK("export", "sightings", "-as", "url").Has("postgresql://warden@127.0.0.1:")
	p.OK("with", "sightings", "-login", "--", testkit.PostgreSQLServer(t).Client(), "-XAtc", "SELECT current_user || ' in ' || current_database()").Has("warden in sightings")

	e.Docker(t, "pause", name)
	p.Test("sightings").Ends(t, "route", "fail", "container.stopped")
	p.OK("container", "start", "sightings").Has("goes on: container "+name, "ready")
	p.OK("container", "stop", "sightings").Has("stopped: container " + name)
	p.OK("container", "stop", name).Has("is not running")
	s = p.Test("sightings").Ends(t, "route", "fail", "container.stopped")
	if !strings.Contains(s.SeenText(), "its log: ") || !strings.Contains(s.Try(), "gharbor container start sightings") {
		t.Errorf("of a stopped one is said\n%s\n%s", s.SeenText(), s.Try())
	}
	p.Run("with", "sightings", "--", "true").Want(125).Has("container.stopped")
	p.OK("container", "start", name).Has("started: container "+name, "sightings: ready")

	e.Docker(t, "rename", name, name+"-2")
	t.Cleanup(func() { e.Docker(t, "rm", "-f", name+"-2") })
	s = p.Test("sightings").Ends(t, "route", "fail", "container.unknown")
	if !strings.Contains(s.Try(), "gharbor set sightings container="+name+"-2") {
		t.Errorf("the lines to try are\n%s", s.Try())
	}
	p.OK("set", "sightings", "container="+name+"-2")
	p.OK("test", "sightings", "-quiet")
}

// TestRealContainerCompose follows a compose file's service by its labels, whatever its
// container is called, and refuses to choose between two.
func TestRealContainerCompose(t *testing.T) {
	t.Parallel()
	e, p := engineProgram(t)
	name := named(t, "pg")
	labels := []string{"--label", "com.docker.compose.project=fieldstation", "--label", "com.docker.compose.service=counts", "-p", "127.0.0.1::5432"}
	e.Serve(t, name+"-1", counts(labels...))
	p.OK("container", "adopt", name+"-1")
	if text := p.ReadProfiles(); !strings.Contains(text, `container = { project = "fieldstation", service = "counts" }`) || !strings.Contains(text, "[profile.counts]") {
		t.Fatalf("the profile is\n%s", text)
	}
	p.OK("wait", "counts")
	p.Test("counts").Ends(t, "route", "warn", "container.no-volume")
	e.Docker(t, "rename", name+"-1", name+"-7")
	t.Cleanup(func() { e.Docker(t, "rm", "-f", name+"-7") })
	p.Test("counts").Ends(t, "session", "ok", "")
	p.Write(filepath.Join(filepath.Dir(p.Home), "compose.yaml"), "name: fieldstation\nservices:\n  counts:\n    image: postgres\n    environment: {POSTGRES_USER: warden, POSTGRES_DB: sightings, POSTGRES_PASSWORD: \"declared, and read from the container\"}\n")
	p.OK("import", "compose.yaml", "-name", "from-file")
	p.Test("from-file").Ends(t, "session", "ok", "")
	p.OK("export", "counts", "-as", "compose").Has("name: fieldstation", "image: "+testkit.ServerImage)
	e.Serve(t, name+"-8", labels, "sleep", "60")
	s := p.Test("counts").Ends(t, "route", "fail", "container.ambiguous")
	if !strings.Contains(s.SeenText(), name+"-7") || !strings.Contains(s.SeenText(), name+"-8") {
		t.Errorf("seen is\n%s", s.SeenText())
	}
	p.Run("container", "stop", "fieldstation/counts").Want(5).Has("container.ambiguous")
	p.Run("test", "counts", "-override", "container=fieldstation/count").Want(1).Has("container.unknown", `"fieldstation/counts"`)
}

// TestRealContainerStates comes upon containers that are not well.
func TestRealContainerStates(t *testing.T) {
	t.Parallel()
	e, p := engineProgram(t)
	add := func(profile, name string) {
		t.Helper()
		p.OK("add", profile, "-engine", "postgresql", "-container", name, "-user", "warden", "-database", "sightings", "-secret", "container:POSTGRES_PASSWORD")
	}

	t.Run("crash-looping", func(t *testing.T) {
		name := named(t, "pg")
		e.Serve(t, name, counts("--restart", "always", "-p", "127.0.0.1::5432"), "sh", "-c", "echo 'the data folder is of another version'; echo 'root password: "+knotPassword+"'; exit 7")
		add("loops", name)
		var s testkit.Stage
		for range 60 {
			r := p.Test("loops")
			s = r.Stage("route")
			runs := s.Finding == nil || s.Finding.Code != "container.restarting" // it runs for a moment between two tries
			if runs || strings.Contains(s.SeenText(), "could not be read") {     // a busy engine answers late
				time.Sleep(200 * time.Millisecond)
				continue
			}
			s = r.Ends(t, "route", "fail", "container.restarting")
			break
		}
		if s.Finding == nil || !strings.Contains(s.Finding.Cause, "exit code 7") || !strings.Contains(s.SeenText(), "another version") || !strings.Contains(s.SeenText(), "[cut out]") || strings.Contains(s.SeenText(), knotPassword) {
			t.Errorf("the finding is %+v", s.Finding)
		}
		p.Run("wait", "loops", "-within", "2s").Want(1).HasNot("gave up")
	})
	t.Run("ended", func(t *testing.T) {
		name := named(t, "pg")
		e.Serve(t, name, counts("-p", "127.0.0.1::5432"), "sh", "-c", "echo '[Note] [Entrypoint]: GENERATED ROOT PASSWORD: Xk2vQ9rTzz'; echo oh no >&2; exit 3")
		e.Docker(t, "wait", name)
		add("ended", name)
		s := p.Test("ended").Ends(t, "route", "fail", "container.stopped")
		if !strings.Contains(s.Finding.Cause, "exit code 3") || !strings.Contains(s.SeenText(), "GENERATED ROOT PASSWORD: [cut out]") || !strings.Contains(s.SeenText(), "oh no") || strings.Contains(s.SeenText(), "Xk2vQ9rTzz") {
			t.Errorf("the finding is %+v", s.Finding)
		}
		p.Run("wait", "ended", "-within", "30s").Want(1).Has("gave up")
		e.Paste(t, s.Try())
	})
	t.Run("unhealthy", func(t *testing.T) {
		name := named(t, "pg")
		e.Serve(t, name, counts("-p", "127.0.0.1::5432", "-v", name+":/var/lib/postgresql/data", "--health-cmd", "echo no tide today; false", "--health-interval", "1s", "--health-retries", "1"))
		add("unwell", name)
		p.OK("wait", "unwell")
		for range 50 {
			if strings.Contains(fmt.Sprint(scanned(t, p)[name]["health"]), "unhealthy") {
				break
			}
			time.Sleep(200 * time.Millisecond)
		}
		r := p.Test("unwell")
		s := r.Ends(t, "route", "warn", "container.unhealthy")
		if !strings.Contains(s.SeenText(), "no tide today") {
			t.Errorf("seen is\n%s", s.SeenText())
		}
		r.Ends(t, "session", "ok", "")
		e.Paste(t, s.Try())
	})
	t.Run("starting", func(t *testing.T) {
		name := named(t, "pg")
		e.Serve(t, name, counts("-p", "127.0.0.1::5432", "-e", "SLEEP=3"))
		add("starts", name)
		var s testkit.Stage
		for range 20 { // until it has written its first line
			if s = p.Test("starts").Stage("speak"); s.Finding != nil && s.Finding.Code == "container.starting" {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		if s.Finding == nil || s.Finding.Code != "container.starting" || !strings.Contains(s.SeenText(), "files belonging to this database system") {
			t.Errorf("the finding is %+v", s.Finding)
		}
		p.OK("wait", "starts").Has("container.starting", "ready")
	})
	t.Run("another port", func(t *testing.T) { // published is one that nothing listens on
		name := named(t, "pg")
		e.Serve(t, name, counts("-p", "127.0.0.1::5432", "-e", "PORT=5444"))
		add("inside", name)
		for range 600 { // a minute: a container starts slowly beside many others
			if strings.Contains(e.Docker(t, "logs", name), "ready to accept") || strings.Contains(p.Run("test", "inside").Stdout, "ready to accept connections") {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		s := p.Test("inside").Ends(t, "speak", "fail", "speak.closed")
		if !strings.Contains(s.SeenText(), "the container engine accepts") || !strings.Contains(s.SeenText(), "ready to accept connections") {
			t.Errorf("seen is\n%s", s.SeenText())
		}
	})
	t.Run("not for the bridge", func(t *testing.T) {
		name := named(t, "pg")
		e.Serve(t, name, counts("-p", "127.0.0.1::5432", "-e", "POSTGRES_HOST_AUTH_METHOD=reject"))
		add("rejected", name)
		p.Run("wait", "rejected").Want(1)
		s := p.Test("rejected").Ends(t, "login", "fail", "login.host-not-allowed")
		if !regexp.MustCompile(`172\.[0-9.]+ is the container engine's address`).MatchString(s.SeenText()) {
			t.Errorf("seen is\n%s", s.SeenText())
		}
	})
	t.Run("never started", func(t *testing.T) {
		name, other := named(t, "pg"), named(t, "other")
		port := fmt.Sprint(testkit.FreePort(t))
		e.Serve(t, other, []string{"-p", "127.0.0.1:" + port + ":5432"}, "sleep", "60")
		t.Cleanup(func() { e.Docker(t, "rm", "-f", name) })
		e.Docker(t, append(append([]string{"create", "--name", name}, counts("-p", "127.0.0.1:"+port+":5432")...), testkit.ServerImage, "sleep", "60")...)
		add("new", name)
		if s := p.Test("new").Ends(t, "route", "fail", "container.stopped"); !strings.Contains(s.Finding.Cause, "but never started") {
			t.Errorf("the cause is %q", s.Finding.Cause)
		}
		p.Run("container", "start", "new").Want(5).Has("container.port-taken", port, other, "gharbor container stop "+other)
		p.Test("new").Ends(t, "route", "fail", "container.port-taken")
	})
}

// TestRealContainerRoutes reaches servers by every way that a container has.
func TestRealContainerRoutes(t *testing.T) {
	t.Parallel()
	e, p := engineProgram(t)
	network := named(t, "inner")
	e.Docker(t, "network", "create", "--internal", network)
	t.Cleanup(func() { e.Docker(t, "network", "rm", network) })
	port := fmt.Sprint(testkit.FreePort(t))
	for _, c := range []struct {
		word    string
		options []string
		port    string
		route   string
	}{
		{"all", []string{"-p", "5432"}, "", "is published at 127.0.0.1:"},
		{"six", []string{"-p", "[::1]::5432"}, "", "is published at [::1]:"},
		{"bridge", nil, "", "this machine reaches it at 172."},
		{"internal", []string{"--network", network}, "", "this machine reaches it at 172."},
		{"host", []string{"--network", "host", "-e", "PORT=" + port}, port, "on its host's own network, port " + port},
	} {
		t.Run(c.word, func(t *testing.T) {
			name := named(t, "pg")
			e.Serve(t, name, counts(append(c.options, "-v", name+":/var/lib/postgresql/data")...))
			p.OK("container", "adopt", name, c.word)
			if c.port != "" {
				p.OK("set", c.word, "port="+c.port)
			}
			p.OK("wait", c.word)
			if s := p.Test(c.word).Ends(t, "route", "ok", ""); !strings.Contains(s.Detail, c.route) {
				t.Errorf("the route is %q", s.Detail)
			}
		})
	}
	t.Run("none", func(t *testing.T) {
		name := named(t, "pg")
		e.Serve(t, name, counts("--network", "none"))
		p.OK("container", "adopt", name, "none")
		s := p.Test("none").Ends(t, "route", "fail", "container.unpublished")
		if !strings.Contains(s.SeenText(), "it has no network") || !strings.Contains(s.Try(), "-p 127.0.0.1:5432:5432") {
			t.Errorf("the finding is %+v", s.Finding)
		}
		e.Paste(t, s.Try()) // which gives it a network
		p.OK("wait", "none")
	})
}

// TestRealContainerMariaDB has accounts that are not for the bridge's address, a
// password in a file, and one that the image made.
func TestRealContainerMariaDB(t *testing.T) {
	t.Parallel()
	e, p := engineProgram(t)
	file := filepath.Join(t.TempDir(), "ringer")
	if err := os.WriteFile(file, []byte(knotPassword+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	options := func(more ...string) []string {
		return append([]string{"-p", "127.0.0.1::3306", "-v", "/var/lib/mysql", "-v", file + ":/run/secrets/ringer:ro", "-e", "MARIADB_USER=ringer", "-e", "MARIADB_PASSWORD_FILE=/run/secrets/ringer", "-e", "MARIADB_DATABASE=ringing"}, more...)
	}
	near, far, root := named(t, "near"), named(t, "far"), named(t, "root")
	e.Serve(t, near, options())
	e.Serve(t, far, options("-e", "FROM_HOST=127.0.0.1"))
	e.Serve(t, root, []string{"-p", "127.0.0.1::3306", "-e", "MARIADB_RANDOM_ROOT_PASSWORD=1"})

	p.OK("container", "adopt", near, "ringing").Has("MARIADB_PASSWORD_FILE")
	p.OK("wait", "ringing")
	r := p.Test("ringing")
	for range 5 { // of a busy machine
		if f := r.Stage("login").Finding; f != nil && f.Code == "container.engine-slow" {
			r = p.Test("ringing")
		}
	}
	if s := r.Ends(t, "route", "warn", "container.no-volume"); !strings.Contains(s.Finding.Cause, "a volume without a name") {
		t.Errorf("the cause is %q", s.Finding.Cause)
	}
	r.Ends(t, "login", "ok", "")
	if from := fmt.Sprint(r.Facts["secret_source"]); !strings.Contains(from, "file /run/secrets/ringer of the container "+near) {
		t.Errorf("the password is from %q", from)
	}

	p.OK("container", "adopt", far, "far")
	for range 100 {
		if s := p.Test("far").Stage("speak"); s.Finding == nil || s.Finding.Code != "container.starting" && s.Finding.Code != "speak.closed" {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	s := p.Test("far").Ends(t, "speak", "fail", "login.host-not-allowed")
	if !regexp.MustCompile(`172\.[0-9.]+ is the container engine's address`).MatchString(s.SeenText()) || !strings.Contains(s.Try(), "CREATE USER 'ringer'@'172.") {
		t.Errorf("the finding is %+v", s.Finding)
	}

	p.OK("container", "adopt", root, "root").Has("printed it in its log")
	made := ""
	for range 100 {
		if _, after, ok := strings.Cut(e.Docker(t, "logs", root), "GENERATED ROOT PASSWORD: "); ok {
			made, _, _ = strings.Cut(after, "\n")
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	if len(made) < 16 {
		t.Fatalf("the image made %q", made)
	}
	for _, args := range [][]string{{"container", "scan"}, {"test", "root"}, {"container", "stop", "root"}, {"test", "root"}, {"test", "root", "-format", "json"}} {
		p.Run(args...).HasNot(made)
	}
	p.Run("container", "start", "root", "-within", "20s", "-endpoint", e.Endpoint()).Want(1).Has("started: ", "secret.missing").HasNot(made)
}

// TestRealContainerMake makes containers from profiles, and removes them.
func TestRealContainerMake(t *testing.T) {
	t.Parallel()
	e, p := engineProgram(t)
	open := walletFor(p)
	words := func(verb, profile string, more ...string) []string {
		return append(append([]string{"container", verb, profile}, more...), open...)
	}
	image := []string{"-image", testkit.ServerImage, "-mount", "/usr:/usr:ro", "-mount", "/etc:/etc:ro"}
	p.OK(append([]string{"wallet", "reader", "add", "me", "-out", filepath.Join(p.Home, "reader.pin")}, open...)...)
	for engine, entries := range map[string][]string{
		"postgresql": {"made-postgresql"},
		"mariadb":    {"made-mariadb", "made-mariadb-root"},
		"redis":      {"made-redis"},
	} {
		profile, name := "made-"+engine, named(t, engine)
		t.Cleanup(func() {
			e.Docker(t, "rm", "-f", name)
			e.Docker(t, "volume", "rm", "-f", name+"-data", name+"-secrets")
		})
		database := "sightings"
		if engine == "redis" {
			database = "3"
		}
		p.OK("add", profile, "-engine", engine, "-container", name, "-user", "warden", "-database", database)
		p.OK(words("make", profile, image...)...).Has("started: container "+name, profile+": ready")
		r := p.Test(profile)
		r.Ends(t, "route", "ok", "")
		r.Ends(t, "session", "ok", "")
		for _, entry := range entries {
			if mode := e.Docker(t, "exec", name, "stat", "-c", "%a %u", "/run/secrets/"+entry); mode != "600 0" {
				t.Errorf("the secret %s has mode and owner %s", entry, mode)
			}
		}
		password := e.Docker(t, "exec", name, "cat", "/run/secrets/"+entries[0])
		if text := e.Docker(t, "inspect", name); len(password) != generatedHere || strings.Contains(text, password) || strings.Contains(text, "0.0.0.0") {
			t.Errorf("the container is\n%s", text)
		}
		testkit.NoSecretIn(t, filepath.Dir(p.Home), nil, password)
		p.Run("container", "remove", profile).Want(2)
		p.OK("container", "remove", profile, "-yes").Has("its volume " + name + "-data stays")
		p.OK(words("make", profile, image...)...).Has("which exists with data", profile+": ready") // the data, and the password
		p.OK("container", "remove", name, "-yes", "-data")
		if left := e.Docker(t, "volume", "ls", "-q", "--filter", "name="+name); left != "" {
			t.Errorf("left are the volumes %s", left)
		}
	}
}

// generatedHere is the length of a password that container make makes.
const generatedHere = 32
