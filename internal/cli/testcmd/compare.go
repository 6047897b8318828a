package testcmd

import (
	"context"
	"fmt"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

func Compare() *base.Command {
	var timeout time.Duration
	var over base.Overrides
	var form base.Format
	return &base.Command{
		Name: "compare", Args: "PROFILE PROFILE", Summary: "compare two profiles: is it the same server, and what " +
			"differs?",
		Long: `Logs in to both, and compares the servers' own identifiers and start times: same-instance,
same-lineage (a standby, a replica, a clone), different, or unknown. Then it lists the
facts that differ, and expectations that only one server meets. Exit 0 for same-instance,
1 for same-lineage and different, 6 for unknown.`,
		Examples: []string{"gharbor compare sightings sightings-ro", "gharbor compare sightings tides -format json"},
		MinArgs:  2, MaxArgs: 2,
		Flags: func(fs *base.FlagSet) {
			fs.DurationVar(&timeout, "timeout", check.DefaultTimeout, "time limit of each of the two tests")
			over.Flag(fs)
			form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *Call) error {
			if timeout <= 0 {
				return base.Usage("-timeout: expected a time above zero, such as 10s")
			}
			var two [2]*resolve.Profile
			for i, name := range c.Args {
				p, err := c.Resolve(name, over)
				if err != nil {
					return err
				}
				two[i] = p
			}
			runner, err := c.Runner(timeout)
			if err != nil {
				return err
			}
			if err := promptFirst(ctx, runner, two[:]); err != nil {
				return err
			}
			result := runner.Compare(ctx, two[0], two[1])
			if err := c.showComparison(result, two, form); err != nil {
				return err
			}
			switch {
			case result.A.Interrupted || result.B.Interrupted:
				return base.Failure(base.ExitInterrupted, nil)
			case result.Verdict == check.Unknown:
				return base.Failure(base.ExitUnknown, nil)
			case result.Verdict != check.SameInstance:
				return base.Failure(base.ExitFailed, nil)
			}
			return nil
		}),
	}
}

func (c *Call) showComparison(result *check.Comparison, two [2]*resolve.Profile, form base.Format) error {
	if form.JSON() {
		return render.JSON(c.Stdout, struct {
			Format int `json:"format"`
			*check.Comparison
		}{1, result})
	}
	text := render.NewReport(c.Stdout, c.NoColour)
	for i, r := range []*check.Report{result.A, result.B} {
		text.HeadIn(max(len(result.A.Profile), len(result.B.Profile)), r.Profile, Headline(two[i]))
		for _, s := range r.Stages {
			if s.Outcome == finding.Fail {
				text.WriteStage(s)
			}
		}
	}
	outcome := map[check.Kinship]finding.Outcome{
		check.SameInstance: finding.OK,
		check.SameLineage:  finding.Warn,
		check.Different:    finding.Fail,
		check.Unknown:      finding.Warn,
	}[result.Verdict]
	fmt.Fprintln(c.Stdout)
	text.Conclusion(outcome, string(result.Verdict), result.Why)
	var facts, expectations [][]string
	for _, d := range result.Differs {
		facts = append(facts, []string{d.Fact, orUnknown(d.A), orUnknown(d.B)})
	}
	for _, e := range result.Expectations {
		expectations = append(expectations,
			[]string{e.Key + " " + e.Want, e.Of, holds(e.OnA, e.HaveA), holds(e.OnB, e.HaveB)})
	}
	fmt.Fprintln(c.Stdout)
	if len(facts) == 0 {
		fmt.Fprintln(c.Stdout, "no fact differs")
	} else if err := render.Table(c.Stdout, c.NoColour, []string{"what differs", result.A.Profile, result.B.Profile},
		facts); err != nil {
		return err
	}
	if len(expectations) == 0 {
		return nil
	}
	fmt.Fprintln(c.Stdout)
	return render.Table(c.Stdout, c.NoColour,
		[]string{"holds on one only", "expected by", result.A.Profile, result.B.Profile}, expectations)
}

func orUnknown(value string) string {
	if value == "" {
		return "not known"
	}
	if runes := []rune(value); len(runes) > 60 {
		return string(runes[:59]) + "…"
	}
	return value
}

func holds(yes bool, found string) string {
	if yes {
		return "holds"
	}
	return "no: " + found
}
