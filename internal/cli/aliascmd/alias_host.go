package aliascmd

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/internal/cli/base"
)

// lookupLimit bounds the question to DNS: the line is written also without an answer.
const lookupLimit = 3 * time.Second

func aliasHost() *base.Command {
	var to aliasTarget
	var remove bool
	return &base.Command{
		Name: "alias host", Args: "NAME ADDRESS…", Summary: "give a host name its addresses, in place of DNS",
		Long: `Writes the line of [hosts] for the name, and shows what DNS says. Profiles and aliases that
name the host connect to these addresses; certificates are still checked for the name.`,
		Examples: []string{
			"gharbor alias host archive-c.saltmarsh.example 192.0.2.30",
			"gharbor alias host archive-a.saltmarsh.example -remove",
		},
		MinArgs: 1, MaxArgs: -1,
		Flags: func(fs *base.FlagSet) {
			to.flag(fs)
			fs.BoolVar(&remove, "remove", false, "take the line out: DNS counts again")
		},
		Run: run(func(ctx context.Context, c *call) error {
			name := c.Args[0]
			addresses, err := hostAddresses(c.Args[1:])
			switch {
			case err != nil:
				return err
			case remove && len(addresses) > 0:
				return base.Usage("give addresses or -remove, not both")
			case !remove && len(addresses) == 0:
				return base.Failure(base.ExitUsage, errors.New("the address is missing"), "gharbor help alias host")
			}
			edit, done := func(f *profile.File) (*profile.Edit, error) { return f.SetHost(name, addresses) }, "saved"
			if remove {
				edit, done = func(f *profile.File) (*profile.Edit, error) { return f.RemoveHost(name) }, "removed"
			}
			path, err := c.Write(ctx, to.project, "alias", edit)
			if err != nil {
				return err
			}
			c.Say("%s: the line of %s in [hosts] of %s", done, name, clean.Line(path, 200))
			c.tellDNS(ctx, name, addresses)
			return nil
		}),
	}
}

// hostAddresses reads addresses, which may have commas between them.
func hostAddresses(words []string) (all []netip.Addr, err error) {
	for _, text := range words {
		for word := range strings.SplitSeq(text, ",") {
			a, err := netip.ParseAddr(strings.TrimSpace(word))
			if err != nil || a.Zone() != "" {
				return nil, base.Usage("expected IP addresses, without a port")
			}
			all = append(all, a.Unmap())
		}
	}
	return all, nil
}

// tellDNS says what DNS has for a host.
func (c *call) tellDNS(ctx context.Context, name string, given []netip.Addr) {
	bound, cancel := context.WithTimeout(ctx, lookupLimit)
	defer cancel()
	found, err := c.Network().Resolve(bound, name)
	if err != nil || len(found) == 0 {
		c.Say("DNS has no address for %s", name)
		return
	}
	var words []string
	same := len(found) == len(given)
	for _, a := range found {
		words = append(words, a.Unmap().String())
		same = same && slices.Contains(given, a.Unmap())
	}
	text := fmt.Sprintf("DNS says %s", strings.Join(words, ", "))
	if same {
		text += ", the same"
	}
	c.Say("%s", text)
}
