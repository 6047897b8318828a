package profile

import (
	_ "embed"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// aliasFile reads the text of an aliases.toml.
func aliasFile(t testing.TB, text string) *File {
	t.Helper()
	f, err := readInto(keys, &File{Path: "aliases.toml", ForAlias: true}, []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

//go:embed testdata/aliases.toml
var skein string

func TestAliasFile(t *testing.T) {
	f := aliasFile(t, skein)
	if names := f.AliasNames(); !slices.Equal(names, []string{"counts", "old-skein", "skein"}) {
		t.Errorf("%v", names)
	}
	if h, ok := f.HostEntry("ARCHIVE-A.saltmarsh.example."); !ok || len(h.Addresses) != 2 || h.Line != 15 {
		t.Errorf("%+v", h)
	}
	if h, _ := f.HostEntry("archive-b.saltmarsh.example"); !slices.Equal(h.Addresses, []netip.Addr{netip.MustParseAddr("192.0.2.11")}) {
		t.Errorf("%+v", h)
	}
}

// TestAliasMistakes: a mistake is one line with file, line and what was expected.
func TestAliasMistakes(t *testing.T) {
	in := func(lines string) string { return "[alias.skein]\nengine = \"oracle\"\n" + lines + "\n" }
	const at = "addresses = [\"a:1521\"]\n"
	for _, c := range []struct {
		text string
		line int
		want string
	}{
		{in("adresses = [\"a\"]"), 3, `did you mean "addresses"`},
		{in("host = \"a\""), 3, "did you mean addresses"},
		{in("password = \"avocet\""), 3, "has no password"},
		{in("addresses = \"a:1521\""), 3, "expected a list of addresses"},
		{in("addresses = []"), 3, "expected a list"},
		{in("addresses = [\"a:0\"]"), 3, "expected a list"},
		{in("addresses = [\"oracle://a\"]"), 3, "expected a list"},
		{in(at + "srv = \"_x._tcp.a.example\""), 4, "two kinds of address"},
		{in("srv = \"x.tcp.a.example\""), 3, "_database._tcp"},
		{in("srv = \"_x._udp.a.example\""), 3, "_database._tcp"},
		{in(at + "pick = \"first\""), 4, "in-order, random, fastest"},
		{in("srv = \"_x._tcp.a.example\"\npick = \"random\""), 1, "pick has no effect"},
		{in(at + "retries = 99"), 4, "from 0 to 10"},
		{in(at + "retries = \"2\""), 4, "found text"},
		{in(at + "connect-timeout = \"fast\""), 4, "a time such as"},
		{in(at + "service = \"S\"\ninstance = \"I\""), 1, "keep one"},
		{in("service = \"S\""), 1, "it needs addresses, srv or alias"},
		{"[alias.a]\nengine = \"postgresql\"\naddresses = [\"a\"]\nservice = \"S\"", 1, "for postgresql it is database"},
		{"[alias.a]\nalias = \"A B\"", 2, "the name of another alias"},
		{"[alias.A]\naddresses = [\"a\"]", 1, "not an alias name"},
		{"[[alias.a]]\naddresses = [\"a\"]", 1, "single brackets"},
		{"[alias.a.b]\nx = 1", 1, "unknown key"},
		{"[alias.a]\naddresses = [\"a\"]\n[alias.a]\nnote = \"x\"", 3, "defined twice"},
		{"[alias]\na = 3", 2, "a table of keys"},
		{"[profile.a]\nengine = \"mysql\"", 1, "profiles.toml"},
		{"profile.a.engine = \"mysql\"", 1, "profiles.toml"},
		{"[settings]\nwallet = \"x\"", 1, "profiles.toml"},
		{"[aliases.a]\naddresses = [\"a\"]", 1, `did you mean "alias"`},
		{"[hosts]\n\"a b\" = \"192.0.2.1\"", 2, "not a host name"},
		{"[hosts]\n\"a.example\" = \"b.example\"", 2, "expected IP addresses"},
		{"[hosts]\n\"a.example\" = []", 2, "expected addresses"},
		{"[hosts]\n\"a.example\" = 3", 2, "expected addresses"},
		{"[hosts]\n\"localhost\" = \"192.0.2.1\"", 2, "never looked up"},
		{"[hosts]\n\"192.0.2.1\" = \"192.0.2.2\"", 2, "never looked up"},
		{"[hosts]\na.example = \"192.0.2.1\"\n\"A.example\" = \"192.0.2.2\"", 3, "given twice (first at line 2)"},
		{"[hosts]\n[hosts]", 2, "hosts is defined twice, first in line 1"},
		{"hosts = 3", 1, "hosts is a table"},
		{"[[hosts]]\n", 1, "hosts is one table"},
	} {
		_, err := readInto(keys, &File{Path: "aliases.toml", ForAlias: true}, []byte(c.text))
		var mistake *FileError
		if !errors.As(err, &mistake) || mistake.Line != c.line || !strings.Contains(mistake.What, c.want) {
			t.Errorf("%q:\n got %v\nwant line %d, %q", c.text, err, c.line, c.want)
		}
		if err != nil && (strings.Contains(err.Error(), "avocet") || strings.Contains(err.Error(), "\n")) {
			t.Errorf("%q", err)
		}
	}
}

// TestAliasEdits: an edit changes the bytes of what it is about, and no others.
func TestAliasEdits(t *testing.T) {
	set := func(words ...string) (sets []schema.Override) {
		for _, w := range words {
			k, text, _ := strings.Cut(w, "=")
			f := keys.AliasField(key.Name(k))
			if text == "" {
				sets = append(sets, schema.Override{Field: f, Unset: true})
				continue
			}
			v, err := f.ParseValue(text)
			if err != nil {
				t.Fatal(err)
			}
			sets = append(sets, schema.Override{Field: f, Value: v})
		}
		return sets
	}
	for _, c := range []struct {
		name string
		edit func(*File) (*Edit, error)
		old  string // of skein's text, and what stands there instead
		new  string
		why  string // of a refusal
	}{
		{"move", func(f *File) (*Edit, error) {
			return f.SetAlias("skein", set("addresses=archive-c.saltmarsh.example:1521"))
		},
			`["archive-a.saltmarsh.example:1521", "archive-b.saltmarsh.example"]`, `["archive-c.saltmarsh.example:1521"]`, ""},
		{"a new key", func(f *File) (*Edit, error) { return f.SetAlias("skein", set("pick=random")) }, "retries   = 2\n", "retries   = 2\npick      = \"random\"\n", ""},
		{"without", func(f *File) (*Edit, error) { return f.SetAlias("skein", set("retries=")) }, "retries   = 2\n", "", ""},
		{"over to SRV", func(f *File) (*Edit, error) {
			return f.SetAlias("skein", set("addresses=", "srv=_oracle._tcp.saltmarsh.example"))
		},
			"addresses = [\"archive-a.saltmarsh.example:1521\", \"archive-b.saltmarsh.example\"]   # both\nservice   = \"SKEIN\"\nretries   = 2\n",
			"service   = \"SKEIN\"\nretries   = 2\nsrv       = \"_oracle._tcp.saltmarsh.example\"\n", ""},
		{"rename", func(f *File) (*Edit, error) { return f.RenameAlias("skein", "yarn") }, "", "", ""},
		{"a dotted one", func(f *File) (*Edit, error) { return f.SetAlias("counts", set("note=birds")) }, "saltmarsh.example\"\n\n", "saltmarsh.example\"\ncounts.note = \"birds\"\n\n", ""},
		{"remove", func(f *File) (*Edit, error) { return f.RemoveAlias("old-skein") }, "old-skein = { alias = \"skein\" }\n", "", ""},
		{"two addresses", func(f *File) (*Edit, error) { return f.SetAlias("skein", set("alias=counts")) }, "", "", "two kinds of address"},
		{"no address", func(f *File) (*Edit, error) { return f.SetAlias("skein", set("addresses=")) }, "", "", "it needs addresses, srv or alias"},
		{"twice", func(f *File) (*Edit, error) { return f.AddAlias("skein", set("addresses=a")) }, "", "", "exists already"},
		{"none", func(f *File) (*Edit, error) { return f.SetAlias("skien", set("note=x")) }, "", "", `did you mean "skein"`},
		{"an inline one", func(f *File) (*Edit, error) { return f.SetAlias("old-skein", set("note=x")) }, "", "", "inline table"},
		{"a name", func(f *File) (*Edit, error) { return f.RenameAlias("skein", "S K") }, "", "", "not an alias name"},
	} {
		f := aliasFile(t, skein)
		e, err := c.edit(f)
		var text []byte
		if err == nil {
			text, err = e.CheckedText()
		}
		want := strings.Replace(skein, c.old, c.new, 1)
		if c.name == "rename" {
			want = strings.ReplaceAll(strings.ReplaceAll(skein, "[alias.skein]", "[alias.yarn]"), `{ alias = "skein" }`, `{ alias = "yarn" }`)
		}
		switch {
		case c.why != "" && (err == nil || !strings.Contains(err.Error(), c.why)):
			t.Errorf("%s: %v, want %q", c.name, err, c.why)
		case c.why == "" && (err != nil || string(text) != want):
			t.Errorf("%s: %v\n%s\nwant\n%s", c.name, err, text, want)
		}
	}
	f := aliasFile(t, "")
	e, err := f.AddAlias("sight.ings", set("engine=postgresql", "addresses=a.example,b.example:5433", "database=sightings"))
	if err != nil {
		t.Fatal(err)
	}
	if text, err := e.CheckedText(); err != nil || string(text) != "format = 1\n\n[alias.\"sight.ings\"]\nengine    = \"postgresql\"\naddresses = [\"a.example\", \"b.example:5433\"]\ndatabase  = \"sightings\"\n" {
		t.Errorf("%s %v", text, err)
	}
}

// FuzzAliases: a file of aliases is taken or refused with a line, and what is taken can
// be edited.
func FuzzAliases(f *testing.F) {
	f.Add([]byte(skein))
	f.Add([]byte("alias.a.addresses = [\"x\"]\nhosts.a = \"192.0.2.1\""))
	f.Add([]byte("[alias.\"a.b\"]\nsrv=\"_x._tcp.y\"\n[hosts]\n\"\" = \"\""))
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := readInto(keys, &File{Path: "aliases.toml", ForAlias: true}, data)
		if err != nil {
			var mistake *FileError
			if !errors.As(err, &mistake) || strings.ContainsAny(err.Error(), "\n\x1b\x00") {
				t.Fatalf("%q: %v", data, err)
			}
			return
		}
		for _, a := range file.Aliases {
			if e, err := file.RenameAlias(a.Name, "renamed"); err == nil {
				if _, err := e.CheckedText(); err != nil && !strings.Contains(err.Error(), "by hand") && !strings.Contains(err.Error(), "would be wrong") {
					t.Errorf("%q: %v", data, err)
				}
			}
			_ = a.problem(keys)
		}
	})
}

// TestHostEdits: a line of [hosts] is written, changed and removed, and all other bytes stay.
func TestHostEdits(t *testing.T) {
	addresses := func(words ...string) (all []netip.Addr) {
		for _, w := range words {
			all = append(all, netip.MustParseAddr(w))
		}
		return all
	}
	const old = "# ours\n\n[hosts]\n\"a.example\" = \"192.0.2.1\"   # by hand\nb.example = [\"192.0.2.2\"]\n\n[alias.x]\naddresses = [\"a.example:1\"]\n"
	for name, c := range map[string]struct {
		text string
		edit func(*File) (*Edit, error)
		want string
	}{
		"the first":   {"", func(f *File) (*Edit, error) { return f.SetHost("C.example.", addresses("::ffff:192.0.2.3")) }, "format = 1\n\n[hosts]\n\"c.example\" = [\"192.0.2.3\"]\n"},
		"another":     {old, func(f *File) (*Edit, error) { return f.SetHost("a.example", addresses("192.0.2.9", "::1")) }, strings.Replace(old, "\"192.0.2.1\"", "[\"192.0.2.9\", \"::1\"]", 1)},
		"a bare name": {old, func(f *File) (*Edit, error) { return f.SetHost("b.example", addresses("192.0.2.9")) }, strings.Replace(old, "[\"192.0.2.2\"]", "[\"192.0.2.9\"]", 1)},
		"a new one":   {old, func(f *File) (*Edit, error) { return f.SetHost("c.example", addresses("192.0.2.3")) }, strings.Replace(old, "\"192.0.2.2\"]\n", "\"192.0.2.2\"]\n\"c.example\" = [\"192.0.2.3\"]\n", 1)},
		"gone":        {old, func(f *File) (*Edit, error) { return f.RemoveHost("a.example") }, strings.Replace(old, "\"a.example\" = \"192.0.2.1\"   # by hand\n", "", 1)},
		"not there":   {old, func(f *File) (*Edit, error) { return f.RemoveHost("c.example") }, "!has no line for"},
		"an address":  {old, func(f *File) (*Edit, error) { return f.SetHost("192.0.2.1", addresses("192.0.2.1")) }, "!is an address"},
		"no name":     {old, func(f *File) (*Edit, error) { return f.SetHost("a b", addresses("192.0.2.1")) }, "!expected a host name"},
		"no address":  {old, func(f *File) (*Edit, error) { return f.SetHost("c.example", nil) }, "!needs an address"},
	} {
		f := aliasFile(t, c.text)
		edit, err := c.edit(f)
		if why, refused := strings.CutPrefix(c.want, "!"); refused {
			if err == nil || !strings.Contains(err.Error(), why) {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		squeeze := func(s string) string { return strings.Join(strings.Fields(s), " ") }
		if text, err := edit.CheckedText(); err != nil || squeeze(string(text)) != squeeze(c.want) {
			t.Errorf("%s: %v\n%s", name, err, text)
		}
	}
}
