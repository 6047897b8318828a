package postgresql

import (
	"fmt"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/engine"
)

// maxServiceFile bounds a service file, in bytes: a section has about two hundred.
const maxServiceFile = 4 << 20

// readServices reads a service file (PostgreSQL documentation, "The Connection Service File").
func readServices(path string) ([]engine.Section, error) {
	data, err := atomicfile.Read(path, maxServiceFile)
	if err != nil {
		return nil, err
	}
	return parseServices(data, path)
}

// findService returns the first section of that name, as libpq does.
func findService(data []byte, path, name string) (found engine.Section, names []string, err error) {
	all, err := parseServices(data, path)
	for _, s := range all {
		names = append(names, s.Name)
		if s.Name == name && found.Line == 0 {
			found = s
		}
	}
	return found, names, err
}

// parseServices reads sections of key=value lines.
func parseServices(data []byte, path string) ([]engine.Section, error) {
	var all []engine.Section
	number := 0
	for line := range strings.SplitSeq(string(data), "\n") {
		number++
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#':
		case line[0] == '[':
			name, ok := strings.CutSuffix(line[1:], "]")
			if !ok || name == "" {
				return nil, fmt.Errorf("%s:%d: a section is a name in brackets", path, number)
			}
			all = append(all, engine.Section{
				Name:   name,
				Line:   number,
				Origin: fmt.Sprintf("service file %s, [%s]", path, name),
				Names:  []string{name},
			})
		case strings.HasPrefix(line, "ldap"):
			return nil, fmt.Errorf("%s:%d: LDAP look-ups are not supported; write the values", path, number)
		default:
			key, value, ok := strings.Cut(line, "=")
			if !ok || len(all) == 0 {
				return nil, fmt.Errorf("%s:%d: expected key=value below a [section]", path, number)
			}
			last := &all[len(all)-1]
			if slices.ContainsFunc(last.Pairs, func(p [2]string) bool { return p[0] == key }) {
				continue // the first counts
			}
			last.Pairs = append(last.Pairs, [2]string{key, value})
		}
	}
	return all, nil
}

// servicePath is where libpq looks for the user's service file.
func servicePath(lookup engine.Lookup, home string) string { return servicePaths(lookup, home)[0] }

// servicePaths are where libpq looks for a service, in order: in the one file that PGSERVICEFILE names,
// else in the user's and then in the system's.
func servicePaths(lookup engine.Lookup, home string) []string {
	if path, ok := lookup("PGSERVICEFILE"); ok && path != "" {
		return []string{path}
	}
	paths := []string{filepath.Join(home, ".pg_service.conf")}
	if runtime.GOOS == "windows" {
		folder, _ := lookup("APPDATA")
		paths = []string{filepath.Join(folder, "postgresql", ".pg_service.conf")}
	}
	if folder, ok := lookup("PGSYSCONFDIR"); ok && folder != "" {
		return append(paths, filepath.Join(folder, "pg_service.conf"))
	}
	for _, folder := range systemFolders {
		paths = append(paths, filepath.Join(folder, "pg_service.conf"))
	}
	return paths
}

// servicePathByVariable reports whether a path of servicePaths is from a variable.
func servicePathByVariable(path string, lookup engine.Lookup) bool {
	file, _ := lookup("PGSERVICEFILE")
	folder, _ := lookup("PGSYSCONFDIR")
	return path == file || folder != "" && path == filepath.Join(folder, "pg_service.conf")
}

// systemFolders are what builds of PostgreSQL have as their folder of system-wide settings: Debian's
// packages, and PostgreSQL's own.
var systemFolders = []string{"/etc/postgresql-common", "/etc/sysconfig/pgsql", "/usr/local/pgsql/etc"}
