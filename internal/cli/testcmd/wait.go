package testcmd

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/cloud"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// WaitOptions are the flags of wait.
type WaitOptions struct {
	chosen  base.Selection
	Within  time.Duration
	Timeout time.Duration
	over    base.Overrides
	persist bool
	wake    bool
	quiet   bool
	Form    base.Format
}

func Wait() *base.Command {
	var o WaitOptions
	return &base.Command{
		Name: "wait", Args: "NAME…", Summary: "wait until the servers are ready, or until waiting is pointless",
		Long: `Tests each profile again and again until no stage fails, with pauses from a fifth of a
second to five seconds. It stops at once when waiting won't help (a wrong password, a
missing database, an untrusted certificate); gharbor explain CODE says which findings may
go away by themselves. Exit 0 when all are ready, else 1.`,
		Examples: []string{"gharbor wait sightings", "gharbor wait sightings tides -within 2m",
			"gharbor wait starting -within 3s"},
		MaxArgs: -1,
		Flags: func(fs *base.FlagSet) {
			o.chosen.Flags(fs, true)
			fs.DurationVar(&o.Within, "within", time.Minute, "how long to wait for all of them")
			fs.DurationVar(&o.Timeout, "timeout", check.DefaultTimeout, "time limit of each try")
			fs.BoolVar(&o.persist, "persist", false, "go on even when waiting won't help")
			fs.BoolVar(&o.wake, "wake", false, "wake cloud instances that are paused; it may cost money")
			fs.BoolVar(&o.quiet, "quiet", false, "print only the result")
			o.over.Flag(fs)
			o.Form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *Call) error {
			switch {
			case o.Within <= 0:
				return base.Usage("-within: expected a time above zero, such as 60s")
			case o.Timeout <= 0:
				return base.Usage("-timeout: expected a time above zero, such as 10s")
			}
			profiles, err := c.Choose(o.chosen, o.over)
			if err != nil {
				return err
			}
			return c.Wait(ctx, profiles, o)
		}),
	}
}

func (c *Call) Wait(ctx context.Context, profiles []*resolve.Profile, o WaitOptions) error {
	runner, err := c.Runner(o.Timeout)
	if err != nil {
		return err
	}
	c.ExpectClouds(profiles, false)
	if err := promptFirst(ctx, runner, profiles); err != nil {
		return err
	}
	var mu sync.Mutex
	told := make(map[string]finding.Code) // the last finding shown of a profile
	notes := render.NewReport(c.Stderr, c.NoColour)
	var wake func(context.Context, *resolve.Profile) *finding.Finding
	if o.wake {
		wake = func(ctx context.Context, p *resolve.Profile) *finding.Finding {
			notes.Line(finding.Warn, p.Called, "waking,", "the instance is paused: its service is asked to start it")
			return c.wake(ctx, p)
		}
	}
	all := runner.Wait(ctx, profiles, check.Waiting{
		Within:   o.Within,
		Persist:  o.persist,
		Wake:     wake,
		Parallel: check.DefaultParallel,
		Tried: func(w *check.WaitResult) {
			mu.Lock()
			defer mu.Unlock()
			s, _ := w.Report.First()
			c.Log.Debug("tried", "profile", w.Profile, "tries", w.Tries, "code", s.Finding.Code)
			if !o.quiet && told[w.Profile] != s.Finding.Code {
				told[w.Profile] = s.Finding.Code
				notes.Line(finding.Warn, w.Profile, "waiting,",
					fmt.Sprintf("%s at stage %s: %s", s.Finding.Code, s.Stage, s.Finding.Cause))
			}
		},
	})
	for _, w := range all {
		c.FollowReports(base.FollowUp{Over: o.over}, w.Report)
	}
	if o.Form.JSON() {
		if err := render.JSON(c.Stdout, map[string]any{"format": 1, "waits": all}); err != nil {
			return err
		}
	}
	code := base.ExitOK
	for _, w := range all {
		if o.Form.Text() {
			c.showWaited(w, o)
		}
		if w.Outcome != check.WaitReady {
			code = base.ExitFailed
		}
	}
	switch {
	case ctx.Err() != nil:
		return base.Failure(base.ExitInterrupted, nil)
	case code != base.ExitOK:
		return base.Failure(code, nil)
	}
	return nil
}

// wake asks the service to start the cloud instance of a profile.
func (c *Call) wake(ctx context.Context, p *resolve.Profile) *finding.Finding {
	clouds, err := c.Clouds()
	if err != nil {
		return finding.New(finding.CloudUnreachable, "%s", clean.Line(err.Error(), 200))
	}
	ref := address.CloudOf(p)
	s, found := clouds.Session(ref.Account)
	if found != nil {
		return found
	}
	return s.Wake(ctx, cloud.Subject{Ref: ref, Profile: p.Called})
}

// showWaited prints how the wait for a profile ended.
func (c *Call) showWaited(w *check.WaitResult, o WaitOptions) {
	tries := fmt.Sprintf("%d tries", w.Tries)
	if w.Tries == 1 {
		tries = "1 try"
	}
	after := fmt.Sprintf("after %s and %s", check.Duration(w.MS), tries)
	text := render.NewReport(c.Stdout, c.NoColour)
	switch w.Outcome {
	case check.WaitReady:
		text.Line(w.Report.Outcome, w.Profile, "ready", after+": "+w.Report.Summary())
		return
	case check.WaitStopped:
		text.Line(finding.Skip, w.Profile, "stopped", after)
		return
	case check.WaitGaveUp:
		text.Line(finding.Fail, w.Profile, "gave up", after+": waiting won't help")
	default:
		text.Line(finding.Fail, w.Profile, "not ready", after)
	}
	for _, s := range w.Report.Stages {
		if s.Outcome == finding.Fail {
			// done just now
			s.Finding.Try = slices.DeleteFunc(s.Finding.Try,
				func(line string) bool { return strings.HasPrefix(line, "gharbor wait ") })
			text.WriteStage(s)
		}
	}
	if w.Outcome == check.WaitTimeOut && o.Within < time.Minute && w.Report.MayPass() {
		text.Try(fmt.Sprintf("gharbor wait %s -within 2m   # if it only takes longer", w.Profile))
	}
	text.Try(fmt.Sprintf("gharbor test %s   # all stages", w.Profile))
}
