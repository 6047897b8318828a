// Package nearby finds the database servers of this machine: sockets in the usual places, listening loopback ports,
// and installed services that are stopped. It dials only loopback, ends each connection after the greeting, and logs
// in nowhere.
package nearby

import (
	"context"
	"net"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
)

// Server is one database server of this machine.
type Server struct {
	Engine  string `json:"engine"`
	Version string `json:"version,omitempty"` // where the greeting tells it
	What    string `json:"what"`              // as recognised: "a server of that engine"
	Address string `json:"address,omitempty"` // host:port
	Socket  string `json:"socket,omitempty"`
	Port    int    `json:"port,omitempty"`
	// "answers", "silent" (a socket that nobody listens on), "stopped", or "unpublished" (in a container that runs)
	State string `json:"state"`
	Start string `json:"start,omitempty"` // the command that starts a stopped one
	// Words are those of Start, nil where it is no command of this system.
	Words       []string `json:"-"`
	Name        string   `json:"name,omitempty"` // of a stopped service
	Connections int      `json:"connections"`    // made to find out; a server may count them as failed logins
}

// Survey is what one look around found.
type Survey struct {
	Servers []Server
	Others  int // ports that listen and are no database server known here
	Unasked int // ports that listen beyond the bound
}

// Bounds of a survey.
const (
	maxPorts = 64              // a developer's machine has about 20 that listen
	parallel = 8               // enough to be quick, too few to be a load
	budget   = 8 * time.Second // for everything
	reach    = time.Second     // for a connection to this machine itself: one whose queue is full never takes it
	lowest   = 1024            // no database server listens on a privileged port
)

// Places are the files and folders of this machine that a survey reads.
type Places struct {
	Root    string // "" for the machine's own
	Engines engine.Set
	Dial    func(ctx context.Context, network, address string) (net.Conn, error)
}

// Machine is this machine, for a survey of the servers of some engines.
func Machine(engines engine.Set) Places {
	return Places{Engines: engines, Dial: (&net.Dialer{}).DialContext}
}

// Survey finds the servers. word limits it to one engine, "" means all.
func (p Places) Survey(ctx context.Context, word string) Survey {
	ctx, cancel := context.WithTimeout(ctx, budget)
	defer cancel()
	var s Survey
	for _, usual := range p.sockets(word) {
		s.Servers = append(s.Servers, p.askSocket(ctx, usual))
	}
	ports := p.listening()
	if len(ports) > maxPorts {
		s.Unasked = len(ports) - maxPorts
		ports = ports[:maxPorts]
	}
	for _, server := range p.askPorts(ctx, ports) {
		switch {
		case server.Engine == "":
			s.Others++
		case word == "" || word == server.Engine:
			s.Servers = append(s.Servers, server)
		}
	}
	s.Servers = append(s.Servers, p.StoppedServices(s.Servers, word)...)
	return s
}

// Answering asks only at one engine's usual sockets and usual port, for a hint after a local address refused. avoid
// is that address.
func (p Places) Answering(ctx context.Context, word, avoid string) []Server {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	var servers []Server
	for _, usual := range p.sockets(word) {
		if usual.path != avoid {
			servers = append(servers, p.askSocket(ctx, usual))
		}
	}
	for _, host := range []string{"127.0.0.1", "::1"} {
		addr := netip.AddrPortFrom(netip.MustParseAddr(host), uint16(p.Engines.Port(word)))
		if addr.String() == avoid {
			continue
		}
		if server := p.askPort(ctx, addr); server.Engine != "" {
			servers = append(servers, server)
		}
	}
	return servers
}

func (p Places) askSocket(ctx context.Context, usual usualSocket) Server {
	path := usual.path
	s := Server{Engine: usual.spec.Word, Socket: path, State: "silent"}
	s.Port, _ = strconv.Atoi(usual.spec.Sockets.PortIn(filepath.Base(path)))
	s.What = "a socket that nobody listens on"
	service, n, ok := p.identify(ctx, "unix", path, s.Engine)
	s.Connections = n
	if n > 0 {
		s.What = "something that does not answer like " + s.Engine
	}
	if ok {
		s.Engine, s.Version, s.What, s.State = service.Engine, service.Version, service.What, "answers"
	}
	return s
}

func (p Places) askPorts(ctx context.Context, addrs []netip.AddrPort) []Server {
	servers := make([]Server, len(addrs))
	var group defect.Group
	slots := make(chan struct{}, parallel)
	for i, addr := range addrs {
		group.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			servers[i] = p.askPort(ctx, addr)
		})
	}
	group.Wait()
	return servers
}

// askPort asks a port. A port of all IPv6 addresses mostly takes IPv4 as well; where it does not, it is asked by
// IPv6.
func (p Places) askPort(ctx context.Context, addr netip.AddrPort) Server {
	s := p.askAt(ctx, addr)
	if loopback := netip.MustParseAddr("127.0.0.1"); s.Connections == 0 && addr.Addr() == loopback {
		if other := p.askAt(ctx, netip.AddrPortFrom(netip.IPv6Loopback(), addr.Port())); other.Engine != "" {
			return other
		}
	}
	return s
}

func (p Places) askAt(ctx context.Context, addr netip.AddrPort) Server {
	s := Server{Address: addr.String(), Port: int(addr.Port()), State: "answers"}
	service, n, ok := p.identify(ctx, "tcp", s.Address, p.guessEngine(s.Port))
	s.Connections = n
	if ok {
		s.Engine, s.Version, s.What = service.Engine, service.Version, service.What
	}
	return s
}

// guessEngine is the engine with this usual port, "" for none.
func (p Places) guessEngine(port int) string {
	if spec := p.Engines.AtPort(port); spec != nil {
		return spec.Word
	}
	return ""
}

// identify sends the likeliest engine's question first, so that most servers are known after one connection.
func (p Places) identify(ctx context.Context, network, address, likely string) (greeting.Service, int, bool) {
	greetings := p.Engines.Greetings()
	dial := func(ctx context.Context) (net.Conn, error) {
		ctx, cancel := context.WithTimeout(ctx, reach)
		defer cancel()
		return p.Dial(ctx, network, address)
	}
	return greetings.Identify(ctx, dial, greetings.Probes(likely, false)...)
}

// Profiles returns the names of the profiles that lead to a server.
func (s Server) Profiles(resolved []*resolve.Profile) []string {
	var names []string
	for _, r := range resolved {
		if s.is(r) && !slices.Contains(names, r.Profile.Name) {
			names = append(names, r.Profile.Name)
		}
	}
	return names
}

func (s Server) is(r *resolve.Profile) bool {
	if len(r.Hops()) > 0 {
		return false // its loopback and sockets are the last hop's
	}
	if s.Socket != "" {
		socket := r.Text(key.Socket)
		if socket == "" {
			return false
		}
		port := r.Port()
		return socket == s.Socket || sameFolder(socket, s.Socket) && port == s.Port
	}
	for _, h := range r.Hosts() {
		if hostname.Local(h.Host) && h.Port == s.Port {
			return true
		}
	}
	return false
}
