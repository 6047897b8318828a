package route

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
)

// Candidate is one server that a profile may mean: a host and port, or a
// socket. A profile with `hosts` has several.
type Candidate struct {
	Host   string
	Port   int
	Socket string // path of the socket itself
	Folder string // the folder that the profile names, where it names one
	ViaHop bool   // hops stand before it: names, loopback and sockets are the last hop's

	Source string // who gave the address, where no file has it written: "the SRV record …"
	Name   string // the name that a certificate must be for, "" for the host

	Container  *ContainerAddress  // the container that it is in, nil for none
	StaticHost *profile.GivenHost // what [hosts] of a file has for the host, nil for nothing
}

// CertificateName is the name that the server's certificate must be for.
func (c Candidate) CertificateName() string {
	if c.Name != "" {
		return c.Name
	}
	return c.Host
}

// HopTargets are the addresses that a hop is asked to connect to, in order: the host as
// written, which the hop looks up, or what [hosts] has for it.
func (c Candidate) HopTargets() []string {
	if c.Socket != "" || c.StaticHost == nil {
		return []string{c.String()}
	}
	addresses := make([]string, len(c.StaticHost.Addresses))
	for i, addr := range c.StaticHost.Addresses {
		addresses[i] = netip.AddrPortFrom(addr, uint16(c.Port)).String()
	}
	return addresses
}

// ToldBy says who gave the address that is dialled, "" where it is as the profile or
// its alias has it written, or comes from it by DNS.
func (c Candidate) ToldBy() string {
	if c.Source == "" && c.StaticHost != nil {
		return fmt.Sprintf("[hosts] at %s:%d", c.StaticHost.File, c.StaticHost.Line)
	}
	return c.Source
}

// String is the candidate as a person writes it.
func (c Candidate) String() string {
	if c.Socket != "" {
		return c.Socket
	}
	return net.JoinHostPort(c.Host, strconv.Itoa(c.Port))
}

// Local reports whether the candidate is written as an address of this machine.
func (c Candidate) Local() bool { return !c.ViaHop && (c.Socket != "" || hostname.Local(c.Host)) }

// maxSocketPath is what a socket's address holds (unix(7): 108 bytes with the
// closing zero on Linux, 104 elsewhere).
const maxSocketPath = 103

// Candidates lists the servers that a profile may mean, in the order in which they
// are written, or in which DNS gives them. A profile whose alias comes to nothing has
// none, and a finding.
func (n Network) Candidates(ctx context.Context, r *resolve.Profile) ([]Candidate, *finding.Finding) {
	behind := len(r.Hops()) > 0
	if found := r.AliasProblem(); found != nil {
		return nil, found
	}
	if r.AddressKind() == "container" {
		return n.contained(ctx, r)
	}
	if r.AddressKind() != "socket" && r.Text(key.Socket) == "" {
		var list []Candidate
		if srv := r.Service().Text(key.SRV); srv != "" {
			var found *finding.Finding
			if list, found = n.records(ctx, srv, r.Service()); found != nil {
				return nil, found
			}
		}
		for _, h := range r.Hosts() {
			list = append(list, Candidate{Host: h.Host, Port: h.Port})
		}
		for i := range list {
			list[i].ViaHop = behind
			if given, ok := r.Given(list[i].Host); ok {
				list[i].StaticHost = &given
			}
		}
		return list, nil
	}
	c := Candidate{Socket: r.Text(key.Socket), ViaHop: behind}
	c.Port = r.Port()
	var named engine.Sockets
	if spec := r.Engine(); spec != nil {
		named = spec.Sockets
	}
	c.inFolder(named)
	if len(c.Socket) > maxSocketPath {
		return nil, finding.New(finding.ProfileIncomplete,
			"the socket's path has %d bytes, and a socket's address holds %d", len(c.Socket), maxSocketPath).
			Suggest("gharbor set %s socket=SHORTER-PATH", r.Profile.Name)
	}
	return []Candidate{c}, nil
}

// contained is the server of a profile whose address is a container.
func (n Network) contained(ctx context.Context, r *resolve.Profile) ([]Candidate, *finding.Finding) {
	if n.Containers == nil {
		return nil, finding.New(finding.ContainerNoEngine, "no container engine is asked here")
	}
	placed, found := n.Containers.Place(ctx, r)
	if found != nil {
		return nil, found
	}
	return []Candidate{placed.candidate()}, nil
}

// inFolder finds a socket in the folder that a profile names; named are the engine's names for sockets.
func (c *Candidate) inFolder(named engine.Sockets) {
	if named.ByPort() {
		c.portSocket(named)
	} else {
		c.namedSocket(named)
	}
}

// portSocket finds a socket whose name has the port in it, in the folder that a profile names.
func (c *Candidate) portSocket(named engine.Sockets) {
	if !strings.HasPrefix(filepath.Base(c.Socket), named.Prefix) {
		if c.ViaHop { // what it is on the hop's machine is not seen from here
			c.Folder = c.Socket
			c.Socket = path.Join(c.Folder, named.FileFor(strconv.Itoa(c.Port)))
		} else if info, err := os.Stat(c.Socket); err != nil && !strings.Contains(filepath.Base(c.Socket), ".s") ||
			err == nil && info.IsDir() {
			c.Folder = c.Socket
			c.Socket = filepath.Join(c.Folder, named.FileFor(strconv.Itoa(c.Port)))
		}
	}
	if c.Folder == "" {
		c.Folder = filepath.Dir(c.Socket)
		if port, err := strconv.Atoi(named.PortIn(filepath.Base(c.Socket))); err == nil {
			c.Port = port
		}
	}
}

// namedSocket finds a socket of a fixed name in the folder that a profile
// names: the first of the names that packages give it.
func (c *Candidate) namedSocket(named engine.Sockets) {
	if info, err := os.Stat(c.Socket); len(named.Names) == 0 || c.ViaHop || err != nil || !info.IsDir() {
		c.Folder = filepath.Dir(c.Socket)
		return
	}
	c.Folder = c.Socket
	for _, name := range named.Names {
		if _, err := os.Stat(filepath.Join(c.Folder, name)); err == nil {
			c.Socket = filepath.Join(c.Folder, name)
			return
		}
	}
	c.Socket = filepath.Join(c.Folder, named.Names[0])
}
