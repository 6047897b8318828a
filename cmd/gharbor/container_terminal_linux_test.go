package main

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"gentleharbor/standin/engineapi"
)

// TestContainerOnTerminal: a pull shows how far it is, and a removal asks.
func TestContainerOnTerminal(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, func(h *harbour, c *engineapi.Config) { c.Pace = 120 * time.Millisecond })
	open := walletFor(h.Program)
	h.OK("add", "counts", "-engine", "postgresql", "-container", "counts", "-user", "warden")
	h.startsHealthy()
	h.OnTerminal(append([]string{"container", "make", "counts", "-image", "postgres:16"}, open...)...).
		Expect("fetching the image postgres:16").Expect(" MiB of ").Expect("ready: container counts").Ends(0)
	h.OnTerminal("container", "remove", "counts").Expect("its volume counts-data stays, with the data?").Type("n\n").Expect("nothing was changed").Ends(0)
	h.OnTerminal("container", "remove", "counts", "-data").Expect("WITH ALL ITS DATA").Type("y\n").Expect("removed: volume counts-data").Ends(0)

	folder := filepath.Join(filepath.Dir(h.Home), "station")
	station(h.Program, folder)
	if err := os.Mkdir(filepath.Join(folder, ".git"), 0o700); err != nil {
		t.Fatal(err)
	}
	h.OnTerminal("vouch", "compose.yaml").Expect("allow this compose file to use that?").Type("y\n").Expect("approved: compose").Ends(0)
	h.OnTerminal("import", "compose.yaml").Expect("saved: profile fieldstation-counts").Ends(0) // not asked again
}
