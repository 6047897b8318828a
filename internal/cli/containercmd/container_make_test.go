package containercmd

import (
	"path/filepath"
	"testing"
)

// TestParseMount: a mount is a source, a target, and whether it is read-only; a drive's letter is a part of its source.
func TestParseMount(t *testing.T) {
	for text, want := range map[string]struct {
		source, target string
		readOnly       bool
	}{
		"/srv/birds:/var/lib/data":      {"/srv/birds", "/var/lib/data", false},
		"/srv/birds:/var/lib/data:ro":   {"/srv/birds", "/var/lib/data", true},
		`C:/birds:/var/lib/data:ro`:     {"C:/birds", "/var/lib/data", true},
		"birds:/var/lib/data":           {"birds", "/var/lib/data", false},
		"/srv/with:colon:/var/lib/data": {"/srv/with:colon", "/var/lib/data", false},
	} {
		m, err := parseMount(text)
		source, _ := filepath.Abs(want.source)
		if err != nil || m.Source != source || m.Target != want.target || m.ReadOnly != want.readOnly || m.Type != "bind" {
			t.Errorf("%s: %+v, %v", text, m, err)
		}
	}
	for _, text := range []string{"", ":", "/srv", ":/target", "/srv:target", "/srv:", "/srv:/t:rw", "ro", ":ro"} {
		if m, err := parseMount(text); err == nil {
			t.Errorf("%q is taken for %+v", text, m)
		}
	}
}
