package resolve

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/address"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/internal/testkit/allkeys"
)

// The samples of the files, as package profile has them.
var (
	sample = sampleFile("profiles.toml")
	skein  = sampleFile("aliases.toml")
)

func sampleFile(name string) string {
	data, err := os.ReadFile("../testdata/" + name)
	if err != nil {
		panic(err)
	}
	return string(data)
}

// aliasFile reads the text of an aliases.toml.
func aliasFile(t testing.TB, text string) *profile.File {
	t.Helper()
	home := profile.Home{Dir: t.TempDir(), Schema: keys}
	if err := os.WriteFile(home.AliasesPath(), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := home.LoadAliases()
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func parsed(t *testing.T, text string) *profile.File {
	t.Helper()
	f, err := profile.Parse(keys, "/home/w/profiles.toml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

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

func parse(t *testing.T, text string) *profile.File {
	t.Helper()
	f, err := profile.Parse(keys, "profiles.toml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// chains is a profile.Aliases of one chain.
type chains struct{ all *address.Chain }

func (c chains) Chain(string, *Profile) (*address.Chain, *finding.Finding) { return c.all, nil }

func (c chains) HostEntry(string, *Profile) (profile.HostEntry, bool) {
	return profile.HostEntry{}, false
}

// TestThroughAlias: what the profile sets wins over the alias, and the alias over the
// engine's defaults; the origin says which.
func TestThroughAlias(t *testing.T) {
	f := aliasFile(t, "[alias.old]\nalias = \"skein\"\ntls = \"required\"\n[alias.skein]\nengine = \"oracle\"\naddresses = [\"archive-a.saltmarsh.example\", \"127.0.0.1:1\"]\nservice = \"SKEIN\"\ntls = \"verified\"\ntls-ca = \"ca.pem\"\n")
	f.Path = "/etc/team/aliases.toml"
	p, err := profile.Parse(keys, "profiles.toml", []byte("[profile.archive]\nalias = \"old\"\nuser = \"curator\"\nservice = \"OTHER\"\n[profile.direct]\nlike = \"archive\"\nhost = \"db.example\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	env := Environment{Aliases: chains{&address.Chain{Links: []*profile.Alias{f.AliasNamed("old"), f.AliasNamed("skein")}}}}
	r := Resolve(p, p.Lookup("archive"), nil, env)
	for k, want := range map[string]string{
		"engine": "oracle alias skein, aliases.toml:5", "service": "OTHER profiles.toml:4", "tls": "required alias old, aliases.toml:3",
		"tls-ca": "/etc/team/ca.pem alias skein, aliases.toml:9", "port": "1521 default: oracle's usual port", "target": "any default: the first that serves", "note": " ",
	} {
		e, ok := r.Get(key.Name(k))
		if got := fmt.Sprintf("%s %s", e.Value.Text(), e.Origin); ok && got != want || !ok && want != " " {
			t.Errorf("%s: %q, want %q", k, got, want)
		}
	}
	if got := r.Hosts(); len(got) != 2 || got[0].Port != 1521 || got[1].Port != 1 || r.Local() || !r.Lists("ARCHIVE-A.saltmarsh.example", 1521) || r.Lists("archive-a.saltmarsh.example", 1) {
		t.Errorf("%v", got)
	}
	if r := Resolve(p, p.Lookup("archive"), []schema.Override{{Field: keys.Field(key.Service), Unset: true}}, env); r.Text(key.Service) != "SKEIN" {
		t.Errorf("without the profile's own service: %q", r.Text(key.Service))
	}
	if d := Resolve(p, p.Lookup("direct"), nil, env); d.Address().Key != "host" || d.Text(key.Engine) != "" || d.Service() != nil {
		t.Errorf("a host of its own, and still %q by %q", d.Text(key.Engine), d.Address().Key)
	}
}

// TestContainerForms: a container is named in three ways, and edited in each.
func TestContainerForms(t *testing.T) {
	const head = "format = 1\n\n[profile.ringing]\nengine = \"mariadb\"\n"
	byName := schema.Container{Name: "saltmarsh-ringing"}
	byLabels := schema.Container{Project: "station", Service: "rings"}
	for text, want := range map[string]schema.Container{
		"container = \"saltmarsh-ringing\" # on this laptop\n":                          byName,
		"container = { project = \"station\", service = \"rings\" } # on this laptop\n": byLabels,
		"container.service = \"rings\"\ncontainer.project = \"station\"\n":              byLabels,
		"[profile.ringing.container]\nproject = \"station\"\nservice = \"rings\"\n":     byLabels,
	} {
		f := parse(t, head+text)
		r := Resolve(f, f.Lookup("ringing"), nil, Environment{Lookup: func(string) (string, bool) { return "", false }})
		if have, ok := address.ContainerOf(r); !ok || have != want || r.Address().Key != "container" || !r.Local() || r.Text(key.TLS) != "offered" {
			t.Errorf("%s is %+v, %q, local %v, tls %s", text, have, r.Address().Key, r.Local(), r.Text(key.TLS))
		}
		if far := Resolve(f, f.Lookup("ringing"), allkeys.Sets(t, "endpoint=tcp://far.saltmarsh.example:2376"), Environment{Lookup: func(string) (string, bool) { return "", false }}); far.Local() || far.Text(key.TLS) != "verified" {
			t.Errorf("at an engine elsewhere the rule is %s", far.Text(key.TLS))
		}
		for set, line := range map[string]string{"container=other": `container = "other"`, "container=a/b": `container = { project = "a", service = "b" }`} {
			edit, err := f.Set("ringing", allkeys.Sets(t, set))
			if err != nil {
				if !strings.Contains(text, "\ncontainer") && !strings.HasPrefix(text, "[") && !strings.HasPrefix(text, "container.") {
					t.Errorf("%s in\n%s: %v", set, text, err)
				} else if !strings.Contains(err.Error(), "change it by hand") {
					t.Errorf("%s in\n%s: %v", set, text, err)
				}
				continue
			}
			if got := after(t, edit, nil); !strings.Contains(got, line) || strings.Contains(text, "#") && !strings.Contains(got, line+" # on this laptop\n") {
				t.Errorf("%s in\n%s came to\n%s", set, text, got)
			}
		}
		edit, err := f.Set("ringing", allkeys.Sets(t, "container=", "host=127.0.0.1"))
		if err != nil {
			continue
		}
		if got := after(t, edit, nil); strings.Contains(got, "container") {
			t.Errorf("taken away it is\n%s", got)
		}
	}
	for word, ok := range map[string]bool{"saltmarsh-ringing": true, "a/b": true, "Station/b": false, "a/b/c": false, "": false, "-x": false, "a b": false, "a/": false, "/b": false} {
		if _, have := schema.ParseContainer(word); have != ok {
			t.Errorf("%q is a container: %v", word, have)
		}
	}
	for word, ok := range map[string]bool{"unix:///run/docker.sock": true, "tcp://127.0.0.1:2375": true, "tcp://[::1]:2375": true, "tcp://h.example:2376/": true,
		"unix://run/x": false, "unix:///": false, "unix:///a/../b": false, "tcp://h": false, "tcp://u:p@h:1": false, "tcp://h:0": false, "http://h:1": false, "ssh://h": false, "": false} {
		if syntax.ValidEndpoint(word) != ok {
			t.Errorf("%q is an endpoint: %v", word, !ok)
		}
	}
}

func TestResolve(t *testing.T) {
	f := parse(t, sample)
	env := Environment{Home: "/home/w", Lookup: func(name string) (string, bool) {
		v, ok := map[string]string{"STATION": "creek.example", "PORT": "6000", "DB_PASSWORD": "avocet", "EMPTY": ""}[name]
		return v, ok
	}}
	r := Resolve(f, f.Lookup("sightings-ro"), nil, env)
	for k, want := range map[string]string{
		"user": "visitor|profiles.toml:19", "host": "127.0.0.1|like sightings, profiles.toml:7", "database": "sightings|like sightings, profiles.toml:10",
		"tls": "offered|default: the address is on this machine", "expect.version": ">= 14|profiles.toml:22", "tags": "local,field|like sightings, profiles.toml:12",
		"secret": "default|default: passfile, then an open wallet, then ask if there is a terminal",
	} {
		e, _ := r.Get(key.Name(k))
		if got := e.Value.Text() + "|" + e.Origin.String(); got != want {
			t.Errorf("%s: %s, want %s", k, got, want)
		}
	}
	r = Resolve(f, f.Lookup("tides"), nil, env)
	if got := fmt.Sprint(r.Hosts()); got != "[{10.0.0.1 5432} {2001:db8::1 5433}]" || r.Text(key.TLS) != "verified" || r.Text(key.Database) != "tidekeeper" {
		t.Errorf("%s %s %s", got, r.Text(key.TLS), r.Text(key.Database))
	}
	over := func(pairs ...string) []schema.Override {
		var all []schema.Override
		for i := 0; i < len(pairs); i += 2 {
			field := keys.Field(key.Name(pairs[i]))
			v, err := field.ParseValue(pairs[i+1])
			if err != nil && pairs[i+1] != "" {
				t.Fatal(err)
			}
			all = append(all, schema.Override{Field: field, Value: v, Unset: pairs[i+1] == ""})
		}
		return all
	}
	r = Resolve(f, f.Lookup("sightings-ro"), over("socket", "/run/pg", "user", ""), env)
	if _, ok := r.Get(key.Host); ok || r.Text(key.Socket) != "/run/pg" || r.Address().Key != "socket" || r.Text(key.User) != "" {
		t.Errorf("override: %+v", r.Values())
	}
	for _, c := range []struct{ k, template, want, shown string }{
		{"host", "${STATION}", "creek.example", "${STATION} = creek.example"},
		{"host", "${NONE:-gate.example}", "gate.example", "${NONE:-gate.example} = gate.example"},
		{"host", "${EMPTY:-gate.example}", "gate.example", "${EMPTY:-gate.example} = gate.example"},
		{"port", "${PORT}", "6000", "${PORT} = 6000"},
		{"database", "a$$b", "a$b", "a$$b = a$b"},
		{"user", "${DB_PASSWORD}", "avocet", "${DB_PASSWORD}"},
	} {
		r := Resolve(f, f.Lookup("sightings"), over(c.k, c.template), env)
		if e, _ := r.Get(key.Name(c.k)); r.Problem() != nil || e.Value.Text() != c.want || e.Display() != c.shown {
			t.Errorf("%s: %q %q %v", c.template, e.Value.Text(), e.Display(), r.Problem())
		}
	}
	for _, template := range []string{"${NONE}", "${EMPTY}"} {
		if r := Resolve(f, f.Lookup("sightings"), over("host", template), env); r.Problem() == nil || r.Problem().Code != "profile.variable" {
			t.Errorf("%s: %+v", template, r.Problem())
		}
	}
	if r := Resolve(f, f.Lookup("sightings"), over("port", "${STATION}"), env); r.Problem() == nil || strings.Contains(r.Problem().Cause, "creek") {
		t.Errorf("a port that is no number: %+v", r.Problem())
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("[profile]\na = { host = \"h\", expect = {} }\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := profile.Parse(keys, "profiles.toml", data)
		if err != nil {
			if strings.ContainsAny(err.Error(), "\n\x1b") {
				t.Errorf("%q", err)
			}
			return
		}
		for _, p := range file.Profiles {
			Resolve(file, p, nil, Environment{Lookup: func(string) (string, bool) { return "", false }})
			// Whatever the file looks like, an edit does just what was asked or nothing.
			note := keys.Field(key.Note)
			if edit, err := file.Set(p.Name, []schema.Override{{Field: note, Value: schema.TextValue("x")}}); err == nil {
				if text, err := edit.CheckedText(); err == nil {
					again, err := profile.Parse(keys, "profiles.toml", text)
					if err != nil || again.Lookup(p.Name).Text(key.Note) != "x" {
						t.Errorf("the edit of %q went wrong: %q", data, text)
					}
				}
			}
		}
	})
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
		r := Resolve(f, f.Lookup(name), nil, hopEnv)
		if got := strings.Join(r.HopWords(), " "); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	r := Resolve(f, f.Lookup("tides-ro"), nil, hopEnv)
	k, _ := r.Hops()[0].Get(key.Key)
	if k.Value.Text() != "/home/w/.ssh/gate" || k.Origin.String() != "like tides, profiles.toml:12" {
		t.Errorf("%+v", k)
	}
	if user, ok := r.Hops()[1].Get(key.User); ok {
		t.Errorf("the user of an alias is its configuration's business: %+v", user)
	}
	number, field, ok := schema.ParseHopKey("hop.1.port")
	value, err := field.ParseValue("2222")
	if !ok || err != nil {
		t.Fatal(ok, err)
	}
	over := Resolve(f, f.Lookup("tides"), []schema.Override{{Field: field, Value: value, Hop: number}}, hopEnv)
	if got := over.HopWords()[0]; got != "keeper@gate.saltmarsh.example:2222" {
		t.Errorf("overridden: %s", got)
	}
	if missing := Resolve(f, f.Lookup("tides"), []schema.Override{{Field: field, Value: value, Hop: 3}}, hopEnv).MissingHop(); missing != 3 {
		t.Errorf("missing hop: %d", missing)
	}
	own := parsed(t, "[profile.a]\nhost = \"x\"\n[[profile.a.hop]]\nhost = \"${GATE}\"\n")
	if got := Resolve(own, own.Lookup("a"), nil, hopEnv).HopWords()[0]; got != "warden@gate.saltmarsh.example:22" {
		t.Errorf("by default: %s", got)
	}
	unset := parsed(t, "[profile.a]\nhost = \"x\"\n[[profile.a.hop]]\nhost = \"${NO_SUCH}\"\n")
	found := Resolve(unset, unset.Lookup("a"), nil, hopEnv).Problem()
	if found == nil || found.Code != "profile.variable" || !strings.Contains(found.Cause, "hop.1.host") {
		t.Errorf("%+v", found)
	}
}

func TestHopEdits(t *testing.T) {
	f := parsed(t, tides)
	set := func(k, text string) schema.Override {
		number, field, _ := schema.ParseHopKey(k)
		if text == "" {
			return schema.Override{Field: field, Hop: number, Unset: true}
		}
		value, err := field.ParseValue(text)
		if err != nil {
			t.Fatal(err)
		}
		return schema.Override{Field: field, Hop: number, Value: value}
	}
	text := func(edit *profile.Edit, err error) string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		data, err := edit.CheckedText()
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	for _, c := range []struct{ got, want string }{
		{text(f.Set("tides", []schema.Override{set("hop.1.port", "2222"), set("hop.1.key", "")})),
			strings.Replace(tides, "user = \"keeper\"\nkey  = \"~/.ssh/gate\"\n", "user = \"keeper\"\nport = 2222\n", 1)},
		{text(f.Set("tides", []schema.Override{set("hop.2.user", "inner")})),
			strings.Replace(tides, "ssh = \"sluice\"\n", "ssh = \"sluice\"\nuser = \"inner\"\n", 1)},
		{text(f.RemoveHop("tides", 1)), strings.Replace(tides, "# the way in\n[[profile.tides.hop]]\nhost = \"gate.saltmarsh.example\"\nuser = \"keeper\"\nkey  = \"~/.ssh/gate\"\n\n", "", 1)},
		{text(f.AddHop("tides", []schema.Override{set("hop.1.host", "third.example")})),
			strings.Replace(tides, "ssh = \"sluice\"\n", "ssh = \"sluice\"\n\n[[profile.tides.hop]]\nhost = \"third.example\"\n", 1)},
		{text(f.AddHop("tides-ro", []schema.Override{set("hop.1.ssh", "sluice")})),
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
	sets, err := f.CopyValues(f.Lookup("tides"), false, "/home/w")
	if err != nil {
		t.Fatal(err)
	}
	copied := parsed(t, text(f.Add("ebb", sets)))
	if r := Resolve(copied, copied.Lookup("ebb"), nil, hopEnv); strings.Join(r.HopWords(), " ") != "keeper@gate.saltmarsh.example:22 ssh:sluice" {
		t.Errorf("the copy's hops: %v", r.HopWords())
	}
	direct, _ := f.CopyValues(f.Lookup("tides-direct"), false, "/home/w")
	if again := parsed(t, text(f.Add("flat", direct))); !again.Lookup("flat").NoHops() {
		t.Error("the copy of a profile without hops has its like's")
	}
	if _, err := f.Set("tides", []schema.Override{set("hop.3.port", "1")}); err == nil || !strings.Contains(err.Error(), "no hop 3") {
		t.Errorf("%v", err)
	}
	if removed := text(f.Remove("tides-ro")); strings.Contains(removed, "tides-ro") {
		t.Error("not removed")
	}
}

// TestChain: the first link that sets a key counts, and the last says where the service lives.
func TestChain(t *testing.T) {
	f := aliasFile(t, skein)
	a := f.AliasNamed("skein")
	chain := &address.Chain{Links: []*profile.Alias{f.AliasNamed("old-skein"), a}}
	if got := chain.Addresses(1522); len(got) != 2 || got[1] != (address.HostPort{Host: "archive-b.saltmarsh.example", Port: 1522}) || chain.Retries() != 2 || chain.Text(key.Service) != "SKEIN" {
		t.Errorf("%v, %d", got, chain.Retries())
	}
}

// after is a file's text after an edit.
func after(t *testing.T, edit *profile.Edit, err error) string {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	text, err := edit.CheckedText()
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestProjects: a project's profile is judged by itself, unexpanded, and nothing of it is used before.
func TestProjects(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "gharbor.toml")
	text := "[profile.shared]\nengine = \"postgresql\"\nhost = \"${HOST}\"\ncommand = [\"./unlock\", \"x\"]\nsecret = \"command\"\ntls-ca = \"ca.pem\"\n[[profile.shared.hop]]\nhost = \"gate\"\nuser = \"keeper\"\nsecret = \"command:./ask gate\"\n"
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	project, err := profile.LoadProject(keys, profile.Place{Path: path, Root: folder})
	if err != nil {
		t.Fatal(err)
	}
	f := parse(t, "[profile.mine]\nlike = \"project:shared\"\nuser = \"warden\"\n")
	f.Attach(project)
	judged, good := 0, false
	env := Environment{Home: "/home/w", Lookup: func(string) (string, bool) { return "db.example", true }, Vouch: func(sealed *Profile) *finding.Finding {
		if v, ok := sealed.WrittenValue(key.Host); !ok || v.Text() != "${HOST}" {
			t.Errorf("it is judged by %q", v.Text())
		}
		if judged++; good {
			return nil
		}
		return NotVouched("shared")
	}}
	r := Resolve(f, f.Lookup("mine"), nil, env)
	if r.Vouched() || r.WhyNotVouched() == nil || r.Problem() == nil || r.Text(key.Host) == "db.example" || r.Own() || r.Recheck() == nil || r.ProjectProfile() == nil {
		t.Errorf("before it is vouched for: %q", r.Text(key.Host))
	}
	good = true
	r = Resolve(f, f.Lookup("mine"), nil, env)
	if !r.Vouched() || r.Problem() != nil || r.Text(key.Host) != "db.example" || r.Recheck()() != nil {
		t.Errorf("after: %q, %+v", r.Text(key.Host), r.Problem())
	}
	if words := r.Command(); len(words) != 2 || words[0] != filepath.Join(folder, "unlock") || r.SecretFolder() != folder || r.Root() != "" || r.Text(key.TLSCA) != filepath.Join(folder, "ca.pem") {
		t.Errorf("%q in %s", words, r.SecretFolder())
	}
	hop := r.Hops()[0]
	if words := hop.Command(key.Secret); len(words) != 2 || words[0] != filepath.Join(folder, "ask") || hop.Folder() != folder || !hop.Project() || hop.Port() != 22 || hop.Line() == 0 || hop.File() != path {
		t.Errorf("%q of %s", words, hop.File())
	}
	if hop.Owner() != "project:shared" || hop.Profile() != "mine" || hop.BoundWord() == "" || len(r.BoundHops()) != 1 || hop.Recheck() == nil || len(hop.Values()) == 0 || hop.PinnedFiles() != nil {
		t.Errorf("%s %s", hop.Owner(), hop.BoundWord())
	}
	r.Pin(map[string][]byte{"x": nil})
	if len(r.PinnedFiles()) != 1 || r.File() != f || r.Path() == "" || r.Folder() != filepath.Dir(r.Path()) || r.Home() != "/home/w" {
		t.Errorf("%s %s", r.Path(), r.Folder())
	}
	names, command := r.NamedVariables()
	if !slices.Contains(names, "HOST") || !command || len(r.Values()) < 5 {
		t.Errorf("%q %v", names, command)
	}
}

// TestValues: what stands in no file is resolved like what does.
func TestValues(t *testing.T) {
	r := Values(keys, "address", allkeys.Sets(t, "engine=mysql", "host=db.example", "user=warden"), Environment{})
	if r.Port() != 3306 || r.Engine().Word != "mysql" || r.Address().Key != "host" || r.AliasProblem() != nil || address.PortOverride(r) || r.Problem() != nil {
		t.Errorf("%d %+v", r.Port(), r.Problem())
	}
	r = Values(keys, "address", allkeys.Sets(t, "alias=none"), Environment{})
	if r.AliasProblem() == nil || address.SRVDomain("_db._tcp.saltmarsh.example.") != "saltmarsh.example" {
		t.Error("an alias of nowhere leads somewhere")
	}
}

// TestSelection: what is chosen by tag and engine, with what is overridden for all of them.
func TestSelection(t *testing.T) {
	f, err := profile.Parse(keys, "profiles.toml", []byte("[profile.a]\nengine = \"mysql\"\ntags = [\"field\"]\n[profile.b]\nengine = \"mariadb\"\ntags = [\"field\", \"old\"]\n[profile.c]\n"))
	if err != nil {
		t.Fatal(err)
	}
	env := Environment{Lookup: func(string) (string, bool) { return "", false }}
	over := []schema.Override{{Field: keys.Field(key.Engine), Value: schema.TextValue("oracle")}}
	for want, s := range map[string]Selection{"a b c": {}, "a b": {Tag: "field"}, "a": {Engine: "mysql"}, "b": {Tag: "old", Engine: "mariadb"}, "": {Tag: "none"}} {
		selected := s.Choose(f, over, env)
		var names []string
		for _, r := range selected.Profiles {
			names = append(names, r.Name())
			if r.Text(key.Engine) != "oracle" {
				t.Errorf("%s is not overridden", r.Name())
			}
		}
		if got := strings.Join(names, " "); got != want || len(selected.Tags) != 3 || selected.NotVouched != 0 {
			t.Errorf("%+v has %q and the tags %v", s, got, selected.Tags)
		}
	}
}
