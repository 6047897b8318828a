package schema

import (
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/engine"
	"gentleharbor/core/engines"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/syntax"
)

var known = New(engines.All())

// TestKeys: what package key names is what there is, and the other way round; a key that is new fails here
// until it has a name that the compiler checks.
func TestKeys(t *testing.T) {
	var tables []string
	for _, table := range [][]Field{known.Fields(), known.AliasFields(), known.CloudFields(), HopFields()} {
		for _, f := range table {
			tables = append(tables, string(f.Name))
		}
	}
	slices.Sort(tables)
	tables = slices.Compact(tables)
	var named []string
	for _, name := range key.All() {
		named = append(named, string(name))
	}
	slices.Sort(named)
	if !slices.Equal(tables, named) {
		t.Errorf("the tables have %q, package key %q", tables, named)
	}
}

// TestEngines: the engines say what keys mean on them.
func TestEngines(t *testing.T) {
	some := New(engine.NewSet(&engine.Spec{Word: "owl"}, engines.All().ByWord("mysql")))
	if f := some.Field(key.Engine); !f.Fits("owl") || strings.Contains(f.Summary, "owl") || f.Fits("") {
		t.Errorf("an engine that can't be tested is kept and not tried: %s", f.Summary)
	}
	if f := known.Field(key.Service); !strings.HasSuffix(f.Summary, "(oracle)") {
		t.Errorf("%s", f.Summary)
	}
	if f := known.Field(key.As); !f.Fits("sysdba") || f.Fits("root") {
		t.Error("the rights are not those of the engines")
	}
}

// TestValues: what each kind of field takes, and what is told of the rest repeats no value.
func TestValues(t *testing.T) {
	for _, c := range []struct {
		name  key.Name
		text  string
		wrong string // "" where it is right
	}{
		{key.Host, "db.saltmarsh.example", ""}, {key.Host, "::1", ""}, {key.Host, "a:1", "give the port separately"},
		{key.Host, "postgresql://h", "found a URL"}, {key.Host, "/tmp", "socket"}, {key.Host, "[::1]", "without brackets"}, {key.Host, "a,b", "for several use"},
		{key.Port, "5432", ""}, {key.Port, "0", "1 to 65535"}, {key.Port, "${PORT}", ""}, {key.Port, "$PORT", "a single $"},
		{key.Hosts, "a, b:1", ""}, {key.Hosts, `["a", "b:1"]`, ""}, {key.Hosts, `["a]`, "a list"}, {key.Hosts, ",", "a list"}, {key.Hosts, "a:x", "a list"},
		{key.TLS, "verifed", `did you mean "verified"?`}, {key.TLS, "off", ""},
		{key.Container, "station/rings", ""}, {key.Container, "-x", "container's name"},
		{key.Endpoint, "unix:///run/x.sock", ""}, {key.Endpoint, "tcp://h", "tcp://HOST:PORT"},
		{key.Secret, "env:X", ""}, {key.Secret, "knotknot", "not the password"}, {key.User, "a\x07b", "control characters"},
		{key.Database, "postgresql://u:knotknot@h/x", "looks like a connection URL"},
		{key.ExpectVersion, ">= 14, < 17", ""}, {key.ExpectVersion, "new", "versions"}, {key.ExpectLatency, "50ms", ""}, {key.ExpectLatency, "-1s", "a time"},
		{key.ExpectWritable, "true", ""}, {key.ExpectWritable, "yes", "true or false"}, {key.Like, "project:tides", ""}, {key.Like, "No Name", "name"},
		{key.Tags, "a,b", ""}, {key.Alias, "service:x", ""}, {key.Alias, "x y", "alias"},
	} {
		v, err := known.Field(c.name).ParseValue(c.text)
		switch {
		case c.wrong == "" && err != nil:
			t.Errorf("%s %q: %v", c.name, c.text, err)
		case c.wrong != "" && (err == nil || !strings.Contains(err.Error(), c.wrong) || strings.Contains(err.Error(), "knotknot")):
			t.Errorf("%s %q: %v, want %q", c.name, c.text, err, c.wrong)
		case err == nil && v.TOML() == "":
			t.Errorf("%s %q is written as nothing", c.name, c.text)
		}
	}
}

// TestWords: keys that are none are told of with the nearest one, and never as a password.
func TestWords(t *testing.T) {
	for text, want := range map[string]string{
		known.UnknownKey("hostt"): `did you mean "host"?`, known.UnknownKey("expect.q"): "an expectation is one of", known.UnknownKey("passwd"): syntax.NoPasswordHere,
		known.UnknownKey("zzz"): "help set", known.UnknownAliasKey("adresses"): `did you mean "addresses"?`, known.UnknownAliasKey("host"): "addresses =",
		UnknownHopKey("hst"): `did you mean "host"?`, UnknownHopKey("password"): "hold no passwords",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("%q does not say %q", text, want)
		}
	}
	number, f, ok := ParseHopKey("hop.2.host-key")
	if !ok || number != 2 || f.Name != key.HostKey {
		t.Errorf("%d %v %v", number, f, ok)
	}
	o := Override{Field: f, Hop: 2, Value: TextValue("x")}
	if o.String() != "hop.2.host-key=x" {
		t.Error(o.String())
	}
	if a, b := TwoAddresses([]Override{{Field: known.Field(key.Host)}, {Field: known.Field(key.Socket)}}); a != "host" || b != "socket" {
		t.Errorf("%s %s", a, b)
	}
	for text, want := range map[string]string{"~/x": "/home/w/x", "x": "/base/x", "/x": "/x", "": ""} {
		if got := known.Field(key.TLSCA).AbsolutePath(text, "/base", "/home/w"); got != want {
			t.Errorf("%q is %q", text, got)
		}
	}
	if got := known.Field(key.Secret).AbsolutePath("optionfile:x#g", "/base", "/home/w"); got != "optionfile:/base/x#g" {
		t.Error(got)
	}
}
