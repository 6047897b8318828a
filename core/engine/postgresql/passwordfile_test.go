package postgresql

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/core/secret"
)

func TestPasswordFile(t *testing.T) {
	home := t.TempDir()
	asked := 0
	f := &secret.Finder{Home: home, Lookup: func(string) (string, bool) { return "", false },
		Ask: func(context.Context, string) (secret.Value, error) { asked++; return secret.NewValue("typed"), nil }}
	q := secret.Query{Profile: "sightings", Source: secret.Source{Kind: "default"}, Credentials: passwordFile{}, Host: "127.0.0.1", Port: "5432", Database: "sightings", User: "warden", Local: true}
	l, found := f.Locate(t.Context(), q)
	if found != nil || !l.None || len(l.Tried) != 2 || !strings.Contains(l.Tried[0], "no password file") || !strings.Contains(l.Tried[1], "no terminal") {
		t.Errorf("nothing there: %+v %+v", l, found)
	}
	f.Terminal = true
	if l, _ = f.Locate(t.Context(), q); l.None || asked != 0 {
		t.Errorf("a terminal: %+v, asked %d times too early", l, asked)
	}
	if v, err := l.Take(context.Background()); err != nil || v.Disclose() != "typed" || asked != 1 {
		t.Error(err)
	}
	path := filepath.Join(home, ".pgpass")
	os.WriteFile(path, []byte("x:1:y:z:no\n"), 0o600)
	if l, _ = f.Locate(t.Context(), q); l.None || !strings.Contains(strings.Join(l.Tried, "\n"), "no line of the password file") {
		t.Errorf("a miss: %+v", l)
	}
	os.WriteFile(path, []byte("*:*:*:*:knot\n"), 0o600)
	l, found = f.Locate(t.Context(), q)
	if v, err := l.Take(context.Background()); found != nil || err != nil || v.Disclose() != "knot" || !strings.HasSuffix(l.Place, ".pgpass, line 1") {
		t.Errorf("a match: %+v %v", l, err)
	}
	os.WriteFile(path, []byte("x:1:y:z:no\n"), 0o600)
	if _, err := l.Take(context.Background()); err == nil {
		t.Error("a line that is gone was taken")
	}
	os.Chmod(path, 0o644)
	if l, found = f.Locate(t.Context(), q); l != nil || found.Code != "secret.permissions" {
		t.Errorf("a refused file fell through: %+v %+v", l, found)
	}
}

func TestSocketWord(t *testing.T) {
	for folder, want := range map[string]string{"/var/run/postgresql": "localhost", "/run/postgresql": "localhost", "/tmp": "localhost", "/srv/pg": "/srv/pg"} {
		if got := hostWord(secret.Query{Socket: folder}); got != want {
			t.Errorf("%s: %s", folder, got)
		}
	}
}

// TestPut: the password goes to the line for the connection, and is found there again.
func TestPut(t *testing.T) {
	home := t.TempDir()
	f := &secret.Finder{Home: home, Locks: t.TempDir(), Lookup: func(string) (string, bool) { return "", false }}
	q := secret.Query{Profile: "sightings", Host: "db.saltmarsh.example", Port: "5432", Database: "sightings", User: "warden"}
	for _, password := range []string{"knot", `re:ed\`} {
		place, err := passwordFile{}.Put(t.Context(), f, q, secret.NewValue(password))
		if err != nil || place != "password file "+filepath.Join(home, ".pgpass")+", line 1" {
			t.Fatalf("%s %v", place, err)
		}
		l, found := passwordFile{}.Locate(f, q)
		if found != nil {
			t.Fatal(found.Cause)
		}
		if v, err := l.Take(t.Context()); err != nil || v.Disclose() != password {
			t.Errorf("%v", err)
		}
	}
}

// TestRisks names what is less safe in a password file than it could be.
func TestRisks(t *testing.T) {
	home := t.TempDir()
	none := func(string) (string, bool) { return "", false }
	path := filepath.Join(home, ".pgpass")
	os.WriteFile(path, []byte("*:5432:*:warden:knot\nh:5432:*:visitor:\nh:1:d:u:p\n"), 0o600)
	var have []string
	for _, r := range (passwordFile{}).Risks("", none, home) {
		if r.File != path {
			t.Errorf("a risk of %s", r.File)
		}
		have = append(have, map[secret.RiskKind]string{secret.RiskOthers: "others", secret.RiskAnyHost: "any", secret.RiskEmpty: "empty"}[r.Kind])
	}
	if strings.Join(have, " ") != "others any empty" {
		t.Errorf("%q", have)
	}
}
