package address_test

import (
	"context"
	"errors"
	"net"
	"strings"
	"testing"

	"gentleharbor/core/address"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
)

// TestKinds: each key of the table that is an address has a kind, each kind a key, and all that is asked of it.
func TestKinds(t *testing.T) {
	for _, f := range keys.Fields() {
		if known := address.ByKey(f.Name).Known(); known != f.Address {
			t.Errorf("the key %s is an address: %v; it has a kind: %v", f.Name, f.Address, known)
		}
	}
	for _, k := range address.All() {
		if f := keys.Field(k.Key); f == nil || !f.Address {
			t.Errorf("the kind %s has no key in the table", k.Key)
		}
		if k.Hosts == nil || k.Local == nil || k.Locate == nil || k.Bind == nil || k.Short == nil {
			t.Errorf("the kind %s lacks a part", k.Key)
		}
		for _, also := range k.Keys {
			if keys.Field(also) == nil {
				t.Errorf("%s: there is no key %s", k.Key, also)
			}
		}
	}
}

// oneEngine is a container engine that has one container.
type oneEngine struct{ asked int }

func (e *oneEngine) Place(_ context.Context, p address.Profile) (*address.ContainerAddress, *finding.Finding) {
	e.asked++
	in, _ := address.ContainerOf(p)
	return &address.ContainerAddress{Ref: in, Host: "127.0.0.1", Port: 40404}, nil
}

func (e *oneEngine) Endpoint(context.Context, address.Profile) (string, *finding.Finding) {
	return "unix:///run/engine.sock", nil
}

func (e *oneEngine) Nearby(context.Context, string) []address.NearbyContainer { return nil }

// aliases are those of a file.
type aliases struct{ file *profile.File }

func (a aliases) Chain(word string, _ *resolve.Profile) (*address.Chain, *finding.Finding) {
	one := a.file.AliasNamed(word)
	if one == nil {
		return nil, finding.New(finding.AliasUnknown, "no alias %s", word)
	}
	return &address.Chain{Links: []*profile.Alias{one}}, nil
}

func (a aliases) HostEntry(string, *resolve.Profile) (profile.HostEntry, bool) {
	return profile.HostEntry{}, false
}

const services = `[alias.counts]
addresses = ["127.0.0.1:5432"]
[alias.portless]
addresses = ["db.saltmarsh.example"]
[alias.several]
addresses = ["a.example:1", "b.example:2"]
[alias.records]
srv = "_counts._tcp.saltmarsh.example"
`

// resolved is a profile of a text, with the aliases above.
func resolved(t *testing.T, text string) *resolve.Profile {
	t.Helper()
	book, err := profile.ParseAliases(keys, "aliases.toml", "", []byte(services))
	if err != nil {
		t.Fatal(err)
	}
	f, err := profile.Parse(keys, "profiles.toml", []byte("[profile.counts]\n"+engineOf(text)+text))
	if err != nil {
		t.Fatal(err)
	}
	return resolve.Resolve(f, f.Lookup("counts"), nil, resolve.Environment{
		Lookup:  func(string) (string, bool) { return "", false },
		Aliases: aliases{book},
	})
}

// engineOf is the line of the engine for a text without one.
func engineOf(text string) string {
	if strings.HasPrefix(text, "engine") {
		return ""
	}
	return "engine = \"postgresql\"\n"
}

// TestSentinel: what a sentinel says, and where it may not be asked.
func TestSentinel(t *testing.T) {
	text := "engine = \"redis\"\nsentinel = \"counts@s.example:26379\"\n"
	says := func(host string, port int, err error) address.Sources {
		return address.Sources{Primary: func(_ context.Context, _ *engine.Spec, at, name string) (string, int, error) {
			if at != "s.example:26379" || name != "counts" {
				t.Errorf("asked are %s and %s", at, name)
			}
			return host, port, err
		}}
	}
	p := resolved(t, text)
	list, found := p.Address().Locate(t.Context(), says("10.20.0.7", 6379, nil), p)
	if found != nil || len(list) != 1 || list[0].AnsweredBy() != "the sentinel at s.example:26379" || list[0].CertificateName() != "s.example" {
		t.Errorf("%+v %+v", list, found)
	}
	for want, from := range map[finding.Code][]address.Sources{
		finding.SentinelUnknown:     {says("", 0, engine.ErrNotWatched)},
		finding.SentinelUnreachable: {says("", 0, errors.New("no answer")), says("a b", 1, nil), says("a", 0, nil)},
		finding.ProfileIncomplete:   {{}},
	} {
		for _, one := range from {
			if _, found := p.Address().Locate(t.Context(), one, p); found == nil || found.Code != want || len(found.Try)+len(found.Do) == 0 {
				t.Errorf("%s: %+v", want, found)
			}
		}
	}
	for more, conflict := range map[string]bool{
		"": false, "tls = \"off\"\n": true, "tls = \"required\"\n": true, "tls = \"off\"\nsecret = \"none\"\n": false,
		"[[profile.counts.hop]]\nhost = \"gate\"\n": true,
	} {
		p := resolved(t, text+more)
		if found := p.Address().Conflict(p); (found != nil) != conflict {
			t.Errorf("%q: %+v", more, found)
		}
	}
	other := resolved(t, "sentinel = \"counts@s.example:26379\"\n")
	if found := other.Address().Conflict(other); found == nil {
		t.Error("another engine's servers are watched")
	}
}

// TestFacts: what each kind says of itself, where it leads, and what a secret for it is bound to.
func TestFacts(t *testing.T) {
	from := address.Sources{
		Containers: &oneEngine{},
		Primary: func(context.Context, *engine.Spec, string, string) (string, int, error) {
			return "10.20.0.7", 6379, nil
		},
		Services: func(context.Context, string) ([]*net.SRV, error) {
			return []*net.SRV{{Target: "A.saltmarsh.example.", Port: 5433}, {Target: "a.saltmarsh.example.", Port: 5433}}, nil
		},
	}
	for text, want := range map[string]string{
		"host = \"db.example\"\n":                                     "host | db.example:5432 | remote | db.example:5432 | verified | to [db.example:5432] ",
		"host = \"::1\"\nport = 1\n":                                  "host | [::1]:1 | local | [::1]:1 | offered | to [[::1]:1] ",
		"hosts = [\"127.0.0.1\", \"b.example:2\"]\n":                  "hosts | 127.0.0.1:5432 and 1 more | remote | 127.0.0.1:5432 b.example:2 | verified | to [127.0.0.1:5432 b.example:2] ",
		"socket = \"/run/x/.s.PGSQL.5432\"\n":                         "socket | /run/x/.s.PGSQL.5432 | local | /run/x/.s.PGSQL.5432 | offered | to [/run/x/.s.PGSQL.5432] ",
		"alias = \"counts\"\n":                                        "alias | alias counts | local | 127.0.0.1:5432 | offered | to [] alias counts",
		"alias = \"portless\"\nport = 7\n":                            "alias | alias portless | remote | db.saltmarsh.example:7 | verified | to [db.saltmarsh.example:7] ",
		"alias = \"records\"\n":                                       "alias | alias records | remote | a.saltmarsh.example:5433 | verified | to [] alias records",
		"container = \"station\"\n":                                   "container | container station | local | 127.0.0.1:40404 | offered | to [] container station of unix:///run/engine.sock",
		"container = \"x\"\nendpoint = \"tcp://far.example:2375\"\n":  "container | container x | remote | 127.0.0.1:40404 | verified | to [] container x of unix:///run/engine.sock",
		"srv = \"_counts._tcp.saltmarsh.example\"\n":                  "srv | srv _counts._tcp.saltmarsh.example | remote | a.saltmarsh.example:5433 | verified | to [a.saltmarsh.example:5433] ",
		"engine = \"redis\"\nsentinel = \"counts@s.example:26379\"\n": "sentinel | sentinel counts@s.example:26379 | remote | 10.20.0.7:6379 | verified | to [10.20.0.7:6379] ",
	} {
		p := resolved(t, text)
		k := p.Address()
		list, found := k.Locate(t.Context(), from, p)
		if found != nil {
			t.Fatalf("%s: %+v", text, found)
		}
		var at []string
		for _, c := range list {
			at = append(at, c.String())
		}
		bound, found := k.Bind(t.Context(), from, p)
		if found != nil {
			t.Fatalf("%s: %+v", text, found)
		}
		to := ""
		switch {
		case bound.Alias != nil:
			to = "alias " + bound.Alias.Name
		case bound.Container != "":
			to = "container " + bound.Container + " of " + bound.Endpoint
		}
		short := k.Short(p, func(name key.Name) string { return p.Text(name) })
		have := strings.Join([]string{string(k.Key), short, map[bool]string{true: "local", false: "remote"}[p.Local()],
			strings.Join(at, " "), p.Text(key.TLS), "to [" + strings.Join(bound.Addresses, " ") + "] " + to}, " | ")
		if have != want {
			t.Errorf("%s is\n%s\nnot\n%s", text, have, want)
		}
	}
	if none := address.ByKey("engine"); none.Known() || none.Short(nil, nil) != "-" || none.Local(nil) || len(none.Hosts(nil)) != 0 {
		t.Error("a key that is no address has a kind")
	}
}

// TestRefused: what no kind of address does.
func TestRefused(t *testing.T) {
	p := resolved(t, "container = \"x\"\n[[profile.counts.hop]]\nhost = \"gate\"\n")
	if found := p.Address().Conflict(p); found == nil || found.Code != finding.ProfileConflict {
		t.Errorf("hops before a container: %+v", found)
	}
	records := resolved(t, "alias = \"records\"\n")
	for want, answer := range map[finding.Code]func(context.Context, string) ([]*net.SRV, error){
		finding.AliasSRVNone:    func(context.Context, string) ([]*net.SRV, error) { return []*net.SRV{{Target: "."}}, nil },
		finding.AliasSRVUnknown: func(context.Context, string) ([]*net.SRV, error) { return nil, &net.DNSError{IsNotFound: true} },
		finding.AliasSRVTimeout: func(context.Context, string) ([]*net.SRV, error) { return nil, &net.DNSError{IsTimeout: true} },
	} {
		if _, found := records.Address().Locate(t.Context(), address.Sources{Services: answer}, records); found == nil || found.Code != want {
			t.Errorf("%s: %+v", want, found)
		}
	}
	refuses := func(context.Context, string) ([]*net.SRV, error) {
		return nil, &net.DNSError{Err: "connection refused", Server: "127.0.0.9:53"}
	}
	if _, found := records.Address().Locate(t.Context(), address.Sources{Services: refuses}, records); found == nil || found.Code != finding.AliasSRVTimeout || !strings.Contains(found.Seen[0], "127.0.0.9:53") {
		t.Errorf("a name server that refuses: %+v", found)
	}
	for _, text := range []string{"host = \"h\"\n", "hosts = [\"h\"]\n", "alias = \"counts\"\n", "container = \"x\"\n", "srv = \"_a._tcp.example\"\n", "engine = \"redis\"\nsentinel = \"a@b:1\"\n"} {
		p, found := resolved(t, text), finding.New(finding.NameUnknown, "x")
		if p.Address().UnknownName(p, found); len(found.Try)+len(found.Do) != 1 || !strings.Contains(strings.Join(append(found.Try, found.Do...), ""), "gharbor ") {
			t.Errorf("%s: %v %v", text, found.Try, found.Do)
		}
	}
	if several := resolved(t, "alias = \"several\"\n"); !several.Address().Several(several) || several.Text(key.Target) != "any" {
		t.Error("an alias of two addresses is one server")
	}
}
