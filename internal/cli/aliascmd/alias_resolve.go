package aliascmd

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/alias"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/route"
	"gentleharbor/core/tlsrule"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

// chainOf follows an alias. A project's must be vouched for.
func (c *call) chainOf(name string) (*address.Chain, error) {
	if _, err := c.foundAlias(name); err != nil {
		return nil, err
	}
	chain, found := c.Book.Follow(name)
	if found != nil {
		return nil, aliasFailed(found)
	}
	for _, link := range chain.Links {
		if _, found := c.Book.Judge(link); found != nil {
			return nil, aliasFailed(found)
		}
	}
	return chain, nil
}

// aliasFailed is the error for a chain that leads nowhere, or may not be used.
func aliasFailed(found *finding.Finding) error {
	text := fmt.Sprintf("%s (%s)", found.Cause, found.Code)
	for _, seen := range found.Seen {
		text += "; " + seen
	}
	return base.FindingError(base.ExitFile, errors.New(clean.Line(text, 600)), found)
}

// resolvedAddress is one address of `alias resolve -format json`.
type resolvedAddress struct {
	Address   string   `json:"address"`   // as written, or as an SRV record names it
	Addresses []string `json:"addresses"` // after [hosts] and DNS, in the order in which they would be dialled
	By        string   `json:"by"`        // "DNS", "[hosts] FILE:LINE", "written", "socket"
	Told      string   `json:"told,omitempty"`
	Problem   string   `json:"problem,omitempty"`
}

func aliasResolve() *base.Command {
	var form base.Format
	var timeout time.Duration
	return &base.Command{
		Name:    "alias resolve",
		Args:    "NAME",
		Summary: "look up the addresses of an alias, in the order they are tried",
		Long: `Looks host names up in [hosts] and then in DNS, SRV records first. Nothing is connected
to, so pick=fastest shows the order of the file.`,
		Examples: []string{"gharbor alias resolve archive", "gharbor alias resolve archive -format json"},
		MinArgs:  1,
		MaxArgs:  1,
		Flags: func(fs *base.FlagSet) {
			fs.DurationVar(&timeout, "timeout", check.DefaultTimeout, "time limit of the look-ups")
			form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *call) error {
			chain, err := c.chainOf(c.Args[0])
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(ctx, timeout)
			defer cancel()
			network := c.Network()
			candidates, found := c.Book.Candidates(ctx, network, chain)
			if found != nil {
				return base.RouteFailed(found)
			}
			pick := chain.Text(key.Pick)
			if pick == "" {
				pick = "in-order"
			}
			if pick == "random" {
				rand.Shuffle(len(candidates), func(i, j int) { candidates[i], candidates[j] = candidates[j], candidates[i] })
			}
			all := []resolvedAddress{}
			unknown := 0
			for _, one := range candidates {
				r := lookUp(ctx, network, chain.Links[0].FullName(), one)
				if r.Problem != "" {
					unknown++
				}
				all = append(all, r)
			}
			if form.JSON() {
				err = render.JSON(c.Stdout, map[string]any{
					"format":    1,
					"alias":     chain.Links[0].FullName(),
					"chain":     ChainLinks(chain),
					"pick":      pick,
					"addresses": all,
				})
			} else {
				err = c.resolveTable(chain, pick, all)
			}
			if err == nil && unknown > 0 {
				return base.Failure(base.ExitServer,
					fmt.Errorf("%d of %d %s not be resolved", unknown, len(all),
						wording.Plural(len(all), "address could", "addresses could")))
			}
			return err
		}),
	}
}

// ChainLinks are a chain's aliases with their places.
func ChainLinks(chain *address.Chain) []map[string]any {
	links := []map[string]any{}
	for _, link := range chain.Links {
		links = append(links, map[string]any{"alias": link.FullName(), "file": link.Path(), "line": link.Line})
	}
	return links
}

// lookUp finds the addresses of one server.
func lookUp(ctx context.Context, n route.Network, name string, c address.Candidate) resolvedAddress {
	r := resolvedAddress{Address: c.String(), Told: c.Source, By: "DNS", Addresses: []string{}}
	if c.Port == 0 && c.Socket == "" {
		r.Address = c.Host + " (the engine's usual port)"
	}
	addrs, result := n.Names(ctx, name, c)
	switch {
	case result.Outcome == finding.Fail:
		r.Problem = result.Finding.Cause
		return r
	case c.Socket != "":
		r.By = "socket"
	case c.StaticHost != nil:
		r.By = "[hosts] " + c.StaticHost.At()
	case len(addrs) == 1 && addrs[0].String() == c.Host:
		r.By = "written"
	}
	for _, a := range addrs {
		r.Addresses = append(r.Addresses, a.String())
	}
	return r
}

// width is that of the longest name of a chain.
func width(chain *address.Chain) int {
	longest := 0
	for _, name := range chain.Names() {
		longest = max(longest, len(name))
	}
	return longest
}

func (c *call) resolveTable(chain *address.Chain, pick string, all []resolvedAddress) error {
	for i, link := range chain.Links {
		word := "alias"
		if i > 0 {
			word = "  is"
		}
		fmt.Fprintf(c.Stdout, "%-8s  %-*s  %s:%d\n", word, width(chain),
			link.FullName(), filepath.Base(link.Path()), link.Line)
	}
	for _, k := range []key.Name{"engine", "service", "instance", "database", "tls", "srv"} {
		if text := chain.Text(k); text != "" {
			fmt.Fprintf(c.Stdout, "%-8s  %s\n", k, clean.Line(text, 200))
		}
	}
	if len(all) > 1 {
		fmt.Fprintf(c.Stdout, "%-8s  %s\n", "pick", pick)
	}
	fmt.Fprintln(c.Stdout)
	var rows [][]string
	for i, r := range all {
		at := strings.Join(r.Addresses, ", ")
		if r.Problem != "" {
			at = r.Problem
		}
		by := r.By
		if r.Told != "" {
			by += ", " + r.Told
		}
		rows = append(rows, []string{fmt.Sprint(i + 1), r.Address, at, by})
	}
	return render.Table(c.Stdout, c.NoColour, []string{"", "address", "IP", "from"}, rows)
}

func aliasKnock() *base.Command {
	var form base.Format
	var count int
	var timeout time.Duration
	return &base.Command{
		Name: "alias knock", Args: "NAME", Summary: "check what answers at each address, without a login",
		Long: `Says what answers, how long a round trip takes, and whether the listener ({{listener}})
knows the service. A server may count each connection as a failed one (some block a
client after 100 in a row), so there are at most 20 for each address. Jump hosts are not
used.`,
		Examples: []string{"gharbor alias knock archive", "gharbor alias knock archive -count 5"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			fs.IntVar(&count, "count", 3, fmt.Sprintf("connections to each address, at most %d", alias.MaxKnocks))
			fs.DurationVar(&timeout, "timeout", 3*time.Second, "time limit of each connection")
			form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *call) error {
			switch {
			case count < 1 || count > alias.MaxKnocks:
				return base.Usage("-count: expected a number from 1 to %d", alias.MaxKnocks)
			case timeout <= 0:
				return base.Usage("-timeout: expected a time above zero, such as 3s")
			}
			chain, err := c.chainOf(c.Args[0])
			if err != nil {
				return err
			}
			return c.knock(ctx, chain, count, timeout, form)
		}),
	}
}

func (c *call) knock(ctx context.Context, chain *address.Chain, count int, timeout time.Duration,
	form base.Format) error {
	network := c.Network()
	bound, cancel := context.WithTimeout(ctx, timeout)
	candidates, found := c.Book.Candidates(bound, network, chain)
	cancel()
	if found != nil {
		return base.RouteFailed(found)
	}
	if limit := chain.ConnectTimeout(); limit > 0 && !c.Set["timeout"] {
		timeout = limit
	}
	name := chain.Links[0].FullName()
	knocks := []alias.Knock{}
	for _, one := range candidates {
		k := alias.Knocker{
			Network:  network,
			Name:     name,
			Engines:  c.Engines,
			Engine:   chain.Text(key.Engine),
			Service:  chain.Text(key.Service),
			Instance: chain.Text(key.Instance),
			Timeout:  timeout,
		}
		var found *finding.Finding
		if k.TLS, found = c.listenerTLS(chain, one); found != nil {
			return base.FindingError(base.ExitFile, nil, found)
		}
		knocks = append(knocks, k.At(ctx, one, count))
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	if form.JSON() {
		if err := render.JSON(c.Stdout, map[string]any{"format": 1, "alias": name, "knocks": knocks}); err != nil {
			return err
		}
	} else if err := c.knockTable(chain, knocks); err != nil {
		return err
	}
	if slices.ContainsFunc(knocks, func(k alias.Knock) bool { return k.Finding != nil }) {
		return base.Failure(base.ExitServer, nil)
	}
	return nil
}

// listenerTLS is the TLS rule for a listener that speaks TLS from the first byte, where the alias wants it. Other
// engines agree on TLS later, after a knock has ended.
func (c *call) listenerTLS(chain *address.Chain, one address.Candidate) (*tlsrule.Plan, *finding.Finding) {
	rule := tlsrule.Rule(chain.Text(key.TLS))
	spec := c.Engines.ByWord(chain.Text(key.Engine))
	if spec == nil || spec.Listener == nil || rule != tlsrule.Required && rule != tlsrule.Verified {
		return nil, nil
	}
	path := func(k string) string {
		e, link, ok := chain.OwnValue(key.Name(k))
		if !ok {
			return ""
		}
		return e.Field.AbsolutePath(e.Value.Text(), filepath.Dir(link.Path()), c.Environment().Home)
	}
	plan, found := tlsrule.Load(context.Background(), tlsrule.Settings{
		Profile: chain.Links[0].FullName(),
		Rule:    rule,
		CA:      path("tls-ca"),
		Cert:    path("tls-cert"),
		Key:     path("tls-key"),
	})
	if found != nil {
		return nil, found
	}
	plan.Name, plan.NameKey = chain.Text(key.TLSName), "tls-name"
	if plan.Name == "" {
		plan.Name, plan.NameKey = one.CertificateName(), "addresses"
	}
	return plan, nil
}

func (c *call) knockTable(chain *address.Chain, knocks []alias.Knock) error {
	var rows [][]string
	made := 0
	for _, k := range knocks {
		made += k.Knocks
		row := []string{k.Address, "-", "-", "-"}
		if k.Answers {
			row[1] = k.Engine
			if row[1] == "" {
				row[1] = k.What
			}
			row[2] = fmt.Sprintf("%.2f / %.2f / %.2f ms", k.Min, k.Median, k.Max)
			if k.Service != "" {
				row[3] = strings.TrimSpace(k.Service + " " + k.Said)
			}
		}
		rows = append(rows, row)
	}
	service := "service"
	if name := chain.Text(key.Service) + chain.Text(key.Instance); name != "" {
		service = clean.Line(name, 40)
	}
	if err := render.Table(c.Stdout, c.NoColour,
		[]string{"address", "answers", "round trip: shortest / median / longest", service}, rows); err != nil {
		return err
	}
	report := render.NewReport(c.Stdout, c.NoColour)
	for _, k := range knocks {
		if k.Finding != nil {
			fmt.Fprintf(c.Stdout, "\n%s  %s\n", k.Address, k.Finding.Code)
			report.Finding(2, k.Finding)
		}
	}
	if made == 0 {
		return nil
	}
	if slices.ContainsFunc(knocks, func(k alias.Knock) bool { return k.Finding != nil }) {
		fmt.Fprintln(c.Stdout)
	}
	c.Say("%d %s made, without a login; a server may count each as a failed one", made,
		wording.Plural(made, "connection was", "connections were"))
	return nil
}
