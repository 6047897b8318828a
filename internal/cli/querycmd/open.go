package querycmd

import (
	"context"
	"slices"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/testcmd"
	"gentleharbor/internal/render"
)

// connectFlags are the flags of how to connect.
type connectFlags struct {
	over     base.Overrides
	database string
	ignore   bool // expectations
	writes   bool // the session is to change something
	timeout  time.Duration

	warned func(*finding.Finding) // gets a warning; nil to show it as a notice
}

func (o *connectFlags) flags(fs *base.FlagSet) {
	o.over.Flag(fs)
	fs.StringVar(&o.database, "database", "", "another database than the profile's")
	fs.BoolVar(&o.ignore, "ignore-expectations", false, "go on if the profile's expectations are not met")
	fs.DurationVar(&o.timeout, "timeout", check.DefaultTimeout, "for connecting")
}

// open tests a profile, and keeps the connection for statements. The caller closes it.
func (c *call) open(ctx context.Context, p *resolve.Profile, o connectFlags) (*check.Session, error) {
	runner, err := testcmd.NewCall(c.Call).Runner(o.timeout)
	if err != nil {
		return nil, err
	}
	runner.Writes = o.writes
	over, err := c.overrides(o)
	if err != nil {
		return nil, err
	}
	opened := runner.Open(ctx, p)
	testcmd.NewCall(c.Call).FollowReports(base.FollowUp{Over: over}, opened.Report)
	if err := c.judge(p, opened, o); err != nil {
		opened.Close()
		return nil, err
	}
	return opened, nil
}

// overrides are the flags' values in place of the profile's.
func (c *call) overrides(o connectFlags) (base.Overrides, error) {
	if o.database == "" {
		return o.over, nil
	}
	field := c.Keys.Field(key.Database)
	value, err := field.ParseValue(o.database)
	if err != nil {
		return nil, base.Usage("-%w", err)
	}
	return append(slices.Clone(o.over), schema.Override{Field: field, Value: value}), nil
}

// profile is the profile with the flags' overrides.
func (c *call) profile(name string, o connectFlags) (*resolve.Profile, error) {
	over, err := c.overrides(o)
	if err != nil {
		return nil, err
	}
	plain, err := c.Resolve(name, nil)
	if err != nil {
		return nil, err
	}
	p, err := c.Resolve(name, over)
	if err != nil {
		return nil, err
	}
	if rank(p.Text(key.Guard)) < rank(plain.Text(key.Guard)) {
		return nil, base.Usage("-override guard: it must be at least as strict as the profile's (%s)",
			plain.Text(key.Guard))
	}
	if p.Engine() != nil && p.Engine().Statements == nil {
		return nil, base.Usage("this version runs no statements on %s", p.Engine().Word)
	}
	return p, nil
}

// rank is how much a guard asks for.
func rank(guard string) int { return map[string]int{"ask": 1, "read-only": 2}[guard] }

// Judge returns why statements can't be run on a connection, nil where they can. It shows a report that failed; warn
// gets a warning, and where it is nil a notice shows it.
func Judge(c *base.Call, p *resolve.Profile, opened *check.Session, warn func(*finding.Finding)) error {
	return (&call{c}).judge(p, opened, connectFlags{warned: warn})
}

// judge returns why statements can't be run on a connection, nil where they can.
func (c *call) judge(p *resolve.Profile, opened *check.Session, o connectFlags) error {
	c.Remember(context.Background(), []*resolve.Profile{p}, []*check.Report{opened.Report})
	first, some := opened.Report.First()
	if opened.Report.Interrupted {
		return context.Canceled
	}
	if opened.Runner != nil && (!some || first.Outcome != "fail" || o.ignore && first.Finding.Code != "expect.server") {
		if some && first.Outcome != "fail" {
			warn := o.warned
			if warn == nil {
				warn = func(f *finding.Finding) { c.Notice("%s (%s)", f.Cause, f.Code) }
			}
			warn(first.Finding)
		}
		return nil
	}
	if !some || first.Outcome != "fail" {
		return base.Usage("this version runs no statements on %s", p.Engine().Word)
	}
	text := render.NewReport(c.Stderr, c.NoColour)
	text.Show(p.Called, testcmd.Headline(p), opened.Report)
	code := base.ExitServer
	signedOut := first.Finding.Is(finding.CloudNotSignedIn, finding.CloudSignInExpired) && p.Text(key.Secret) == "cloud"
	switch {
	case first.Stage == "profile":
		code = base.ExitFile
	case first.Stage == "secret" || signedOut:
		code = base.ExitSecret
	case first.Stage == "expect":
		code = base.ExitFailed
	}
	return base.Failure(code, nil)
}
