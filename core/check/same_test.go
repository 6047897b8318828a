package check

import (
	"context"
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"gentleharbor/core/address"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/route"
)

// TestSameServer: two profiles lead to one server where what they name says so, and else it is not known.
func TestSameServer(t *testing.T) {
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, ".s.PGSQL.5433"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join(folder, ".s.PGSQL.5433"), filepath.Join(folder, "link")); err != nil {
		t.Fatal(err)
	}
	network := route.Network{Resolve: func(_ context.Context, host string) ([]netip.Addr, error) {
		known := map[string][]netip.Addr{"one": {netip.MustParseAddr("192.0.2.1")}, "two": {netip.MustParseAddr("192.0.2.2"), netip.MustParseAddr("::ffff:192.0.2.1")}, "localhost": {netip.MustParseAddr("127.0.0.1")}}
		if a, ok := known[host]; ok {
			return a, nil
		}
		return nil, errors.New("no such host")
	}}
	r := &Runner{Network: network}
	socket := "socket = \"" + folder + "\"\nport = 5433\n"
	for _, c := range []struct {
		a, b string
		want Kinship
	}{
		{"host = \"one\"\n", "host = \"one\"\n", SameInstance}, {"host = \"one\"\n", "host = \"two\"\n", SameInstance}, {"host = \"one\"\n", "host = \"one\"\nport = 6432\n", Unknown},
		{"host = \"one\"\n", "host = \"three\"\n", Unknown}, {"hosts = [\"three\", \"two\"]\n", "host = \"192.0.2.2\"\n", SameInstance},
		{socket, "host = \"localhost\"\nport = 5433\n", SameInstance}, {"host = \"127.0.0.1\"\nport = 5433\n", socket, SameInstance}, {socket, "host = \"127.0.0.1\"\nport = 5432\n", Unknown},
		{socket, "host = \"one\"\nport = 5433\n", Unknown}, {socket, socket, SameInstance},
		{"host = \"127.0.0.1\"\n", "host = \"::1\"\n", SameInstance},
		{"host = \"db\"\n[[profile.tides.hop]]\nhost = \"gate\"\nuser = \"u\"\n", "host = \"db\"\n", Unknown},
		{"host = \"db\"\n[[profile.tides.hop]]\nhost = \"gate\"\nuser = \"u\"\n", "host = \"db\"\n[[profile.tides.hop]]\nhost = \"gate\"\nuser = \"u\"\n", SameInstance},
		{"host = \"one\"\n[[profile.tides.hop]]\nhost = \"gate\"\nuser = \"u\"\n", "host = \"two\"\n[[profile.tides.hop]]\nhost = \"gate\"\nuser = \"u\"\n", Unknown},
	} {
		_, a, _ := against(t, "secret = \"none\"\n"+c.a, nil, nil)
		_, b, _ := against(t, "secret = \"none\"\n"+c.b, nil, nil)
		if got, found := r.SameServer(t.Context(), a, b); got != c.want || found != nil {
			t.Errorf("%q and %q: %s, %v", c.a, c.b, got, found)
		}
	}
	spec := &engine.Spec{}
	if !r.one(t.Context(), spec, address.Candidate{Socket: filepath.Join(folder, "link")}, address.Candidate{Socket: filepath.Join(folder, ".s.PGSQL.5433")}) {
		t.Error("a link is another socket than what it leads to")
	}
}

// TestReach looks at a connection that is open and not logged in.
func TestReach(t *testing.T) {
	at := map[string]*fake{"10.0.0.1:5432": {facts: engine.Facts{Version: "15.4", ConnectionID: 7}}}
	r, p, took := against(t, "secret = \"env:X\"\nhost = \"10.0.0.1\"\ntls = \"off\"\n", at, nil)
	seen := uint32(0)
	report := r.Reach(t.Context(), p, func(f *engine.Facts) { seen = f.ConnectionID })
	if seen != 7 || *took != 0 || report.Outcome == finding.Fail {
		t.Errorf("seen %d, the secret taken %d times, %+v", seen, *took, report)
	}
	at["10.0.0.1:5432"].ends = map[string]finding.Result{"speak": failing("speak.silent")}
	r, p, _ = against(t, "secret = \"env:X\"\nhost = \"10.0.0.1\"\ntls = \"off\"\n", at, nil)
	if report := r.Reach(t.Context(), p, func(*engine.Facts) { t.Error("a connection that failed is looked at") }); report.Outcome != finding.Fail {
		t.Errorf("%+v", report)
	}
}
