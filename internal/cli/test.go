package cli

import (
	"context"
	"flag"
	"fmt"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/mysql"
	"gentleharbor/core/engine/postgresql"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
	"gentleharbor/internal/render"
)

// testOptions are the flags of test.
type testOptions struct {
	timeout time.Duration
	over    overrides
	as      string
	form    format
}

func testCommand() *command {
	var o testOptions
	return &command{
		name: "test", args: "NAME", summary: "reach the server, log in, and say at which step it stops and why",
		long: `Eleven stages on one straight line over one connection: profile, secret, route,
name, reach, speak, tls, login, database, session, expect. The first that fails ends
the test; gharbor explain CODE says more about a finding. Exit 0 when no stage
failed, else 1. The password is read only when the server has asked for it.`,
		examples: []string{"gharbor test sightings", "gharbor test sightings -override tls=verified -timeout 3s", "gharbor test sightings -as sightings-admin", "gharbor test sightings -format json"},
		least:    1, most: 1,
		flags: func(fs *flag.FlagSet) {
			fs.DurationVar(&o.timeout, "timeout", check.DefaultTimeout, "bound of the whole test; questions to you do not count")
			o.over.flag(fs)
			fs.StringVar(&o.as, "as", "", "an administrator's profile that looks the account up when the login is refused")
			o.form.flag(fs)
		},
		run: func(ctx context.Context, c *call) error {
			if o.timeout <= 0 {
				return usage("-timeout: expected a time above zero, such as 10s")
			}
			return c.test(ctx, o)
		},
	}
}

// engines are the engines that this version can test.
func engines() map[string]engine.Begin {
	return map[string]engine.Begin{"postgresql": postgresql.Begin, "mysql": mysql.Begin("mysql"), "mariadb": mysql.Begin("mariadb")}
}

// runner gives a test what it takes from the machine and the person.
func (c *call) runner(timeout time.Duration) *check.Runner {
	return &check.Runner{
		Engines: engines(), Network: route.System(), Places: nearby.Machine(), Timeout: timeout,
		Finder: &secret.Finder{Lookup: c.Lookup, Home: c.environment().Home, Terminal: c.Interactive(), Ask: c.Secret},
	}
}

func (c *call) test(ctx context.Context, o testOptions) error {
	p, err := c.resolve(c.args[0], o.over)
	if err != nil {
		return err
	}
	runner := c.runner(o.timeout)
	if o.as != "" {
		if runner.Admin, err = c.resolve(o.as, nil); err != nil {
			return usage("-as: %w", err)
		}
	}
	text := render.NewReport(c.Stdout, c.noColour)
	runner.Progress = func(s check.Stage) {
		c.log.Debug("stage", "name", s.Stage, "outcome", string(s.Outcome), "ms", s.MS)
		if !o.form.json() {
			text.Stage(s)
		}
	}
	if !o.form.json() {
		text.Head(p.Profile.Name, headline(p))
	}
	report := runner.Run(ctx, p)
	if o.form.json() {
		if err := render.JSON(c.Stdout, map[string]any{"format": 1, "profiles": []*check.Report{report}}); err != nil {
			return err
		}
	} else {
		text.Verdict(report)
	}
	switch {
	case report.Interrupted:
		return &exitError{code: exitInterrupted}
	case report.Outcome == finding.Fail:
		return &exitError{code: exitFailed}
	}
	return nil
}

func headline(p *profile.Resolved) string {
	engine := p.Text("engine")
	if engine == "" {
		engine = "no engine"
	}
	return fmt.Sprintf("%s at %s", engine, clean.Line(where(p), 120))
}
