package postgresql

import (
	"bufio"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
)

// clusters lists the PostgreSQL clusters of the usual packages: Debian's keep
// their settings under /etc/postgresql/VERSION/NAME, Homebrew's their data
// under its own folder; elsewhere there is one service.
func clusters(h engine.Host) []engine.LocalService {
	const what = "an installed PostgreSQL cluster that does not answer"
	var found []engine.LocalService
	settings, _ := filepath.Glob(h.Path("/etc/postgresql/*/*/postgresql.conf"))
	for _, path := range settings {
		folder := filepath.Dir(path)
		version, name := filepath.Base(filepath.Dir(folder)), filepath.Base(folder)
		start := []string{"sudo", "pg_ctlcluster", version, name, "start"}
		if h.Exists("/run/systemd/system") {
			start = []string{"sudo", "systemctl", "start", "postgresql@" + version + "-" + name}
		}
		found = append(found, engine.LocalService{
			What:  what,
			Name:  clean.Line(version+"/"+name, 60),
			Port:  confPort(path),
			Start: start,
		})
	}
	if len(found) > 0 {
		return found
	}
	if runtime.GOOS == "darwin" || h.Root != "" {
		for _, base := range []string{"/opt/homebrew/var/", "/usr/local/var/"} {
			folders, _ := filepath.Glob(h.Path(base + "postgres*/postgresql.conf"))
			for _, path := range folders {
				name := filepath.Base(filepath.Dir(path))
				found = append(found, engine.LocalService{
					What:  what,
					Name:  clean.Line(name, 60),
					Port:  confPort(path),
					Start: []string{"brew", "services", "start", name},
				})
			}
		}
	}
	if len(found) == 0 && h.Exists("/usr/bin/pg_createcluster") {
		return withoutCluster(h)
	}
	if len(found) == 0 && h.Installed("postgresql") {
		found = append(found, engine.LocalService{
			What:  "installed, but it does not answer",
			Name:  "postgresql",
			Port:  usualPort,
			Start: h.StartCommand("postgresql"),
		})
	}
	return found
}

// withoutCluster is for Debian's packages without a cluster: one must be made before a server can start.
func withoutCluster(h engine.Host) []engine.LocalService {
	versions, _ := filepath.Glob(h.Path("/usr/lib/postgresql/*/bin/postgres"))
	if len(versions) == 0 {
		return nil
	}
	version := filepath.Base(filepath.Dir(filepath.Dir(versions[len(versions)-1])))
	return []engine.LocalService{{
		What:  "an installed PostgreSQL that has no cluster yet",
		Name:  "postgresql " + clean.Line(version, 20),
		Port:  usualPort,
		Start: []string{"sudo", "pg_createcluster", version, "main", "--start"},
	}}
}

// confPort reads `port` from a postgresql.conf (PostgreSQL documentation,
// "Parameter Interaction via the Configuration File"); the last one counts.
func confPort(path string) int {
	port := usualPort
	file, err := atomicfile.Open(path)
	if err != nil {
		return port
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		line, _, _ := strings.Cut(lines.Text(), "#")
		fields := strings.Fields(strings.Replace(line, "=", " ", 1))
		if len(fields) >= 2 && strings.EqualFold(fields[0], "port") {
			if n, err := strconv.Atoi(strings.Trim(fields[1], "'")); err == nil {
				port = n
			}
		}
	}
	return port
}
