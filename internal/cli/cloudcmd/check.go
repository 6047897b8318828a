package cloudcmd

import (
	"context"
	"fmt"

	"gentleharbor/core/clean"
	"gentleharbor/core/cloud"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

func check() *base.Command {
	var form base.Format
	var instance string
	return &base.Command{
		Name: "cloud check", Args: "NAME", Summary: "try a service or a script on every part of its interface",
		Long: `For authors of an instance service, or of a program in its place: tries each part of the
interface, and lists each fault. It changes nothing, except with -change: then it makes
and removes a rule for a documentation address, sets a feature to its present value, and
makes a login, all of that one instance. Exit 1 when a part fails.`,
		Examples: []string{"gharbor cloud check station", "gharbor cloud check station -change estuary-members",
			"gharbor cloud check station -format json"},
		MinArgs: 1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			fs.StringVar(&instance, "change", "", "also try what changes something, of this instance: INSTANCE[/BRANCH]")
			form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *call) error {
			s, err := c.CloudSession(c.Args[0])
			if err != nil {
				return err
			}
			ref := cloudref.Ref{}
			if instance != "" {
				var ok bool
				if ref, ok = cloudref.Parse(c.Args[0] + "/" + instance); !ok {
					return base.Usage("-change: expected INSTANCE or INSTANCE/BRANCH")
				}
			}
			return c.conform(ctx, s, ref, form)
		}),
	}
}

func (c *call) conform(ctx context.Context, s *cloud.Session, ref cloudref.Ref, form base.Format) error {
	all := []cloud.Check{}
	count := make(map[finding.Outcome]int)
	done := c.progress("trying the interface")
	s.Conform(ctx, ref, func(one cloud.Check) {
		one.Detail = clean.Line(one.Detail, 300)
		all = append(all, one)
		count[one.Outcome]++
	})
	done()
	switch {
	case ctx.Err() != nil:
		return context.Canceled
	case form.JSON():
		if err := render.JSON(c.Stdout, map[string]any{"format": 1, "account": s.Called, "checks": all}); err != nil {
			return err
		}
	default:
		var rows [][]string
		for _, one := range all {
			rows = append(rows, []string{one.Part, string(one.Outcome), one.Detail})
		}
		if err := render.Table(c.Stdout, c.NoColour, []string{"part", "result", "detail"}, rows); err != nil {
			return err
		}
		fmt.Fprintf(c.Stdout, "%d parts are right, %d are wrong, %d could not be tried\n", count[finding.OK],
			count[finding.Fail], count[finding.Skip])
	}
	if count[finding.Fail] > 0 {
		return base.Failure(base.ExitFailed, nil)
	}
	return nil
}
