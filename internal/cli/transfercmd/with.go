package transfercmd

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/handover"
	"gentleharbor/core/lastseen"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
	"gentleharbor/core/tunnel"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/testcmd"
	"gentleharbor/internal/cli/tunnelcmd"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

// Exit codes of with's own failures, as programs that start others have them; all others are the program's.
const (
	exitWith        = 125
	exitNotRunnable = 126
	exitNoProgram   = 127
)

// withOptions are the flags of with.
type withOptions struct {
	url   string
	check bool
	local string
	over  base.Overrides
	tunnelcmd.LoginOptions
}

func With() *base.Command {
	var o withOptions
	return &base.Command{
		Patient: true,
		Name:    "with", Machine: true,
		Args:    "PROFILE [flags] -- PROGRAM [ARGS…]",
		Summary: "run a program with a profile's connection",
		Long: `The program gets the connection in the variables and credential files that the engine's
clients and libraries read (gharbor export PROFILE -as env shows them), and in
GHARBOR_HOST, _PORT, _SOCKET, _USER, _DATABASE, _ENGINE and _PROFILE. Variables of that
engine that were set before are cleared. The files are private, and removed when the
program ends.

In ARGS, {host} {port} {user} {database} {socket} {passfile} {optionfile} stand for the
values. There is none for the password: everybody on this machine can read arguments.

The exit code is the program's. 125: it was not started; 126: it can't be run; 127: it
was not found.`,
		Examples: []string{"gharbor with sightings -- printenv GHARBOR_HOST GHARBOR_USER",
			"gharbor with sightings -check -- sh -c 'echo \"$GHARBOR_USER at $GHARBOR_HOST\"'",
			"gharbor with moult -- grep user {optionfile}",
			"gharbor with sightings -url DATABASE_URL -- sh -c 'echo \"${DATABASE_URL%%:*}\"'"},
		MinArgs: 1,
		MaxArgs: -1,
		Program: true,
		Flags: func(fs *base.FlagSet) {
			fs.Func("url", "put a connection URL, with the password, into this variable", func(s string) error {
				if !syntax.VariableName(s) {
					return errors.New("expected the name of an environment variable")
				}
				o.url = s
				return nil
			})
			fs.BoolVar(&o.check, "check", false, "test the profile first, and do not start the program if it is "+
				"not ready")
			o.LoginOptions.Flags(fs, "log in for the program: it gets a local address, and no password at all")
			tunnelcmd.LocalFlag(fs, &o.local)
			o.over.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *Call) error {
			err := c.runWith(ctx, o)
			var exit *base.ExitError
			var ended *programExit
			if err == nil || errors.As(err, &ended) || errors.As(err, &exit) && exit.Code >= exitWith {
				return err
			}
			code, try, steps := base.ExitCode(err)
			if code == base.ExitInterrupted {
				return err
			}
			return &base.ExitError{Code: exitWith, Err: err, Try: try, Do: steps}
		}),
	}
}

func (c *Call) runWith(ctx context.Context, o withOptions) error {
	if c.After < 0 || len(c.Args) <= c.After || c.After != 1 {
		return base.Failure(exitWith,
			errors.New("with needs a profile, two dashes and a program: gharbor with PROFILE -- PROGRAM ARGS"),
			"gharbor help with")
	}
	if err := o.fit(); err != nil {
		return err
	}
	p, err := c.Resolve(c.Args[0], o.over)
	if err != nil {
		return err
	}
	if found := p.Problem(); found != nil {
		return &secret.Failure{Found: found}
	}
	if !o.Login {
		c.NoteGuard(p)
	}
	words := c.Args[1:]
	program, err := c.program(words[0])
	if err != nil {
		return err
	}
	if o.check {
		if err := c.ready(ctx, p, o.over); err != nil {
			return err
		}
	}
	if o.Login {
		return c.withLogin(ctx, p, o, program, words)
	}
	conn, err := c.serving(ctx, p, o.over)
	if err != nil {
		return err
	}
	c.olderClient(ctx, p, program)
	var way *tunnel.Tunnel
	if len(p.Hops()) > 0 {
		local, opened, err := c.ownTunnel(ctx, p, conn)
		if err != nil {
			return err
		}
		way = opened
		defer keep(ctx, way)()
		if conn = conn.At(local); conn.TLS == "verified" && !conn.Spec.Client.Apart {
			c.Notice("clients of this engine can't verify a certificate for %s through a tunnel, and may refuse it",
				conn.TLSName)
		}
	}
	err = c.run(conn, o, program, words)
	if way != nil {
		c.tellWay(p, way, err)
	}
	return err
}

// tellWay reports what was wrong with the way after the program failed, which saw only a closed connection.
func (c *Call) tellWay(p *resolve.Profile, way *tunnel.Tunnel, err error) {
	trouble := way.Status().LastError
	if err == nil || trouble == nil {
		return
	}
	code := ""
	if trouble.Code != "" {
		code = " (" + string(trouble.Code) + ")"
	}
	c.Notice("on the way to the server: %s%s", clean.Line(trouble.Text, 300), code)
	c.Say("  try: gharbor test %s", p.Called)
}

func (o *withOptions) fit() error {
	if err := o.LoginOptions.Check(o.local != ""); err != nil || o.local == "" {
		return err
	}
	if !o.Login {
		return base.Usage("-local goes with -login")
	}
	return tunnelcmd.LocalOnly(o.local)
}

// withLogin runs the program with a local address that logs in, which ends with the program.
func (c *Call) withLogin(ctx context.Context, p *resolve.Profile, o withOptions, program string, words []string) error {
	finder, err := c.Finder()
	if err != nil {
		return err
	}
	told := func(text string) { c.Log.Info("tunnel", "event", text) }
	conn, t, remove, err := tunnelcmd.NewCall(c.Call).ForProgram(ctx, p, o.LoginOptions, o.local, finder, told)
	if err != nil {
		return err
	}
	defer remove()
	defer keep(ctx, t)()
	err = c.run(conn, o, program, words)
	c.tellWay(p, t, err)
	return err
}

// ownTunnel opens a tunnel, which keep runs.
func (c *Call) ownTunnel(ctx context.Context, p *resolve.Profile,
	conn handover.Connection) (local engine.Endpoint, way *tunnel.Tunnel, err error) {
	finder, err := c.Finder()
	if err != nil {
		return local, nil, err
	}
	listen := func(handover.Connection) (net.Listener, error) { return net.Listen("tcp", "127.0.0.1:0") }
	told := func(text string) { c.Log.Info("tunnel", "event", text) }
	h, err := tunnelcmd.NewCall(c.Call).Through(ctx, p, conn,
		tunnelcmd.TunnelPlan{Timeout: check.DefaultTimeout, Finder: finder, Listen: listen, Told: told})
	if err != nil {
		return local, nil, err
	}
	return tunnelcmd.LocalOf(h.Listener.Addr(), p.Engine()), h.Tunnel, nil
}

// keep runs a tunnel until end is called. A signal does not end it: the program may still need the way.
func keep(ctx context.Context, t *tunnel.Tunnel) (end func()) {
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	var done defect.Group
	done.Go(func() { t.Run(running) })
	return func() {
		stop()
		done.Wait()
	}
}

// program finds the program, or suggests where on this machine one of that name is.
func (c *Call) program(name string) (string, error) {
	path, err := exec.LookPath(name)
	if err == nil {
		return filepath.Abs(path)
	}
	shown := clean.Quote(name)
	if clean.Shell(name) != name { // no program's name has such signs; a misplaced password has
		shown = "of that name"
	}
	if errors.Is(err, os.ErrPermission) || strings.Contains(name, "/") && !errors.Is(err, os.ErrNotExist) {
		return "", base.Failure(exitNotRunnable,
			fmt.Errorf("the program %s can't be run: %s", shown, wording.PlainReason(err)),
			"chmod +x "+clean.Shell(name))
	}
	failure := &base.ExitError{Code: exitNoProgram, Err: fmt.Errorf("no program %s in the folders of PATH", shown)}
	if strings.Contains(name, "/") {
		failure.Err = fmt.Errorf("there is no program %s", shown)
		return "", failure
	}
	elsewhere := handover.Elsewhere(c.Engines, name, c.Environment().Home, "")
	if len(elsewhere) == 0 {
		return "", failure
	}
	var places []string
	for _, one := range elsewhere[:min(len(elsewhere), 6)] {
		text := one.Path
		if one.Version != "" {
			text += " (version " + one.Version + ")"
		}
		places = append(places, text)
	}
	failure.Err = fmt.Errorf("%w; it is at %s", failure.Err, strings.Join(places, ", "))
	failure.Try = []string{fmt.Sprintf("export PATH=%s:$PATH", clean.Shell(filepath.Dir(elsewhere[0].Path)))}
	return "", failure
}

// ready tests the profile, and shows a failure as test does.
func (c *Call) ready(ctx context.Context, p *resolve.Profile, over base.Overrides) error {
	runner, err := testcmd.NewCall(c.Call).Runner(check.DefaultTimeout)
	if err != nil {
		return err
	}
	report := runner.Run(ctx, p)
	testcmd.NewCall(c.Call).FollowReports(base.FollowUp{Over: over}, report)
	c.Remember(ctx, []*resolve.Profile{p}, []*check.Report{report})
	if !report.Failed(false) {
		return nil
	}
	text := render.NewReport(c.Stderr, c.NoColour)
	text.Show(p.Called, testcmd.Headline(p), report)
	return base.Failure(exitWith, nil)
}

// serving is the connection to the server that a test of the profile would choose, with its secret.
func (c *Call) serving(ctx context.Context, p *resolve.Profile, over base.Overrides) (conn handover.Connection,
	err error) {
	runner, err := testcmd.NewCall(c.Call).Runner(check.DefaultTimeout)
	if err != nil {
		return conn, err
	}
	at, found := runner.FindServing(ctx, p)
	if ctx.Err() != nil {
		return conn, ctx.Err()
	}
	if found != nil {
		c.Follow(base.FollowUp{Over: over}, p.Called, found)
		return conn, base.RouteFailed(found)
	}
	if at.Trouble != nil {
		c.Notice("%s (%s)", at.Trouble.Cause, at.Trouble.Code)
	}
	c.Log.Debug("secret", "place", at.Secret.Place)
	if at.Secret.Mint != nil {
		return c.servingMinted(ctx, p, at)
	}
	value, err := at.Secret.Take(ctx)
	if err != nil {
		return conn, err
	}
	return c.HandOverTo(ctx, p, at.Servers, value)
}

// servingMinted is serving with a new login for the program, which expires by itself.
func (c *Call) servingMinted(
	ctx context.Context, p *resolve.Profile, at *check.ServingTarget,
) (handover.Connection, error) {
	login, err := at.Secret.Mint(ctx)
	if err != nil {
		return handover.Connection{}, err
	}
	conn, err := c.HandOverTo(ctx, p, at.Servers, login.Password)
	conn.User = login.User
	if login.Certificate != nil {
		c.minted = login.PEM
	}
	c.Notice("the program can connect until %s: its login ends then", login.Until.Local().Format(time.TimeOnly))
	return conn, err
}

// SecretOf takes a profile's secret, for a file. A profile without one is no error: the server may need none.
func (c *Call) SecretOf(ctx context.Context, p *resolve.Profile) (secret.Value, error) {
	runner, err := testcmd.NewCall(c.Call).Runner(check.DefaultTimeout)
	if err != nil {
		return secret.Value{}, err
	}
	located, found := runner.SecretPlace(ctx, p)
	if located == nil {
		return secret.Value{}, base.RouteFailed(found)
	}
	if found != nil {
		c.Notice("%s (%s)", found.Cause, found.Code)
	}
	if located.Mint != nil {
		return secret.Value{}, base.Failure(base.ExitSecret,
			errors.New("the cloud makes a login at each use, which ends soon: there is no password to write down"),
			"gharbor with "+p.Called+" -- env   # gives one to a program")
	}
	c.Log.Debug("secret", "place", located.Place)
	return located.Take(ctx)
}

// olderClient notes that a server's own client is much older than the server was at the last test.
func (c *Call) olderClient(ctx context.Context, p *resolve.Profile, program string) {
	seen, ok := c.LastSeen().All()[lastseen.Key(p)]
	if !ok {
		return
	}
	if client, older := handover.OlderClient(ctx, c.Engines, program, seen.Version); older {
		c.Notice("%s is version %s, much older than the server (%s at the last test): it may fail or leave things "+
			"out", filepath.Base(program), client, clean.Line(seen.Version, 40))
	}
}

// run starts the program and behaves like it: signals and the exit code are the program's.
func (c *Call) run(conn handover.Connection, o withOptions, program string, words []string) error {
	folder, err := handover.NewFolder(c.Lookup)
	if err != nil {
		return fmt.Errorf("no private folder for the connection's files: %w", err)
	}
	defer folder.Remove()
	signals := make(chan os.Signal, 8) // before there is a secret in the folder
	signal.Notify(signals, passedOn...)
	defer signal.Stop(signals)
	if c.minted.Present() {
		conn.Cert = filepath.Join(folder.Path, "login.pem")
		conn.Key = conn.Cert
		if err := os.WriteFile(conn.Cert, []byte(c.minted.Disclose()), 0o600); err != nil {
			return err
		}
	}
	file, led, err := conn.Files(folder.Path)
	if err != nil {
		return err
	}
	args, err := conn.Words(c.Engines, words[1:], file)
	if err != nil {
		return err
	}
	if overruled := conn.Spec.Client.Overruled; overruled != nil {
		if notice := overruled(c.Environment().Home); notice != "" {
			c.Notice("%s", notice)
		}
	}
	cmd := exec.Command(program, args...)
	cmd.Args[0] = words[0]
	cmd.Stdin, cmd.Stdout, cmd.Stderr = c.Stdin, c.Stdout, c.Stderr
	if file := render.FileOf(c.Stdout); file != nil {
		cmd.Stdout = file // the program writes to it by itself
	}
	cmd.Env = c.environmentFor(conn, o, led)
	if err := cmd.Start(); err != nil {
		return base.Failure(exitNotRunnable,
			fmt.Errorf("%s can't be run: %s", clean.Quote(words[0]), wording.PlainReason(err)))
	}
	folder.For(cmd.Process.Pid)
	done := make(chan error, 1)
	defect.Go(func() { done <- cmd.Wait() })
	for {
		select {
		case s := <-signals:
			if !fromTerminal(s) || !c.Interactive() { // the terminal has sent it to the program too
				cmd.Process.Signal(s)
			}
		case err := <-done:
			return programEnd(err)
		}
	}
}

// programEnd is the program's exit code, or 128 plus the signal's number, as in shells.
func programEnd(err error) error {
	var exit *exec.ExitError
	if err == nil {
		return nil
	}
	if !errors.As(err, &exit) {
		return err
	}
	return &programExit{endCode(exit)}
}

// programExit is an error with a program's own exit code.
type programExit struct{ code int }

func (e *programExit) Error() string { return "" }

// ExitCode is the program's.
func (e *programExit) ExitCode() int { return e.code }

// environmentFor is the environment of the program: the caller's without the engine's variables, plus the
// connection's.
func (c *Call) environmentFor(conn handover.Connection, o withOptions, led []engine.Variable) []string {
	var env []string
	own := make(map[string]bool)
	given := append(append(conn.Variables(), conn.Neutral()...), led...)
	if o.url != "" {
		given = append(given, engine.Variable{Name: o.url, Value: conn.URL()})
	}
	for _, v := range given {
		own[v.Name] = true
	}
	for _, pair := range c.Environ() {
		name, _, _ := strings.Cut(pair, "=")
		if !own[name] && !conn.Inherited(name) {
			env = append(env, pair)
		}
	}
	for _, v := range given {
		env = append(env, v.Name+"="+v.Value)
	}
	return env
}
