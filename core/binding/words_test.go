package binding

import (
	"slices"
	"testing"

	"gentleharbor/core/secret"
)

// TestWords: what bindings are called, by which words unbind finds them, and how those without a profile are read.
func TestWords(t *testing.T) {
	server := Binding{Profile: "counts", Engine: "postgresql", Addresses: []string{"db.example:5432"}, TLS: "verified", TLSName: "other", Authority: "x", ServerKey: "y", Hops: []string{"keeper@gate:22"}}
	for _, c := range []struct {
		b    Binding
		text string
		is   []string
		not  []string
	}{
		{server, "postgresql at db.example:5432 behind keeper@gate:22, tls verified as other (own tls-ca) (own " +
			"server-key)",
			[]string{"counts", "db.example:5432", "postgresql://DB.example:5432"}, []string{"db.example", "other"}},
		{Binding{Alias: "counts", Profile: "p"}, "alias:counts", []string{"alias:counts", "p"}, []string{"counts", "alias:other", ""}},
		{Binding{Alias: "counts", AliasFile: "/w/gharbor.toml"},
			"alias:counts of /w/gharbor.toml", []string{"alias:project:counts"}, []string{"counts"}},
		{Binding{Hop: "keeper@gate:22"}, "hop:keeper@gate:22", []string{"hop:keeper@gate:22"}, []string{"gate"}},
		{Binding{Key: "/h/.ssh/id"}, "key:/h/.ssh/id", []string{"key:/h/.ssh/id"}, []string{"/h/.ssh/id"}},
		{Binding{Container: "p/db", Endpoint: "unix:///run/e.sock", Engine: "mysql", TLS: "offered"},
			"mysql at container:p/db of unix:///run/e.sock", []string{"container:p/db"}, []string{"p/db"}},
	} {
		if got := c.b.String(); got != c.text {
			t.Errorf("%q, not %q", got, c.text)
		}
		for _, word := range c.is {
			if !c.b.Is(word) {
				t.Errorf("%s is not %q", c.text, word)
			}
		}
		for _, word := range c.not {
			if c.b.Is(word) {
				t.Errorf("%s is %q", c.text, word)
			}
		}
		if !c.b.Same(c.b) || c.b.Same(Binding{Hop: "x"}) {
			t.Errorf("%s is not the same as itself, or as another", c.text)
		}
	}
	for word, want := range map[string]Binding{"hop:a@b:22": {Hop: "a@b:22"}, "key:/k": {Key: "/k"}} {
		if b, ok := ParseOther(word); !ok || !b.Same(want) {
			t.Errorf("%s is %+v", word, b)
		}
	}
	for _, word := range []string{"hop:", "key:", "counts"} {
		if _, ok := ParseOther(word); ok {
			t.Errorf("%q is taken", word)
		}
	}
	if b := (Binding{Alias: "counts"}); !b.IsAlias("counts") || b.IsAlias("project:counts") {
		t.Error("an alias of the user's is a project's")
	}
}

// TestAsked: what a query's binding would be, and which bindings are nearly right for it.
func TestAsked(t *testing.T) {
	database := secret.Query{Profile: "counts", Address: "DB.example:5432"}
	aliased := secret.Query{Profile: "counts", Address: "db:1", Aliases: []secret.Link{{Name: "station"}}}
	project := secret.Query{Profile: "counts", Address: "db:1", Aliases: []secret.Link{{Name: "station", File: "/w/gharbor.toml"}}}
	hop := secret.Query{Profile: "counts", Kind: secret.OfHop, Address: "keeper@gate:22"}
	for want, q := range map[string]secret.Query{"counts": database, "alias:station": aliased, "alias:project:station": project, "hop:keeper@gate:22": hop} {
		if got := Word(q); got != want {
			t.Errorf("%q, not %q", got, want)
		}
	}
	if !slices.Equal(Words(aliased), []string{"counts", "db:1", "station"}) {
		t.Error(Words(aliased))
	}
	if !(Binding{Addresses: []string{"db.example:5432"}}).Near(database) || (Binding{Addresses: []string{"x:1"}}).Near(database) || !(Binding{Alias: "station"}).Near(aliased) {
		t.Error("what is near")
	}
	for _, b := range []Binding{{Hop: "a@b:22"}, {Key: "/k"}, {Alias: "x"}, {Addresses: []string{"x:1"}, Engine: "mysql"}} {
		if b.Objection(hop) == "" {
			t.Errorf("%s lets a hop's password go", b)
		}
	}
	if why := (Binding{Hop: "keeper@gate:22"}).Objection(hop); why != "" {
		t.Error(why)
	}
	told := secret.Query{Profile: "counts", Address: "db:1", Told: "an SRV record", TLS: "offered"}
	if ObjectUnbound(told) == "" || ObjectUnbound(database) != "" {
		t.Error("what is tied to no server goes where a name server says")
	}
}
