package nearby

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
)

// usualSocket is a socket in one of the usual places.
type usualSocket struct {
	path string
	spec *engine.Spec // whose place it is
}

// sockets lists the sockets in the usual places, without their lock files.
func (p Places) sockets(word string) []usualSocket {
	var found []usualSocket
	for _, spec := range p.Engines.All() {
		if word != "" && !p.Engines.SameFamily(word, spec.Word) {
			continue
		}
		for _, pattern := range spec.Sockets.Usual {
			matches, _ := filepath.Glob(p.host().Path(pattern))
			for _, path := range matches {
				if info, err := os.Stat(path); err == nil && info.Mode()&os.ModeSocket != 0 {
					found = append(found, usualSocket{path, spec})
				}
			}
		}
	}
	const most = 32
	return found[:min(len(found), most)]
}

// host is the machine's files.
func (p Places) host() engine.Host { return engine.Host{Root: p.Root} }

func sameFolder(folder, socket string) bool {
	a, errA := filepath.EvalSymlinks(folder)
	b, errB := filepath.EvalSymlinks(filepath.Dir(socket))
	return errA == nil && errB == nil && a == b
}

// listening lists the listening loopback addresses, usual database ports first. On Linux it reads /proc/net/tcp
// (proc(5)); elsewhere it tries the usual ports.
func (p Places) listening() []netip.AddrPort {
	byPort := make(map[uint16]netip.Addr)
	told := false
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		data, err := os.ReadFile(p.host().Path(file))
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
		for _, spec := range p.Engines.All() {
			for i := range 4 {
				byPort[uint16(spec.Port+i)] = netip.MustParseAddr("127.0.0.1")
			}
		}
	}
	var addrs []netip.AddrPort
	for port, addr := range byPort {
		addrs = append(addrs, netip.AddrPortFrom(addr, port))
	}
	slices.SortFunc(addrs, func(a, b netip.AddrPort) int {
		likelyA, likelyB := p.Engines.AtPort(int(a.Port())) != nil, p.Engines.AtPort(int(b.Port())) != nil
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

// parseProcNet reads the sockets in state LISTEN (0A) that loopback reaches.
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

// StoppedServices lists installed services of an engine ("" for all) of which no address answers.
func (p Places) StoppedServices(answering []Server, word string) []Server {
	var found []Server
	answers := func(word string, port int) bool {
		return slices.ContainsFunc(answering, func(s Server) bool {
			return s.State == "answers" && p.Engines.SameFamily(s.Engine, word) && (port == 0 || s.Port == port)
		})
	}
	for _, spec := range p.Engines.All() {
		if word != "" && !p.Engines.SameFamily(word, spec.Word) {
			continue
		}
		if spec.Local.Stopped != nil {
			for _, s := range spec.Local.Stopped(p.host()) {
				if !answers(spec.Word, s.Port) {
					found = append(found, stoppedServer(spec, s))
				}
			}
		}
		unit := slices.IndexFunc(spec.Local.Units, p.host().Installed)
		if unit < 0 || answers(spec.Word, 0) {
			continue
		}
		name := spec.Local.Units[unit]
		found = append(found, stoppedServer(spec, engine.LocalService{
			What:  "installed, but it does not answer",
			Name:  name,
			Start: p.host().StartCommand(name),
		}))
	}
	return found
}

// stoppedServer makes a Server of an installed one that does not answer.
func stoppedServer(spec *engine.Spec, s engine.LocalService) Server {
	return Server{
		Engine: spec.Word,
		What:   s.What,
		Name:   s.Name,
		Port:   s.Port,
		State:  "stopped",
		Start:  commandLine(s.Start),
		Words:  s.Start,
	}
}

// commandLine are the words of a command as a shell takes them.
func commandLine(words []string) string {
	typed := make([]string, len(words))
	for i, w := range words {
		typed[i] = clean.Shell(w)
	}
	return strings.Join(typed, " ")
}
