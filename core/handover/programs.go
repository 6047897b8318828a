package handover

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gentleharbor/core/engine"
)

// InstalledProgram is a program found outside the folders of PATH.
type InstalledProgram struct {
	Path    string
	Version string // from its folder's name, "" where that has none
}

// folders are where packages and installers put programs that are not on the
// path, as patterns.
func folders(engines engine.Set, home string) []string {
	var patterns []string
	for _, spec := range engines.All() {
		for _, pattern := range spec.Client.Programs.Folders {
			if !slices.Contains(patterns, pattern) {
				patterns = append(patterns, pattern)
			}
		}
	}
	return append(patterns,
		"/opt/*/bin", "/opt/*/*/bin",
		"/opt/homebrew/opt/*/bin", "/usr/local/opt/*/bin", "/usr/local/bin", "/usr/sbin", "/sbin", "/usr/local/sbin",
		"/snap/bin",
		filepath.Join(home, ".local", "bin"), filepath.Join(home, "bin"), filepath.Join(home, "go", "bin"),
	)
}

var versionInPath = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[/@-](\d+(?:\.\d+)*)(?:/|$)`) })

// Elsewhere finds executables of a name in the usual install folders, the newest
// version first. root is put before them, for tests; "" otherwise.
func Elsewhere(engines engine.Set, name, home, root string) []InstalledProgram {
	if strings.ContainsRune(name, filepath.Separator) || name == "" {
		return nil
	}
	var found []InstalledProgram
	seen := make(map[string]bool)
	for _, pattern := range folders(engines, home) {
		matches, _ := filepath.Glob(filepath.Join(root, pattern, name))
		for _, path := range matches {
			info, err := os.Stat(path)
			if err != nil || info.IsDir() || info.Mode().Perm()&0o111 == 0 || seen[path] {
				continue
			}
			seen[path] = true
			one := InstalledProgram{Path: path}
			if m := versionInPath().FindStringSubmatch(filepath.Dir(strings.TrimPrefix(path, root)) + "/"); m != nil {
				one.Version = m[1]
			}
			found = append(found, one)
		}
	}
	slices.SortStableFunc(found, func(a, b InstalledProgram) int { return compareVersions(b.Version, a.Version) })
	return found
}

// compareVersions orders "9.6" before "15"; "" comes first.
func compareVersions(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		part := func(parts []string) int {
			if i >= len(parts) {
				return -1
			}
			n, err := strconv.Atoi(parts[i])
			if err != nil {
				return -1
			}
			return n
		}
		if d := part(x) - part(y); d != 0 {
			return d
		}
	}
	return 0
}

// OlderClient reports whether a program is a server's own client that is much
// older than the server, whose version is known from the last test. Only programs
// of those names are run, with --version.
func OlderClient(ctx context.Context, engines engine.Set, path, server string) (client string, older bool) {
	var programs engine.Programs
	known := false
	for _, spec := range engines.All() {
		if _, ok := spec.Client.Programs.Older[filepath.Base(path)]; ok {
			programs, known = spec.Client.Programs, true
		}
	}
	if !known || server == "" {
		return "", false
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, path, "--version")
	cmd.WaitDelay = time.Second // for what it left behind with its output open
	out, err := cmd.Output()
	if err != nil {
		return "", false
	}
	found := programs.Version().FindAllSubmatch(out, -1)
	if len(found) == 0 || programs.SameServer != nil && !programs.SameServer(string(out), server) {
		return "", false
	}
	m := found[len(found)-1] // of "Ver 15.1 Distrib 10.11" the second
	major := func(s string) int {
		n, _ := strconv.Atoi(strings.SplitN(s, ".", 2)[0])
		return n
	}
	return string(m[1]), major(server)-major(string(m[1])) > programs.Older[filepath.Base(path)]
}
