package tunnelcmd

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/handover"
	"gentleharbor/core/hostname"
	"gentleharbor/core/privatesocket"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
	"gentleharbor/core/tunnel"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
)

func Tunnel() *base.Command {
	return &base.Command{
		Name: "tunnel", Args: "VERB", Summary: "open local addresses that lead to servers behind jump hosts",
		Long: `A tunnel listens on a local address and forwards each connection through the profile's
hops to its server. When a hop drops the connection, the address stays, and the tunnel
connects again.`,
		Verbs: func() []*base.Command {
			return []*base.Command{tunnelOpen(), tunnelList(), tunnelShow(), tunnelClose(), tunnelHold()}
		},
	}
}

// OpenOptions are the flags of tunnel open.
type OpenOptions struct {
	local      string
	socket     string
	folder     string // of the files of with's own address; "" for the profile's
	network    bool
	background bool
	lifetime   time.Duration
	idle       time.Duration
	Timeout    time.Duration
	over       base.Overrides
	LoginOptions
}

func (o *OpenOptions) flags(fs *base.FlagSet) {
	localFlag(fs, &o.local,
		"the local address, HOST:PORT or PORT (default: a free port of 127.0.0.1, the same each time)")
	fs.StringVar(&o.socket, "socket", "", "listen on a Unix socket: its path, or a folder for the usual name")
	fs.BoolVar(&o.network, "open-to-network", false,
		"allow an address that others on the network can reach: they get to the server's login")
	o.LoginOptions.Flags(fs, "log in for this user's programs, which need no password")
	fs.BoolVar(&o.background, "background", false, "run in the background, until tunnel close")
	fs.DurationVar(&o.lifetime, "lifetime", 0, "close after this time, such as 8h")
	fs.DurationVar(&o.idle, "idle", 0, "close when nobody was connected for this long, such as 30m")
	fs.DurationVar(&o.Timeout, "timeout", 15*time.Second, "time limit of the first connection through the hops")
	o.over.Flag(fs)
}

func localFlag(fs *base.FlagSet, local *string, usage string) {
	fs.Func("local", usage, func(s string) error {
		host, port, err := localAddress(s)
		*local = net.JoinHostPort(host, port)
		return err
	})
}

// localAddress reads HOST:PORT, :PORT or PORT.
func localAddress(s string) (host, port string, err error) {
	host, port = "127.0.0.1", strings.TrimPrefix(s, ":")
	if strings.Contains(port, ":") {
		if host, port, err = net.SplitHostPort(s); err != nil {
			return "", "", errors.New("expected HOST:PORT or PORT")
		}
	}
	if n, err := strconv.Atoi(port); err != nil || n < 0 || n > 65535 || host == "" {
		return "", "", errors.New("expected HOST:PORT or PORT, a number up to 65535")
	}
	return host, port, nil
}

func (o *OpenOptions) check() error {
	host, _, _ := net.SplitHostPort(o.local)
	if err := o.LoginOptions.Check(o.local != ""); err != nil {
		return err
	}
	switch {
	case o.Login && o.network:
		return base.Usage("-login: such an address is only for this machine; -open-to-network does not go with it")
	case o.local != "" && o.socket != "":
		return base.Usage("give -local or -socket, not both")
	case o.local != "" && !hostname.Local(host) && !o.network:
		return base.Usage("-local: others on the network could use the tunnel at that address; if you want that, " +
			"add -open-to-network")
	case o.network && (o.local == "" || hostname.Local(host)):
		return base.Usage("-open-to-network goes with -local and an address of the network, such as 0.0.0.0:5432")
	case o.background && runtime.GOOS == "windows":
		return base.Usage(
			"-background does not work on this system; leave the terminal open")
	case o.lifetime < 0 || o.idle < 0 || o.Timeout <= 0:
		return base.Usage("-lifetime, -idle and -timeout: expected a time above zero, such as 8h")
	}
	return nil
}

func tunnelOpen() *base.Command {
	var o OpenOptions
	return &base.Command{
		Name: "tunnel open", Args: "PROFILE", Summary: "open a local address for a profile's server",
		Long: `Runs until Ctrl-C, and says what happens; or in the background with -background. The
address is 127.0.0.1 and a port that stays the same for the profile. The tunnel does not
hand over the password; gharbor with does, through a tunnel of its own.

With -login the tunnel logs in for this user's programs: they need no password, and see
none. Its address is a Unix socket then, unless -local names a port.`,
		Examples: []string{"gharbor tunnel open tides", "gharbor tunnel open sightings -login",
			"gharbor tunnel open tides -background -idle 30m",
			"gharbor tunnel open tides -local 5433", "gharbor tunnel open tides -socket ./run/"},
		MinArgs: 1, MaxArgs: 1,
		Flags: o.flags,
		Run: run(func(ctx context.Context, c *Call) error {
			if err := o.check(); err != nil {
				return err
			}
			if o.background {
				return c.startTunnel(ctx, o)
			}
			return c.holdTunnel(ctx, o, nil)
		}),
	}
}

// preparedTunnel is a tunnel before it runs, with the facts that are shown.
type preparedTunnel struct {
	Tunnel   *tunnel.Tunnel
	Listener net.Listener
	conn     handover.Connection // by its local address
	login    *tunnel.Login       // nil for none
	profile  *resolve.Profile
}

// prepare finds the way, opens the local address, and connects to the hops.
func (c *Call) prepare(
	ctx context.Context, o OpenOptions, finder *secret.Finder, told func(string),
) (*preparedTunnel, error) {
	p, err := c.Resolve(c.Args[0], o.over)
	if err != nil {
		return nil, err
	}
	if o.Login {
		return c.loggingIn(ctx, p, o, finder, told)
	}
	c.NoteGuard(p)
	conn, err := c.HandOver(ctx, p, secret.Value{})
	if err != nil {
		return nil, err
	}
	return c.Through(ctx, p, conn, TunnelPlan{
		Timeout:  o.Timeout,
		Lifetime: o.lifetime,
		Idle:     o.idle,
		Finder:   finder,
		Told:     told,
		Listen:   func(conn handover.Connection) (net.Listener, error) { return c.listenLocal(ctx, o, p, conn) },
	})
}

// TunnelPlan is how a tunnel is opened.
type TunnelPlan struct {
	Timeout  time.Duration // of the first connection
	Lifetime time.Duration
	Idle     time.Duration
	Finder   *secret.Finder
	Told     func(string)
	Listen   func(handover.Connection) (net.Listener, error)

	login *tunnel.Login // nil for a tunnel that passes every byte on
}

// Through makes a tunnel to a profile's server, and tries the whole way once, so that a failure is reported before a
// program needs it.
func (c *Call) Through(
	ctx context.Context, p *resolve.Profile, conn handover.Connection, w TunnelPlan,
) (*preparedTunnel, error) {
	hops, notes, err := c.PlanHops(p)
	if err != nil {
		return nil, err
	}
	for _, note := range notes {
		c.Notice("%s", note)
	}
	if len(hops) == 0 && w.login == nil {
		return nil, base.Advise(base.Failure(base.ExitUsage,
			fmt.Errorf("the profile %s has no hops, so it needs no tunnel", p.Called),
			"gharbor test "+p.Called), "or name a hop: gharbor hop add "+p.Called+" host=HOST")
	}
	listener, err := w.Listen(conn)
	if err != nil {
		return nil, err
	}
	t := tunnel.New(tunnel.Options{
		Profile:  p.Called,
		Hops:     hops,
		Servers:  conn.Servers,
		Dialer:   &hop.Dialer{Network: c.Network().For(p), Finder: w.Finder, Profile: p.Called, Secrets: &hop.SecretCache{}},
		Listener: listener,
		Lifetime: w.Lifetime,
		Idle:     w.Idle,
		Told:     w.Told,
		Login:    w.login,
	})
	bound, cancel := context.WithTimeout(ctx, w.Timeout)
	defer cancel()
	found := t.Connect(bound)
	if found == nil && w.login != nil {
		found = t.Try(bound)
	}
	if found != nil {
		listener.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, base.RouteFailed(found)
	}
	local := LocalOf(listener.Addr(), conn.Spec)
	if w.login != nil {
		conn = conn.LoggedIn(local, w.login.Password)
	} else {
		conn = conn.At(local)
	}
	return &preparedTunnel{Tunnel: t, Listener: listener, conn: conn, profile: p}, nil
}

// LocalOf is a tunnel's local address in the form of a server's.
func LocalOf(local net.Addr, spec *engine.Spec) engine.Endpoint {
	if at, ok := local.(*net.TCPAddr); ok {
		host := at.IP.String()
		if at.IP.IsUnspecified() {
			host = "127.0.0.1"
		}
		return engine.Endpoint{Host: host, Port: at.Port}
	}
	e := engine.Endpoint{Socket: local.String(), Folder: filepath.Dir(local.String())}
	e.Port, _ = strconv.Atoi(spec.Sockets.PortIn(filepath.Base(e.Socket)))
	return e
}

// listenLocal opens the given local address, or the profile's own.
func (c *Call) listenLocal(ctx context.Context, o OpenOptions, p *resolve.Profile,
	conn handover.Connection) (net.Listener, error) {
	switch {
	case o.socket != "":
		return c.listenSocket(o.socket, conn)
	case o.local != "":
		l, err := net.Listen("tcp", o.local)
		if err != nil {
			return nil, c.takenAddress(ctx, o, p, err)
		}
		return l, nil
	}
	h, err := c.Home()
	if err != nil {
		return nil, err
	}
	l, usual, err := tunnel.Ports{Path: filepath.Join(h.Dir, "tunnel-ports.json")}.Listen(ctx, p.Called)
	if err != nil {
		return nil, base.Failure(base.ExitServer,
			fmt.Errorf("no local port could be opened: %s", wording.PlainReason(err)))
	}
	if usual != 0 {
		c.Notice("the tunnel's usual port %d is taken%s; this time it is %s", usual, holder(usual), l.Addr())
	}
	return l, nil
}

// listenSocket listens on a Unix socket that only this user can reach. For a folder it uses the name that the
// engine's clients expect.
func (c *Call) listenSocket(path string, conn handover.Connection) (net.Listener, error) {
	whole := schema.HopField(key.Key).AbsolutePath(path, "", c.Environment().Home)
	if info, err := os.Stat(whole); strings.HasSuffix(path, "/") || err == nil && info.IsDir() {
		name := conn.Spec.Sockets.FileFor(cmp.Or(conn.Port(), strconv.Itoa(conn.Spec.Port)))
		if name == "" {
			return nil, base.Usage("-socket: %s has no sockets of its own; name the socket's file", conn.Spec.Name)
		}
		if err := os.MkdirAll(whole, 0o700); err != nil {
			return nil, base.Failure(base.ExitServer,
				fmt.Errorf("-socket: %s can't be made: %s", clean.Line(whole, 200), wording.PlainReason(err)))
		}
		whole = filepath.Join(whole, name)
	}
	if privatesocket.Listening(whole) {
		return nil, base.Failure(base.ExitServer,
			fmt.Errorf("another process listens on the socket %s", clean.Line(whole, 200)),
			"gharbor tunnel list")
	}
	if info, err := os.Lstat(whole); err == nil {
		if info.Mode()&os.ModeSocket == 0 {
			return nil, base.Usage("-socket: what is there already is no socket")
		}
		os.Remove(whole)
	}
	private := umask(0o177)
	l, err := net.Listen("unix", whole)
	umask(private)
	if errors.Is(err, syscall.EINVAL) {
		return nil, base.Advise(base.Failure(base.ExitServer,
			fmt.Errorf("the socket %s can't be made: its path is too long for the system", clean.Line(whole, 200))),
			"name a shorter one with -socket, or set XDG_RUNTIME_DIR to a private folder with a short path")
	}
	if err != nil {
		return nil, base.Failure(base.ExitServer,
			fmt.Errorf("the socket %s can't be listened on: %s", clean.Line(whole, 200), wording.PlainReason(err)))
	}
	if conn.TLS == "required" || conn.TLS == "verified" {
		c.Notice("clients use no TLS over a socket: behind the last hop the data is not encrypted. To keep tls = "+
			"%s use -local", conn.TLS)
	}
	return l, nil
}

// takenAddress is the error for a local address in use: it names the process, and a free address.
func (c *Call) takenAddress(ctx context.Context, o OpenOptions, p *resolve.Profile, err error) error {
	host, text, _ := net.SplitHostPort(o.local)
	port, _ := strconv.Atoi(text)
	failure := &base.ExitError{
		Code: base.ExitServer,
		Err:  fmt.Errorf("-local: %s can't be listened on: %s", o.local, wording.PlainReason(err)),
	}
	if !addressInUse(err) {
		return failure
	}
	who := ""
	if registry, err := c.Registry(); err == nil {
		open, _ := registry.List(ctx)
		for _, s := range open {
			if _, at, _ := net.SplitHostPort(s.Local); at == text {
				who = fmt.Sprintf(" by the tunnel of the profile %s to %s through %s (process %d)", s.Profile,
					s.Server, strings.Join(s.Through, ", then "), s.PID)
				failure.Try = append(failure.Try, "gharbor tunnel close "+s.Profile)
			}
		}
	}
	if who == "" {
		who = holder(port)
	}
	failure.Err = fmt.Errorf("-local: %s is taken%s", o.local, who)
	if free, err := tunnel.Free(host, port+1); err == nil {
		failure.Try = append(failure.Try, c.CommandWith("local", net.JoinHostPort(host, strconv.Itoa(free))))
	}
	return failure
}

// holder names the process that has a port, where the system says it.
func holder(port int) string {
	h, ok := tunnel.HolderOf(port)
	switch {
	case !ok:
		return ", and the system does not tell by whom"
	case h.Leads != "":
		return fmt.Sprintf(" by %s (process %d), which leads to %s",
			clean.Line(h.Name, 40), h.PID, clean.Line(h.Leads, 200))
	}
	return fmt.Sprintf(" by %s (process %d)", clean.Line(h.Name, 40), h.PID)
}

// Registry finds this user's tunnels.
func (c *Call) Registry() (tunnel.Registry, error) {
	h, err := c.Home()
	return tunnel.Registry{Lookup: c.Lookup, Home: h.Dir}, err
}
