//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// generated is a random profile's keys, of an engine.
func generated(r *rand.Rand, engine string) map[string]any {
	one := func(words ...string) string { return words[r.IntN(len(words))] }
	p := map[string]any{
		"engine": engine,
		"user":   one("warden", "a+b", "a b", "möwe", "o'hara", `back\slash`, "50%", "a@b", "a:b", "a$b"),
	}
	if engine == "oracle" {
		p[one("service", "instance")] = one("SKEIN", "skein1")
	} else {
		p["database"] = one("sightings", "x/y", "a b", "a+b", "ring?s", "#1", "möwe", "a&b=c", "it's")
	}
	port := 1024 + r.IntN(60000)
	switch kind := r.IntN(4); {
	case kind == 0 && engine == "postgresql":
		p["hosts"] = []string{fmt.Sprintf("db.example:%d", port), fmt.Sprintf("[2001:db8::1]:%d", port+1), "192.0.2.7:5432"}
		p["target"] = one("any", "writable", "read-only")
	case kind == 1 && engine == "postgresql":
		p["socket"], p["port"] = one("/run/a b", "/run/my+sql", "/run/é"), port
	case kind == 1 && engine != "oracle":
		p["socket"] = one("/run/my sqld.sock", "/run/my+sqld.sock")
	default:
		p["host"], p["port"] = one("db.example", "192.0.2.7", "2001:db8::1", "127.0.0.1"), port
	}
	p["tls"] = one("off", "offered", "required", "verified")
	if p["tls"] == "verified" && r.IntN(2) == 0 {
		p["tls-ca"] = one("/ca/a b.pem", "/ca/a+b.pem", "/ca/plain.pem")
		if engine == "postgresql" {
			p["tls-crl"] = one("/ca/crl.pem", "/ca/the lists")
		}
	}
	if p["tls"] == "verified" && r.IntN(3) == 0 && p["host"] == "192.0.2.7" {
		p["tls-name"] = "db.example"
	}
	if r.IntN(3) == 0 {
		p["tls-cert"], p["tls-key"] = "/c/c d.pem", "/c/c+d.key"
	}
	if engine == "postgresql" && r.IntN(4) == 0 {
		p["tls-start"] = "direct"
	}
	return p
}

// asFile is a profile as its file has it.
func asFile(name string, keys map[string]any) string {
	var text strings.Builder
	fmt.Fprintf(&text, "[profile.%s]\n", name)
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		value := keys[k]
		if s, ok := value.(string); ok && (k == "user" || k == "database" || k == "socket") {
			value = strings.ReplaceAll(s, "$", "$$")
		}
		data, _ := json.Marshal(value)
		fmt.Fprintf(&text, "%s = %s\n", k, strings.ReplaceAll(string(data), `\u0026`, "&"))
	}
	return text.String()
}

// TestRoundTrip: what export writes of a generated profile, import reads back to the same connection, but for what
// export said that the form leaves out.
func TestRoundTrip(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(3, 4))
	p := testkit.NewProgram(t)
	forms := map[string][]string{
		"postgresql": {"url", "env", "dotenv", "service", "json"}, "mysql": {"url", "env", "dotenv", "json"},
		"mariadb": {"url", "env", "dotenv", "json"}, "oracle": {"url", "env", "dotenv", "json"},
	}
	for i := range 60 {
		engine := []string{"postgresql", "postgresql", "mysql", "mariadb", "oracle"}[i%5]
		keys := generated(r, engine)
		file := asFile("x", keys)
		for _, form := range forms[engine] {
			p.Profiles(file)
			want := connection(p, "x")
			out := p.OK("export", "x", "-as", form)
			back := importBack(t, p, form, out.Stdout)
			got := connection(p, back)
			for k, value := range want {
				told := strings.Join(strings.Fields(out.Stderr), " ")
				if fmt.Sprint(got[k]) != fmt.Sprint(value) && !strings.Contains(told, fmt.Sprintf("%s=%v", strings.ReplaceAll(k, "_", "-"), value)) && !strings.Contains(told, "server") {
					t.Errorf("%s of\n%s\nhas %s = %v, and was %v\n%s%s", form, file, k, got[k], value, out.Stdout, out.Stderr)
				}
			}
			for k, value := range got {
				if _, had := want[k]; !had && !strings.Contains(out.Stderr, strings.ReplaceAll(k, "_", "-")+"=") {
					t.Errorf("%s of\n%s\nhas %s = %v, which it had not\n%s", form, file, k, value, out.Stdout)
				}
			}
		}
	}
}

// connection is what export -as json says of a profile, without what no effect depends on.
func connection(p *testkit.Program, name string) map[string]any {
	var document struct{ Connection map[string]any }
	json.Unmarshal([]byte(p.OK("export", name, "-as", "json").Stdout), &document)
	c := document.Connection
	if servers := fmt.Sprint(c["servers"]); strings.HasPrefix(servers, "[/") { // TLS is for TCP
		maps.DeleteFunc(c, func(k string, _ any) bool { return strings.HasPrefix(k, "tls") })
	}
	if c["tls_ca"] == "/etc/ssl/certs/ca-certificates.crt" { // the system's own
		delete(c, "tls_ca")
	}
	if c["target"] == "any" {
		delete(c, "target")
	}
	return c
}

// importBack makes a profile of an exported text, in a home of its own, and returns its name.
func importBack(t *testing.T, p *testkit.Program, form, text string) string {
	t.Helper()
	p.Profiles("")
	path := filepath.Join(p.Home, "exported."+form)
	switch form {
	case "url":
		p.Feed(text, "import", "url", "-name", "back").Want(0)
	case "env":
		shell := *p
		shell.Path = "/bin/sh"
		if r := shell.Run("-c", text+"exec \"$0\" import env -name back", p.Path); r.Code != 0 {
			t.Fatalf("%s\n%s", text, r.Stderr)
		}
	default:
		p.Write(path, text)
		p.OK("import", form, path, "-name", "back")
	}
	return "back"
}

// TestLibrariesRead: what is exported leads libpq, and what a program is given leads the MariaDB library, to the same
// account, database, server and encryption as the profile leads gharbor.
func TestLibrariesRead(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(5, 6))
	users := []string{"warden", "a+b", "a b", "möwe", "o'hara", `back\slash`, "50%", "a@b", "a:b", "a$b"}
	databases := []string{"sightings", "x/y", "a b", "a+b", "ring?s", "#1", "möwe", "a&b=c", "it's"}
	var statements []string
	quoted := func(mark, name string) string { return mark + strings.ReplaceAll(name, mark, mark+mark) + mark }
	for _, name := range users {
		statements = append(statements, "CREATE ROLE "+quoted(`"`, name)+" LOGIN")
	}
	for _, name := range databases {
		statements = append(statements, "CREATE DATABASE "+quoted(`"`, name))
	}
	server := testkit.ThrowAwayWith(t, "local all all trust\nhost all all 127.0.0.1/32 trust\n", statements...)
	p := testkit.NewProgram(t)
	folder := t.TempDir()
	ca := filepath.Join(folder, "a b+c.pem")
	p.Write(ca, p.Read(server.Authority))
	for range 40 {
		keys := map[string]any{
			"engine": "postgresql", "secret": "none", "user": users[r.IntN(len(users))],
			"database": databases[r.IntN(len(databases))], "port": server.Port, "tls": []string{"off", "offered", "required", "verified"}[r.IntN(4)],
		}
		if r.IntN(3) == 0 {
			keys["socket"], keys["tls"] = server.Folder, "offered"
		} else {
			keys["host"] = []string{"127.0.0.1", "localhost"}[r.IntN(2)]
		}
		if keys["tls"] == "verified" {
			keys["tls-ca"], keys["tls-name"] = ca, "sightings.saltmarsh.example"
			if keys["host"] == "localhost" {
				delete(keys, "tls-name")
			}
		}
		p.Profiles(asFile("x", keys))
		ask := "SELECT session_user, current_database(), inet_server_port(), coalesce((SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()), false)"
		want := lastLine(p.OK("query", "x", ask, "-format", "csv").Stdout)
		for _, form := range []string{"url", "env", "service"} {
			text := p.OK("export", "x", "-as", form).Stdout
			script := `exec psql -X -w --csv -t -c "$1"`
			switch form {
			case "url":
				script = `exec psql -X -w --csv -t -c "$1" -d "$2"`
			case "env":
				script = text + script
			case "service":
				path := filepath.Join(folder, "service.conf")
				p.Write(path, text)
				script = "PGSERVICE=x PGSERVICEFILE='" + path + "' " + strings.TrimPrefix(script, "exec ")
			}
			shell := *p
			shell.Path = "/bin/sh"
			got := shell.Run("-c", script, "sh", ask, strings.TrimSpace(text))
			line := strings.NewReplacer(",t", ",true", ",f", ",false").Replace(lastLine(got.Stdout))
			if strings.Count(line, ",") < 3 || line != want && line != strings.NewReplacer(",t", ",true", ",f", ",false").Replace(want) {
				t.Errorf("%s of\n%s\nleads libpq to %s, and gharbor to %s\n%s%s", form, asFile("x", keys), line, want, text, got.Stderr)
			}
		}
	}
}

// TestMariaDBLibraryReads is TestLibrariesRead for the MariaDB library, which gets an option file or variables.
func TestMariaDBLibraryReads(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(7, 8))
	server := testkit.MariaDBServer(t)
	users := []string{"rt warden", "rt+b", "rt#möwe", "rt'o", `rt\slash`, "rt=50%", `rt"q`}
	databases := []string{"rt_plain", "rt x/y", "rt#1", "rt;möwe", "rt'it", `rt"q`, "rt=b"}
	quoted := func(mark, name string) string { return mark + strings.ReplaceAll(name, mark, mark+mark) + mark }
	for _, name := range users {
		text := strings.ReplaceAll(quoted("'", name), `\`, `\\`)
		server.SQL(t, "CREATE USER IF NOT EXISTS "+text+"@'%' IDENTIFIED BY 'knot'", "GRANT ALL ON `rt%`.* TO "+text+"@'%'",
			"CREATE USER IF NOT EXISTS "+text+"@'localhost' IDENTIFIED BY 'knot'", "GRANT ALL ON `rt%`.* TO "+text+"@'localhost'")
	}
	for _, name := range databases {
		server.SQL(t, "CREATE DATABASE IF NOT EXISTS "+quoted("`", name))
	}
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Setenv("LC_ALL", "C.UTF-8") // in which the client reads its option file
	ca := filepath.Join(t.TempDir(), "a b+c#.pem")
	p.Write(ca, p.Read(server.Authority))
	for range 30 {
		keys := map[string]any{
			"engine": "mariadb", "secret": "env:KNOT", "user": users[r.IntN(len(users))], "database": databases[r.IntN(len(databases))],
			"tls": []string{"off", "required", "verified"}[r.IntN(3)],
		}
		if r.IntN(3) == 0 {
			keys["socket"], keys["tls"] = server.Socket, "off"
		} else {
			keys["host"], keys["port"] = []string{"127.0.0.1", "localhost"}[r.IntN(2)], server.Port
		}
		if keys["tls"] == "verified" {
			keys["tls-ca"], keys["host"] = ca, "localhost"
		}
		p.Profiles(asFile("x", keys))
		ask := "SELECT user(), database(), @@port, (SELECT variable_value FROM information_schema.session_status WHERE variable_name = 'Ssl_version') <> ''"
		if keys["socket"] != nil { // where encryption is as the library likes
			ask = "SELECT user(), database(), @@port, @@socket"
		}
		want := strings.ReplaceAll(lastLine(p.OK("query", "x", ask, "-format", "tsv").Stdout), `\\`, `\`)
		got := p.Run("with", "x", "--", server.Client(), "--batch", "--raw", "--skip-column-names", "-e", ask)
		if line := lastLine(got.Stdout); line != want || strings.Count(line, "\t") != 3 {
			t.Errorf("%s\nleads the library to %q, and gharbor to %q\n%s", asFile("x", keys), line, want, got.Stderr)
		}
	}
}

// lastLine is the last line of a text.
func lastLine(text string) string {
	text = strings.TrimSpace(text)
	return text[strings.LastIndexByte(text, '\n')+1:]
}
