package testcmd

import (
	"context"
	"errors"
	"runtime/debug"
	"slices"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/lastseen"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

// TestOptions are the flags of test.
type TestOptions struct {
	chosen   base.Selection
	parallel int
	timeout  time.Duration
	over     base.Overrides
	as       string
	Form     base.Format
	brief    bool
	full     bool
	quiet    bool
	strict   bool

	target *target // what is tested in place of a profile, nil for a profile
	keep   string  // the command that keeps it as one
}

func Test() *base.Command {
	var o TestOptions
	return &base.Command{
		Name: "test", Args: "NAME…", Summary: "connect step by step, and say where it stops and why",
		Long: `NAME is a profile. A URL or HOST:PORT with -engine is tested without one.

The test has eleven stages on one connection: profile, secret, route, name, reach, speak,
tls, login, database, session, expect; and one for each hop, after route. The first that
fails ends the test; gharbor explain CODE says more. The password is read only when the
server asks for it.

Several names, -tag, -engine or -all test many profiles at once: first those that fail,
then a table of all. Passwords that you must type are asked for first. Exit 0 when no
stage failed, else 1.`,
		Examples: []string{"gharbor test sightings", "gharbor test sightings -override tls=verified -timeout 3s",
			"gharbor test sightings -as sightings-admin",
			"gharbor test sightings moult tides", "gharbor test -tag local -strict", "gharbor test -all -format junit"},
		MaxArgs: -1,
		Flags: func(fs *base.FlagSet) {
			o.chosen.Flags(fs, true)
			fs.IntVar(&o.parallel, "parallel", check.DefaultParallel, "how many profiles to test at once")
			fs.DurationVar(&o.timeout, "timeout", check.DefaultTimeout,
				"time limit of each test, without the time of questions")
			o.over.Flag(fs)
			fs.StringVar(&o.as, "as", "", "an administrator's profile that finds out why a login is refused")
			fs.BoolVar(&o.brief, "brief", false, "one line for each profile")
			fs.BoolVar(&o.full, "full", false, "cut nothing: long details, and everything that was seen")
			fs.BoolVar(&o.quiet, "quiet", false, "one line for each profile that fails, and no progress")
			fs.BoolVar(&o.strict, "strict", false, "a warning is a failure too")
			o.Form.Flag(fs, "junit")
		},
		Run: run(func(ctx context.Context, c *Call) error {
			switch {
			case o.brief && o.full, o.brief && o.quiet, o.full && o.quiet:
				return base.Usage("give one of -brief, -full and -quiet")
			case (o.brief || o.full) && !o.Form.Text():
				return base.Usage("-brief and -full are for -format text")
			case o.timeout <= 0:
				return base.Usage("-timeout: expected a time above zero, such as 10s")
			case o.parallel < 1 || o.parallel > 1000:
				return base.Usage("-parallel: expected a number from 1 to 1000")
			case o.as != "" && (o.chosen.Used() || len(c.Args) > 1):
				return base.Usage("-as is for one profile: give one name")
			}
			t, err := c.onlyTarget(o.chosen.Engine)
			if err != nil {
				return err
			}
			var profiles []*resolve.Profile
			if t == nil {
				profiles, err = c.Choose(o.chosen, o.over)
			}
			if err != nil {
				return err
			}
			runner, err := c.Runner(o.timeout)
			if err != nil {
				return err
			}
			if o.as != "" {
				if runner.Admin, err = c.Resolve(o.as, nil); err != nil {
					return base.Usage("-as: %w", err)
				}
			}
			if t != nil {
				return c.testTarget(ctx, runner, t, o)
			}
			if len(profiles) == 1 && !o.chosen.Used() {
				return c.TestOne(ctx, runner, profiles[0], o)
			}
			return c.testMany(ctx, runner, profiles, o)
		}),
	}
}

// Runner makes a test's runner, with what it needs from the machine and the person.
func (c *Call) Runner(timeout time.Duration) (*check.Runner, error) {
	finder, err := c.Finder()
	if err != nil {
		return nil, err
	}
	places, err := c.HopPlaces()
	if err != nil {
		return nil, err
	}
	rotations, err := c.Rotations()
	return &check.Runner{
		Hops:          places,
		Network:       c.Network(),
		Places:        nearby.Machine(c.Engines),
		Timeout:       timeout,
		Finder:        finder,
		Administrator: c.AdministratorOf,
		Rotating:      rotations.Has,
	}, err
}

// AdministratorOf is the first profile with the same server whose user has all rights, by the user's name or by the
// last login; "" for none.
func (c *Call) AdministratorOf(p *resolve.Profile) string {
	file, err := c.Load()
	if err != nil {
		return ""
	}
	seen := c.LastSeen().All()
	for _, one := range file.All() {
		o := resolve.Resolve(file, one, nil, c.Environment())
		if o.Called == p.Called || o.Problem() != nil || o.Engine() == nil || !o.Own() {
			continue
		}
		last := seen[lastseen.Key(o)]
		shown := last.Superuser && last.User == o.Text(key.User)
		may := shown || slices.Contains(o.Engine().Accounts.Administrators, o.Text(key.User))
		if may && c.sameServer(o, p) {
			return o.Called
		}
	}
	return ""
}

// sameServer reports whether two profiles name the same server: by the same values or, on this machine, in two ways.
// It asks nothing outside, as a finding waits for it.
func (c *Call) sameServer(a, b *resolve.Profile) bool {
	if !a.Schema().Engines().SameFamily(a.Text(key.Engine), b.Text(key.Engine)) || !slices.Equal(a.HopWords(),
		b.HopWords()) {
		return false
	}
	if address.Written(a, b) {
		return true
	}
	if !a.Local() || !b.Local() || a.BehindHops() || a.Address().Asked || b.Address().Asked {
		return false
	}
	same, _ := (&check.Runner{Network: c.Network()}).SameServer(context.Background(), a, b)
	return same == check.SameInstance
}

// Report tests a profile as test does, and returns the report too.
func (c *Call) Report(ctx context.Context, runner *check.Runner, p *resolve.Profile) (*check.Report, error) {
	return c.testOne(ctx, runner, p, TestOptions{Form: "text"})
}

// TestOne tests a profile and shows each stage as it ends.
func (c *Call) TestOne(ctx context.Context, runner *check.Runner, p *resolve.Profile, o TestOptions) error {
	_, err := c.testOne(ctx, runner, p, o)
	return err
}

func (c *Call) testOne(ctx context.Context, runner *check.Runner, p *resolve.Profile,
	o TestOptions) (*check.Report, error) {
	text := render.NewReport(c.Stdout, c.NoColour)
	text.Full = o.full
	live := o.Form.Text() && !o.quiet && !o.brief
	runner.Progress = func(s check.Stage) {
		c.Log.Debug("stage", "name", s.Stage, "outcome", string(s.Outcome), "ms", s.MS)
		if live {
			text.Stage(s)
		}
	}
	if live {
		name := p.Called
		if o.target != nil {
			name = o.target.word
		}
		text.Head(name, Headline(p))
	}
	report := runner.Run(ctx, p)
	c.follow(o, report)
	if o.target == nil {
		c.Remember(ctx, []*resolve.Profile{p}, []*check.Report{report})
	} else {
		report.Profile = o.target.word
	}
	if !live {
		took := time.Duration(report.MS * float64(time.Millisecond))
		return report, c.showReports([]*check.Report{report}, nil, took, o)
	}
	text.End(report)
	first, _ := report.First()
	if o.keep != "" && first.Stage != "profile" && !report.Interrupted {
		text.Follows("keep it: ", o.keep)
	} else if report.Outcome != finding.Fail && render.IsTerminal(c.Stdout) {
		text.Next(p.Called, report.Facts.SecretTyped)
	}
	return report, verdictError([]*check.Report{report}, o.strict)
}

// follow adds the flags of this run to the commands to try.
func (c *Call) follow(o TestOptions, reports ...*check.Report) {
	run := base.FollowUp{Over: o.over, As: o.as}
	if o.target != nil {
		run.Target = o.target.word
	}
	if c.Set["timeout"] {
		run.Timeout = o.timeout
	}
	c.FollowReports(run, reports...)
}

// FollowReports adds the flags of the run to the commands to try of its reports.
func (c *Call) FollowReports(run base.FollowUp, reports ...*check.Report) {
	for _, r := range reports {
		for _, s := range r.Stages {
			c.Follow(run, r.Profile, s.Finding)
		}
	}
}

// testMany tests profiles side by side.
func (c *Call) testMany(ctx context.Context, runner *check.Runner, profiles []*resolve.Profile, o TestOptions) error {
	c.ExpectClouds(profiles, true)
	if err := promptFirst(ctx, runner, profiles); err != nil {
		return err
	}
	screen := c.Stderr
	if o.quiet {
		screen = nil
	}

	progress := render.NewProgress(screen, len(profiles))
	debug.SetGCPercent(400) // hundreds of short tests leave garbage of a few megabytes: collecting it costs more
	start := time.Now()
	reports := runner.Many(ctx, profiles, o.parallel, check.Watch{Begin: progress.Begin, End: func(r *check.Report) {
		c.Log.Debug("tested", "profile", r.Profile, "outcome", string(r.Outcome), "ms", r.MS)
		progress.End(r.Profile)
	}})
	progress.Clear()
	c.follow(o, reports...)
	c.Remember(ctx, profiles, reports)
	return c.showReports(reports, profiles, time.Since(start), o)
}

// promptFirst asks for the passwords that a person must type.
func promptFirst(ctx context.Context, runner *check.Runner, profiles []*resolve.Profile) error {
	err := runner.PromptFirst(ctx, profiles)
	if err != nil && ctx.Err() != nil {
		return base.Failure(base.ExitInterrupted, errors.New("stopped"))
	}
	return err
}

// showReports writes reports in the form of -format. profiles are those of a run of many, nil for one.
func (c *Call) showReports(reports []*check.Report, profiles []*resolve.Profile, took time.Duration,
	o TestOptions) error {
	var err error
	text := render.NewReport(c.Stdout, c.NoColour)
	text.Full = o.full
	switch {
	case o.Form.JSON():
		err = render.JSON(c.Stdout, map[string]any{
			"format":   1,
			"profiles": reports,
			"summary":  check.Summarise(reports, took),
		})
	case o.Form == "junit":
		err = render.JUnit(c.Stdout, reports, took, o.strict)
	case o.quiet, o.brief:
		text.Brief(reports, o.strict, o.quiet)
	default:
		targets := make([]render.Target, len(reports))
		for i, p := range profiles {
			targets[i] = leadsTo(p)
		}
		err = text.Many(reports, targets, check.Summarise(reports, took), o.strict)
	}
	if err != nil {
		return err
	}
	return verdictError(reports, o.strict)
}

// verdictError is the exit code of reports.
func verdictError(reports []*check.Report, strict bool) error {
	code := base.ExitOK
	for _, r := range reports {
		switch {
		case r.Interrupted:
			return base.Failure(base.ExitInterrupted, nil)
		case r.Failed(strict):
			code = base.ExitFailed
		}
	}
	if code != base.ExitOK {
		return base.Failure(code, nil)
	}
	return nil
}

func Headline(p *resolve.Profile) string { return leadsTo(p).String() }

func leadsTo(p *resolve.Profile) render.Target {
	return render.Target{Engine: p.Text(key.Engine), Where: clean.Line(wording.Address(p), 120)}
}
