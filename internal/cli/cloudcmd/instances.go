package cloudcmd

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/address"
	measured "gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/cloud"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/finding"
	"gentleharbor/core/intake"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/profilecmd"
	"gentleharbor/internal/render"
)

func instances() *base.Command {
	var form base.Format
	return &base.Command{
		Name: "cloud instances", Args: "NAME [PART]", Summary: "list the instances and branches of a cloud account",
		Long: `PART limits the list to names that contain it. The column login says which short-lived
logins the service makes, the column network whether a rule lets this machine in.`,
		Examples: []string{"gharbor cloud instances station", "gharbor cloud instances station estuary",
			"gharbor cloud instances station -format json"},
		MinArgs: 1, MaxArgs: 2,
		Flags: func(fs *base.FlagSet) { form.Flag(fs) },
		Run:   run(func(ctx context.Context, c *call) error { return c.instances(ctx, form) }),
	}
}

// listedInstance is an instance or a branch in `cloud instances -format json`.
type listedInstance struct {
	Instance string `json:"instance"`
	Branch   string `json:"branch,omitempty"`
	Engine   string `json:"engine"`
	Version  string `json:"version,omitempty"`
	Region   string `json:"region,omitempty"`
	wire.Place
	Profiles []string `json:"profiles"`
}

func (c *call) instances(ctx context.Context, form base.Format) error {
	s, err := c.CloudSession(c.Args[0])
	if err != nil {
		return err
	}
	part := ""
	if len(c.Args) > 1 {
		part = c.Args[1]
	}
	used, err := c.profilesOf(s.Called)
	if err != nil {
		return err
	}
	all := []listedInstance{}
	add := func(i *wire.Instance, branch string, p wire.Place) {
		ref := cloudref.Ref{Instance: i.Name, Branch: branch}
		one := listedInstance{Instance: i.Name, Branch: branch, Engine: clean.Line(i.Engine, 60),
			Version: clean.Line(i.Version, 60), Region: clean.Line(i.Region, 60), Place: p, Profiles: used[ref.Within()]}
		if one.Profiles == nil {
			one.Profiles = []string{}
		}
		all = append(all, one)
	}
	done := c.progress("asking for the instances")
	found := s.Instances(ctx, nil, func(i *wire.Instance) bool {
		if !strings.Contains(i.Name, part) {
			return true
		}
		add(i, "", i.Place)
		for _, b := range i.Branches {
			add(i, b.Name, b.Place)
		}
		return true
	})
	done()
	if found != nil {
		return findingError(ctx, found)
	}
	if form.JSON() {
		return render.JSON(c.Stdout, map[string]any{"format": 1, "account": s.Called, "instances": all})
	}
	if len(all) == 0 {
		c.Say("no instances")
		return nil
	}
	if err := c.instanceTable(all); err != nil {
		return err
	}
	if i := slices.IndexFunc(all, func(one listedInstance) bool { return len(one.Profiles) == 0 }); i >= 0 {
		ref := cloudref.Ref{Account: s.Called, Instance: all[i].Instance, Branch: all[i].Branch}
		c.Say("  try: gharbor cloud adopt %s   # makes a profile of it", ref)
	}
	return nil
}

// instanceTable shows instances, without columns in which no row has a value.
func (c *call) instanceTable(all []listedInstance) error {
	headings := []string{"instance", "engine", "region", "state", "network", "login", "features", "profiles"}
	var rows [][]string
	for _, one := range all {
		name := one.Instance
		if one.Branch != "" {
			name += "/" + one.Branch
		}
		rows = append(rows, []string{name, strings.TrimSpace(one.Engine + " " + one.Version), one.Region, string(one.State),
			network(one.Place), string(one.Login), featureWords(one.Features), strings.Join(one.Profiles, " ")})
	}
	for at := len(headings) - 1; at > 0; at-- {
		if !slices.ContainsFunc(rows, func(row []string) bool { return row[at] != "" }) {
			headings = slices.Delete(headings, at, at+1)
			for i := range rows {
				rows[i] = slices.Delete(rows[i], at, at+1)
			}
		}
	}
	for i := range rows {
		for at := range rows[i] {
			rows[i][at] = cmp.Or(rows[i][at], "-")
		}
	}
	return render.Table(c.Stdout, c.NoColour, headings, rows)
}

// network says from where an instance can be reached.
func network(p wire.Place) string {
	var kinds []string
	for _, a := range p.Addresses {
		if !slices.Contains(kinds, string(a.Kind)) {
			kinds = append(kinds, string(a.Kind))
		}
	}
	text := strings.Join(kinds, ", ")
	if p.Access == nil {
		return text
	}
	state := map[wire.RuleState]string{wire.NoRule: "no rule for you", wire.Pending: "rule pending",
		wire.InForce: "rule in force"}[p.Access.Rule]
	return strings.TrimPrefix(text+", "+state, ", ")
}

// featureWords are features, each with whether it is on.
func featureWords(all []wire.Feature) string {
	var words []string
	for _, f := range all {
		words = append(words, f.Name+" "+onOff(f.On))
	}
	return strings.Join(words, ", ")
}

// profilesOf are the profiles of an account's instances, by instance.
func (c *call) profilesOf(account string) (map[string][]string, error) {
	file, err := c.Load()
	if err != nil {
		return nil, err
	}
	env := c.Environment()
	used := make(map[string][]string)
	for _, p := range file.All() {
		r := resolve.Resolve(file, p, nil, env)
		if !r.Address().InCloud() {
			continue
		}
		ref := address.CloudOf(r)
		if one := file.FindCloud(ref.Account); one != nil && one.FullName() == account {
			used[ref.Within()] = append(used[ref.Within()], r.Called)
		}
	}
	return used, nil
}

func adopt() *base.Command {
	var test bool
	return &base.Command{
		Name: "cloud adopt", Args: "ACCOUNT/INSTANCE[/BRANCH] [PROFILE]", Summary: "add a profile for a cloud instance",
		Long: `Engine and database come from the service. Where it makes logins that last minutes, the
profile says secret = "cloud". Without PROFILE the profile has the instance's name, and
the branch's behind it.`,
		Examples: []string{"gharbor cloud adopt station/estuary-committee minutes",
			"gharbor cloud adopt station/estuary-members/renewals"},
		MinArgs: 1, MaxArgs: 2,
		Flags: func(fs *base.FlagSet) { fs.BoolVar(&test, "test", false, "test the profile after saving it") },
		Run:   run(func(ctx context.Context, c *call) error { return c.adopt(ctx, test) }),
	}
}

func (c *call) adopt(ctx context.Context, test bool) error {
	ref, ok := cloudref.Parse(c.Args[0])
	if !ok {
		return base.Usage("expected ACCOUNT/INSTANCE or ACCOUNT/INSTANCE/BRANCH")
	}
	name := intake.Name(strings.ReplaceAll(ref.Within(), "/", "-"))
	if len(c.Args) == 2 {
		name = c.Args[1]
	}
	if !syntax.ValidName(name) {
		return base.Usage("not a profile name: %s", syntax.NameRule)
	}
	if err := profilecmd.NewCall(c.Call).Free(base.Target{}, name); err != nil {
		return err
	}
	s, err := c.CloudSession(ref.Account)
	if err != nil {
		return err
	}
	i, place, found := s.Find(ctx, cloud.Subject{Ref: ref})
	if found != nil {
		return findingError(ctx, found)
	}
	spec := c.Engines.ByWord(strings.ToLower(i.Engine))
	if spec == nil {
		return base.Failure(base.ExitUsage, fmt.Errorf("this version does not know the engine of %s, %s", describeRef(ref),
			clean.Quote(i.Engine)))
	}
	set := func(k key.Name, text string) schema.Override {
		return schema.Override{Field: c.Keys.Field(k), Value: schema.TextValue(text)}
	}
	sets := base.Assignments{set(key.Engine, spec.Word), set(key.Cloud, ref.String())}
	if place.Database != "" {
		sets = append(sets, set(key.Database, place.Database))
	}
	if place.Login != "" {
		sets = append(sets, set(key.Secret, "cloud"))
	}
	if err := profilecmd.NewCall(c.Call).Keep(ctx, base.Target{}, name, sets); err != nil {
		return err
	}
	switch {
	case place.Login != "":
	case place.FirstPassword == wire.FirstUnset:
		c.Say("  try: gharbor cloud first-password %s   # its administrator has none yet", name)
		return nil
	default:
		c.Say("  do: name the user: gharbor set %s user=NAME (the service makes no logins)", name)
		return nil
	}
	return profilecmd.NewCall(c.Call).FirstTest(ctx, name, test)
}

func switchFeature(on bool) *base.Command {
	verb, what := "switch-off", "switch a feature of an instance or an account off"
	if on {
		verb, what = "switch-on", "switch a feature of an instance or an account on"
	}
	return &base.Command{
		Name: "cloud " + verb, Args: "NAME FEATURE", Summary: what,
		Long: `NAME is a profile, ACCOUNT/INSTANCE[/BRANCH], or an account as a whole. gharbor cloud
instances lists the features of instances, gharbor cloud who those of the account.`,
		Examples: []string{"gharbor cloud " + verb + " members remote-access",
			"gharbor cloud " + verb + " station/estuary-members remote-access"},
		MinArgs: 2, MaxArgs: 2,
		Run: run(func(ctx context.Context, c *call) error {
			feature := c.Args[1]
			if !cloudref.ValidName(feature) {
				return base.Usage("not the name of a feature: letters, digits, dots, dashes and underscores")
			}
			s, about, err := c.subject(c.Args[0])
			if err != nil {
				return err
			}
			f, found := s.Switch(ctx, about, feature, on)
			if found != nil {
				return findingError(ctx, found)
			}
			if f.On != on {
				return base.Failure(base.ExitServer, fmt.Errorf("the service says that the feature %s is still %s", feature,
					onOff(f.On)))
			}
			c.Say("switched %s: %s of %s", onOff(on), feature, describeRef(about.Ref))
			if about.Profile != "" && on {
				c.Say("  try: gharbor test %s", about.Profile)
			}
			return nil
		}),
	}
}

// usualWithin is how long a command waits for what a service does.
const usualWithin = 5 * time.Minute

func wake() *base.Command {
	within := usualWithin
	return &base.Command{
		Name: "cloud wake", Args: "NAME", Summary: "start an instance that is paused, and wait until it runs",
		Long: `It may cost money, so only this command and gharbor wait -wake do it. NAME is a profile
or ACCOUNT/INSTANCE[/BRANCH].`,
		Examples: []string{"gharbor cloud wake members", "gharbor cloud wake station/estuary-members -within 10m"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) { fs.DurationVar(&within, "within", usualWithin, "how long to wait") },
		Run: run(func(ctx context.Context, c *call) error {
			s, about, err := c.instance(c.Args[0])
			if err != nil {
				return err
			}
			_, place, found := s.Find(ctx, about)
			if found != nil {
				return findingError(ctx, found)
			}
			if place.State == wire.Running {
				c.Say("%s runs already", describeRef(about.Ref))
				return nil
			}
			if place.State != wire.Starting {
				if found := s.Wake(ctx, about); found != nil {
					return findingError(ctx, found)
				}
			}
			if err := c.untilRunning(ctx, s, about, within); err != nil {
				return err
			}
			if about.Profile != "" {
				c.Say("  try: gharbor test %s", about.Profile)
			}
			return nil
		}),
	}
}

// untilRunning waits until an instance runs.
func (c *call) untilRunning(ctx context.Context, s *cloud.Session, about cloud.Subject, within time.Duration) error {
	start := time.Now()
	var state wire.State
	err := c.waitUntil(ctx, "waiting for "+describeRef(about.Ref)+" to run", within, func(ctx context.Context) (bool,
		*finding.Finding) {
		_, place, found := s.Find(ctx, about)
		if found != nil {
			return false, found
		}
		state = place.State
		return state == wire.Running || state == wire.Failed, nil
	})
	switch {
	case err != nil:
		return err
	case state == wire.Failed:
		return base.Failure(base.ExitServer, fmt.Errorf("the service says that %s has failed", describeRef(about.Ref)))
	}
	c.Say("%s runs, after %s", describeRef(about.Ref), timeSince(start))
	return nil
}

// timeSince is the time since start, in the form of a test's times.
func timeSince(start time.Time) string {
	return measured.Duration(float64(time.Since(start)) / float64(time.Millisecond))
}

// waitUntil asks until a condition holds, and shows what it waits for.
func (c *call) waitUntil(ctx context.Context, what string, within time.Duration,
	ask func(context.Context) (bool, *finding.Finding)) error {
	const first, last = 250 * time.Millisecond, 5 * time.Second
	defer render.NewWaiting(c.Stderr, what, time.Now().Add(within)).Clear()
	bound, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	for pause := first; ; pause = min(pause*3/2, last) {
		ok, found := ask(bound)
		switch {
		case ctx.Err() != nil:
			return context.Canceled
		case bound.Err() != nil:
			return base.Failure(base.ExitServer, fmt.Errorf("%s took longer than %s", what, within),
				c.CommandWith("within", "15m"))
		case found != nil:
			return findingError(ctx, found)
		case ok:
			return nil
		}
		select {
		case <-bound.Done():
		case <-time.After(pause):
		}
	}
}
