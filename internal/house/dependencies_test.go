package house

import (
	"bytes"
	"flag"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write the sizes of docs/dependencies.md")

// licenceMarks are what tells a licence, by its SPDX name, in the order in which they are looked for.
var licenceMarks = []struct{ name, mark string }{
	{"Apache-2.0", "Apache License"},
	{"MPL-2.0", "Mozilla Public License"},
	{"MIT", "Permission is hereby granted, free of charge"},
	{"BSD-3-Clause", "Neither the name"},
	{"BSD-2-Clause", "Redistributions of source code must retain"},
}

// row is a line of the table of modules: `module` | why | licence | size in KB.
var row = regexp.MustCompile("(?m)^\\| `([^`]+)` \\| ([^|]+) \\| ([^|]+) \\| (\\d+) \\|$")

// TestDependencies: docs/dependencies.md has each module that is linked into the program, on any system, with the reason,
// its licence as its own file says, and about the size that it has here; and no other.
func TestDependencies(t *testing.T) {
	if testing.Short() {
		t.Skip("it builds the program")
	}
	const page = "../../docs/dependencies.md"
	data, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	folders := linked(t)
	sizes := sizesOf(t, slices.Collect(maps.Keys(folders)))
	if *update {
		data = row.ReplaceAllFunc(data, func(line []byte) []byte {
			m := row.FindSubmatch(line)
			return fmt.Appendf(nil, "| `%s` | %s | %s | %d |", m[1], m[2], m[3], sizes[string(m[1])])
		})
		if err := os.WriteFile(page, data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	said := make(map[string]bool)
	for _, m := range row.FindAllStringSubmatch(string(data), -1) {
		module, size := m[1], sizes[m[1]]
		said[module] = true
		if folders[module] == "" {
			t.Errorf("%s is not linked", module)
			continue
		}
		if licence := licenceOf(t, folders[module]); licence != m[3] {
			t.Errorf("%s has the licence %s, not %s", module, licence, m[3])
		}
		if told, _ := strconv.Atoi(m[4]); told < size*2/3-20 || told > size*3/2+20 {
			t.Errorf("%s has %d KB, not %d (go test ./internal/house -run Dependencies -update)", module, size, told)
		}
	}
	for module := range folders {
		if !said[module] {
			t.Errorf("%s is linked, and docs/dependencies.md does not say why", module)
		}
	}
}

// linked are the modules that are linked on some system, with their folders.
func linked(t *testing.T) map[string]string {
	t.Helper()
	all := make(map[string]string)
	for _, system := range []string{"linux", "darwin", "windows"} {
		cmd := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} {{.Dir}}{{end}}{{end}}", "gentleharbor/cmd/gharbor")
		cmd.Env = append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0")
		out, err := cmd.Output()
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(out)) {
			if module, folder, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
				all[module] = folder
			}
		}
	}
	return all
}

// sizesOf are the sizes in the program, in KB, of what the modules bring: code and data, without tables of the runtime's.
func sizesOf(t *testing.T, modules []string) map[string]int {
	t.Helper()
	path := filepath.Join(t.TempDir(), "gharbor")
	build := exec.Command("go", "build", "-o", path, "gentleharbor/cmd/gharbor")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	out, err := exec.Command("go", "tool", "nm", "-size", path).Output()
	if err != nil {
		t.Fatal(err)
	}
	bytesOf := make(map[string]int)
	for line := range bytes.Lines(out) {
		fields := strings.Fields(string(line))
		if len(fields) < 4 || strings.EqualFold(fields[2], "B") {
			continue
		}
		size, _ := strconv.Atoi(fields[1])
		name := strings.Join(fields[3:], " ")
		for _, module := range modules {
			if strings.Contains(name, module+"/") || strings.Contains(name, module+".") {
				bytesOf[module] += size
				break
			}
		}
	}
	sizes := make(map[string]int)
	for module, size := range bytesOf {
		sizes[module] = size >> 10
	}
	return sizes
}

func licenceOf(t *testing.T, folder string) string {
	t.Helper()
	entries, err := os.ReadDir(folder)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		name := strings.ToLower(e.Name())
		if e.IsDir() || !strings.HasPrefix(name, "licen") && !strings.HasPrefix(name, "copying") {
			continue
		}
		data, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		for _, one := range licenceMarks {
			if strings.Contains(string(data), one.mark) {
				return one.name
			}
		}
	}
	return "unknown"
}
