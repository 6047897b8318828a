package compose

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/container/making"
	"gentleharbor/core/profile"
)

// read reads compose files, the texts of "NAME\ntext", the first of them with its
// overrides in order.
func read(t testing.TB, machine map[string]string, files ...string) (*Result, error) {
	t.Helper()
	folder := t.TempDir()
	r := Request{Schema: keys, Machine: machine}
	for _, f := range files {
		name, text, _ := strings.Cut(f, "\n")
		path := filepath.Join(folder, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(name, ".yaml") {
			r.Files = append(r.Files, path)
		}
	}
	return Read(context.Background(), r)
}

// TestPasswords finds the password that a service declares, in each way that there is.
func TestPasswords(t *testing.T) {
	const head = "a.yaml\nname: station\nservices:\n  counts:\n    image: postgres\n    environment: "
	for text, want := range map[string]string{
		head + "{POSTGRES_PASSWORD: knot}\n":     "knot",
		head + "{POSTGRES_PASSWORD: \"${P}\"}\n": "machine",
		head + "[POSTGRES_PASSWORD=$$knot]\n":    "$knot",
		head + "[POSTGRES_PASSWORD]\n":           "machine",
		head + "{POSTGRES_PASSWORD_FILE: /run/secrets/p}\n    secrets: [p]\nsecrets: {p: {file: ./p.txt}}\n":             "from the file",
		head + "{POSTGRES_PASSWORD_FILE: /pw}\n    secrets: [{source: p, target: /pw}]\nsecrets: {p: {file: ./p.txt}}\n": "from the file",
		head + "{POSTGRES_PASSWORD_FILE: /run/secrets/p}\n    secrets: [p]\nsecrets: {p: {environment: P}}\n":            "machine",
		head + "{POSTGRES_PASSWORD_FILE: /run/secrets/p}\n    secrets: [p]\nsecrets: {p: {external: true}}\n":            "!kept outside",
		head + "{POSTGRES_PASSWORD_FILE: /etc/p}\n":                                                                      "!no secret of the service",
		head + "{POSTGRES_PASSWORD_FILE: /run/secrets/p}\n    secrets: [p]\nsecrets: {p: {environment: NONE}}\n":         "!has no value here",
		head + "{POSTGRES_USER: warden}\n": "",
	} {
		result, err := read(t, map[string]string{"P": "machine", "POSTGRES_PASSWORD": "machine"}, text, "p.txt\nfrom the file\nand more\n")
		if err != nil || len(result.Servers) != 1 {
			t.Fatalf("%s: %v", text, err)
		}
		s := result.Servers[0]
		if why, wrong := strings.CutPrefix(want, "!"); wrong && !strings.Contains(s.Trouble, why) || !wrong && s.Password.Disclose() != want {
			t.Errorf("%s has the password %q, %s", text, s.Password.Disclose(), s.Trouble)
		}
	}
}

// TestServers tells servers from what uses them, and reads them in all their parts.
func TestServers(t *testing.T) {
	result, err := read(t, nil, `a.yaml
services:
  base: {image: "mariadb:11", environment: {MARIADB_USER: ringer, MARIADB_DATABASE: ringing}, profiles: [never]}
  rings: {extends: base, profiles: !reset [], ports: ["127.0.0.1:3399:3306"]}
  built: {build: ., ports: ["5432"]}
  odd: {image: postgres, environment: {POSTGRES_USER: warden}, expose: ["5499"]}
  web: {image: saltmarsh/web, environment: {MYSQL_HOST: rings, MYSQL_USER: ringer}, ports: ["80:80"]}
  cache: {image: "docker.io/library/redis:7"}
  second: {image: "mariadb:11", environment: {MARIADB_USER: ringer}, depends_on: [rings]}
  worker: {image: saltmarsh/worker, environment: {MARIADB_USER: ringer, MARIADB_PASSWORD: x}, depends_on: [rings]}
`, "b.yaml\nname: fieldstation\nservices: {rings: {environment: {MARIADB_DATABASE: other}}}\n")
	if err != nil {
		t.Fatal(err)
	}
	var have []string
	for _, s := range result.Servers {
		f := s.Connection(keys, "x")
		words := []string{f.Name}
		for _, set := range f.Sets {
			words = append(words, string(set.Field.Name)+"="+set.Value.Text())
		}
		have = append(have, strings.Join(words, " "))
	}
	want := `built engine=postgresql container=fieldstation/built
cache engine=redis container=fieldstation/cache
odd engine=postgresql container=fieldstation/odd database=warden user=warden port=5499
rings engine=mariadb container=fieldstation/rings database=other user=ringer
second engine=mariadb container=fieldstation/second user=ringer`
	if got := strings.Join(have, "\n"); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if left := strings.Join(result.LeftOut, " "); left != "base (never)" {
		t.Errorf("left out are %s", left)
	}
}

// TestWritten: what is written is read as what it was.
func TestWritten(t *testing.T) {
	for _, engine := range making.MakeableWords(keys.Engines()) {
		w := making.Request{Profile: "counts", Entry: "counts", Engine: keys.Engines().ByWord(engine), User: "war$den", Database: "sightings", Inside: keys.Engines().Port(engine), Port: 40404, Image: making.OfficialImage(keys.Engines().ByWord(engine), ""), Name: "counts"}
		text, files, err := Write("station", "counts", making.Draft(w))
		if err != nil {
			t.Fatal(err)
		}
		result, err := read(t, nil, "a.yaml\n"+string(text), files[0]+"\nknot\n")
		if err != nil || len(result.Servers) != 1 {
			t.Fatalf("%v in\n%s", err, text)
		}
		s, database := result.Servers[0], "sightings"
		if w.Engine.Image.Recipe.Database == "" {
			database = ""
		}
		if d := s.Declaration; d.Engine != engine || d.User != "war$den" || d.Database != database || s.Password.Disclose() != "knot" || len(s.Published) != 1 || s.Published[0] != "40404" {
			t.Errorf("%s came back as %+v, published %v", engine, d, s.Published)
		}
	}
}

// FuzzCompose reads files, whatever is in them: an error that names the file, and no crash.
func FuzzCompose(f *testing.F) {
	f.Add("services:\n  counts:\n    image: postgres:${V:-16}\n    environment: {POSTGRES_USER: warden}\n    ports: ['5432']\n    healthcheck: {test: [CMD, true]}\n")
	f.Add("include: [a.yaml]\nx-a: &a {b: c}\nservices:\n  a: {<<: *a, extends: {service: a}}\n")
	f.Add("services: {a: {image: [], ports: {}, secrets: [1], env_file: [{path: x}]}}\nsecrets: {x: 7}\n")
	f.Add("a: &a [*a]\n")
	f.Add("services:\n  a: !reset null\n  b: !override {image: x}\nname: ${")
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > 4096 {
			return
		}
		_, err := read(t, map[string]string{"V": "1"}, "a.yaml\n"+text)
		var file *profile.FileError
		if err != nil && !errors.As(err, &file) {
			t.Errorf("%q: %v", text, err)
		}
	})
}

// TestMaking: what a container of a service is made of, and what keeps it from being made.
func TestMaking(t *testing.T) {
	result, err := read(t, nil, "a.yaml\nname: station\nservices:\n  counts:\n    image: postgres:16\n    restart: always\n    ports: [\"127.0.0.1:15432:5432\", \"5433:5433\"]\n    environment: {POSTGRES_PASSWORD: knot}\n"+
		"    volumes: [\"data:/var/lib/postgresql/data\", \"./first:/first:ro\", \"/abs:/abs\", {type: volume, source: more, target: /more}, \"/anonymous\"]\n  odd:\n    image: postgres\n    container_name: mine\n    command: sleep\n    environment: {POSTGRES_PASSWORD: x}\n    volumes: [\"~/x:/x\", {type: tmpfs, target: /t}]\n")
	if err != nil || len(result.Servers) != 2 {
		t.Fatal(err)
	}
	m, folder := result.Servers[0].Making, ""
	if len(m.Mounts) == 2 {
		folder = filepath.Dir(m.Mounts[0].Source)
	}
	if m.Name != "station-counts-1" || m.Image != "postgres:16" || !slices.Equal(m.Passed, []string{"restart"}) || len(m.Refused) > 0 || !filepath.IsAbs(folder) ||
		!slices.Equal(m.Mounts, []Mount{{folder + "/first", "/first", true}, {"/abs", "/abs", false}}) || !slices.Equal(m.Ports, []Port{{5432, "127.0.0.1", "15432"}, {5433, "", "5433"}}) ||
		!maps.Equal(m.Volumes, map[string]string{"/var/lib/postgresql/data": "station_data", "/more": "station_more", "/anonymous": "station_counts-data"}) {
		t.Errorf("%+v", m)
	}
	if odd := result.Servers[1].Making; odd.Name != "mine" || len(odd.Refused) != 3 || !slices.Contains(odd.Refused, "command") {
		t.Errorf("%+v", odd)
	}
	uses := fmt.Sprint(m.uses("counts"))
	for _, want := range []string{"postgres:16", "/abs", "every address", "15432"} {
		if !strings.Contains(uses, want) {
			t.Errorf("no %s among the uses %s", want, uses)
		}
	}
	for _, k := range madeOf {
		if !slices.Contains(serviceKeys, k) || slices.Contains(passed, k) {
			t.Errorf("%s is no key of a service, or is of two kinds", k)
		}
	}
	for _, k := range passed {
		if !slices.Contains(serviceKeys, k) {
			t.Errorf("%s is no key of a service", k)
		}
	}
}

// TestDefaultFiles: where no file is named, a variable may, of this machine or of the folder's own.
func TestDefaultFiles(t *testing.T) {
	folder := t.TempDir()
	for name, text := range map[string]string{"compose.yaml": "", "compose.override.yml": "", "prod.yaml": ""} {
		os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600)
	}
	names := func(machine map[string]string) string {
		var all []string
		for _, path := range DefaultFiles(folder, func(name string) (string, bool) { v, ok := machine[name]; return v, ok }) {
			all = append(all, filepath.Base(path))
		}
		return strings.Join(all, " ")
	}
	if got := names(nil); got != "compose.yaml compose.override.yml" {
		t.Errorf("usually %s", got)
	}
	os.WriteFile(filepath.Join(folder, ".env"), []byte("COMPOSE_FILE=compose.yaml:prod.yaml\n"), 0o600)
	if got := names(nil); got != "compose.yaml prod.yaml" {
		t.Errorf("by .env %s", got)
	}
	if got := names(map[string]string{"COMPOSE_FILE": "prod.yaml;" + filepath.Join(folder, "x.yaml"), "COMPOSE_PATH_SEPARATOR": ";"}); got != "prod.yaml x.yaml" {
		t.Errorf("by the machine's %s", got)
	}
}

// TestCopies: a service with several containers says so, since a profile leads to one.
func TestCopies(t *testing.T) {
	path := filepath.Join(t.TempDir(), "compose.yaml")
	os.WriteFile(path, []byte(`services:
  a: {image: "postgres:16", deploy: {replicas: 2}}
  b: {image: "postgres:16", scale: 3}
  c: {image: "postgres:16", scale: 1, deploy: {replicas: 1}}
  d: {image: "postgres:16"}
`), 0o600)
	result, err := Read(t.Context(), Request{Schema: keys, Files: []string{path}})
	if err != nil || len(result.Servers) != 4 {
		t.Fatalf("%+v %v", result, err)
	}
	for i, want := range []string{"runs 2 containers", "runs 3 containers", "", ""} {
		notes := strings.Join(result.Servers[i].Connection(keys, "here").Notes, " ")
		if (notes != "") != (want != "") || !strings.Contains(notes, want) {
			t.Errorf("%s: %q", result.Servers[i].Service, notes)
		}
	}
}

// TestEvidence: a service is a server by its image, port, command or health check; by its variables alone it is similar.
func TestEvidence(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "compose.yaml")
	os.WriteFile(path, []byte(`services:
  image: {image: "postgres:16"}
  dump: {image: "postgres:16", command: "pg_dump -h image", environment: {PGPASSWORD: x}}
  flags: {image: "mysql:8", command: ["--user", "mysql"], environment: {MYSQL_ROOT_PASSWORD: x}}
  command: {image: saltmarsh/own, command: [postgres, -c, fsync=off], environment: {POSTGRES_USER: w, POSTGRES_PASSWORD: x}}
  check: {image: saltmarsh/own, healthcheck: {test: ["CMD-SHELL", "pg_isready -q || exit 1"]}, environment: {POSTGRES_PASSWORD: x}}
  job: {image: saltmarsh/job, environment: {POSTGRES_USER: w, POSTGRES_PASSWORD: x}}
  backup: {image: saltmarsh/mysql-backup, environment: {MYSQL_USER: w, MYSQL_PASSWORD: x}}
  front: {image: saltmarsh/front, ports: ["80:80"], environment: {MYSQL_ROOT_PASSWORD: x}}
  custom: {image: "saltmarsh/mariadb-custom:1"}
  stack: {image: "redis/redis-stack:latest"}
  fork: {image: valkey/valkey}
  exporter: {image: saltmarsh/postgres-exporter, ports: ["9187:9187"]}
  client: {image: saltmarsh/client, environment: {POSTGRES_HOST: image, POSTGRES_PASSWORD: x}}
`), 0o600)
	result, err := Read(t.Context(), Request{Schema: keys, Files: []string{path}})
	if err != nil {
		t.Fatal(err)
	}
	names := func(all []Server) (list []string) {
		for _, s := range all {
			list = append(list, s.Service)
		}
		return list
	}
	if have := names(result.Servers); !slices.Equal(have, []string{"check", "command", "flags", "image"}) {
		t.Errorf("servers are %v", have)
	}
	if have := names(result.Similar); !slices.Equal(have, []string{"backup", "custom", "fork", "job", "stack"}) {
		t.Errorf("similar are %v", have)
	}
}
