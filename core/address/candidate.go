package address

import (
	"fmt"
	"net"
	"net/netip"
	"strconv"

	"gentleharbor/core/hostname"
	"gentleharbor/core/profile"
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
	Cloud      *CloudAddress      // the cloud instance that it is, nil for none
	StaticHost *profile.HostEntry // what [hosts] of a file has for the host, nil for nothing
}

// IsAnswered reports whether the address is from an answer of DNS, a container engine or a cloud service: a host= in
// the profile would not change it.
func (c Candidate) IsAnswered() bool { return c.Cloud != nil || c.Container != nil || c.Source != "" }

// CertificateName is the name that the server's certificate must be for.
func (c Candidate) CertificateName() string {
	if c.Name != "" {
		return c.Name
	}
	return c.Host
}

// HopTargets are the addresses that a hop is asked to connect to, in order: the host as written, which the hop looks
// up, or its addresses in [hosts].
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

// AnsweredBy names what gave the address that is dialled, "" where it is written in the profile or its alias, or is
// that of its host in DNS.
func (c Candidate) AnsweredBy() string {
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
