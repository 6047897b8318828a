package tunnelcmd

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
	"gentleharbor/core/privatesocket"
	"gentleharbor/core/tunnel"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

func tunnelList() *base.Command {
	var form base.Format
	return &base.Command{
		Name: "tunnel list", Summary: "list the open tunnels",
		Examples: []string{"gharbor tunnel list", "gharbor tunnel list -format json"},
		Flags:    func(fs *base.FlagSet) { form.Flag(fs) },
		Run: run(func(ctx context.Context, c *Call) error {
			registry, err := c.Registry()
			if err != nil {
				return err
			}
			all, silent := registry.List(ctx)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if form.JSON() {
				if err := render.JSON(c.Stdout, map[string]any{"format": 1, "tunnels": all}); err != nil {
					return err
				}
				return c.silentTunnels(silent)
			}
			if len(all) == 0 && len(silent) > 0 {
				return c.silentTunnels(silent)
			}
			if len(all) == 0 {
				c.Say("no tunnel is open")
				c.Say("  try: gharbor tunnel open PROFILE")
				return nil
			}
			rows := make([][]string, len(all))
			for i, s := range all {
				rows[i] = []string{s.Profile, string(s.State), render.ShortPath(s.Local), render.ShortPath(s.Server),
					strconv.Itoa(len(s.Through)), age(s.Since), strconv.Itoa(s.Open)}
			}
			if err := render.Table(c.Stdout, c.NoColour,
				[]string{"profile", "state", "local", "server", "hops", "since", "open"}, rows); err != nil {
				return err
			}
			return c.silentTunnels(silent)
		}),
	}
}

func tunnelShow() *base.Command {
	var form base.Format
	return &base.Command{
		Name: "tunnel show", Args: "PROFILE", Summary: "show one tunnel: its age, traffic and last error",
		Examples: []string{"gharbor tunnel show tides", "gharbor tunnel show tides -format json"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) { form.Flag(fs) },
		Run: run(func(ctx context.Context, c *Call) error {
			registry, err := c.Registry()
			if err != nil {
				return err
			}
			s, err := registry.Find(ctx, c.Args[0])
			if err != nil {
				return noTunnel(ctx, registry, c.Args[0], err)
			}
			if form.JSON() {
				return render.JSON(c.Stdout, map[string]any{"format": 1, "tunnel": s})
			}
			return render.Table(c.Stdout, c.NoColour, []string{"profile", clean.Line(s.Profile, 80)}, describe(s))
		}),
	}
}

// describe returns a status as rows.
func describe(s tunnel.Status) [][]string {
	state := string(s.State)
	if s.State != tunnel.Connecting {
		state += " for " + age(s.StateSince)
	}
	rows := [][]string{
		{"state", state}, {"local", s.Local}, {"server", s.Server},
		{"through", cmp.Or(strings.Join(s.Through, ", then "), "no hop")},
		{"since", s.Since.Local().Format(time.DateTime) + " (" + age(s.Since) + ")"},
		{"process", strconv.Itoa(s.PID) + map[bool]string{true: ", in the background",
			false: ", in the foreground"}[s.Background]},
		{"connections", fmt.Sprintf("%d open, %d in all, %d failed", s.Open, s.Connections, s.Refused)},
		{"traffic", fmt.Sprintf("%s sent, %s received", size(s.Sent), size(s.Received))},
		{"reconnected", count(s.Reconnects, "time")},
	}
	if s.Strangers > 0 {
		rows = append(rows, []string{"of others", count(s.Strangers, "connection") + ", refused"})
	}
	if s.Login {
		rows = append(rows, []string{"logs in", loginWords(s)})
	}
	if s.Until != nil {
		rows = append(rows, []string{"ends at", s.Until.Local().Format(time.DateTime)})
	}
	if s.IdleAfter != "" {
		rows = append(rows, []string{"ends when unused", "for " + s.IdleAfter})
	}
	last := "none"
	if s.LastError != nil {
		last = age(s.LastError.At) + " ago: " + clean.Line(s.LastError.Text, 300)
		if s.LastError.Code != "" {
			last += " (" + string(s.LastError.Code) + ")"
		}
	}
	rows = append(rows, []string{"last trouble", last})
	if s.LastError == nil || s.LastError.Finding == nil {
		return rows
	}
	f := s.LastError.Finding
	for _, more := range []struct {
		label string
		lines []string
	}{{"seen", f.Seen}, {"try", append(slices.Clone(f.Try), f.Do...)}} {
		for _, line := range more.lines {
			rows = append(rows, []string{more.label, clean.Line(line, 300)})
		}
	}
	return rows
}

// loginWords describes what programs get at an address that logs in.
func loginWords(s tunnel.Status) string {
	text := "programs of yours, without a password"
	if s.Password != "" {
		text = "programs that send the password in " + s.Password
	}
	if s.ReadOnly {
		text += "; sessions begin read-only"
	}
	return text
}

func tunnelClose() *base.Command {
	var all bool
	return &base.Command{
		Name: "tunnel close", Args: "PROFILE | -all", Summary: "close a tunnel",
		Examples: []string{"gharbor tunnel close tides", "gharbor tunnel close -all"},
		MaxArgs:  1,
		Flags:    func(fs *base.FlagSet) { fs.BoolVar(&all, "all", false, "every tunnel of yours") },
		Run: run(func(ctx context.Context, c *Call) error {
			if all == (len(c.Args) == 1) {
				return base.Failure(base.ExitUsage,
					errors.New("which tunnel? give the profile's name, or -all"),
					"gharbor tunnel list")
			}
			registry, err := c.Registry()
			if err != nil {
				return err
			}
			names := c.Args
			var silent []*privatesocket.SilentError
			if all {
				names = nil
				var open []tunnel.Status
				open, silent = registry.List(ctx)
				if ctx.Err() != nil {
					return ctx.Err()
				}
				for _, s := range open {
					names = append(names, s.Profile)
				}
				if len(names)+len(silent) == 0 {
					c.Say("no tunnel is open")
				}
			}
			for _, name := range names {
				s, err := registry.Close(ctx, name)
				if err != nil {
					return noTunnel(ctx, registry, name, err)
				}
				c.Say("closed: %s at %s (%s, %s sent, %s received)", name, s.Local, count(s.Connections, "connection"),
					size(s.Sent), size(s.Received))
			}
			return c.silentTunnels(silent)
		}),
	}
}

// silentTunnels names the tunnels that run and do not answer, and is the command's error.
func (c *Call) silentTunnels(silent []*privatesocket.SilentError) error {
	if len(silent) == 0 {
		return nil
	}
	for _, one := range silent[:len(silent)-1] {
		c.Notice("a tunnel does not answer: %s. To end it: %s", one, one.EndLine())
	}
	return noAnswer("a tunnel that is open", silent[len(silent)-1])
}

// noTunnel is the error for a tunnel that can't be asked, with the reason.
func noTunnel(ctx context.Context, registry tunnel.Registry, name string, why error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if silent := new(privatesocket.SilentError); errors.As(why, &silent) {
		return noAnswer("the tunnel of that profile", silent)
	}
	var names []string
	open, silent := registry.List(ctx)
	for _, s := range open {
		names = append(names, s.Profile)
	}
	if len(silent) > 0 && len(open) == 0 {
		return noAnswer("a tunnel that is open", silent[0])
	}
	failure := &base.ExitError{
		Code: base.ExitUsage,
		Err:  errors.New("no tunnel of that profile is open"),
		Try:  []string{"gharbor tunnel list"},
	}
	if near := nearest.Name(name, names); near != "" {
		failure.Err = fmt.Errorf("no tunnel of that profile is open; did you mean %q?", near)
	}
	return failure
}

// LocalOfText is a tunnel's local address from its status.
func LocalOfText(text string, spec *engine.Spec) engine.Endpoint {
	if strings.HasPrefix(text, "/") {
		return LocalOf(&net.UnixAddr{Name: text, Net: "unix"}, spec)
	}
	at, err := netip.ParseAddrPort(text)
	if err != nil {
		return engine.Endpoint{}
	}
	return LocalOf(net.TCPAddrFromAddrPort(at), spec)
}

// age is the time since then, in a few characters.
func age(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// size is a number of bytes in a suitable unit.
func size(n int64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	x, i := float64(n), 0
	for ; x >= 1024 && i < len(units)-1; i++ {
		x /= 1024
	}
	if i == 0 {
		return fmt.Sprintf("%d B", n)
	}
	return fmt.Sprintf("%.1f %s", x, units[i])
}

// count is a number with its noun.
func count(n int64, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
