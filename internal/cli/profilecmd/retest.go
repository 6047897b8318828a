package profilecmd

import (
	"context"

	"gentleharbor/core/check"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/testcmd"
)

// testAndCorrect tests a profile that was made by answering questions. Where the test fails, it asks again for the
// values that may be wrong, until the profile is ready or the user stops.
func (c *Call) testAndCorrect(ctx context.Context, name string) error {
	for {
		p, err := c.Resolve(name, nil)
		if err != nil {
			return err
		}
		runner, err := testcmd.NewCall(c.Call).Runner(check.DefaultTimeout)
		if err != nil {
			return err
		}
		report, err := testcmd.NewCall(c.Call).Report(ctx, runner, p)
		if err == nil || report.Interrupted {
			return err
		}
		changed, fixErr := c.fixValues(ctx, p, report)
		switch {
		case fixErr != nil:
			return fixErr
		case !changed:
			return err
		}
	}
}

// fixValues asks for other values of the keys that the finding is about, and writes them.
func (c *Call) fixValues(ctx context.Context, p *resolve.Profile, report *check.Report) (changed bool, err error) {
	stage, _ := report.First()
	page, _ := finding.PageOf(stage.Finding.Code)
	var keys []key.Name
	for _, k := range page.Blames {
		name := key.Name(k)
		if field := c.Keys.Field(name); field != nil && (!field.Address || p.Text(name) != "") {
			keys = append(keys, name)
		}
	}
	if len(keys) == 0 {
		return false, nil
	}
	c.Say("Change it and test again? Enter keeps a value; Ctrl-C ends (the profile stays).")
	var sets base.Assignments
	for _, k := range keys {
		now := p.Text(k)
		if near := stage.Finding.Values[string(k)]; len(near) > 0 {
			now = near[0]
		}
		for {
			answer, err := c.Question(ctx, string(k), now)
			if err != nil {
				return false, err
			}
			if answer == p.Text(k) || answer == "" {
				break
			}
			if err := sets.Add(c.Keys.Field(k), answer, false); err != nil {
				c.Say("  %s", err)
				continue
			}
			break
		}
	}
	if len(sets) == 0 {
		return false, nil
	}
	return true, c.Change(ctx, false, "profile", "changed", p.Called,
		func(f *profile.File) (*profile.Edit, error) { return f.Set(p.Called, sets) })
}
