package tunnelcmd

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strconv"

	"gentleharbor/core/check"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/handover"
	"gentleharbor/core/hostname"
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

// LoginOptions are the flags of a local address that logs in.
type LoginOptions struct {
	Login    bool
	any      bool // every database
	changes  bool // streams of changes
	readOnly bool
	files    bool // of this machine
	password bool // who connects sends a password of the address
}

// Flags adds them. usage is that of -login.
func (o *LoginOptions) Flags(fs *base.FlagSet, usage string) {
	fs.BoolVar(&o.Login, "login", false, usage)
	for _, one := range o.dependentFlags() {
		fs.BoolVar(one.set, one.name, false, "with -login: "+one.usage)
	}
}

type loginFlag struct {
	name  string
	set   *bool
	usage string
}

// dependentFlags are the flags that go with -login.
func (o *LoginOptions) dependentFlags() []loginFlag {
	return []loginFlag{
		{"any-database", &o.any, "every database, not only the profile's"},
		{"replication", &o.changes, "streams of changes too"},
		{"read-only", &o.readOnly, "sessions begin read-only"},
		{"local-infile", &o.files, "the server may ask the program for files, where the engine can"},
		{"local-password", &o.password, "programs prove themselves by a password that is made now, not by their user"},
	}
}

// Check checks the flags. port is true where the address is a port.
func (o *LoginOptions) Check(port bool) error {
	for _, one := range o.dependentFlags() {
		if *one.set && !o.Login {
			return base.Usage("-%s goes with -login", one.name)
		}
	}
	if o.password && !port && runtime.GOOS != "windows" {
		return base.Usage("-local-password goes with -local: only you can reach a socket, also without it")
	}
	return nil
}

// Words are the flags as a command takes them.
func (o *LoginOptions) Words() []string {
	if !o.Login {
		return nil
	}
	words := []string{"-login"}
	for _, one := range o.dependentFlags() {
		if *one.set {
			words = append(words, "-"+one.name)
		}
	}
	return words
}

// loggingIn opens a local address that logs in for this user's programs.
func (c *Call) loggingIn(ctx context.Context, p *resolve.Profile, o OpenOptions, finder *secret.Finder,
	told func(string)) (*preparedTunnel, error) {
	spec := p.Engine()
	switch {
	case spec == nil || spec.Front == nil:
		return nil, base.Failure(base.ExitUsage, fmt.Errorf("-login: no local address logs in on %s yet", p.Text(key.Engine)),
			"gharbor with "+p.Called+" -- PROGRAM")
	case o.files && !spec.Front.LocalFiles:
		return nil, base.Usage("-local-infile: %s asks no program for files", spec.Name)
	}
	conn, err := c.HandOver(ctx, p, secret.Value{})
	if err != nil {
		return nil, err
	}
	runner, err := testcmd.NewCall(c.Call).Runner(o.Timeout)
	if err != nil {
		return nil, err
	}
	runner.Finder = finder
	o.readOnly = o.readOnly || p.Text(key.Guard) == "read-only"
	if o.readOnly {
		c.Notice("sessions begin read-only, but a program can end that (%s): to be sure, use an account that "+
			"may only read", spec.Front.Undo)
	} else {
		c.NoteGuard(p)
	}
	login := &tunnel.Login{
		Front:       spec.Front,
		OwnerOf:     route.OwnerOf,
		User:        p.Text(key.User),
		Database:    conn.Database,
		AnyDatabase: o.any,
		Replication: o.changes,
		LocalFiles:  o.files,
		ReadOnly:    o.readOnly,
		LogIn: func(ctx context.Context, request *engine.SessionRequest, greet engine.GreetFunc,
			through *hop.Link) (engine.Conversation, *finding.Finding) {
			return runner.LogIn(ctx, p, check.ProgramLogin{
				Request:  request,
				Greet:    greet,
				Through:  through,
				ReadOnly: o.readOnly,
			})
		},
	}
	folder, err := c.privateFolder(o, p)
	if err != nil {
		return nil, err
	}
	if o.password || o.local != "" && !route.KnowsOwners || runtime.GOOS == "windows" {
		if err := byPassword(folder, login); err != nil {
			return nil, err
		}
	}
	listen := func(conn handover.Connection) (net.Listener, error) { return c.listenPrivate(ctx, o, p, folder, conn) }
	h, err := c.Through(ctx, p, conn, TunnelPlan{Timeout: o.Timeout, Lifetime: o.lifetime, Idle: o.idle, Finder: finder,
		Told: told, Listen: listen, login: login})
	if err != nil {
		forget(login)
		return nil, err
	}
	h.login = login
	return h, nil
}

// privateFolder is the folder for the files of an address: with's own, or the profile's.
func (c *Call) privateFolder(o OpenOptions, p *resolve.Profile) (string, error) {
	if o.folder != "" {
		return o.folder, nil
	}
	folder, err := privatesocket.Make(c.Lookup, "login", folderName(privatesocket.Folder(c.Lookup), p))
	if err != nil {
		return "", noFolder(err)
	}
	return folder, nil
}

// folderName is the name of a profile's folder below above: the profile's, shortened where the path of a socket in it
// would be too long for the system (104 bytes on some).
func folderName(above string, p *resolve.Profile) string {
	const longest = 103
	spec, profile := p.Engine(), p.Called
	if len(filepath.Join(above, "login", profile, spec.Sockets.FileFor(strconv.Itoa(spec.Port)))) <= longest {
		return profile
	}
	sum := sha256.Sum256([]byte(profile))
	return profile[:min(len(profile), 12)] + "-" + hex.EncodeToString(sum[:4])
}

// byPassword makes a password, in a file that only this user reads, which programs must send.
func byPassword(folder string, login *tunnel.Login) error {
	path := filepath.Join(folder, "password")
	os.Remove(path) // of a process that was killed
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return noFolder(err)
	}
	login.OwnerOf, login.Password, login.PasswordFile = nil, secret.NewValue(rand.Text()), path
	_, err = fmt.Fprintln(file, login.Password.Disclose())
	if err = errors.Join(err, file.Close()); err != nil {
		forget(login)
		return noFolder(err)
	}
	return nil
}

// forget removes the files with the password.
func forget(login *tunnel.Login) {
	if login != nil && login.PasswordFile != "" {
		os.Remove(login.PasswordFile)
	}
}

func noFolder(err error) error {
	return base.Failure(base.ExitServer,
		fmt.Errorf("there is no private folder for the local address: %s", wording.PlainReason(err)))
}

// ForProgram opens a local address that logs in, for one program: a socket in a new folder, or a port where local
// says so.
func (c *Call) ForProgram(ctx context.Context, p *resolve.Profile, l LoginOptions, local string, finder *secret.Finder,
	told func(string)) (conn handover.Connection, t *tunnel.Tunnel, remove func(), err error) {
	above, err := privatesocket.Make(c.Lookup)
	if err != nil {
		return conn, nil, nil, noFolder(err)
	}
	folder, err := os.MkdirTemp(above, "with-")
	if err != nil {
		return conn, nil, nil, noFolder(err)
	}
	remove = func() { os.RemoveAll(folder) }
	if local == "" && runtime.GOOS == "windows" { // its programs mostly know no Unix sockets
		local = "127.0.0.1:0"
	}
	o := OpenOptions{Timeout: check.DefaultTimeout, LoginOptions: l, local: local, folder: folder}
	h, err := c.loggingIn(ctx, p, o, finder, told)
	if err != nil {
		remove()
		return conn, nil, nil, err
	}
	return h.conn, h.Tunnel, remove, nil
}

// LocalFlag adds -local for ForProgram.
func LocalFlag(fs *base.FlagSet, local *string) {
	localFlag(fs, local, "with -login: a port of 127.0.0.1 in place of a socket, 0 for a free one")
}

// LocalOnly refuses an address that others on the network could reach.
func LocalOnly(local string) error {
	host, _, _ := net.SplitHostPort(local)
	if !hostname.Local(host) {
		return base.Usage("-local: others on the network could use that address; give a port of this machine")
	}
	return nil
}

// listenPrivate opens the given address, or a socket in a folder that only this user can enter.
func (c *Call) listenPrivate(ctx context.Context, o OpenOptions, p *resolve.Profile, folder string,
	conn handover.Connection) (net.Listener, error) {
	if o.local != "" || o.socket == "" && runtime.GOOS == "windows" {
		return c.listenLocal(ctx, o, p, conn)
	}
	path := o.socket
	if path == "" {
		path = folder + "/"
	}
	// The session behind the socket has TLS, and a program needs only the folder: the port is the engine's usual one.
	conn.TLS, conn.Servers = "", []engine.Endpoint{{Port: conn.Spec.Port}}
	return c.listenSocket(path, conn)
}
