package profile

import (
	"strings"
	"testing"
)

// TestContainerForms: a container is named in three ways, and edited in each.
func TestContainerForms(t *testing.T) {
	const head = "format = 1\n\n[profile.ringing]\nengine = \"mariadb\"\n"
	byName := Container{Name: "saltmarsh-ringing"}
	byLabels := Container{Project: "station", Service: "rings"}
	for text, want := range map[string]Container{
		"container = \"saltmarsh-ringing\" # on this laptop\n":                          byName,
		"container = { project = \"station\", service = \"rings\" } # on this laptop\n": byLabels,
		"container.service = \"rings\"\ncontainer.project = \"station\"\n":              byLabels,
		"[profile.ringing.container]\nproject = \"station\"\nservice = \"rings\"\n":     byLabels,
	} {
		f := parse(t, head+text)
		r := f.Resolve(f.Lookup("ringing"), nil, Environment{Lookup: func(string) (string, bool) { return "", false }})
		if have, ok := r.Container(); !ok || have != want || r.AddressKind() != "container" || !r.Local() || r.Text("tls") != "offered" {
			t.Errorf("%s is %+v, %q, local %v, tls %s", text, have, r.AddressKind(), r.Local(), r.Text("tls"))
		}
		if far := f.Resolve(f.Lookup("ringing"), sets(t, "endpoint=tcp://far.saltmarsh.example:2376"), Environment{Lookup: func(string) (string, bool) { return "", false }}); far.Local() || far.Text("tls") != "verified" {
			t.Errorf("at an engine elsewhere the rule is %s", far.Text("tls"))
		}
		for set, line := range map[string]string{"container=other": `container = "other"`, "container=a/b": `container = { project = "a", service = "b" }`} {
			edit, err := f.Set("ringing", sets(t, set))
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
		edit, err := f.Set("ringing", sets(t, "container=", "host=127.0.0.1"))
		if err != nil {
			continue
		}
		if got := after(t, edit, nil); strings.Contains(got, "container") {
			t.Errorf("taken away it is\n%s", got)
		}
	}
	for word, ok := range map[string]bool{"saltmarsh-ringing": true, "a/b": true, "Station/b": false, "a/b/c": false, "": false, "-x": false, "a b": false, "a/": false, "/b": false} {
		if _, have := ParseContainer(word); have != ok {
			t.Errorf("%q is a container: %v", word, have)
		}
	}
	for word, ok := range map[string]bool{"unix:///run/docker.sock": true, "tcp://127.0.0.1:2375": true, "tcp://[::1]:2375": true, "tcp://h.example:2376/": true,
		"unix://run/x": false, "unix:///": false, "unix:///a/../b": false, "tcp://h": false, "tcp://u:p@h:1": false, "tcp://h:0": false, "http://h:1": false, "ssh://h": false, "": false} {
		if ValidEndpoint(word) != ok {
			t.Errorf("%q is an endpoint: %v", word, !ok)
		}
	}
}
