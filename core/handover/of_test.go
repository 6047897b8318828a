package handover

import (
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
)

// of is the connection of a profile that leads to a host.
func of(t *testing.T, text string, servers []address.Candidate) (Connection, *finding.Finding) {
	t.Helper()
	f, err := profile.Parse(keys, "profiles.toml", []byte("[profile.counts]\n"+text))
	if err != nil {
		t.Fatal(err)
	}
	return NewConnection(resolve.Resolve(f, f.Lookup("counts"), nil, resolve.Environment{}), servers, secret.NewValue("knot"))
}

func names(all []engine.Variable) string {
	var words []string
	for _, v := range all {
		words = append(words, v.Name+"="+v.Value)
	}
	return strings.Join(words, " ")
}

// TestOf: a profile is handed over in the words of its engine.
func TestOf(t *testing.T) {
	at := []address.Candidate{{Host: "db", Port: 5433}}
	c, found := of(t, "engine = \"postgresql\"\nhost = \"db\"\nuser = \"warden\"\ndatabase = \"sightings\"\ntls = \"required\"\ntarget = \"writable\"\n", at)
	if found != nil {
		t.Fatal(found.Cause)
	}
	if got := names(c.Variables()); got != "PGHOST=db PGPORT=5433 PGDATABASE=sightings PGUSER=warden PGSSLMODE=require PGTARGETSESSIONATTRS=read-write" {
		t.Error(got)
	}
	if got := names(c.Neutral()); !strings.Contains(got, "GHARBOR_ENGINE=postgresql") || strings.Contains(got, "SERVICE") {
		t.Error(got)
	}
	if !c.Inherited("PGOPTIONS") || !c.Inherited("GHARBOR_HOST") || c.Inherited("PATH") || c.PasswordVariable() != "PGPASSWORD" {
		t.Error("what is cleared is wrong")
	}
	local := c.At(engine.Endpoint{Host: "127.0.0.1", Port: 40000})
	if local.Host() != "127.0.0.1" || local.Port() != "40000" || !local.Elsewhere {
		t.Errorf("%+v", local)
	}
	c, _ = of(t, "engine = \"mysql\"\nhost = \"db\"\nuser = \"warden\"\ndatabase = \"ringing\"\n", at)
	if got := names(c.ExportVariables()); got != "MYSQL_HOST=db MYSQL_TCP_PORT=5433 MYSQL_USER=warden MYSQL_DATABASE=ringing MYSQL_PWD=knot" {
		t.Error(got)
	}
	c, _ = of(t, "engine = \"oracle\"\nhost = \"db\"\nuser = \"warden\"\nservice = \"SKEIN\"\n", at)
	if got := names(c.ExportVariables()); !strings.Contains(got, "GHARBOR_SERVICE=SKEIN") || strings.Contains(got, "knot") {
		t.Error(got)
	}
	if got := c.URL(); got != "oracle://warden:knot@db:5433/SKEIN" {
		t.Error(got)
	}
	if _, found := of(t, "host = \"db\"\n", at); found == nil || found.Code != finding.ProfileIncomplete {
		t.Errorf("without an engine: %+v", found)
	}
}

// TestGiven: a program that knows nothing of [hosts] gets the address, and the name for the certificate.
func TestGiven(t *testing.T) {
	given := profile.HostEntry{Name: "db", Addresses: []netip.Addr{netip.MustParseAddr("192.0.2.7")}}
	c, found := of(t, "engine = \"postgresql\"\nhost = \"db\"\nuser = \"warden\"\ntls = \"verified\"\n", []address.Candidate{{Host: "db", Port: 5432, StaticHost: &given}})
	if found != nil {
		t.Fatal(found.Cause)
	}
	if c.Host() != "192.0.2.7" || c.TLSName != "db" {
		t.Errorf("%s for %s", c.Host(), c.TLSName)
	}
	if got := c.URL(); !strings.Contains(got, "@db:5432/") || !strings.Contains(got, "hostaddr=192.0.2.7") {
		t.Error(got)
	}
	c, _ = of(t, "engine = \"mysql\"\nsocket = \"/run/mysqld/mysqld.sock\"\nuser = \"warden\"\n", []address.Candidate{{Socket: "/run/mysqld/mysqld.sock", Folder: "/run/mysqld"}})
	if c.Host() != "localhost" || !strings.Contains(names(c.Variables()), "MYSQL_UNIX_PORT=/run/mysqld/mysqld.sock") || !strings.Contains(c.URL(), "socket=/run") {
		t.Errorf("%s %s", names(c.Variables()), c.URL())
	}
}

// TestFolder: a private folder is there until its program ends, and those of programs that are gone are swept.
func TestFolder(t *testing.T) {
	base := t.TempDir()
	lookup := func(name string) (string, bool) { return base, name == "XDG_RUNTIME_DIR" }
	gone := filepath.Join(base, folderPrefix+"999999999-x")
	os.Mkdir(gone, 0o700)
	long := time.Now().Add(-time.Hour)
	os.Chtimes(gone, long, long)
	f, err := NewFolder(lookup)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(f.Path); err != nil || info.Mode().Perm() != 0o700 || filepath.Dir(f.Path) != base {
		t.Errorf("%s %v", f.Path, err)
	}
	if _, err := os.Stat(gone); err == nil {
		t.Error("the folder of a program that is gone is still there")
	}
	begun := filepath.Join(base, folderPrefix+"999999998-x") // killed while it noted its program
	os.Mkdir(begun, 0o700)
	os.WriteFile(filepath.Join(begun, "process"), nil, 0o600)
	if err := f.For(os.Getpid()); err != nil {
		t.Error(err)
	}
	again, err := NewFolder(lookup)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(f.Path); err != nil {
		t.Error("the folder of a program that runs was swept")
	}
	if _, err := os.Stat(begun); err != nil {
		t.Error("the folder of a program that may run was swept")
	}
	os.RemoveAll(begun)
	f.Remove()
	again.Remove()
	if left, _ := os.ReadDir(base); len(left) != 0 {
		t.Errorf("%d folders are left", len(left))
	}
}

// TestOlderClient: only programs of known names are asked for their version.
func TestOlderClient(t *testing.T) {
	folder := t.TempDir()
	program := func(name, says string) string {
		path := filepath.Join(folder, name)
		os.WriteFile(path, []byte("#!/bin/sh\necho '"+says+"'\n"), 0o755)
		return path
	}
	for _, c := range []struct {
		name, says, server string
		older              bool
	}{
		{"psql", "psql (PostgreSQL) 13.4", "15.4", true}, {"psql", "psql (PostgreSQL) 14.1", "15.4", false}, {"pg_dump", "pg_dump (PostgreSQL) 14.1", "15.4", true},
		{"mysql", "mysql  Ver 5.7.1", "8.0.36", true}, {"mysql", "mysql  Ver 15.1 Distrib 10.11.6-MariaDB", "8.0.36", false}, {"tern", "1", "9", false}, {"psql", "psql (PostgreSQL) 9.6", "", false},
	} {
		client, older := OlderClient(t.Context(), known, program(c.name, c.says), c.server)
		if older != c.older || older && client == "" {
			t.Errorf("%s %q with a server %s: %q %v", c.name, c.says, c.server, client, older)
		}
	}
}
