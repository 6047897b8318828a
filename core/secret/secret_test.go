package secret

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestValueIsHidden prints a secret in every way that Go has, also from inside
// other values.
func TestValueIsHidden(t *testing.T) {
	const canary = "avocet-CANARY-7"
	v := NewValue(canary)
	type holder struct {
		Name   string
		hidden Value
		Open   Value
		ptr    *Value
	}
	h := holder{"x", v, v, &v}
	var out bytes.Buffer
	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x", "%X", "%d", "%T", "%p"} {
		for _, x := range []any{v, &v, h, &h, []Value{v}, map[string]Value{"k": v}, []any{h}, struct{ e error }{fmt.Errorf("%v", v)}} {
			fmt.Fprintf(&out, verb+"\n", x)
		}
	}
	for _, x := range []any{v, h, map[string]Value{"k": v}} {
		data, err := json.Marshal(x)
		if err != nil {
			t.Fatal(err)
		}
		out.Write(data)
	}
	slog.New(slog.NewTextHandler(&out, nil)).Info("x", "v", v, "h", h)
	slog.New(slog.NewJSONHandler(&out, nil)).Info("x", "v", v, "h", h, "p", &v)
	fmt.Fprintln(&out, v, h, &h)
	marshalled, err := v.MarshalText()
	fmt.Fprintln(&out, string(marshalled), err, v.String(), v.GoString())
	text := out.String()
	for _, form := range []string{canary, fmt.Sprintf("%x", canary), fmt.Sprintf("%X", canary), strings.Trim(fmt.Sprint([]byte(canary)), "[]"), "Y2F"} {
		if strings.Contains(text, form) {
			t.Errorf("the secret shows as %q", form)
		}
	}
	if !strings.Contains(text, Hidden) || v.Disclose() != canary {
		t.Error("nothing was printed, or the secret is lost")
	}
	if (Value{}).Present() || !NewValue("").Empty() || v.Empty() || (Value{}).Disclose() != "" {
		t.Error("no secret and an empty one are not told apart")
	}
}

func TestParseSource(t *testing.T) {
	for s, want := range map[string]bool{"ask": true, "none": true, "passfile": true, "passfile:/x": true, "env:PGPW": true, "file:~/x": true, "file:C:\\x": true,
		"": false, "default": false, "env": false, "env:": false, "env:A=B": false, "file": false, "ask:x": false, "none:": false, "knot": false, "passfile:": false, "wallet": true} {
		if Valid(s) != want {
			t.Errorf("%q: %v", s, !want)
		}
		if !want && strings.Contains(Advice(s), "knot") {
			t.Error("the advice repeats what may be a password")
		}
	}
	if s, _ := ParseSource("file:/a:b"); s.Arg != "/a:b" || s.String() != "file:/a:b" {
		t.Errorf("%+v", s)
	}
}

func TestLocateInOrder(t *testing.T) {
	home := t.TempDir()
	asked := 0
	f := &Finder{Home: home, Lookup: func(string) (string, bool) { return "", false },
		Ask: func(context.Context, string) (Value, error) { asked++; return NewValue("typed"), nil }}
	q := Query{Profile: "sightings", Source: Source{Kind: "default"}, Engine: "postgresql", Host: "127.0.0.1", Port: "5432", Database: "sightings", User: "warden", Local: true}
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
		if got := passfileWord(Query{Socket: folder}); got != want {
			t.Errorf("%s: %s", folder, got)
		}
	}
}
