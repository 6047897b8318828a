//go:build unix

package testkit

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// Node runs a script with the libraries pg and mysql2 (scripts/fetch-servers), as a program of this user's with no
// environment of its own but env.
func Node(t testing.TB, script string, env ...string) string {
	t.Helper()
	folder := need(t, "Node.js libraries: no", func() (string, error) {
		cache, err := serverCache()
		if err != nil {
			return "", err
		}
		folder := filepath.Join(cache, "libraries")
		if _, err := os.Stat(filepath.Join(folder, "node_modules", "mysql2")); err != nil {
			return "", fmt.Errorf("they are not in the cache (scripts/fetch-servers): %w", err)
		}
		_, err = exec.LookPath("node")
		return folder, err
	})
	node := exec.CommandContext(t.Context(), "node", "-e", script)
	node.Dir = folder
	node.Env = append([]string{"PATH=" + os.Getenv("PATH")}, env...)
	out, err := node.CombinedOutput()
	if err != nil {
		t.Errorf("node: %v\n%s", err, out)
	}
	return string(out)
}
