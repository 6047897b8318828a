package cli

import (
	"context"
	"errors"
	"flag"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/internal/render"
)

// shownValue is an effective value in `show -format json`.
type shownValue struct {
	Key      string         `json:"key"`
	Value    any            `json:"value"`
	Template string         `json:"template,omitempty"`
	Origin   profile.Origin `json:"origin"`
}

func showCommand() *command {
	var form format
	var over overrides
	return &command{
		name: "show", quick: true, args: "NAME", summary: "every effective value of a profile, and where it came from",
		long:     "Nothing is dialled and no secret is read: of a secret its source is shown.",
		examples: []string{"gharbor show sightings", "gharbor show sightings -override host=10.0.0.5", "gharbor show sightings -format json"},
		least:    1, most: 1,
		flags: func(fs *flag.FlagSet) {
			over.flag(fs)
			form.flag(fs)
		},
		run: func(_ context.Context, c *call) error {
			r, err := c.resolve(c.args[0], over)
			if err != nil {
				return err
			}
			if form.json() {
				err = c.showJSON(r)
			} else {
				err = c.showTable(r)
			}
			if !r.Vouched() {
				c.Notice("%s; nothing of it is read, expanded or dialled", r.WhyNotVouched().Cause)
				c.Say("  try: %s", r.WhyNotVouched().Try[0])
				return err
			}
			if found := r.Problem(); err == nil && found != nil {
				return &exitError{code: exitFile, err: errors.New(found.Cause)}
			}
			return err
		},
	}
}

// resolve loads a profile with its effective values.
func (c *call) resolve(name string, over overrides) (*profile.Resolved, error) {
	file, err := c.load()
	if err != nil {
		return nil, err
	}
	p, err := c.lookup(file, name)
	if err != nil {
		return nil, err
	}
	if err := over.check(file); err != nil {
		return nil, err
	}
	return file.Resolve(p, over, c.environment()), nil
}

func (c *call) showTable(r *profile.Resolved) error {
	values := r.Values()
	rows := make([][]string, len(values))
	for i, e := range values {
		value := e.Shown()
		if e.Field.Name == "secret" && value == "default" {
			value = "(in the default order)"
		}
		rows[i] = []string{e.Field.Name, clean.Line(value, 200), e.Origin.String()}
	}
	return render.Table(c.Stdout, c.noColour, []string{"key", "value", "origin"}, rows)
}

func (c *call) showJSON(r *profile.Resolved) error {
	all := r.Values()
	values := make([]shownValue, len(all))
	for i, e := range all {
		values[i] = shownValue{Key: e.Field.Name, Value: e.Value.Any(), Template: e.Template, Origin: e.Origin}
		if e.Template != "" && e.Shown() == e.Template {
			values[i].Value = e.Template // a variable with a secret-looking name is not expanded
		}
	}
	return render.JSON(c.Stdout, map[string]any{"format": 1, "profile": r.Profile.Name, "file": r.Path(), "line": r.Profile.Line,
		"project": r.Profile.InProject(), "vouched": r.Vouched(), "values": values})
}
