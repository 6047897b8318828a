package nearby

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	engines "gentleharbor/core/engine"
	"gentleharbor/core/profile"
)

// usualSockets are where the servers' packages put their sockets.
var usualSockets = []struct{ engine, pattern string }{
	{"postgresql", "/var/run/postgresql/.s.PGSQL.*"},
	{"postgresql", "/tmp/.s.PGSQL.*"},
	{"mysql", "/var/run/mysqld/mysqld.sock"},
	{"mysql", "/var/lib/mysql/mysql.sock"},
	{"mysql", "/tmp/mysql.sock"},
	{"redis", "/var/run/redis/redis*.sock"},
	{"mongodb", "/tmp/mongodb-*.sock"},
}

func (p Places) path(path string) string { return filepath.Join(p.Root, path) }

// sockets lists the sockets in the usual places, locks left out.
func (p Places) sockets(engine string) []string {
	var found []string
	for _, usual := range usualSockets {
		if engine != "" && !engines.SameFamily(engine, usual.engine) {
			continue
		}
		matches, _ := filepath.Glob(p.path(usual.pattern))
		for _, path := range matches {
			if info, err := os.Stat(path); err == nil && info.Mode()&os.ModeSocket != 0 {
				found = append(found, path)
			}
		}
	}
	const most = 32
	return found[:min(len(found), most)]
}

func socketEngine(path string) string {
	base := filepath.Base(path)
	switch {
	case strings.HasPrefix(base, ".s.PGSQL."):
		return "postgresql"
	case strings.HasPrefix(base, "mysql"):
		return "mysql"
	case strings.HasPrefix(base, "redis"):
		return "redis"
	}
	return "mongodb"
}

func socketPort(path string) int {
	port, _ := strconv.Atoi(strings.TrimPrefix(filepath.Base(path), ".s.PGSQL."))
	return port
}

func sameFolder(folder, socket string) bool {
	a, errA := filepath.EvalSymlinks(folder)
	b, errB := filepath.EvalSymlinks(filepath.Dir(socket))
	return errA == nil && errB == nil && a == b
}

// listening lists the loopback addresses that listen, usual database ports
// first. Linux tells them (proc(5), /proc/net/tcp); elsewhere the usual ports
// are tried.
func (p Places) listening() []netip.AddrPort {
	byPort := make(map[uint16]netip.Addr)
	told := false
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		data, err := os.ReadFile(p.path(file))
		if err != nil {
			continue
		}
		told = true
		for _, addr := range parseProcNet(data) {
			known, ok := byPort[addr.Port()]
			if addr.Port() >= lowest && (!ok || known.Is6() && addr.Addr().Is4()) {
				byPort[addr.Port()] = addr.Addr()
			}
		}
	}
	if !told && p.Root == "" {
		for _, engine := range profile.Engines() {
			for i := range 4 {
				byPort[uint16(profile.DefaultPort(engine)+i)] = netip.MustParseAddr("127.0.0.1")
			}
		}
	}
	var addrs []netip.AddrPort
	for port, addr := range byPort {
		addrs = append(addrs, netip.AddrPortFrom(addr, port))
	}
	slices.SortFunc(addrs, func(a, b netip.AddrPort) int {
		likelyA, likelyB := usualEngine(int(a.Port())) != "", usualEngine(int(b.Port())) != ""
		if likelyA != likelyB {
			if likelyA {
				return -1
			}
			return 1
		}
		return int(a.Port()) - int(b.Port())
	})
	return addrs
}

// parseProcNet reads the sockets in state LISTEN (0A) that loopback leads to.
func parseProcNet(data []byte) []netip.AddrPort {
	var addrs []netip.AddrPort
	lines := bufio.NewScanner(bytes.NewReader(data))
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		if len(fields) < 4 || fields[3] != "0A" {
			continue
		}
		host, port, ok := strings.Cut(fields[1], ":")
		if !ok {
			continue
		}
		number, err := strconv.ParseUint(port, 16, 16)
		raw, hexErr := hex.DecodeString(host)
		if err != nil || hexErr != nil || len(raw)%4 != 0 {
			continue
		}
		for i := 0; i < len(raw); i += 4 { // each word in the machine's own order, little-endian here
			slices.Reverse(raw[i : i+4])
		}
		addr, ok := netip.AddrFromSlice(raw)
		if !ok {
			continue
		}
		addr = addr.Unmap()
		if addr.IsUnspecified() {
			addr = netip.MustParseAddr("127.0.0.1") // an IPv6 listener mostly takes IPv4 as well
		}
		if addr.IsLoopback() {
			addrs = append(addrs, netip.AddrPortFrom(addr, uint16(number)))
		}
	}
	return addrs
}

// units are the services of the usual packages.
var units = []struct{ engine, unit string }{
	{"mariadb", "mariadb"}, {"mysql", "mysql"}, {"mysql", "mysqld"}, {"redis", "redis-server"}, {"redis", "redis"},
	{"mongodb", "mongod"},
}

// Stopped lists installed services of an engine ("" for all) none of whose
// addresses is among those that answer.
func (p Places) Stopped(answering []Server, engine string) []Server {
	var found []Server
	answers := func(engine string, port int) bool {
		return slices.ContainsFunc(answering, func(s Server) bool {
			return s.State == "answers" && engines.SameFamily(s.Engine, engine) && (port == 0 || s.Port == port)
		})
	}
	if engine == "" || engine == "postgresql" {
		for _, s := range p.clusters() {
			if !answers("postgresql", s.Port) {
				found = append(found, s)
			}
		}
	}
	seen := make(map[string]bool)
	for _, u := range units {
		if engine != "" && !engines.SameFamily(engine, u.engine) || seen[u.engine] || answers(u.engine, 0) ||
			!p.installed(u.unit) {
			continue
		}
		seen[u.engine] = true
		found = append(found, Server{
			Engine: u.engine,
			What:   "an installed service that does not answer",
			Name:   u.unit,
			State:  "stopped",
			Start:  p.startCommand(u.unit),
		})
	}
	return found
}

func (p Places) exists(path string) bool {
	_, err := os.Stat(p.path(path))
	return err == nil
}

func (p Places) installed(unit string) bool {
	for _, folder := range []string{"/lib/systemd/system/", "/usr/lib/systemd/system/", "/etc/systemd/system/"} {
		// A link to another unit is that unit's other name.
		if info, err := os.Lstat(p.path(folder + unit + ".service")); err == nil && info.Mode()&os.ModeSymlink == 0 {
			return true
		}
	}
	return p.exists("/etc/init.d/" + unit)
}

// startCommand is how this system starts a service.
func (p Places) startCommand(unit string) string {
	if p.exists("/run/systemd/system") {
		return "sudo systemctl start " + unit
	}
	return "sudo service " + unit + " start"
}

// clusters lists the PostgreSQL clusters of the usual packages: Debian's keep
// their settings under /etc/postgresql/VERSION/NAME, Homebrew's their data
// under its own folder; elsewhere there is one service.
func (p Places) clusters() []Server {
	const what = "an installed PostgreSQL cluster that does not answer"
	var found []Server
	settings, _ := filepath.Glob(p.path("/etc/postgresql/*/*/postgresql.conf"))
	for _, path := range settings {
		folder := filepath.Dir(path)
		version, name := filepath.Base(filepath.Dir(folder)), filepath.Base(folder)
		start := "sudo pg_ctlcluster " + clean.Shell(version) + " " + clean.Shell(name) + " start"
		if p.exists("/run/systemd/system") {
			start = "sudo systemctl start " + clean.Shell("postgresql@"+version+"-"+name)
		}
		found = append(found, Server{
			Engine: "postgresql",
			What:   what,
			Name:   clean.Line(version+"/"+name, 60),
			Port:   confPort(path),
			State:  "stopped",
			Start:  start,
		})
	}
	if len(found) > 0 {
		return found
	}
	if runtime.GOOS == "darwin" || p.Root != "" {
		for _, base := range []string{"/opt/homebrew/var/", "/usr/local/var/"} {
			folders, _ := filepath.Glob(p.path(base + "postgres*/postgresql.conf"))
			for _, path := range folders {
				name := filepath.Base(filepath.Dir(path))
				found = append(found, Server{
					Engine: "postgresql",
					What:   what,
					Name:   clean.Line(name, 60),
					Port:   confPort(path),
					State:  "stopped",
					Start:  "brew services start " + clean.Shell(name),
				})
			}
		}
	}
	if len(found) == 0 && p.exists("/usr/bin/pg_createcluster") {
		return p.withoutCluster()
	}
	if len(found) == 0 && p.installed("postgresql") {
		found = append(found, Server{
			Engine: "postgresql",
			What:   "an installed service that does not answer",
			Name:   "postgresql",
			Port:   profile.DefaultPort("postgresql"),
			State:  "stopped",
			Start:  p.startCommand("postgresql"),
		})
	}
	return found
}

// withoutCluster is for Debian's packages installed without a cluster: there
// is nothing to start before one is made.
func (p Places) withoutCluster() []Server {
	versions, _ := filepath.Glob(p.path("/usr/lib/postgresql/*/bin/postgres"))
	if len(versions) == 0 {
		return nil
	}
	version := filepath.Base(filepath.Dir(filepath.Dir(versions[len(versions)-1])))
	return []Server{{Engine: "postgresql", What: "an installed PostgreSQL that has no cluster yet",
		Name: "postgresql " + clean.Line(version, 20),
		Port: profile.DefaultPort("postgresql"), State: "stopped",
		Start: "sudo pg_createcluster " + clean.Shell(version) + " main --start"}}
}

// confPort reads `port` from a postgresql.conf (PostgreSQL documentation,
// "Parameter Interaction via the Configuration File"); the last one counts.
func confPort(path string) int {
	port := profile.DefaultPort("postgresql")
	file, err := os.Open(path)
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
