package profile

import (
	"errors"
	"strings"
	"testing"
)

func TestHopMistakes(t *testing.T) {
	in := func(hop string) string { return "[profile.a]\nhost = \"x\"\n[[profile.a.hop]]\n" + hop }
	for _, c := range []struct {
		text string
		line int
		want string
	}{
		{in("user = \"w\""), 3, "needs host, ssh or proxy"},
		{in("host = \"g\"\nssh = \"g\""), 3, "ssh and host both say where"},
		{in("proxy = \"socks5://127.0.0.1:1080\"\nkey = \"k\""), 3, "key has no effect for a proxy"},
		{in("proxy = \"socks5://u:p@127.0.0.1:1080\""), 4, "profiles hold no passwords"},
		{in("proxy = \"ftp://127.0.0.1:1080\""), 4, "expected socks5"},
		{in("hots = \"g\""), 4, `did you mean "host"`},
		{in("password = \"knot\""), 4, "profiles hold no passwords"},
		{in("host = \"g\"\nsecret = \"passfile\""), 5, "expected a secret source"},
		{in("host = \"g\"\nport = 70000"), 5, "expected a number from 1"},
		{in("host = \"g\"\nagent = \"no\""), 5, "expected true or false"},
		{in("host = \"g\"\nhost-key = \"MD5:aa:bb\""), 5, "expected a fingerprint"},
		{in("host = \"g\"\nalgorithms = [\"ssh-rsb\"]"), 5, "older algorithms by name"},
		{in("host = \"g\"\nhost = \"h\""), 5, "set twice"},
		{in("ssh = \"-oProxyCommand=x\""), 4, "expected the name of a host"},
		{"[profile.a.hop]\nhost = \"g\"", 1, "double brackets: [[profile.a.hop]]"},
		{"[profile.a]\nhop = [{host = \"g\"}]", 2, "a hop is a table [[profile.a.hop]]"},
		{"[profile.a]\nhop.host = \"g\"", 2, "a table of its own: [[profile.a.hop]]"},
		{"[profile.a]\nhop = []\n[[profile.a.hop]]\nhost = \"g\"", 3, "profile.a.hop is defined twice; the one in line 2 can't be added to"},
		{"[profile.a]\n" + strings.Repeat("[[profile.a.hop]]\nhost = \"g\"\n", MaxHops+1), 2 + 2*MaxHops, "more than 16 hops"},
	} {
		_, err := Parse(keys, "profiles.toml", []byte(c.text))
		var mistake *FileError
		if !errors.As(err, &mistake) || mistake.Line != c.line || !strings.Contains(mistake.What, c.want) {
			t.Errorf("%q: %v, want line %d, %q", c.text, err, c.line, c.want)
		}
		if strings.Contains(c.text, "u:p@") && strings.Contains(err.Error(), "u:p") {
			t.Error("a password is repeated")
		}
	}
}
