package nearest

import (
	"strings"
	"testing"
)

func TestName(t *testing.T) {
	words := []string{"engine", "host", "hosts", "port", "database", "user", "secret", "tls", "tls-ca", "expect.version"}
	for in, want := range map[string]string{
		"hosst": "host", "prot": "port", "Host": "host", "databse": "database", "tls_ca": "tls-ca", "usr": "user", "expect.verson": "expect.version",
		"ohst": "host", "tsl": "tls", "userr": "user", "xostdb": "", "data": "database", "zzz": "", "": "", "x": "", "completely": "", strings.Repeat("a", 100): "",
	} {
		if got := Name(in, words); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
	if got := Name("p-rand", []string{"p-any", "p-random"}); got != "p-random" {
		t.Error(got)
	}
	if got := strings.Join(Names("hots", words, 2), " "); got != "host hosts" {
		t.Error(got)
	}
}
