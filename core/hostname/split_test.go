package hostname

import "testing"

func TestSplitPort(t *testing.T) {
	for text, want := range map[string][2]string{
		"db": {"db", ""}, "db:1": {"db", "1"}, "::1": {"::1", ""}, "[::1]": {"::1", ""}, "[::1]:5433": {"::1", "5433"}, "192.0.2.1:1": {"192.0.2.1", "1"}, ":1": {"", "1"},
	} {
		if host, port := SplitPort(text); host != want[0] || port != want[1] {
			t.Errorf("%s: %q %q", text, host, port)
		}
	}
}
