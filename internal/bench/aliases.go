//go:build unix

package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/internal/testkit"
)

// aliases compares a test by an alias, one of a thousand in the file, with the same
// test by host and without such a file.
func (b *bench) aliases() error {
	server, err := testkit.StartPostgreSQL()
	if err != nil {
		return err
	}
	var text strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&text, "\n[alias.gauge-%d]\nengine    = \"postgresql\"\naddresses = [\"127.0.0.1:%d\"]\ndatabase  = "+
			"\"sightings\"\n", i, server.Port)
	}
	path := filepath.Join(b.folder, "home", "aliases.toml")
	defer os.Remove(path)
	var with, without []time.Duration
	for range pairs {
		if err := os.WriteFile(path, []byte(text.String()), 0o600); err != nil {
			return err
		}
		t, testErr := b.time("gharbor", "test", "sightings", "-override", "tls=off", "-override", "host=", "-override",
			"port=", "-override", "database=", "-override", "alias=gauge-999")
		with = append(with, t)
		gone := os.Remove(path)
		t, err := b.time("gharbor", "test", "sightings", "-override", "tls=off")
		if err := errors.Join(err, testErr, gone); err != nil {
			return err
		}
		without = append(without, t)
	}
	a, p := median(with), median(without)
	fmt.Printf("%-34s %8.2f ms  peer %8.2f ms  ratio %.2f (no aim)\n", "test by one alias of 1,000 / host", ms(a), ms(p),
		float64(a)/float64(p))
	return nil
}
