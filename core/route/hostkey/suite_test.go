//go:build unix

package hostkey

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// TestTheirKnownHosts: in the known-hosts file of OpenSSH's own unit test each name has the lines that the system's
// ssh-keygen finds, and each line that its test calls invalid is skipped and told of.
func TestTheirKnownHosts(t *testing.T) {
	t.Parallel()
	folder := testkit.Source(t, "openssh/regress/unittests/hostkeys")
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		t.Skip("the system's ssh-keygen judges here: ", err)
	}
	file := filepath.Join(folder, "testdata", "known_hosts")
	store := Read(file)
	source, err := os.ReadFile(filepath.Join(folder, "test_iterate.c"))
	if err != nil {
		t.Fatal(err)
	}
	invalid := regexp.MustCompile(`NULL,\s+(\d+),\s+HKF_STATUS_INVALID`).FindAllStringSubmatch(string(source), -1)
	var told, broken []string
	for _, m := range invalid {
		broken = append(broken, m[1])
		told = append(told, file+":"+m[1]+" is not a known-hosts line (ignored)")
	}
	found := regexp.MustCompile(`(?m)found: line (\d+)`)
	for _, name := range []string{"prometheus.example.com", "sisyphus.example.com", "192.0.2.1", "2001:db8::1", "PROMETHEUS.example.com",
		"other.example.com", "example.com", "192.0.2.77", "192.0.3.1", "unknown.example.org"} {
		out, _ := exec.Command("ssh-keygen", "-F", strings.ToLower(name), "-f", file).Output()
		var theirs, ours []int
		for _, m := range found.FindAllSubmatch(out, -1) {
			if n, _ := strconv.Atoi(string(m[1])); !slices.Contains(broken, string(m[1])) { // it looks at no key there
				theirs = append(theirs, n)
			}
		}
		for _, marker := range []string{"", "cert-authority", "revoked"} {
			for _, line := range store.linesFor(Name(name), marker) {
				ours = append(ours, line.Number)
			}
		}
		slices.Sort(ours)
		if !slices.Equal(ours, theirs) {
			t.Errorf("%s: lines %v, ssh-keygen finds %v", name, ours, theirs)
		}
	}
	if len(told) < 6 || !slices.Equal(store.Skipped, told) {
		t.Errorf("skipped %q, want %q", store.Skipped, told)
	}
}
