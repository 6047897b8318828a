// Package route turns a profile's address into connections: it resolves names, dials the addresses in order, and
// reports in findings why it reached none of them. On the way from profile to report it stands between resolve and
// check. It dials only what the profile names.
package route

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/resolve"
)

// Network is the part of the machine that dialling needs.
type Network struct {
	Resolve func(ctx context.Context, host string) ([]netip.Addr, error)
	Dial    func(ctx context.Context, network, address string) (net.Conn, error)

	// Services asks DNS for the SRV records of a name, sorted by priority and, within
	// one, at random by weight (RFC 2782).
	Services func(ctx context.Context, name string) ([]*net.SRV, error)

	// Containers finds the servers that are in containers; nil where none are looked for.
	Containers address.Containers

	// Clouds finds the servers that are instances of a cloud account; nil where none are looked for.
	Clouds address.Clouds

	// Routed reports whether this machine has a route to an address. It sends nothing. It may be nil.
	Routed func(address string) bool

	// Others asks the system's other sources of names for a host that Resolve
	// does not know. ok is false where they could not be asked. It may be nil.
	Others func(ctx context.Context, host string) (addrs []netip.Addr, ok bool)
}

// System is the machine's own network.
func System() Network {
	resolver := &net.Resolver{}
	dialer := &net.Dialer{Resolver: resolver}
	return Network{
		Resolve: func(ctx context.Context, host string) ([]netip.Addr, error) {
			return resolver.LookupNetIP(ctx, "ip", host)
		},
		Services: func(ctx context.Context, name string) ([]*net.SRV, error) {
			_, records, err := resolver.LookupSRV(ctx, "", "", name)
			return records, err
		},
		Dial:   dialAccepted(dialer.DialContext),
		Routed: routed,
		Others: getent,
	}
}

// primary asks a sentinel for the primary of a name, over another connection.
func (n Network) primary(ctx context.Context, spec *engine.Spec, at, name string) (host string, port int, err error) {
	conn, err := n.Dial(ctx, "tcp", at)
	if err != nil {
		return "", 0, err
	}
	defer conn.Close()
	return spec.Monitor(ctx, conn, name)
}

// getent asks the system's own look-up (nsswitch.conf(5)), which may use mDNS or a directory. A program without cgo
// can't call it otherwise.
func getent(ctx context.Context, host string) ([]netip.Addr, bool) {
	const limit = 2 * time.Second
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, "getent", "ahosts", host)
	cmd.WaitDelay = time.Second                     // for what it left behind with its output open
	cmd.Env = []string{"PATH=" + os.Getenv("PATH")} // no secret of ours is its business
	out, err := cmd.Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 2 { // "one or more keys could not be found"
		return nil, true
	}
	if err != nil {
		return nil, false
	}
	var addrs []netip.Addr
	for line := range strings.Lines(string(out)) {
		word, _, _ := strings.Cut(line, " ")
		if addr, err := netip.ParseAddr(word); err == nil && !slices.Contains(addrs, addr) {
			addrs = append(addrs, addr)
		}
	}
	return addrs, true
}

// Candidates lists the servers that a profile may mean, in the order of its file, or of DNS. A profile whose alias
// leads nowhere has none, and a finding.
func (n Network) Candidates(ctx context.Context, r *resolve.Profile) ([]address.Candidate, *finding.Finding) {
	if found := r.AliasProblem(); found != nil {
		return nil, found
	}
	return r.Address().Locate(ctx, n.Sources(), r)
}

// Sources are what the network asks for addresses that no file has.
func (n Network) Sources() address.Sources {
	return address.Sources{Services: n.Services, Containers: n.Containers, Primary: n.primary, Clouds: n.Clouds}
}

// Names resolves a candidate's host to addresses, in the order in which they are tried. A literal address and a
// socket need no look-up.
func (n Network) Names(ctx context.Context, profileName string, c address.Candidate) ([]netip.Addr, finding.Result) {
	if c.Socket != "" {
		return nil, finding.Good("a Unix socket has no name to resolve")
	}
	if addr, err := netip.ParseAddr(c.Host); err == nil {
		return []netip.Addr{addr}, finding.Good("%s is an address", c.Host)
	}
	if c.StaticHost != nil {
		return c.StaticHost.Addresses, finding.Good("%s", describeHostEntry(c))
	}
	addrs, err := n.Resolve(ctx, c.Host)
	if err != nil || len(addrs) == 0 {
		return nil, finding.FailWith(n.nameFinding(ctx, profileName, c, err))
	}
	const most = 16 // a name with more addresses than this is not one server
	addrs = addrs[:min(len(addrs), most)]
	texts := make([]string, len(addrs))
	for i, a := range addrs {
		addrs[i] = a.Unmap()
		texts[i] = addrs[i].String()
	}
	return addrs, finding.Good("%s is %s", c.Host, strings.Join(texts, ", "))
}

// describeHostEntry says which line of [hosts] gives the host its addresses.
func describeHostEntry(c address.Candidate) string {
	return fmt.Sprintf("%s is %s, by [hosts] at %s; DNS is not asked", c.Host, c.StaticHost.List(), c.StaticHost.At())
}

// For is the network for a profile: a name in the [hosts] of its files is not looked up in DNS, nor is such a name of
// a jump host.
func (n Network) For(r *resolve.Profile) Network {
	resolve := n.Resolve
	n.Resolve = func(ctx context.Context, host string) ([]netip.Addr, error) {
		if given, ok := r.HostEntry(host); ok {
			return given.Addresses, nil
		}
		return resolve(ctx, host)
	}
	return n
}

func (n Network) nameFinding(ctx context.Context, profileName string, c address.Candidate,
	err error) *finding.Finding {
	host := c.Host
	var dns *net.DNSError
	if ctx.Err() != nil || errors.As(err, &dns) && dns.IsTimeout {
		return finding.New(finding.NameTimeout, "the name servers did not answer about %s in time", clean.Quote(host)).
			Suggest("getent hosts %s", clean.Shell(host)).
			Suggest("cat /etc/resolv.conf")
	}
	found := finding.New(finding.NameUnknown, "the host name %s is not known here", clean.Quote(host))
	if err != nil {
		found.Saw("%s", address.LookUpReason(err))
	}
	if n.Others != nil {
		n.compareOthers(ctx, profileName, c, found)
	}
	return found
}

// compareOthers adds what the system's other sources answer for a name that DNS does not know.
func (n Network) compareOthers(ctx context.Context, profileName string, c address.Candidate,
	found *finding.Finding) {
	addrs, ok := n.Others(ctx, c.Host)
	switch {
	case !ok:
		found.Saw("the hosts file and DNS do not know it (getent could not be asked)")
	case len(addrs) == 0:
		found.Saw("the hosts file, DNS and getent do not know it")
	default:
		found.Saw("the hosts file and DNS do not know it; getent says %s",
			addrs[0])
		if !c.IsAnswered() {
			found.Suggest("gharbor set %s host=%s tls-name=%s", profileName, addrs[0], clean.Shell(c.Host))
		}
	}
}

// Connection is a connection that was made.
type Connection struct {
	Conn    net.Conn
	Network string // "tcp" or "unix"
	Address string
	// Refused lists the addresses tried before, each with the reason.
	Refused []Attempt
}

// Attempt is one address that could not be reached.
type Attempt struct {
	Address string
	Addr    netip.Addr
	Err     error

	// TurnedBack: there is a route, and somebody on the way says that the host can't be reached (ICMP, RFC 792 and
	// RFC 1812, section 5.2.7.1).
	TurnedBack bool
}

// Reach dials a candidate's addresses in order until one accepts.
func (n Network) Reach(ctx context.Context, c address.Candidate, addrs []netip.Addr) (*Connection, []Attempt) {
	if c.Socket != "" {
		conn, err := n.Dial(ctx, "unix", c.Socket)
		if err != nil {
			return nil, []Attempt{{Address: c.Socket, Err: err}}
		}
		return &Connection{Conn: conn, Network: "unix", Address: c.Socket}, nil
	}
	var tried []Attempt
	for i, addr := range addrs {
		address := netip.AddrPortFrom(addr, uint16(c.Port)).String()
		conn, err := n.dialShare(ctx, address, len(addrs)-i)
		if err == nil {
			return &Connection{Conn: conn, Network: "tcp", Address: address, Refused: tried}, nil
		}
		tried = append(tried, Attempt{Address: address, Addr: addr, Err: err,
			TurnedBack: unreachable(err) && n.Routed != nil && n.Routed(address)})
		if ctx.Err() != nil {
			break
		}
	}
	return nil, tried
}

// dialShare dials one of several addresses with its share of the time left, so that one that does not answer leaves
// time for the next.
func (n Network) dialShare(ctx context.Context, address string, left int) (net.Conn, error) {
	if deadline, ok := ctx.Deadline(); ok && left > 1 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, time.Until(deadline)/time.Duration(left))
		defer cancel()
	}
	conn, err := n.Dial(ctx, "tcp", address)
	if deadline, ok := ctx.Deadline(); ok && errors.Is(err, context.Canceled) && !time.Now().Before(deadline) {
		err = context.DeadlineExceeded // the budget was taken away before the dialler noticed its end
	}
	return conn, err
}

// FellBack reports whether an IPv6 address was refused before an IPv4 one served.
func (r *Connection) FellBack() bool {
	served, err := netip.ParseAddrPort(r.Address)
	if err != nil || !served.Addr().Is4() {
		return false
	}
	for _, a := range r.Refused {
		if a.Addr.Is6() {
			return true
		}
	}
	return false
}

// MixedFinding is the warning for a name whose first address does not serve.
func (r *Connection) MixedFinding(profileName string, c address.Candidate) *finding.Finding {
	found := finding.New(finding.NameMixed,
		"the name %s has an IPv6 address first, but the server listens on IPv4: every connection tries the wrong "+
			"address first", clean.Quote(c.Host))
	for _, a := range r.Refused {
		found.Saw("%s: %s", a.Address, Reason(a.Err))
	}
	served, _ := netip.ParseAddrPort(r.Address)
	found.Saw("%s: accepted", r.Address)
	if c.IsAnswered() {
		return found
	}
	return found.Suggest("gharbor set %s host=%s", profileName, served.Addr())
}

// Reason is a dialling error in a few words.
func Reason(err error) string {
	switch {
	case isTimeout(err):
		return "no answer in time"
	case errors.Is(err, syscall.ECONNREFUSED):
		return "connection refused"
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EADDRNOTAVAIL):
		return "the network can't be reached"
	case errors.Is(err, syscall.EHOSTUNREACH):
		return "the host can't be reached"
	case errors.Is(err, fs.ErrNotExist):
		return "no such socket"
	case errors.Is(err, fs.ErrPermission):
		return "permission denied"
	}
	var operation *net.OpError
	if errors.As(err, &operation) && operation.Err != nil {
		return clean.Line(operation.Err.Error(), 0)
	}
	return clean.Line(err.Error(), 0)
}

func unreachable(err error) bool {
	return errors.Is(err, syscall.ENETUNREACH) || errors.Is(err, syscall.EHOSTUNREACH) ||
		errors.Is(err, syscall.EADDRNOTAVAIL)
}

// routed asks the system for the route by connecting a UDP socket, which sends nothing.
func routed(address string) bool {
	conn, err := net.Dial("udp", address)
	if err != nil {
		return false
	}
	conn.Close()
	return true
}

func isTimeout(err error) bool {
	var timeout interface{ Timeout() bool }
	return errors.Is(err, context.DeadlineExceeded) || errors.As(err, &timeout) && timeout.Timeout()
}

// ExplainUnreached returns the finding for a candidate whose addresses all failed.
func ExplainUnreached(profileName string, c address.Candidate, tried []Attempt) *finding.Finding {
	last := tried[len(tried)-1].Err
	for _, a := range tried { // a refusal says more than silence elsewhere
		if errors.Is(a.Err, syscall.ECONNREFUSED) {
			last = a.Err
		}
	}
	var found *finding.Finding
	switch {
	case errors.Is(last, syscall.EMFILE), errors.Is(last, syscall.ENFILE):
		found = finding.New(finding.ReachTooManyFiles,
			"gharbor may open no more files and connections (ulimit -n), so %s was not tried", c).
			Suggest("gharbor test %s   # by itself it needs a few", profileName)
	case c.Socket != "":
		found = unreachedSocket(profileName, c, last)
	case errors.Is(last, syscall.ECONNREFUSED):
		found = finding.New(finding.ReachRefused, "nothing listens at %s, or a firewall refuses the connection", c).
			Suggest("gharbor show %s   # are host and port right?", profileName)
	case isTimeout(last):
		found = finding.New(finding.ReachTimeout,
			"%s does not answer: the host is down, it has another address, or a firewall drops the packets", c).
			Suggest("gharbor show %s   # are host and port right?", profileName).
			Suggest("gharbor test %s -timeout 30s", profileName)
	case unreachable(last) && slices.ContainsFunc(tried, func(a Attempt) bool { return a.TurnedBack }):
		found = finding.New(finding.ReachTurnedBack,
			"%s can't be reached: a firewall on the way or on the host rejects the connection, or the host is off", c).
			Suggest("gharbor show %s   # are host and port right?", profileName).
			Advise("ask the firewall's administrator: may this machine connect to %s, TCP?", c)
	case unreachable(last):
		found = finding.New(finding.ReachUnreachable,
			"this machine has no route to %s: no network, a VPN that is down, or the wrong kind of address", c).
			Suggest("ip route get %s", clean.Shell(c.Host)).Suggest("gharbor show %s", profileName)
	default:
		found = finding.New(finding.ReachFailed, "%s could not be reached", c).Suggest("gharbor show %s", profileName)
	}
	for _, a := range tried {
		found.Saw("%s: %s", a.Address, Reason(a.Err))
	}
	return found
}

func unreachedSocket(profileName string, c address.Candidate, err error) *finding.Finding {
	info, statErr := os.Stat(c.Socket)
	switch {
	case statErr == nil && info.Mode()&fs.ModeSocket == 0: // Linux refuses to connect to it, like to a dead socket
		return finding.New(finding.ReachNotASocket, "%s is not a socket", c.Socket).
			Advise("name the socket: gharbor set %s socket=PATH", profileName)
	case errors.Is(err, fs.ErrNotExist):
		return finding.New(finding.ReachSocketMissing,
			"there is no socket %s: the server is not running, or its socket has another folder or port",
			c.Socket)
	case errors.Is(err, fs.ErrPermission):
		return finding.New(finding.ReachSocketPermission, "this user may not use the socket %s", c.Socket).
			Suggest("ls -ld %s %s", clean.Shell(c.Folder), clean.Shell(c.Socket))
	case errors.Is(err, syscall.ECONNREFUSED):
		return finding.New(finding.ReachRefused,
			"nobody listens on the socket %s: the server is not running, or it crashed",
			c.Socket)
	case errors.Is(err, syscall.EPROTOTYPE):
		return finding.New(finding.ReachNotASocket, "%s is a socket for datagrams, which no database server uses",
			c.Socket).
			Advise("name the socket: gharbor set %s socket=PATH", profileName)
	}
	return finding.New(finding.ReachFailed, "%s could not be reached", c).Suggest("gharbor show %s", profileName)
}
