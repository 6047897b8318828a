package address_test

import (
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/core/address"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
)

// one is the candidate of a profile.
func one(t *testing.T, text string) (address.Candidate, *finding.Finding) {
	t.Helper()
	f, err := profile.Parse(keys, "profiles.toml", []byte("[profile.counts]\n"+text))
	if err != nil {
		t.Fatal(err)
	}
	r := resolve.Resolve(f, f.Lookup("counts"), nil, resolve.Environment{})
	all, found := r.Address().Locate(t.Context(), address.Sources{}, r)
	if found != nil {
		return address.Candidate{}, found
	}
	if len(all) == 0 {
		t.Fatalf("%s leads nowhere", text)
	}
	return all[0], nil
}

// TestSocketNames: a folder has the socket that the engine's servers make there.
func TestSocketNames(t *testing.T) {
	folder := t.TempDir()
	os.WriteFile(filepath.Join(folder, "mysql.sock"), nil, 0o600)
	empty := t.TempDir()
	for text, want := range map[string]string{
		"engine = \"postgresql\"\nsocket = \"" + folder + "\"\nport = 5433\n":                     folder + "/.s.PGSQL.5433",
		"engine = \"postgresql\"\nsocket = \"" + folder + "/.s.PGSQL.5434\"\n":                    folder + "/.s.PGSQL.5434",
		"engine = \"mysql\"\nsocket = \"" + folder + "\"\n":                                       folder + "/mysql.sock",
		"engine = \"mariadb\"\nsocket = \"" + empty + "\"\n":                                      empty + "/mysqld.sock",
		"engine = \"redis\"\nsocket = \"" + empty + "\"\n":                                        empty + "/redis.sock",
		"engine = \"mysql\"\nsocket = \"" + folder + "/own.sock\"\n":                              folder + "/own.sock",
		"engine = \"postgresql\"\nsocket = \"/far\"\n[[profile.counts.hop]]\nhost = \"gate\"\n":   "/far/.s.PGSQL.5432",
		"engine = \"mysql\"\nsocket = \"/far/m.sock\"\n[[profile.counts.hop]]\nhost = \"gate\"\n": "/far/m.sock",
	} {
		c, found := one(t, text)
		if found != nil || c.Socket != want || c.Folder == "" {
			t.Errorf("%s is at %+v, %+v", text, c, found)
		}
	}
	if c, _ := one(t, "engine = \"postgresql\"\nsocket = \""+folder+"/.s.PGSQL.5434\"\n"); c.Port != 5434 || !c.Local() || c.String() != c.Socket {
		t.Errorf("%+v", c)
	}
	if _, found := one(t, "engine = \"mysql\"\nsocket = \"/"+strings.Repeat("x", 120)+"\"\n"); found == nil || found.Code != finding.ProfileIncomplete {
		t.Errorf("a path that no address holds: %+v", found)
	}
	if _, found := one(t, "engine = \"mysql\"\ncontainer = \"x\"\n"); found == nil || found.Code != finding.ContainerNoEngine {
		t.Errorf("without container engines: %+v", found)
	}
}

// TestCandidate: what a candidate is called, where it is dialled, and what its certificate must be for.
func TestCandidate(t *testing.T) {
	given := profile.HostEntry{Name: "db", Addresses: []netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8::1")}, File: "/h/aliases.toml", Line: 3}
	c := address.Candidate{Host: "db", Port: 5432, StaticHost: &given}
	if got := strings.Join(c.HopTargets(), " "); got != "192.0.2.1:5432 [2001:db8::1]:5432" {
		t.Error(got)
	}
	if c.AnsweredBy() != "[hosts] at /h/aliases.toml:3" || c.CertificateName() != "db" || c.Local() {
		t.Errorf("%s %s", c.AnsweredBy(), c.CertificateName())
	}
	plain := address.Candidate{Host: "127.0.0.1", Port: 1, Name: "counts.example"}
	if got := plain.HopTargets(); len(got) != 1 || got[0] != "127.0.0.1:1" || !plain.Local() || plain.CertificateName() != "counts.example" {
		t.Errorf("%v", got)
	}
	if (address.Candidate{Host: "127.0.0.1", ViaHop: true}).Local() {
		t.Error("a hop's loopback is this machine's")
	}
}
