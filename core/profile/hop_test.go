package profile

import (
	"errors"
	"strings"
	"testing"
)

const tides = `format = 1

[profile.tides]
engine = "postgresql"
host   = "tide-db.internal.example"   # as the hop knows it
user   = "tidekeeper"

# the way in
[[profile.tides.hop]]
host = "gate.saltmarsh.example"
user = "keeper"
key  = "~/.ssh/gate"

[[profile.tides.hop]]
ssh = "sluice"

[profile.tides.expect]
writable = true

[profile.tides-ro]
like = "tides"

[profile.tides-direct]
like = "tides"
hop  = []
`

func parsed(t *testing.T, text string) *File {
	t.Helper()
	f, err := schema.Parse("/home/w/profiles.toml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

var hopEnv = Environment{Home: "/home/w", Lookup: func(name string) (string, bool) {
	value, ok := map[string]string{"USER": "warden", "GATE": "gate.saltmarsh.example"}[name]
	return value, ok
}}

func TestHops(t *testing.T) {
	f := parsed(t, tides)
	for name, want := range map[string]string{
		"tides": "keeper@gate.saltmarsh.example:22 ssh:sluice", "tides-ro": "keeper@gate.saltmarsh.example:22 ssh:sluice", "tides-direct": "",
	} {
		r := f.Resolve(f.Lookup(name), nil, hopEnv)
		if got := strings.Join(r.HopWords(), " "); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	r := f.Resolve(f.Lookup("tides-ro"), nil, hopEnv)
	key, _ := r.Hops()[0].Get("key")
	if key.Value.Text() != "/home/w/.ssh/gate" || key.Origin.String() != "like tides, profiles.toml:12" {
		t.Errorf("%+v", key)
	}
	if user, ok := r.Hops()[1].Get("user"); ok {
		t.Errorf("the user of an alias is its configuration's business: %+v", user)
	}
	number, field, ok := ParseHopKey("hop.1.port")
	value, err := field.ParseValue("2222")
	if !ok || err != nil {
		t.Fatal(ok, err)
	}
	over := f.Resolve(f.Lookup("tides"), []Override{{Field: field, Value: value, Hop: number}}, hopEnv)
	if got := over.HopWords()[0]; got != "keeper@gate.saltmarsh.example:2222" {
		t.Errorf("overridden: %s", got)
	}
	if missing := f.Resolve(f.Lookup("tides"), []Override{{Field: field, Value: value, Hop: 3}}, hopEnv).MissingHop(); missing != 3 {
		t.Errorf("missing hop: %d", missing)
	}
	own := parsed(t, "[profile.a]\nhost = \"x\"\n[[profile.a.hop]]\nhost = \"${GATE}\"\n")
	if got := own.Resolve(own.Lookup("a"), nil, hopEnv).HopWords()[0]; got != "warden@gate.saltmarsh.example:22" {
		t.Errorf("by default: %s", got)
	}
	unset := parsed(t, "[profile.a]\nhost = \"x\"\n[[profile.a.hop]]\nhost = \"${NO_SUCH}\"\n")
	found := unset.Resolve(unset.Lookup("a"), nil, hopEnv).Problem()
	if found == nil || found.Code != "profile.variable" || !strings.Contains(found.Cause, "hop.1.host") {
		t.Errorf("%+v", found)
	}
}

func TestHopMistakes(t *testing.T) {
	in := func(hop string) string { return "[profile.a]\nhost = \"x\"\n[[profile.a.hop]]\n" + hop }
	for _, c := range []struct {
		text string
		line int
		want string
	}{
		{in("user = \"w\""), 3, "needs host, ssh or proxy"},
		{in("host = \"g\"\nssh = \"g\""), 3, "ssh and host both say where"},
		{in("proxy = \"socks5://127.0.0.1:1080\"\nkey = \"k\""), 3, "key has no meaning for a proxy"},
		{in("proxy = \"socks5://u:p@127.0.0.1:1080\""), 4, "a password is never kept here"},
		{in("proxy = \"ftp://127.0.0.1:1080\""), 4, "expected socks5"},
		{in("hots = \"g\""), 4, `did you mean "host"`},
		{in("password = \"knot\""), 4, "a password is never kept here"},
		{in("host = \"g\"\nsecret = \"passfile\""), 5, "expected a secret source"},
		{in("host = \"g\"\nport = 70000"), 5, "expected a number from 1"},
		{in("host = \"g\"\nagent = \"no\""), 5, "expected true or false"},
		{in("host = \"g\"\nhost-key = \"MD5:aa:bb\""), 5, "expected a fingerprint"},
		{in("host = \"g\"\nalgorithms = [\"ssh-rsb\"]"), 5, "older algorithms by name"},
		{in("host = \"g\"\nhost = \"h\""), 5, "set twice"},
		{in("ssh = \"-oProxyCommand=x\""), 4, "expected the name of a host"},
		{"[profile.a.hop]\nhost = \"g\"", 1, "double brackets: [[profile.a.hop]]"},
		{"[profile.a]\nhop = [{host = \"g\"}]", 2, "a table of its own, [[profile.a.hop]]"},
		{"[profile.a]\nhop.host = \"g\"", 2, "a table of its own: [[profile.a.hop]]"},
		{"[profile.a]\nhop = []\n[[profile.a.hop]]\nhost = \"g\"", 3, "says that there are none"},
		{"[profile.a]\n" + strings.Repeat("[[profile.a.hop]]\nhost = \"g\"\n", MaxHops+1), 2 + 2*MaxHops, "more than 16 hops"},
	} {
		_, err := schema.Parse("profiles.toml", []byte(c.text))
		var mistake *FileError
		if !errors.As(err, &mistake) || mistake.Line != c.line || !strings.Contains(mistake.What, c.want) {
			t.Errorf("%q: %v, want line %d, %q", c.text, err, c.line, c.want)
		}
		if strings.Contains(c.text, "u:p@") && strings.Contains(err.Error(), "u:p") {
			t.Error("a password is repeated")
		}
	}
}

func TestHopEdits(t *testing.T) {
	f := parsed(t, tides)
	set := func(key, text string) Override {
		number, field, _ := ParseHopKey(key)
		if text == "" {
			return Override{Field: field, Hop: number, Unset: true}
		}
		value, err := field.ParseValue(text)
		if err != nil {
			t.Fatal(err)
		}
		return Override{Field: field, Hop: number, Value: value}
	}
	text := func(edit *Edit, err error) string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		data, err := edit.checked()
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	for _, c := range []struct{ got, want string }{
		{text(f.Set("tides", []Override{set("hop.1.port", "2222"), set("hop.1.key", "")})),
			strings.Replace(tides, "user = \"keeper\"\nkey  = \"~/.ssh/gate\"\n", "user = \"keeper\"\nport = 2222\n", 1)},
		{text(f.Set("tides", []Override{set("hop.2.user", "inner")})),
			strings.Replace(tides, "ssh = \"sluice\"\n", "ssh = \"sluice\"\nuser = \"inner\"\n", 1)},
		{text(f.RemoveHop("tides", 1)), strings.Replace(tides, "# the way in\n[[profile.tides.hop]]\nhost = \"gate.saltmarsh.example\"\nuser = \"keeper\"\nkey  = \"~/.ssh/gate\"\n\n", "", 1)},
		{text(f.AddHop("tides", []Override{set("hop.1.host", "third.example")})),
			strings.Replace(tides, "ssh = \"sluice\"\n", "ssh = \"sluice\"\n\n[[profile.tides.hop]]\nhost = \"third.example\"\n", 1)},
		{text(f.AddHop("tides-ro", []Override{set("hop.1.ssh", "sluice")})),
			strings.Replace(tides, "like = \"tides\"\n\n", "like = \"tides\"\n\n[[profile.tides-ro.hop]]\nssh = \"sluice\"\n\n", 1)},
	} {
		if c.got != c.want {
			t.Errorf("got:\n%s\nwant:\n%s", c.got, c.want)
		}
	}
	renamed := parsed(t, text(f.Rename("tides", "ebb")))
	if len(renamed.Lookup("ebb").Hops) != 2 {
		t.Error("a rename lost hops")
	}
	sets, err := f.Copied(f.Lookup("tides"), false, "/home/w")
	if err != nil {
		t.Fatal(err)
	}
	copied := parsed(t, text(f.Add("ebb", sets)))
	if r := copied.Resolve(copied.Lookup("ebb"), nil, hopEnv); strings.Join(r.HopWords(), " ") != "keeper@gate.saltmarsh.example:22 ssh:sluice" {
		t.Errorf("the copy's hops: %v", r.HopWords())
	}
	direct, _ := f.Copied(f.Lookup("tides-direct"), false, "/home/w")
	if again := parsed(t, text(f.Add("flat", direct))); again.Lookup("flat").direct == 0 {
		t.Error("the copy of a profile without hops has its like's")
	}
	if _, err := f.Set("tides", []Override{set("hop.3.port", "1")}); err == nil || !strings.Contains(err.Error(), "no hop 3") {
		t.Errorf("%v", err)
	}
	if removed := text(f.Remove("tides-ro")); strings.Contains(removed, "tides-ro") {
		t.Error("not removed")
	}
}
