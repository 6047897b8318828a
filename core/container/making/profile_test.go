package making

import (
	"errors"
	"strconv"
	"strings"
	"testing"

	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
)

// profileOf is a profile of a text.
func profileOf(t *testing.T, text string) *resolve.Profile {
	t.Helper()
	f, err := profile.Parse(keys, "profiles.toml", []byte("[profile.counts]\n"+text))
	if err != nil {
		t.Fatal(err)
	}
	return resolve.Resolve(f, f.Lookup("counts"), nil, resolve.Environment{Lookup: func(string) (string, bool) { return "", false }})
}

const local = "engine = \"postgresql\"\nuser = \"warden\"\nhost = \"127.0.0.1\"\n"

// TestFits: of which profiles a container can be made, and why of others not.
func TestFits(t *testing.T) {
	for text, want := range map[string]string{
		local: "",
		"engine = \"mariadb\"\nuser = \"ringer\"\ncontainer = \"rings\"\n":                   "",
		"engine = \"mariadb\"\nuser = \"ringer\"\n":                                          "",
		"engine = \"mongodb\"\nuser = \"x\"\ncontainer = \"x\"\n":                            "can be made for mariadb, mysql, postgresql, redis",
		"user = \"x\"\ncontainer = \"x\"\n":                                                  "engine is not said",
		local + "[[profile.counts.hop]]\nhost = \"gate\"\n":                                  "has hops",
		"engine = \"mysql\"\nuser = \"x\"\ncontainer = {project = \"p\", service = \"s\"}\n": "compose service",
		"engine = \"mysql\"\nuser = \"x\"\nhost = \"db.example\"\n":                          "another machine",
		"engine = \"mysql\"\nuser = \"x\"\nsocket = \"/run/x.sock\"\n":                       "or to a socket",
		"engine = \"mysql\"\ncontainer = \"x\"\n":                                            "which user",
		"engine = \"mysql\"\nuser = \"x\"\ncontainer = \"x\"\nsecret = \"none\"\n":           "secret = \"none\"",
	} {
		err := Fits(profileOf(t, text))
		var why *Refusal
		if want == "" && err != nil || want != "" && (!errors.As(err, &why) || !strings.Contains(why.Why, want)) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestWishAndChanges: what a container is made like, and what changes in its profile.
func TestWishAndChanges(t *testing.T) {
	for _, c := range []struct {
		text     string
		wish     Request
		endpoint string
		want     string
	}{
		{local, Request{}, "", "counts 5432 0 counts | host= container=counts secret=wallet:counts"},
		{local + "port = 6000\n", Request{Name: "tides"}, "", "tides 5432 6000 counts | host= port= container=tides secret=wallet:counts"},
		{local + "secret = \"wallet:other\"\n", Request{Port: 7}, "tcp://far:1", "counts 5432 7 other | host= container=counts endpoint=tcp://far:1"},
		{local + "secret = \"file:~/pw\"\n", Request{}, "", "counts 5432 0 counts | host= container=counts own"},
		{"engine = \"mysql\"\nuser = \"x\"\ncontainer = \"rings\"\nport = 3307\n", Request{}, "", "rings 3307 0 counts | secret=wallet:counts"},
	} {
		p := profileOf(t, c.text)
		w, err := c.wish.For(p)
		if err != nil {
			t.Fatal(err)
		}
		changes, own, err := (&Plan{Request: w}).Changes(p, c.endpoint)
		if err != nil {
			t.Fatal(err)
		}
		words := []string{w.Name, strconv.Itoa(w.Inside), strconv.Itoa(w.Port), w.Entry, "|"}
		for _, one := range changes {
			words = append(words, string(one.Field.Name)+"="+one.Value.Text())
		}
		if own {
			words = append(words, "own")
		}
		if got := strings.Join(words, " "); got != c.want {
			t.Errorf("%s comes to %s, not %s", c.text, got, c.want)
		}
	}
	for _, w := range []Request{{Name: "a b"}, {Volume: "x/y"}} {
		if _, err := w.For(profileOf(t, local)); !errors.As(err, new(*Refusal)) {
			t.Errorf("%+v is taken: %v", w, err)
		}
	}
	in := profileOf(t, "engine = \"mysql\"\nuser = \"x\"\ncontainer = \"rings\"\n")
	if _, err := (Request{Name: "other"}).For(in); !errors.As(err, new(*Refusal)) {
		t.Error("different containers are taken")
	}
	for image, want := range map[string]string{"postgres:16": "postgresql", "mariadb": "mariadb", "own/mysql-x": "mysql", "nginx": ""} {
		if got := ImageEngine(keys.Engines(), image); got != want {
			t.Errorf("%s is of %q, not %q", image, got, want)
		}
	}
}
