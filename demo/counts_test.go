//go:build unix

package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"gentleharbor/internal/testkit"
)

// TestMain stops the server at the end, and removes its files.
func TestMain(m *testing.M) { testkit.Main(m) }

// TestSamples: the sample database of the demo is one for a real server too.
func TestSamples(t *testing.T) {
	t.Parallel()
	server := testkit.PostgreSQLServer(t)
	server.SQL(t, "postgres", "CREATE DATABASE samples OWNER warden")
	p := testkit.NewProgram(t)
	p.Setenv("ADMIN", testkit.AdminPassword)
	p.Profiles(fmt.Sprintf("[profile.samples]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"samples\"\nuser = \"admin\"\nsecret = \"env:ADMIN\"\n", server.Port))
	folder := t.TempDir()
	for name, text := range samples() {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		p.Write(path, text)
	}
	p.OK("load", "samples", filepath.Join(folder, "all.sql")).Has("11 statements, 14,020 rows; made 4 tables, 1 index")
	p.OK("query", "samples", "-format", "bare", "select count(*) from sighting").Has("12000\n")
	p.Run("load", "samples", filepath.Join(folder, "counts.csv"), "-table", "sighting").Want(1).Has("counts.csv:3: column head_count: ")
}
