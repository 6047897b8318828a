package tunnelcmd

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/handover"
	"gentleharbor/core/privatesocket"
	"gentleharbor/core/secret"
	"gentleharbor/core/tunnel"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

// holdTunnel runs a tunnel until ctx or its own time ends. In the background, it calls ready once it serves.
func (c *Call) holdTunnel(ctx context.Context, o OpenOptions, parent *parentProcess) error {
	ctx, end := context.WithCancelCause(ctx)
	defer end(nil)
	registry, err := c.Registry()
	if err != nil {
		return err
	}
	name, err := c.tunnelName(c.Args[0])
	if err != nil {
		return err
	}
	socket, err := registry.Listen(name)
	if errors.Is(err, privatesocket.ErrTaken) {
		return alreadyOpen(ctx, registry, name)
	}
	if err != nil {
		c.Notice("tunnel list can't show this one: %s", wording.PlainReason(err)) // a system without Unix sockets, say
	}
	var running atomic.Pointer[tunnel.Tunnel]
	began := time.Now()
	if socket != nil {
		defer socket.Close()
		status := func() tunnel.Status {
			s := tunnel.Status{Profile: name, State: tunnel.Connecting, Since: began, StateSince: began}
			if t := running.Load(); t != nil {
				s = t.Status()
			}
			s.PID, s.Home, s.Background = os.Getpid(), registry.Home, parent != nil
			return s
		}
		defect.Go(func() {
			tunnel.Answer(ctx, socket, status, func() { end(errClosed) })
			end(errNotFound) // nobody could list or close it any more
		})
	}
	finder, err := c.Finder()
	if err != nil {
		return err
	}
	told := func(text string) { c.Say("%s  %s", time.Now().Format(time.TimeOnly), text) }
	if parent != nil {
		finder.Terminal, finder.Ask = true, parent.ask
		told = func(text string) { c.Log.Info("tunnel", "event", text) }
	}
	h, err := c.prepare(ctx, o, finder, told)
	if err != nil {
		return err
	}
	defer forget(h.login)
	running.Store(h.Tunnel)
	if parent != nil {
		if err := parent.ready(h.Listener.Addr().String()); err != nil {
			return err
		}
		finder.Terminal = false // nobody is there any more
	} else if err := c.showOpen(h.conn, h.Tunnel.Status(), "close it: Ctrl-C"); err != nil {
		return err
	}
	// The ends of a tunnel are mostly on this machine too, so half of its cores is faster than all of them.
	runtime.GOMAXPROCS(min(max(runtime.NumCPU()/2, 1), 4))
	if o.Login { // the driver and TLS take memory that a plain tunnel does not
		debug.SetGCPercent(50)
	}
	why := h.Tunnel.Run(ctx)
	if parent == nil {
		s := h.Tunnel.Status()
		c.Say("closed: %s (%s, %s sent, %s received)%s", s.Local, count(s.Connections, "connection"), size(s.Sent),
			size(s.Received), reasonSuffix(why))
	}
	return nil
}

// errClosed ends a tunnel by tunnel close.
var errClosed = errors.New("tunnel close was asked for")

// errNotFound ends a tunnel that tunnel list can't find any more.
var errNotFound = errors.New("its control socket was removed, so that tunnel close could not have ended it")

func reasonSuffix(why error) string {
	if why == nil || errors.Is(why, context.Canceled) {
		return ""
	}
	return ": " + why.Error()
}

func alreadyOpen(ctx context.Context, registry tunnel.Registry, name string) error {
	s, err := registry.Find(ctx, name)
	if silent := new(privatesocket.SilentError); errors.As(err, &silent) {
		return noAnswer(fmt.Sprintf("a tunnel of the profile %s", name), silent)
	}
	if err != nil || s.State == tunnel.Connecting {
		return base.Failure(base.ExitServer,
			fmt.Errorf("a tunnel of the profile %s is being opened or closed at this moment", name),
			"gharbor tunnel list")
	}
	return base.Failure(base.ExitServer,
		fmt.Errorf("the tunnel of the profile %s is open already, at %s (process %d)", name, s.Local, s.PID),
		"gharbor tunnel show "+name,
		"gharbor tunnel close "+name)
}

// noAnswer is the error for a process of gharbor that runs and does not answer.
func noAnswer(what string, silent *privatesocket.SilentError) error {
	return base.Failure(base.ExitServer,
		fmt.Errorf("%s does not answer: %w", what, silent),
		silent.EndLine()+"   # ends it")
}

// tunnelName is the name of a profile's tunnel.
func (c *Call) tunnelName(name string) (string, error) {
	p, err := c.Resolve(name, nil)
	if err != nil {
		return "", err
	}
	return p.Called, nil
}

// showOpen tells how to use a tunnel.
func (c *Call) showOpen(conn handover.Connection, s tunnel.Status, end string) error {
	through := ""
	if len(s.Through) > 0 {
		through = " through " + strings.Join(s.Through, ", then ")
	}
	conn.Password = secret.Value{}
	lines := []string{fmt.Sprintf("open: %s leads to %s%s", s.Local, s.Server, through), "  url   " + conn.URL()}
	switch {
	case s.Password != "":
		lines = append(lines, "  use   any program that sends the password in the file "+s.Password)
	case s.Login:
		lines = append(lines, "  use   any program of yours, as "+clean.Quote(conn.User)+", without a password")
	default:
		lines = append(lines, "  use   gharbor with "+conn.Profile+
			" -- PROGRAM   # with the password, through a tunnel of its own")
	}
	_, err := fmt.Fprintf(c.Stdout, "%s\n", strings.Join(lines, "\n"))
	c.Say("%s", end)
	return err
}

// startTunnel starts this program as the process that keeps a tunnel, and waits until it serves. It passes on that
// process's questions to a person.
func (c *Call) startTunnel(ctx context.Context, o OpenOptions) error {
	registry, err := c.Registry()
	if err != nil {
		return err
	}
	name, err := c.tunnelName(c.Args[0])
	if err != nil {
		return err
	}
	// printed here, where it is not an error of another process
	if _, err := registry.Find(ctx, name); !errors.Is(err, privatesocket.ErrNone) {
		return alreadyOpen(ctx, registry, name)
	}
	p, err := c.Resolve(c.Args[0], o.over)
	if err != nil {
		return err
	}
	env := c.EnvironmentOf(p)
	if _, set := c.Lookup("GODEBUG"); !set {
		// There are thousands of packets: memory that goes back to the system at once is needed again at once
		// (package runtime, madvdontneed).
		env = append(env, "GODEBUG=madvdontneed=0")
	}
	b, err := base.StartBackground(c.Dir, env, append([]string{"tunnel", "hold", c.Args[0]}, o.words()...)...)
	if err != nil {
		return err
	}
	defer context.AfterFunc(ctx, func() { b.Cmd.Process.Kill() })()
	if err := c.attend(ctx, b.In, b.Out); err != nil {
		return err
	}
	s, err := registry.Find(ctx, name)
	if err != nil {
		return base.Failure(base.ExitServer,
			errors.New("the tunnel was opened and ended at once"),
			"gharbor tunnel open "+name)
	}
	conn, err := c.HandOver(ctx, p, secret.Value{})
	if err != nil {
		return err
	}
	local := conn.At(LocalOfText(s.Local, conn.Spec))
	if o.Login {
		local = conn.LoggedIn(LocalOfText(s.Local, conn.Spec), secret.Value{})
	}
	if err := c.showOpen(local, s,
		"close it: gharbor tunnel close "+name); err != nil {
		return err
	}
	return b.Cmd.Process.Release()
}

// message is a message from the process that keeps a tunnel to the one that started it: a notice, a question, that it
// serves, or why it does not.
type message struct {
	Notice  string          `json:"notice,omitempty"`
	Ask     string          `json:"ask,omitempty"`
	Ready   string          `json:"ready,omitempty"`
	Failed  string          `json:"failed,omitempty"`
	Finding json.RawMessage `json:"finding,omitempty"`
	Try     []string        `json:"try,omitempty"`
	Do      []string        `json:"do,omitempty"`
	Code    int             `json:"code,omitempty"`
}

// attend answers what the other process asks until it serves.
func (c *Call) attend(ctx context.Context, in io.WriteCloser, out io.Reader) error {
	defer in.Close()
	said := json.NewDecoder(out)
	for {
		var m message
		if err := said.Decode(&m); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return base.Failure(base.ExitServer,
				errors.New("the process of the tunnel ended without a message"))
		}
		switch {
		case m.Notice != "":
			c.Say("%s", m.Notice)
		case m.Ready != "":
			return nil
		case m.Failed != "":
			failure := &base.ExitError{Code: m.Code, Err: errors.New(m.Failed), Try: m.Try, Do: m.Do}
			if m.Finding != nil {
				found := new(secret.Failure)
				if json.Unmarshal(m.Finding, &found.Found) == nil {
					failure.Err = found
				}
			}
			return failure
		default:
			if err := c.reply(ctx, in, m.Ask); err != nil {
				return err
			}
		}
	}
}

// reply asks the person, and sends the answer through the pipe.
func (c *Call) reply(ctx context.Context, in io.Writer, prompt string) error {
	answer := struct{ Answer, Error string }{}
	value, err := c.Secret(ctx, prompt)
	if err != nil {
		answer.Error = err.Error()
	}
	answer.Answer = value.Disclose() // into the pipe of a process of one's own, and nowhere else
	if err := json.NewEncoder(in).Encode(answer); err != nil {
		return err
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return nil
}

// parentProcess is the process that started this one, until this one serves.
type parentProcess struct {
	mu  sync.Mutex
	in  *bufio.Reader
	out *os.File
}

func (p *parentProcess) say(m message) error { return json.NewEncoder(p.out).Encode(m) }

// Write passes a notice on while the parent process listens.
func (p *parentProcess) Write(line []byte) (int, error) {
	p.say(message{Notice: strings.TrimRight(string(line), "\n")})
	return len(line), nil
}

// ask asks the person at the other end.
func (p *parentProcess) ask(_ context.Context, prompt string) (secret.Value, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if err := p.say(message{Ask: prompt}); err != nil {
		return secret.Value{}, err
	}
	line, err := p.in.ReadBytes('\n')
	if err != nil {
		return secret.Value{}, err
	}
	var answer struct{ Answer, Error string }
	if err := json.Unmarshal(line, &answer); err != nil {
		return secret.Value{}, err
	}
	if answer.Error != "" {
		return secret.Value{}, errors.New(answer.Error)
	}
	return secret.NewValue(answer.Answer), nil
}

// ready reports that the tunnel serves, and closes the pipe.
func (p *parentProcess) ready(local string) error {
	err := p.say(message{Ready: local})
	p.out.Close()
	os.Chdir("/") // not to keep a folder from being unmounted
	return err
}

// tunnelHold is the process behind tunnel open -background.
func tunnelHold() *base.Command {
	var o OpenOptions
	return &base.Command{
		Name: "tunnel hold", Args: "PROFILE", Hidden: true, Summary: "what open -background starts", MinArgs: 1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) { o.flags(fs) },
		Run: run(func(ctx context.Context, c *Call) error {
			out := render.FileOf(c.Stdout)
			if out == nil {
				return base.Usage("this is for gharbor tunnel open to start")
			}
			p := &parentProcess{in: bufio.NewReader(c.Stdin), out: out}
			c.Terminal = render.NewTerminal(nil, p, true)
			err := c.holdTunnel(ctx, o, p)
			if err == nil {
				return nil
			}
			code, try, steps := base.ExitCode(err)
			m := message{Failed: clean.Visible(err.Error()), Code: code, Try: try, Do: steps}
			var failure *secret.Failure
			if errors.As(err, &failure) {
				m.Finding, _ = json.Marshal(failure.Found)
			}
			p.say(m)
			return base.Failure(code, nil)
		}),
	}
}

// words are the flags for the background process.
func (o OpenOptions) words() []string {
	words := []string{"-timeout", o.Timeout.String(), "-lifetime", o.lifetime.String(), "-idle", o.idle.String()}
	if o.local != "" {
		words = append(words, "-local", o.local)
	}
	if o.socket != "" {
		words = append(words, "-socket", o.socket)
	}
	words = append(words, o.LoginOptions.Words()...)
	if o.network {
		words = append(words, "-open-to-network")
	}
	for _, one := range o.over {
		words = append(words, "-override", one.String())
	}
	return words
}
