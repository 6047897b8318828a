package binding

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/address"
	"gentleharbor/core/alias"
	"gentleharbor/core/check"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
)

// station is a folder with the authorities and aliases of docs/wallet.md.
type station struct {
	t       *testing.T
	dir     string
	project bool // the profiles are a project's, which was vouched for
}

func newStation(t *testing.T) station {
	dir := t.TempDir()
	for _, name := range []string{"own.pem", "other.pem"} {
		os.WriteFile(filepath.Join(dir, name), []byte(name), 0o600)
	}
	return station{t: t, dir: dir}
}

const counts = "addresses = [\"db.saltmarsh.example:5432\"]\n"

// resolve makes a profile of a cell of the table: "tls verified, tls-ca own.pem".
func (s station) resolve(cell string) *resolve.Profile {
	s.t.Helper()
	keys := map[string]string{"engine": "postgresql", "host": "db.saltmarsh.example", "tls": "verified", "user": "warden"}
	order := []string{"engine", "host", "tls", "user"}
	hop, hosts := "", ""
	var said []string
	for part := range strings.SplitSeq(cell, ", ") {
		key, value, ok := strings.Cut(part, " ")
		switch {
		case !ok:
		case key == "hop":
			hop = fmt.Sprintf("[[profile.p.hop]]\nhost = %q\nuser = \"keeper\"\n", value)
		case key == "[hosts]":
			hosts = fmt.Sprintf("[hosts]\n\"db.saltmarsh.example\" = %q\n", value)
		case key == "alias":
			delete(keys, "host")
			delete(keys, "tls") // the alias's, unless the cell says one
			keys[key], order = value, append(order, key)
		default:
			said = append(said, key)
			keys[key] = value
			if !slices.Contains(order, key) {
				order = append(order, key)
			}
		}
	}
	if keys["alias"] != "" && !slices.Contains(said, "engine") && keys["alias"] != "plain" && keys["alias"] != "portless" {
		delete(keys, "engine")
	}
	var text strings.Builder
	text.WriteString("[profile.p]\n")
	for _, key := range order {
		if value, ok := keys[key]; ok && key == "port" {
			fmt.Fprintf(&text, "port = %s\n", value)
		} else if ok {
			fmt.Fprintf(&text, "%s = %q\n", key, value)
		}
	}
	aliases := hosts + "[alias.counts]\nengine = \"postgresql\"\n" + counts + "tls = \"verified\"\ntls-ca = \"own.pem\"\n[alias.old-counts]\nalias = \"counts\"\n[alias.loose-counts]\nalias = \"counts\"\ntls-ca = \"other.pem\"\n[alias.portless]\naddresses = [\"db.saltmarsh.example\"]\n[alias.plain]\n" + counts
	env := resolve.Environment{Home: s.dir, Lookup: func(string) (string, bool) { return "", false }, Vouch: func(*resolve.Profile) *finding.Finding { return nil }}
	home := profile.Home{Dir: s.dir, Schema: allKeys}
	if err := os.WriteFile(home.AliasesPath(), []byte(aliases), 0o600); err != nil {
		s.t.Fatal(err)
	}
	book, err := alias.Load(home, env.Lookup, s.dir, nil, nil)
	if err != nil {
		s.t.Fatalf("%v\n%s", err, aliases)
	}
	env.Aliases = book
	path := filepath.Join(s.dir, "profiles.toml")
	if err := os.WriteFile(path, []byte(text.String()+hop), 0o600); err != nil {
		s.t.Fatal(err)
	}
	var f *profile.File
	if s.project {
		f, err = profile.LoadProject(allKeys, profile.Place{Path: path, Root: s.dir})
		book.Project = f
	} else {
		f, err = profile.Parse(allKeys, path, []byte(text.String()+hop))
	}
	if err != nil {
		s.t.Fatalf("%v\n%s", err, text.String())
	}
	return resolve.Resolve(f, f.Lookup("p"), nil, env)
}

// bind makes a binding of a cell of the table.
func (s station) bind(cell string) []Binding {
	s.t.Helper()
	if cell == "nothing" {
		return nil
	}
	if name, ok := strings.CutPrefix(cell, "alias:"); ok {
		return []Binding{{Alias: name}}
	}
	b, err := New(s.t.Context(), address.Sources{}, s.resolve(cell))
	if err != nil {
		s.t.Fatalf("%q: %v", cell, err)
	}
	b.Profile = "another" // it is the address that counts
	return []Binding{b}
}

func (s station) query(cell string) secret.Query {
	s.t.Helper()
	q, found := (&check.Runner{Network: route.System()}).SecretQuery(s.t.Context(), s.resolve(cell))
	if found != nil {
		s.t.Fatalf("%q: %+v", cell, found)
	}
	return q
}

// sent is "" where an entry with those bindings goes out, else why it does not.
func sent(bindings []Binding, q secret.Query) string {
	if len(bindings) == 0 {
		return ObjectUnbound(q)
	}
	var all []string
	for _, b := range bindings {
		why := b.Objection(q)
		if why == "" {
			return ""
		}
		all = append(all, why)
	}
	return strings.Join(all, "; ")
}

// TestBindingTable runs the table of docs/wallet.md, for a profile of the user's and for a
// project's that was vouched for.
func TestBindingTable(t *testing.T) {
	text, err := os.ReadFile("../../docs/wallet.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, _ := strings.Cut(string(text), "| the profile has |")
	table, _, _ = strings.Cut(table, "\n\n")
	rows := 0
	for line := range strings.SplitSeq(table, "\n") {
		cells := strings.Split(strings.Trim(line, "|"), "|")
		if len(cells) != 3 || strings.Contains(line, "---") || strings.Contains(line, "the entry is bound to") {
			continue
		}
		for i := range cells {
			cells[i] = strings.TrimSpace(cells[i])
		}
		rows++
		s := newStation(t)
		bindings := s.bind(cells[1])
		for _, s.project = range []bool{false, true} {
			if s.project && cells[1] == "nothing" {
				continue // only a profile of the user's own may name such an entry
			}
			why := sent(bindings, s.query(cells[0]))
			reason, refused := strings.CutPrefix(cells[2], "not sent: ")
			if refused != (why != "") || !strings.Contains(why, reason) && refused {
				t.Errorf("%s, project %v: %q", line, s.project, why)
			}
		}
	}
	if rows < 40 {
		t.Errorf("only %d rows were run", rows)
	}
}

// TestEveryKeyIsBound: of the keys of a profile and an alias, each that says nothing of itself in
// the table of keys keeps a secret back when it is changed. A new key fails here until it has a
// change.
func TestEveryKeyIsBound(t *testing.T) {
	changed := map[string][2]string{ // what the entry is bound by, and what the profile has
		"engine": {"", "engine mysql, port 5432"}, "host": {"", "host other.example"}, "port": {"", "port 1"},
		"tls": {"", "tls required"}, "tls-ca": {"tls-ca own.pem", "tls-ca other.pem"}, "tls-name": {"", "tls-name other"},
		"server-key":   {"engine mysql, tls offered, server-key own.pem", "engine mysql, tls offered, server-key other.pem"},
		"alias":        {"alias:counts", "alias plain"},
		"alias engine": {"alias:counts", "alias counts, engine mysql"}, "alias tls": {"alias:counts", "alias counts, tls required"},
		"alias tls-ca": {"alias:counts", "alias counts, tls-ca other.pem"}, "alias tls-name": {"alias:counts", "alias counts, tls-name other"},
	}
	elsewhere := map[string]string{"hosts": "several addresses; TestBindings", "srv": "several addresses, as DNS told them; TestBindings", "sentinel": "an address as it is told; TestBindings", "socket": "TestBindings", "container": "TestContainerSecrets", "endpoint": "TestContainerSecrets", "cloud": "TestCloudSecrets"}
	for prefix, fields := range map[string][]schema.Field{"": allKeys.Fields(), "alias ": allKeys.AliasFields()} {
		for _, f := range fields {
			key := prefix + string(f.Name)
			c, ok := changed[key]
			if f.NotBound || elsewhere[key] != "" {
				if ok && f.NotBound {
					t.Errorf("%s has a change, and no say", key)
				}
				continue
			}
			if !ok {
				t.Errorf("the key %s is bound, and no change of it is tried", key)
				continue
			}
			s := newStation(t)
			bound := s.bind(c[0])
			if c[0] != "" && !strings.HasPrefix(c[0], "alias:") && sent(bound, s.query(c[0])) != "" {
				t.Errorf("%s: %q is not sent to what it is bound to", key, c[0])
			}
			if sent(bound, s.query(c[1])) == "" {
				t.Errorf("%s: an entry bound to %q is sent to %q", key, c[0], c[1])
			}
		}
	}
}

// TestEveryHopKeyIsBound: each key of a hop of a project's file that says nothing of itself is
// part of what an entry is bound to.
func TestEveryHopKeyIsBound(t *testing.T) {
	values := map[string][2]string{"ssh": {`"a"`, `"b"`}, "host": {`"a"`, `"b"`}, "proxy": {`"socks5://a:1"`, `"socks5://b:1"`}, "port": {`22`, `23`}, "user": {`"a"`, `"b"`},
		"host-key": {`"SHA256:` + strings.Repeat("A", 43) + `"`, `"SHA256:` + strings.Repeat("B", 43) + `"`}, "algorithms": {`["ssh-rsa"]`, `["ssh-dss"]`}}
	for _, f := range schema.HopFields() {
		v, ok := values[string(f.Name)]
		if f.NotBound {
			continue
		}
		if !ok {
			t.Errorf("the key %s of a hop is bound, and no change of it is tried", f.Name)
			continue
		}
		words := make([]string, 3)
		for i, value := range []string{v[0], v[1], ""} {
			base := "host = \"gate\"\n"
			if f.Name == "ssh" || f.Name == "host" || f.Name == "proxy" {
				base = ""
			}
			line := fmt.Sprintf("%s = %s\n", f.Name, value)
			if value == "" {
				line = "host = \"gate\"\n"
				base = ""
			}
			path := filepath.Join(t.TempDir(), "gharbor.toml")
			os.WriteFile(path, []byte("[profile.p]\nhost = \"h\"\n[[profile.p.hop]]\n"+base+line), 0o600)
			p, err := profile.LoadProject(allKeys, profile.Place{Path: path, Root: filepath.Dir(path)})
			if err != nil {
				t.Fatal(err)
			}
			env := resolve.Environment{Lookup: func(string) (string, bool) { return "", false }, Vouch: func(*resolve.Profile) *finding.Finding { return nil }}
			words[i] = strings.Join(resolve.Resolve(p, p.Lookup("p"), nil, env).BoundHops(), ",")
		}
		if words[0] == words[1] || words[0] == words[2] && !f.InWord {
			t.Errorf("%s: %q", f.Name, words)
		}
	}
}

// TestOddBindings: a binding with a key that is not known, or of no kind that is, lets nothing go
// and is kept as it is.
func TestOddBindings(t *testing.T) {
	q := newStation(t).query("")
	for text, want := range map[string]string{
		`{"engine":"postgresql","addresses":["db.saltmarsh.example:5432"],"tls":"verified"}`:                        "",
		`{"engine":"postgresql","addresses":["db.saltmarsh.example:5432"],"tls":"verified","only_on":"sundays"}`:    "a condition that this gharbor does not know",
		`{"engine":"postgresql","addresses":["db.saltmarsh.example:5432"],"tls":"verified","alias":"counts"}`:       "in a way that this gharbor does not know",
		`{"engine":"postgresql","tls":"verified"}`:                                                                  "in a way that this gharbor does not know",
		`{"engine":"postgresql","addresses":["db.saltmarsh.example:5432"],"tls":"verified","container":"counts"}`:   "in a way that this gharbor does not know",
		`{"hop":"keeper@gate:22","addresses":["db.saltmarsh.example:5432"],"engine":"postgresql","tls":"verified"}`: "in a way that this gharbor does not know",
	} {
		var b Binding
		if err := b.UnmarshalJSON([]byte(text)); err != nil {
			t.Fatal(err)
		}
		if why := sent([]Binding{b}, q); (why == "") != (want == "") || !strings.Contains(why, want) {
			t.Errorf("%s: %q", text, why)
		}
		if b.foreign != nil && string(marshal(t, b)) != text {
			t.Errorf("%s is written as %s", text, marshal(t, b))
		}
	}
}

func marshal(t *testing.T, b Binding) []byte {
	t.Helper()
	data, err := b.MarshalJSON()
	if err != nil {
		t.Fatal(err)
	}
	return data
}
