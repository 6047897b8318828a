package hostname

import "testing"

func TestLocal(t *testing.T) {
	for host, want := range map[string]bool{"localhost": true, "LOCALHOST.": true, "db.localhost": true, "127.0.0.1": true, "127.9.9.9": true, "::1": true,
		"::ffff:127.0.0.1": true, "0.0.0.0": false, "10.0.0.1": false, "localhost.example": false, "2130706433": false, "": false} {
		if got := Local(host); got != want {
			t.Errorf("%q: %v", host, got)
		}
	}
}
