// Package nearby finds the database servers of this machine: their sockets in
// the usual places, the loopback ports that listen, and installed services
// that are stopped. It dials loopback alone, ends every connection after the
// greeting, and logs in nowhere.
package nearby

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"gentleharbor/core/defect"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/profile"
)

// Server is one database server of this machine.
type Server struct {
	Engine  string `json:"engine"`
	Version string `json:"version,omitempty"` // where the greeting tells it
	What    string `json:"what"`              // as recognised: "a PostgreSQL server"
	Address string `json:"address,omitempty"` // host:port
	Socket  string `json:"socket,omitempty"`
	Port    int    `json:"port,omitempty"`
	// "answers", "silent" (a socket that nobody listens on), "stopped", or "unpublished" (in a container that runs)
	State       string `json:"state"`
	Start       string `json:"start,omitempty"` // the command that starts a stopped one
	Name        string `json:"name,omitempty"`  // of a stopped service
	Connections int    `json:"connections"`     // made to find out; a server may count them as failed logins
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
	lowest   = 1024            // no database server listens on a privileged port
)

// Places are where this machine keeps what a survey looks at.
type Places struct {
	Root string // "" for the machine's own
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Machine is this machine.
func Machine() Places {
	return Places{Dial: (&net.Dialer{}).DialContext}
}

// Survey looks around. engine limits it to one kind of server, "" means all.
func (p Places) Survey(ctx context.Context, engine string) Survey {
	ctx, cancel := context.WithTimeout(ctx, budget)
	defer cancel()
	var s Survey
	for _, path := range p.sockets(engine) {
		s.Servers = append(s.Servers, p.askSocket(ctx, path))
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
		case engine == "" || engine == server.Engine:
			s.Servers = append(s.Servers, server)
		}
	}
	s.Servers = append(s.Servers, p.Stopped(s.Servers, engine)...)
	return s
}

// Answering asks only one engine's usual socket places and usual port, for a
// hint when a local address refused. avoid is the address that did.
func (p Places) Answering(ctx context.Context, engine, avoid string) []Server {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	var servers []Server
	for _, path := range p.sockets(engine) {
		if path != avoid {
			servers = append(servers, p.askSocket(ctx, path))
		}
	}
	for _, host := range []string{"127.0.0.1", "::1"} {
		addr := netip.AddrPortFrom(netip.MustParseAddr(host), uint16(profile.DefaultPort(engine)))
		if addr.String() == avoid {
			continue
		}
		if server := p.askPort(ctx, addr); server.Engine != "" {
			servers = append(servers, server)
		}
	}
	return servers
}

func (p Places) askSocket(ctx context.Context, path string) Server {
	s := Server{Engine: socketEngine(path), Socket: path, State: "silent", Port: socketPort(path)}
	s.What = "a socket that nobody listens on"
	service, n, ok := p.identify(ctx, "unix", path, s.Engine)
	s.Connections = n
	if n > 0 {
		s.What = "something that does not answer as " + s.Engine
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

func (p Places) askPort(ctx context.Context, addr netip.AddrPort) Server {
	s := Server{Address: addr.String(), Port: int(addr.Port()), State: "answers"}
	service, n, ok := p.identify(ctx, "tcp", s.Address, usualEngine(s.Port))
	s.Connections = n
	if ok {
		s.Engine, s.Version, s.What = service.Engine, service.Version, service.What
	}
	return s
}

// identify asks the likeliest question first, so that most servers are known
// after one connection.
func (p Places) identify(ctx context.Context, network, address, likely string) (greeting.Service, int, bool) {
	probes := []greeting.Probe{greeting.PostgreSQL, greeting.Text, greeting.Mongo}
	switch likely {
	case "redis":
		probes = []greeting.Probe{greeting.Text, greeting.PostgreSQL, greeting.Mongo}
	case "oracle":
		probes = append([]greeting.Probe{greeting.Listener}, probes...)
	case "mongodb":
		probes = []greeting.Probe{greeting.Mongo, greeting.PostgreSQL, greeting.Text}
	}
	dial := func(ctx context.Context) (net.Conn, error) { return p.Dial(ctx, network, address) }
	return greeting.Identify(ctx, dial, probes...)
}

func usualEngine(port int) string {
	for _, engine := range profile.Engines() {
		if profile.DefaultPort(engine) == port {
			return engine
		}
	}
	return ""
}

// Profiles returns the names of the profiles that lead to a server.
func (s Server) Profiles(resolved []*profile.Resolved) []string {
	var names []string
	for _, r := range resolved {
		if s.is(r) && !slices.Contains(names, r.Profile.Name) {
			names = append(names, r.Profile.Name)
		}
	}
	return names
}

func (s Server) is(r *profile.Resolved) bool {
	if len(r.Hops()) > 0 {
		return false // its loopback and sockets are the last hop's
	}
	if s.Socket != "" {
		socket := r.Text("socket")
		if socket == "" {
			return false
		}
		port, _ := strconv.Atoi(r.Text("port"))
		return socket == s.Socket || sameFolder(socket, s.Socket) && port == s.Port
	}
	for _, h := range r.Hosts() {
		if profile.LocalHost(h.Host) && h.Port == s.Port {
			return true
		}
	}
	return false
}
