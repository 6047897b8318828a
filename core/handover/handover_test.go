package handover

import (
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/mysql/optionfile"
	"gentleharbor/core/engines"
	"gentleharbor/core/profile/connurl"
	"gentleharbor/core/secret"
)

// known are the engines of the program.
var known = engines.All()

func connection(word string) Connection {
	return Connection{Connection: engine.Connection{Profile: "sightings", Spec: known.ByWord(word), Servers: []engine.Endpoint{{Host: "db.saltmarsh.example", Port: 5433}}, Database: "sight/ings", User: "war den",
		Password: secret.NewValue(`Reed:7\"q'@/%`), TLS: "verified", CA: "/ca.pem"}}
}

// TestURL: what is written is read back as the same.
func TestURL(t *testing.T) {
	for _, word := range []string{"postgresql", "mysql"} {
		c := connection(word)
		if _, err := url.Parse(c.URL()); err != nil {
			t.Error(err)
		}
		read, err := connurl.Split(keys, c.URL())
		if err != nil || read.Password.Disclose() != c.Password.Disclose() {
			t.Fatalf("%s: %v", c.URL(), err)
		}
		have := make(map[string]string)
		for _, s := range read.Sets {
			have[string(s.Field.Name)] = s.Value.Text()
		}
		for key, want := range map[string]string{"engine": word, "host": "db.saltmarsh.example", "port": "5433", "database": "sight/ings", "user": "war den", "tls": "verified", "tls-ca": "/ca.pem"} {
			if have[key] != want {
				t.Errorf("%s: %s is %q", word, key, have[key])
			}
		}
	}
}

func TestWords(t *testing.T) {
	c := connection("postgresql")
	c.Servers = append(c.Servers, engine.Endpoint{Host: "::1", Port: 1})
	got, err := c.Words(known, []string{"{host}:{port}", "--x={user}", "{", "}", "{}", "{awk}{print}", "a{database", "{passfile}"}, "/f")
	if want := []string{"db.saltmarsh.example:5433", "--x=war den", "{", "}", "{}", "{awk}{print}", "a{database", "/f"}; err != nil || !slices.Equal(got, want) {
		t.Errorf("%q %v", got, err)
	}
	for _, word := range []string{"{password}", "x{secret}y", "{optionfile}", "{socket}"} {
		if _, err := c.Words(known, []string{word}, "/f"); err == nil || strings.Contains(err.Error(), "Reed") {
			t.Errorf("%s: %v", word, err)
		}
	}
	form, _, err := c.Form(known, "passfile-line")
	if err != nil {
		t.Fatal(err)
	}
	if lines, _ := form.Lines(&c.Connection); len(lines) != 2 || lines[1] != `\:\:1:1:*:war den:Reed\:7\\"q'@/%` {
		t.Errorf("%q", lines)
	}
	if _, known, err := c.Form(known, "nothing"); known || err != nil {
		t.Error("a form that no engine has is known")
	}
	if other := connection("mysql"); true {
		if _, known, err := other.Form(known, "service"); !known || err == nil || !strings.Contains(err.Error(), "mysql") {
			t.Errorf("another engine's form: %v", err)
		}
	}
}

// TestOptionFile: the file is read back as it was meant, and the password stands
// in no other group.
func TestOptionFile(t *testing.T) {
	c := connection("mariadb")
	options, err := optionfile.Parse(written(t, &c))
	if err != nil {
		t.Fatal(err)
	}
	have := make(map[string]string)
	for _, o := range options {
		have[o.Group+"."+o.Name] = o.Value
	}
	if have["client.password"] != c.Password.Disclose() || have["client.user"] != "war den" || have["client.port"] != "5433" || have["mysql.database"] != "sight/ings" {
		t.Errorf("%v", have)
	}
	if _, ok := have["client-mariadb.ssl-verify-server-cert"]; !ok || have["client.ssl-ca"] != "/ca.pem" {
		t.Errorf("%v", have)
	}
	folder := t.TempDir()
	path, _, err := c.Files(folder)
	if info, statErr := os.Stat(path); err != nil || statErr != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", err, statErr)
	}
	line := connection("postgresql")
	line.Password = secret.NewValue("two\nlines")
	if _, _, err := line.Files(folder); err == nil {
		t.Error("a password of two lines went into a password file")
	}
	redis := connection("redis")
	if path, led, err := redis.Files(folder); err != nil || path != "" || len(led) != 1 || led[0].Name != "REDISCLI_AUTH" {
		t.Errorf("%s %d %v", path, len(led), err)
	}
}

// written is the credential file that a program is given.
func written(t *testing.T, c *Connection) []byte {
	path, _, err := c.Files(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// TestElsewhere: programs in the usual folders, with the numbers in their folders,
// the newest first.
func TestElsewhere(t *testing.T) {
	root := t.TempDir()
	for _, path := range []string{"usr/lib/postgresql/9.6/bin/psql", "usr/lib/postgresql/16/bin/psql", "usr/pgsql-15/bin/psql", "snap/bin/psql", "opt/postgres/bin/other"} {
		whole := filepath.Join(root, path)
		os.MkdirAll(filepath.Dir(whole), 0o755)
		os.WriteFile(whole, nil, 0o755)
	}
	os.WriteFile(filepath.Join(root, "usr/lib/postgresql/16/bin/plain"), nil, 0o644)
	var got []string
	for _, one := range Elsewhere(known, "psql", "/home/w", root) {
		got = append(got, one.Version)
	}
	if !slices.Equal(got, []string{"16", "15", "9.6", ""}) {
		t.Errorf("%q", got)
	}
	if len(Elsewhere(known, "plain", "/home/w", root)) > 0 || len(Elsewhere(known, "../x", "/home/w", root)) > 0 {
		t.Error("what can't be run was found")
	}
}
