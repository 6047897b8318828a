package cloudcmd

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/cloud"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// The bounds of a rule's life.
const (
	usualRule   = 30 * time.Minute
	longestRule = 30 * 24 * time.Hour
)

// allowOptions are the flags of cloud allow.
type allowOptions struct {
	from     netip.Prefix
	lifetime time.Duration
	within   time.Duration
	note     string
	list     bool
	form     base.Format
}

func allow() *base.Command {
	var o allowOptions
	return &base.Command{
		Name: "cloud allow", Args: "NAME", Summary: "let this machine in to an instance's network, for a time",
		Long: `Without -address the rule is for the address from which the service sees this machine.
Waits until the rule is in force. A rule that is there already is enough; with -lifetime,
if it lasts as long. NAME is a profile or ACCOUNT/INSTANCE[/BRANCH].`,
		Examples: []string{"gharbor cloud allow members", "gharbor cloud allow members -lifetime 2h",
			"gharbor cloud allow members -address 203.0.113.7", "gharbor cloud allow members -list"},
		MinArgs: 1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			fs.Func("address", "the IP address or range to let in, such as 203.0.113.7 or 203.0.113.0/24",
				func(s string) (err error) {
					o.from, err = prefixOf(s)
					return err
				})
			fs.DurationVar(&o.lifetime, "lifetime", 0, "for how long, at most 720h; 30m where this is not said")
			fs.DurationVar(&o.within, "within", usualWithin, "how long to wait until it is in force")
			fs.StringVar(&o.note, "note", "", "a note for others who see the rule")
			fs.BoolVar(&o.list, "list", false, "list the rules that there are, and change nothing")
			o.form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *call) error { return c.allow(ctx, o) }),
	}
}

// prefixOf reads an address, which is a range of one, or a range.
func prefixOf(s string) (netip.Prefix, error) {
	if addr, err := netip.ParseAddr(s); err == nil && addr.Zone() == "" {
		return netip.PrefixFrom(addr.Unmap(), addr.Unmap().BitLen()), nil
	}
	prefix, err := netip.ParsePrefix(s)
	if err != nil {
		return prefix, fmt.Errorf("expected an IP address or a range such as 203.0.113.0/24")
	}
	return prefix.Masked(), nil
}

func (c *call) allow(ctx context.Context, o allowOptions) error {
	if o.lifetime != 0 && o.lifetime < time.Second || o.lifetime > longestRule {
		return base.Usage("-lifetime: expected a time from 1s to 720h")
	}
	if o.form.JSON() && !o.list {
		return base.Usage("-format json goes with -list")
	}
	if !c.plainNote(o.note) {
		return base.Usage("-note: expected one line of at most 200 characters")
	}
	s, about, err := c.instance(c.Args[0])
	if err != nil {
		return err
	}
	rules, found := s.Rules(ctx, about)
	if found != nil {
		return findingError(ctx, found)
	}
	if o.list {
		return c.showRules(about, rules, o.form)
	}
	account, _, found := s.ReadAccount(ctx)
	if found != nil {
		return findingError(ctx, found)
	}
	if account.Address != "" {
		c.Say("the service sees this machine as %s", account.Address)
	}
	from := o.from
	if !from.IsValid() {
		if from, err = prefixOf(account.Address); err != nil {
			return base.Failure(base.ExitUsage, fmt.Errorf("the service does not say from which address it sees this machine"),
				c.CommandWith("address", "203.0.113.7"))
		}
	}
	if have := covering(rules, from, time.Now().Add(cmp.Or(o.lifetime, time.Minute))); have != nil {
		c.Say("a rule lets %s in already%s%s", from, ruleOwner(have), untilText(have))
		if have.State == wire.InForce {
			return c.nextOf(about)
		}
		return c.untilInForce(ctx, s, about, have, o.within)
	}
	rule, found := s.Allow(ctx, about, from, cmp.Or(o.lifetime, usualRule), o.note)
	if found != nil {
		return findingError(ctx, found)
	}
	c.Say("allowed: %s to %s%s (rule %s)", rule.Range, describeRef(about.Ref), untilText(rule), rule.ID)
	if rule.State == wire.InForce {
		return c.nextOf(about)
	}
	return c.untilInForce(ctx, s, about, rule, o.within)
}

// plainNote reports whether a note is one line that a service takes.
func (c *call) plainNote(note string) bool { return clean.Line(note, 0) == note && len(note) <= 200 }

// covering is a rule that lets a range in until then, preferably one in force; nil for none.
func covering(rules []wire.Rule, from netip.Prefix, then time.Time) (have *wire.Rule) {
	for i := range rules {
		wide, err := netip.ParsePrefix(rules[i].Range)
		if err != nil || wide.Bits() > from.Bits() || !wide.Contains(from.Addr()) ||
			!rules[i].Until.IsZero() && rules[i].Until.Before(then) {
			continue
		}
		if have == nil || have.State != wire.InForce {
			have = &rules[i]
		}
	}
	return have
}

func ruleOwner(r *wire.Rule) string {
	if r.By == "" {
		return ""
	}
	return ", made by " + clean.Line(r.By, 100)
}

func untilText(r *wire.Rule) string {
	if r.Until.IsZero() {
		return ", without an end"
	}
	return ", until " + r.Until.Local().Format(time.DateTime)
}

// untilInForce waits for a rule.
func (c *call) untilInForce(ctx context.Context, s *cloud.Session, about cloud.Subject, rule *wire.Rule,
	within time.Duration) error {
	start := time.Now()
	inForce := func(ctx context.Context) (bool, *finding.Finding) {
		now, found := s.RuleNow(ctx, about, rule.ID)
		if found != nil {
			return false, found
		}
		return now.State == wire.InForce, nil
	}
	if err := c.waitUntil(ctx, "waiting for the rule to be in force", within, inForce); err != nil {
		return err
	}
	c.Say("the rule is in force, after %s", timeSince(start))
	return c.nextOf(about)
}

// nextOf says what comes after the way is open.
func (c *call) nextOf(about cloud.Subject) error {
	if about.Profile != "" {
		c.Say("  try: gharbor test %s", about.Profile)
	}
	return nil
}

// showRules lists rules.
func (c *call) showRules(about cloud.Subject, rules []wire.Rule, form base.Format) error {
	if form.JSON() {
		if rules == nil {
			rules = []wire.Rule{}
		}
		for i := range rules {
			rules[i].By, rules[i].Note = clean.Line(rules[i].By, 200), clean.Line(rules[i].Note, 200)
		}
		return render.JSON(c.Stdout, map[string]any{"format": 1, "instance": about.Ref.String(), "rules": rules})
	}
	if len(rules) == 0 {
		c.Say("no rule lets anybody in to %s", describeRef(about.Ref))
		return nil
	}
	var rows [][]string
	for _, r := range rules {
		end := "no end"
		if !r.Until.IsZero() {
			end = r.Until.Local().Format(time.DateTime)
		}
		rows = append(rows, []string{r.ID, r.Range, string(r.State), end, clean.Line(r.By, 100), clean.Line(r.Note, 100)})
	}
	return render.Table(c.Stdout, c.NoColour, []string{"rule", "range", "state", "until", "by", "note"}, rows)
}

func disallow() *base.Command {
	return &base.Command{
		Name: "cloud disallow", Args: "NAME [RULE]", Summary: "remove a rule of an instance's network",
		Long: `Without RULE, it removes the rules for just the address from which the service sees this
machine. Open connections may stay open.`,
		Examples: []string{"gharbor cloud disallow members"},
		MinArgs:  1, MaxArgs: 2,
		Run: run(func(ctx context.Context, c *call) error {
			s, about, err := c.instance(c.Args[0])
			if err != nil {
				return err
			}
			ids, err := c.rulesToRemove(ctx, s, about)
			if err != nil {
				return err
			}
			for _, id := range ids {
				if found := s.Disallow(ctx, about, id); found != nil {
					if found.Is(finding.CloudUnknownInstance) {
						found.Cause = fmt.Sprintf("%s has no rule of that name", describeRef(about.Ref))
						found.Try = []string{"gharbor cloud allow " + about.Word() + " -list"}
					}
					return findingError(ctx, found)
				}
				c.Say("disallowed: rule %s of %s", id, describeRef(about.Ref))
			}
			return nil
		}),
	}
}

// rulesToRemove are the rules that disallow takes away.
func (c *call) rulesToRemove(ctx context.Context, s *cloud.Session, about cloud.Subject) (ids []string, err error) {
	if len(c.Args) > 1 {
		if !cloudref.ValidName(c.Args[1]) {
			return nil, base.Usage("not the name of a rule; gharbor cloud allow %s -list shows them", about.Word())
		}
		return []string{c.Args[1]}, nil
	}
	account, _, found := s.ReadAccount(ctx)
	if found != nil {
		return nil, findingError(ctx, found)
	}
	own, err := prefixOf(account.Address)
	if err != nil {
		return nil, base.Failure(base.ExitUsage,
			fmt.Errorf("the service does not say from which address it sees this machine"),
			"gharbor cloud allow "+about.Word()+" -list   # name the rule")
	}
	rules, found := s.Rules(ctx, about)
	if found != nil {
		return nil, findingError(ctx, found)
	}
	for _, r := range rules {
		if r.Range == own.String() {
			ids = append(ids, r.ID)
		}
	}
	if len(ids) == 0 {
		wider := ""
		if slices.ContainsFunc(rules, func(r wire.Rule) bool { return covering([]wire.Rule{r}, own, time.Now()) != nil }) {
			wider = "; a wider one lets it in"
		}
		return nil, base.Failure(base.ExitUsage, fmt.Errorf("no rule is for only %s%s", own.Addr(), wider),
			"gharbor cloud allow "+about.Word()+" -list")
	}
	return ids, nil
}
