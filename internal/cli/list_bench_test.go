package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/core/engines"
	"gentleharbor/internal/cli/base"
)

// BenchmarkList lists 10,000 profiles, from the file to the table.
func BenchmarkList(b *testing.B) { ofMany(b, "list") }

// BenchmarkComplete offers the names of 10,000 profiles to a shell.
func BenchmarkComplete(b *testing.B) {
	ofMany(b, "completion-words", "--", "bash", "test", "station-77")
}

// ofMany runs a command with 10,000 profiles.
func ofMany(b *testing.B, words ...string) {
	home := b.TempDir()
	var text strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&text, "\n[profile.station-%d]\nengine   = \"postgresql\"\nhost     = \"10.0.0.1\"\nport     = 5432\ndatabase = \"sightings\"\nuser     = \"warden\"\ntags     = [\"field\"]\n", i)
	}
	if err := os.WriteFile(filepath.Join(home, "profiles.toml"), []byte(text.String()), 0o600); err != nil {
		b.Fatal(err)
	}
	w := base.World{Engines: engines.All(), Stdout: io.Discard, Stderr: io.Discard, Lookup: func(name string) (string, bool) {
		if name != "GHARBOR_HOME" {
			return "", false
		}
		return home, true
	}}
	for b.Loop() {
		if code := Run(context.Background(), w, words); code != 0 {
			b.Fatal(code)
		}
	}
}
