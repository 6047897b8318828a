package hopcmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/route/hostkey"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
)

func Hop() *base.Command {
	return &base.Command{
		Name: "hop", Args: "VERB", Summary: "the jump hosts and proxies in front of a server",
		Long: `A hop is a jump host (SSH) or a proxy. A profile's hops are tables [[profile.NAME.hop]],
in order from here to the server. To change one: gharbor set NAME hop.N.KEY=VALUE.`,
		Verbs: func() []*base.Command { return []*base.Command{hopAdd(), hopRemove(), hopPin()} },
	}
}

func hopAdd() *base.Command {
	var to base.Target
	return &base.Command{
		Name: "hop add", Args: "PROFILE key=value…", Summary: "add a hop, the last one before the server",
		Long: `A hop is an SSH server, a host of your SSH client configuration (ssh=NAME), or a proxy.
If you name no key file, the keys of the SSH agent and the usual files in ~/.ssh are
tried. The keys:

`,
		Keys: base.HopKeyTable,
		Examples: []string{"gharbor hop add tides host=gate.saltmarsh.example user=keeper key=~/.ssh/gate",
			"gharbor hop add tides ssh=gate", "gharbor hop add tides proxy=socks5://127.0.0.1:1080"},
		MinArgs: 2, MaxArgs: -1,
		Flags: to.Flag,
		Run: run(func(ctx context.Context, c *call) error {
			name, sets, err := c.ReadAssignments(&to, base.HopKeyValue)
			if err != nil {
				return err
			}
			for i, one := range sets {
				if slices.ContainsFunc(sets[:i], func(o schema.Override) bool { return o.Field == one.Field }) {
					return base.Usage("%s is given twice", one.Field.Name)
				}
			}
			return c.Update(ctx, to, "hop added", name,
				func(f *profile.File) (*profile.Edit, error) { return f.AddHop(name, sets) })
		}),
	}
}

func hopRemove() *base.Command {
	var yes bool
	var to base.Target
	return &base.Command{
		Name: "hop remove", Args: "PROFILE NUMBER", Summary: "remove a hop from a profile",
		Long: `Asks first, unless -yes is given. Numbers are as in test and show: 1 is the first one
from here.`,
		Examples: []string{"gharbor hop remove tides-inner 2", "gharbor hop remove tides-inner 2 -yes"},
		MinArgs:  2, MaxArgs: 2,
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&yes, "yes", false, "do not ask")
			to.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *call) error {
			number, err := strconv.Atoi(c.Args[1])
			if err != nil || number < 1 {
				return base.Usage("the hop: expected its number, such as 1")
			}
			name, err := to.StripProject(c.Call, c.Args[0])
			if err != nil {
				return err
			}
			file, err := c.Load()
			if err != nil {
				return err
			}
			if to.Project && file.ProjectFile() != nil {
				file = file.ProjectFile()
			}
			remove := func(f *profile.File) (*profile.Edit, error) { return f.RemoveHop(name, number) }
			if _, err := remove(file); err != nil {
				return base.Failure(base.ExitUsage, err)
			}
			if yes, err = c.MayRemove(ctx, yes, fmt.Sprintf("hop %d of profile %s", number, name)); err != nil || !yes {
				return err
			}
			return c.Update(ctx, to, "hop removed", name, remove)
		}),
	}
}

// pinOptions are the flags of hop pin.
type pinOptions struct {
	fingerprints []string
	timeout      time.Duration
}

func hopPin() *base.Command {
	var o pinOptions
	return &base.Command{
		Name: "hop pin", Args: "PROFILE", Summary: "show the host keys of the hops, and save new ones after asking",
		Long: `Asks each hop for its key and shows the fingerprint. A key that is not known yet is saved
in the tool's known_hosts, after you have compared the fingerprint with one that you got
another way. Without a terminal give -fingerprint. A key that contradicts a known one is
always refused.`,
		Examples: []string{"gharbor hop pin tides"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			fs.Func("fingerprint", "the fingerprint that a new key must have, SHA256:…; may be repeated",
				func(s string) error {
					if !strings.HasPrefix(s, "SHA256:") || len(strings.TrimRight(s, "=")) != len("SHA256:")+43 {
						return errors.New("expected SHA256: and 43 characters")
					}
					o.fingerprints = append(o.fingerprints, strings.TrimRight(s, "="))
					return nil
				})
			fs.DurationVar(&o.timeout, "timeout", check.DefaultTimeout, "time limit of each hop")
		},
		Run: run(func(ctx context.Context, c *call) error {
			if o.timeout <= 0 {
				return base.Usage("-timeout: expected a time above zero, such as 10s")
			}
			return c.pinHops(ctx, o)
		}),
	}
}

func (c *call) pinHops(ctx context.Context, o pinOptions) error {
	p, err := c.Resolve(c.Args[0], nil)
	if err != nil {
		return err
	}
	if found := p.Problem(); found != nil {
		return base.FindingError(base.ExitFile, fmt.Errorf("%s (%s)", found.Cause, found.Code), found)
	}
	if len(p.Hops()) == 0 {
		return base.Advise(base.Usage("the profile %s has no hops", p.Called),
			"name one: gharbor hop add "+p.Called+" host=HOST")
	}
	places, err := c.HopPlaces()
	if err != nil {
		return err
	}
	hops, _, err := c.PlanHops(p)
	if err != nil {
		return err
	}
	finder, err := c.Finder()
	if err != nil {
		return err
	}
	d := &hop.Dialer{Network: c.Network().For(p), Finder: finder, Profile: p.Called}
	var link *hop.Link
	defer func() { link.Close() }()
	for i, h := range hops {
		if err := c.pinHop(ctx, d, link, h, places.Known, o); err != nil {
			return err
		}
		if i == len(hops)-1 {
			break
		}
		bound, cancel := context.WithTimeout(ctx, o.timeout)
		next, result := d.Connect(bound, link, h) // the next one is reached through it
		cancel()
		if next == nil {
			return base.RouteFailed(result.Finding)
		}
		link = next
	}
	return nil
}

// pinHop shows one hop's host key, and keeps it where it is new and the user agrees.
func (c *call) pinHop(ctx context.Context, d *hop.Dialer, link *hop.Link, h *hop.Hop, known string,
	o pinOptions) error {
	if h.Proxy != "" {
		_, err := fmt.Fprintf(c.Stdout, "%s: %s has no host key\n", h.Stage, h)
		return err
	}
	bound, cancel := context.WithTimeout(ctx, o.timeout)
	defer cancel()
	key, verdict, found := d.HostKey(bound, link, h)
	if found != nil {
		return base.RouteFailed(found)
	}
	text := fmt.Sprintf("%s: %s shows %s", h.Stage, clean.Line(h.String(), 200), hostkey.Describe(key))
	if verdict.Outcome == hostkey.Known {
		_, err := fmt.Fprintf(c.Stdout, "%s\n  known by %s\n", text, verdict.By)
		return err
	}
	if _, err := fmt.Fprintf(c.Stdout, "%s\n  not known here\n", text); err != nil {
		return err
	}
	fingerprint := strings.Fields(hostkey.Describe(key))
	print := fingerprint[len(fingerprint)-1]
	switch {
	case slices.Contains(o.fingerprints, print):
	case len(o.fingerprints) > 0:
		return base.Failure(base.ExitServer,
			fmt.Errorf("%s shows a different key than -fingerprint says; nothing was saved", h.Stage))
	case !c.Interactive():
		return base.Failure(base.ExitUsage,
			errors.New("there is no terminal to compare the fingerprint on; give it with -fingerprint"),
			fmt.Sprintf("gharbor hop pin %s -fingerprint %s   # if that is the hop's", d.Profile, print))
	default:
		c.Say("  Check this fingerprint with the jump host's administrator. An attacker would show a different one.")
		yes, err := c.Confirm(ctx, "  is it the right key?", false)
		if err != nil {
			return err
		}
		if !yes {
			c.Say("nothing was saved")
			return base.Failure(base.ExitServer, nil)
		}
	}
	if err := os.MkdirAll(filepath.Dir(known), 0o700); err != nil {
		return &profile.FileError{Path: filepath.Dir(known), What: "cannot be made: " + wording.PlainReason(err)}
	}
	if err := hostkey.Append(ctx, known, hostkey.Entry(h.KeyName(), key)); err != nil {
		return &profile.FileError{Path: known, What: "cannot be written: " + wording.PlainReason(err)}
	}
	c.Say("saved: the host key of %s in %s", clean.Line(h.KeyName(), 120), known)
	return nil
}
