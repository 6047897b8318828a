package tunnelcmd

import (
	"context"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"

	"gentleharbor/core/check"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/handover"
	"gentleharbor/core/privatesocket"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
	"gentleharbor/core/tunnel"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/testcmd"
	"gentleharbor/internal/cli/wording"
)

// loggingIn opens a local address that logs in for whoever of this user's programs connects.
func (c *Call) loggingIn(ctx context.Context, o OpenOptions, p *resolve.Profile, finder *secret.Finder,
	told func(string)) (*held, error) {
	spec := p.Engine()
	if spec == nil || spec.Front == nil {
		return nil, base.Failure(base.ExitUsage, fmt.Errorf("-login: no local address logs in on %s yet", p.Text(key.Engine)),
			"gharbor with "+p.Called+" -- PROGRAM")
	}
	conn, err := c.HandOver(ctx, p, secret.Value{})
	if err != nil {
		return nil, err
	}
	runner, err := testcmd.Of(c.Call).Runner(o.Timeout)
	if err != nil {
		return nil, err
	}
	runner.Finder = finder
	hops, notes, err := c.PlanHops(p)
	if err != nil {
		return nil, err
	}
	for _, note := range notes {
		c.Notice("%s", note)
	}
	listener, err := c.listenPrivate(ctx, o, p, conn)
	if err != nil {
		return nil, err
	}
	t := tunnel.New(tunnel.Options{
		Profile:  p.Called,
		Hops:     hops,
		Servers:  conn.Servers,
		Dialer:   &hop.Dialer{Network: c.Network().For(p), Finder: finder, Profile: p.Called, Secrets: &hop.SecretCache{}},
		Listener: listener,
		Lifetime: o.lifetime,
		Idle:     o.idle,
		Told:     told,
		Login: &tunnel.Login{
			Front:       spec.Front,
			Ours:        route.OwnProgram,
			User:        p.Text(key.User),
			Database:    conn.Database,
			AnyDatabase: o.any,
			Replication: o.changes,
			LogIn: func(ctx context.Context, o *engine.Opening, greet engine.Greet,
				through *hop.Link) (engine.Conversation, *finding.Finding) {
				return runner.LogIn(ctx, p, o, greet, through)
			},
		},
	})
	if found := c.firstLogin(ctx, o, t); found != nil {
		listener.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, base.RouteFailed(found)
	}
	return &held{Tunnel: t, Listener: listener, conn: conn.LoggedIn(LocalOf(listener.Addr(), conn.Spec)), profile: p}, nil
}

// ForProgram opens a local address that logs in, for one program: a socket in a folder of its own.
func (c *Call) ForProgram(ctx context.Context, p *resolve.Profile, finder *secret.Finder,
	told func(string)) (conn handover.Connection, t *tunnel.Tunnel, remove func(), err error) {
	above, err := privatesocket.Make(c.Lookup)
	if err != nil {
		return conn, nil, nil, err
	}
	folder, err := os.MkdirTemp(above, "with-")
	if err != nil {
		return conn, nil, nil, err
	}
	remove = func() { os.RemoveAll(folder) }
	h, err := c.loggingIn(ctx, OpenOptions{Timeout: check.DefaultTimeout, login: true, socket: folder + "/"}, p,
		finder, told)
	if err != nil {
		remove()
		return conn, nil, nil, err
	}
	return h.conn, h.Tunnel, remove, nil
}

// firstLogin goes the whole way once, so that what is wrong is said before a program meets it.
func (c *Call) firstLogin(ctx context.Context, o OpenOptions, t *tunnel.Tunnel) *finding.Finding {
	bound, cancel := context.WithTimeout(ctx, o.Timeout)
	defer cancel()
	if found := t.Connect(bound); found != nil {
		return found
	}
	return t.Try(bound)
}

// listenPrivate opens the address that was asked for, or a socket in a folder that only this user can enter.
func (c *Call) listenPrivate(ctx context.Context, o OpenOptions, p *resolve.Profile,
	conn handover.Connection) (net.Listener, error) {
	if o.local != "" {
		return c.listenLocal(ctx, o, p, conn)
	}
	path := o.socket
	if path == "" {
		folder, err := privatesocket.Make(c.Lookup, "login", p.Called)
		if err != nil {
			return nil, base.Failure(base.ExitServer, fmt.Errorf("there is no private folder for the socket: %w", err))
		}
		path = folder + "/"
	}
	if strings.HasSuffix(path, "/") { // at the engine's usual port: a program needs the folder alone
		if err := os.MkdirAll(path, 0o700); err != nil {
			return nil, base.Failure(base.ExitServer, fmt.Errorf("%s can't be made: %s", path, wording.PlainReason(err)))
		}
		path += conn.Spec.Sockets.FileFor(strconv.Itoa(conn.Spec.Port))
	}
	conn.TLS = "" // the session behind the socket has it: nothing goes in the clear but here
	return c.listenSocket(path, conn)
}
