package profile

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/profile/schema"
	"gentleharbor/internal/testkit/allkeys"
)

// after applies an edit and returns the new text.
func after(t *testing.T, edit *Edit, err error) string {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	text, err := edit.CheckedText()
	if err != nil {
		t.Fatalf("%v in\n%s", err, edit.text())
	}
	return string(text)
}

func TestSetTouchesNothingElse(t *testing.T) {
	f := parse(t, sample)
	edit, err := f.Set("sightings", allkeys.Sets(t, "port=5433", "note=on \"this\" laptop", "tags=local", "database="))
	got := after(t, edit, err)
	want := strings.NewReplacer("port     = 5432", "port     = 5433",
		"[\n  \"local\", # here\n  \"field\",\n]\n", "[\"local\"]\nnote     = \"on \\\"this\\\" laptop\"\n", "database = \"sightings\"\n", "").Replace(sample)
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	edit, err = f.Set("sightings-ro", allkeys.Sets(t, "expect.version=15", "expect.tables=sighting,observer", "host=h.example"))
	got = after(t, edit, err)
	want = strings.NewReplacer("user     = \"visitor\"\n", "user     = \"visitor\"\nhost     = \"h.example\"\n",
		"version  = \">= 14\"\nwritable = false\n", "version  = \"15\"\nwritable = false\ntables   = [\"sighting\", \"observer\"]\n").Replace(sample)
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	edit, err = f.Set("tides", allkeys.Sets(t, "expect.user=tidekeeper", "expect.writable=true", "database=tides"))
	got = after(t, edit, err)
	if want = sample + "database = \"tides\"\n\n[profile.tides.expect]\nuser = \"tidekeeper\"\nwritable = true\n"; got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// TestSetForms edits every way of writing a profile, or refuses clearly.
func TestSetForms(t *testing.T) {
	for _, c := range []struct {
		name, text, set, want string // want "": refused
	}{
		{"empty table", "[profile.a]\n", "host=h", "[profile.a]\nhost = \"h\"\n"},
		{"no line end", "[profile.a]", "host=h", "[profile.a]\nhost = \"h\"\n"},
		{"no line end behind a key", "[profile.a]\nuser=\"u\"", "host=h", "[profile.a]\nuser=\"u\"\nhost = \"h\"\n"},
		{"CRLF", "[profile.a]\r\nuser = \"u\"\r\n\r\n[profile.b]\r\n", "host=h", "[profile.a]\r\nuser = \"u\"\r\nhost = \"h\"\r\n\r\n[profile.b]\r\n"},
		{"indented", "[profile.a]\n  user = \"u\" # me\n\n# b\n[profile.b]\n", "host=h", "[profile.a]\n  user = \"u\" # me\n  host = \"h\"\n\n# b\n[profile.b]\n"},
		{"dotted at the root", "profile.a.user = \"u\"\n", "host=h", "profile.a.user = \"u\"\nprofile.a.host = \"h\"\n"},
		{"dotted under [profile]", "[profile]\na.user = \"u\"\nb.user = \"v\"\n", "host=h", "[profile]\na.user = \"u\"\na.host = \"h\"\nb.user = \"v\"\n"},
		{"dotted, a value", "profile.a.host = \"u\" # here\n", "host=h", "profile.a.host = \"h\" # here\n"},
		{"inline, a value", "[profile]\na = { host = \"g\", user = \"u\" }\n", "host=h", "[profile]\na = { host = \"h\", user = \"u\" }\n"},
		{"inline, a new key", "[profile]\na = { user = \"u\" }\n", "host=h", ""},
		{"inline, unset", "[profile]\na = { host = \"g\", user = \"u\" }\n", "host=", ""},
		{"multi-line value", "[profile.a]\nhost = '''\ng'''\nuser = \"u\"\n", "host=h", "[profile.a]\nhost = \"h\"\nuser = \"u\"\n"},
		{"multi-line value, unset", "[profile.a]\nhost = \"\"\"\\\n  g\"\"\" # c\nuser = \"u\"\n", "host=", "[profile.a]\nuser = \"u\"\n"},
		{"dotted expectation", "[profile.a]\nexpect.user = \"u\"\n", "expect.tls=off", "[profile.a]\nexpect.user = \"u\"\nexpect.tls  = \"off\"\n"},
		{"inline expectation", "[profile.a]\nexpect = { user = \"u\" }\n", "expect.tls=off", ""},
		{"inline expectation, a value", "[profile.a]\nexpect = { user = \"u\" }\n", "expect.user=v", "[profile.a]\nexpect = { user = \"v\" }\n"},
		{"expectations alone", "[profile.a.expect]\nuser = \"u\"\n", "host=h", "[profile.a]\nhost = \"h\"\n\n[profile.a.expect]\nuser = \"u\"\n"},
		{"an equals sign in the key", "[profile.a]\n\"host\" = \"a.b\"\n", "host=h", "[profile.a]\n\"host\" = \"h\"\n"},
		{"template kept as text", "[profile.a]\nport = 1\n", "port=${PORT:-5432}", "[profile.a]\nport = \"${PORT:-5432}\"\n"},
		{"key with a dot in the name", "[profile.\"a\"]\nhost = \"g\"\n", "host=h", "[profile.\"a\"]\nhost = \"h\"\n"},
		{"two addresses", "[profile.a]\nhost = \"g\"\n", "socket=/tmp", ""},
		{"like nobody", "[profile.a]\nhost = \"g\"\n", "like=b", ""},
		{"like itself", "[profile.a]\nhost = \"g\"\n", "like=a", ""},
	} {
		f := parse(t, c.text)
		edit, err := f.Set("a", allkeys.Sets(t, c.set))
		var text []byte
		if err == nil {
			text, err = edit.CheckedText()
		}
		var refused *RequestError
		switch {
		case c.want == "" && !errors.As(err, &refused):
			t.Errorf("%s: not refused: %v\n%s", c.name, err, text)
		case c.want != "" && err != nil:
			t.Errorf("%s: %v", c.name, err)
		case c.want != "" && string(text) != c.want:
			t.Errorf("%s: got\n%q\nwant\n%q", c.name, text, c.want)
		}
	}
}

func TestAddRemoveRenameCopy(t *testing.T) {
	f := parse(t, "")
	edit, err := f.Add("field.notes", allkeys.Sets(t, "engine=postgresql", "host=h", "tags=a,b", "expect.writable=false"))
	first := after(t, edit, err)
	if want := "format = 1\n\n[profile.\"field.notes\"]\nengine = \"postgresql\"\nhost   = \"h\"\ntags   = [\"a\", \"b\"]\n\n[profile.\"field.notes\".expect]\nwritable = false\n"; first != want {
		t.Errorf("got\n%s", first)
	}
	f = parse(t, first)
	edit, err = copied(f, "field.notes", "copy")
	both := after(t, edit, err)
	f = parse(t, both)
	edit, err = f.Remove("field.notes")
	if got, want := after(t, edit, err), strings.ReplaceAll(first, "\"field.notes\"", "copy"); got != want {
		t.Errorf("got\n%q\nwant\n%q", got, want)
	}

	f = parse(t, sample)
	edit, err = f.Rename("sightings", "bird.counts")
	got := after(t, edit, err)
	if want := strings.NewReplacer("[profile.sightings]", "[profile.\"bird.counts\"]", "like     = \"sightings\"", "like     = \"bird.counts\"").Replace(sample); got != want {
		t.Errorf("got\n%s", got)
	}
	for _, text := range []string{"profile.a.host = \"h\"\nprofile.a.expect.user = \"u\"\n", "[profile]\na = { host = \"h\", user = \"u\" }\n"} {
		f := parse(t, text)
		edit, err := f.Rename("a", "b")
		if got := parse(t, after(t, edit, err)); got.Lookup("b") == nil || got.Lookup("a") != nil {
			t.Errorf("rename in %q", text)
		}
		edit, err = f.Remove("a")
		if got := parse(t, after(t, edit, err)); len(got.Profiles) != 0 {
			t.Errorf("remove in %q", text)
		}
	}

	f = parse(t, sample)
	edit, err = f.Remove("sightings-ro")
	got = after(t, edit, err)
	if want := strings.Replace(sample, sample[strings.Index(sample, "[profile.sightings-ro]"):strings.Index(sample, "# by the")], "", 1); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	edit, err = f.Remove("tides")
	if got := after(t, edit, err); strings.Contains(got, "estuary") || !strings.Contains(got, "# the field station") {
		t.Errorf("got\n%s", got)
	}
	if _, err := f.Remove("sightings"); err == nil || !strings.Contains(err.Error(), "is like it") {
		t.Errorf("a profile that another is like was removed: %v", err)
	}
	for what, err := range map[string]error{
		"no profile":  second(f.Remove("sitings")),
		"no name":     second(f.Add("A", nil)),
		"taken":       second(f.Add("tides", nil)),
		"taken again": second(f.Rename("tides", "sightings")),
		"like nobody": second(f.Add("x", allkeys.Sets(t, "like=sitings"))),
	} {
		var refused *RequestError
		if !errors.As(err, &refused) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func second(_ *Edit, err error) error { return err }

func copied(f *File, from, to string) (*Edit, error) {
	sets, err := f.CopyValues(f.Lookup(from), false, "/home/w")
	if err != nil {
		return nil, err
	}
	return f.Add(to, sets)
}

// TestEveryKeyIsCopied: a copy has every key of the tables that the profile sets itself, with its
// path made whole where it goes to another file.
func TestEveryKeyIsCopied(t *testing.T) {
	values := map[string]string{"like": `"base"`, "engine": `"mysql"`, "host": `"h"`, "port": `1`, "hosts": `["a"]`, "socket": `"/s"`, "alias": `"a"`, "container": `"c"`, "secret": `"file:f"`,
		"command": `["./f"]`, "tags": `["t"]`, "tls": `"off"`, "target": `"any"`, "as": `"sysdba"`, "guard": `"ask"`, "endpoint": `"unix:///s"`, "agent": `true`, "algorithms": `["ssh-rsa"]`, "proxy": `"http://a:1"`,
		"key-secret": `"file:f"`, "tls-key-secret": `"file:f"`, "tls-start": `"direct"`, "host-key": `"SHA256:` + strings.Repeat("A", 43) + `"`, "expect.tls": `"off"`, "expect.version": `"15"`, "expect.writable": `true`, "expect.latency": `"1s"`, "expect.indexes": `["note.place_1"]`, "expect.persistent": `true`, "srv": `"_a._tcp.example"`, "sentinel": `"counts@a:1"`}
	text := func(f schema.Field) string {
		if v, ok := values[string(f.Name)]; ok {
			return v
		}
		if f.Kind == schema.List {
			return `["x"]`
		}
		if f.Kind == schema.Number {
			return "1"
		}
		if f.Name == "cloud" {
			return `"x/y"`
		}
		return `"x"`
	}
	for _, hop := range []bool{false, true} {
		fields := keys.Fields()
		if hop {
			fields = schema.HopFields()
		}
		for _, f := range fields {
			head := "[profile.base]\n[profile.p]\n"
			if hop {
				head += "[[profile.p.hop]]\n"
				if !f.InWord || f.Name == "port" || f.Name == "user" {
					head += "host = \"g\"\n"
				}
			}
			from, err := readInto(keys, &File{Path: "/r/gharbor.toml", Root: "/r", Project: true}, []byte(head+string(f.Name)+" = "+text(f)+"\n"))
			if err != nil {
				t.Fatalf("%s: %v", f.Name, err)
			}
			sets, err := from.CopyValues(from.Lookup("p"), false, "/home/w")
			if err != nil {
				t.Fatal(err)
			}
			at := slices.IndexFunc(sets, func(s schema.Override) bool { return s.Field.Name == f.Name && (s.Hop > 0) == hop })
			if at < 0 {
				t.Errorf("%s is lost in a copy", f.Name)
				continue
			}
			if got := sets[at].Value.Text(); f.Path && !f.Address && got != "/r/x" || f.Source && got != "file:/r/f" {
				t.Errorf("%s is copied as %q", f.Name, got)
			}
		}
	}
}
