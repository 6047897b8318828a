package making

import (
	"strings"
	"testing"

	"gentleharbor/core/engines"
)

// TestImages tells names of images from other words.
func TestImages(t *testing.T) {
	for _, name := range []string{"postgres", "mariadb:11.4", "saltmarsh/own:1", "registry.saltmarsh.example:5000/birds/postgres:16", "postgres@sha256:0123abcd", "gharbor-test/server:1"} {
		if !ValidImage(name) {
			t.Errorf("%q is no image", name)
		}
	}
	for _, name := range []string{"", "Postgres Server", "../x", "a/../b", "postgres?x=1", "-x", "a b", strings.Repeat("a", 300), "postgres/json#"} {
		if ValidImage(name) {
			t.Errorf("%q is an image", name)
		}
	}
	for _, c := range []struct{ engine, version, want string }{{"postgresql", "16.4 (Debian)", "postgres:16"}, {"mariadb", "10.11.6-MariaDB", "mariadb:10.11"}, {"mysql", "8.0.36", "mysql:8.0"}, {"mysql", "", "mysql"}} {
		if have := OfficialImage(engines.All().ByWord(c.engine), c.version); have != c.want {
			t.Errorf("%s %s is of %s", c.engine, c.version, have)
		}
	}
}
