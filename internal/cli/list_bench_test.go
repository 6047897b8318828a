package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/internal/cli/base"
)

// BenchmarkList lists 10,000 profiles, from the file to the table.
func BenchmarkList(b *testing.B) {
	home := b.TempDir()
	var text strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&text, "\n[profile.station-%d]\nengine   = \"postgresql\"\nhost     = \"10.0.0.1\"\nport     = 5432\ndatabase = \"sightings\"\nuser     = \"warden\"\ntags     = [\"field\"]\n", i)
	}
	if err := os.WriteFile(filepath.Join(home, "profiles.toml"), []byte(text.String()), 0o600); err != nil {
		b.Fatal(err)
	}
	w := base.World{Stdout: io.Discard, Stderr: io.Discard, Lookup: func(name string) (string, bool) { return home, name == "GHARBOR_HOME" }}
	for b.Loop() {
		if code := Run(context.Background(), w, []string{"list"}); code != 0 {
			b.Fatal(code)
		}
	}
}
