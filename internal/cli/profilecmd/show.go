package profilecmd

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route/hop"
	"gentleharbor/internal/cli/aliascmd"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// shownValue is an effective value in `show -format json`.
type shownValue struct {
	Key      string         `json:"key"`
	Value    any            `json:"value"`
	Template string         `json:"template,omitempty"`
	Origin   resolve.Origin `json:"origin"`
}

// shownHop is a hop in `show -format json`, as it would be reached.
type shownHop struct {
	Stage  string `json:"stage"`
	User   string `json:"user,omitempty"`
	Host   string `json:"host"`
	Port   int    `json:"port"`
	Proxy  string `json:"proxy,omitempty"`
	Origin string `json:"origin"`
}

func Show() *base.Command {
	var form base.Format
	var over base.Overrides
	return &base.Command{
		Name: "show", Quick: true, Args: "NAME", Summary: "show every value of a profile, and where it comes from",
		Long: "It connects to nothing and reads no password: it shows the password's source.",
		Examples: []string{"gharbor show sightings", "gharbor show sightings -override host=10.0.0.5",
			"gharbor show sightings -format json"},
		MinArgs: 1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			over.Flag(fs)
			form.Flag(fs)
		},
		Run: run(func(_ context.Context, c *Call) error {
			r, err := c.Resolve(c.Args[0], over)
			if err != nil {
				return err
			}
			if form.JSON() {
				err = c.showJSON(r)
			} else {
				err = c.showTable(r)
			}
			if !r.Vouched() {
				c.Notice("%s; nothing of it is used", r.WhyNotVouched().Cause)
				c.Say("  try: %s", r.WhyNotVouched().Try[0])
				return err
			}
			found := r.Problem()
			if found == nil {
				found = r.AliasProblem()
			}
			if err == nil && found != nil {
				return base.FindingError(base.ExitFile, nil, found)
			}
			return err
		}),
	}
}

func (c *Call) showTable(r *resolve.Profile) error {
	values := r.Values()
	var rows [][]string
	for _, e := range values {
		value := e.Display()
		if e.Field.Name == "secret" && value == "default" {
			value = "(in the default order)"
		}
		if e.Field.Empties && value == "" {
			value = "(none)"
		}
		rows = append(rows, []string{string(e.Field.Name), clean.Line(value, 200), e.Origin.String()})
		if e.Field.Address {
			rows = append(rows, c.chainRows(r)...)
		}
	}
	for _, h := range r.Hops() {
		for _, e := range h.Values() {
			rows = append(rows, []string{h.Key(e.Field.Name), clean.Line(e.Display(), 200), e.Origin.String()})
		}
	}
	for _, h := range c.hopDetails(r) {
		rows = append(rows, []string{h.Stage, clean.Line(h.String(), 200), h.Origin})
	}
	return render.Table(c.Stdout, c.NoColour, []string{"key", "value", "origin"}, rows)
}

// chainRows are the aliases that give the address, their route, and the lines of [hosts] for the names to dial.
func (c *Call) chainRows(r *resolve.Profile) (rows [][]string) {
	at := func(file string, line int) string { return fmt.Sprintf("%s:%d", filepath.Base(file), line) }
	if chain := r.Service(); chain != nil {
		for i, link := range chain.Links {
			word := "  which is"
			if i == 0 {
				word = "  stands at"
			}
			rows = append(rows, []string{word, link.FullName(), at(link.Path(), link.Line)})
		}
		for _, k := range []key.Name{"addresses", "srv", "pick", "connect-timeout", "retries"} {
			if e, link, ok := chain.OwnValue(k); ok {
				rows = append(rows,
					[]string{string("  " + k), clean.Line(strings.Join(e.Value.List(), ", "), 200),
						"alias " + link.FullName() + ", " + at(link.Path(), e.Line)})
			}
		}
		for _, word := range chain.Ignored {
			rows = append(rows, []string{"  not used", clean.Line(word, 100), at(chain.Links[0].Path(), chain.Links[0].Line)})
		}
	}
	for _, h := range r.Hosts() {
		if given, ok := r.HostEntry(h.Host); ok {
			rows = append(rows, []string{"  hosts", given.Name + " is " + given.List(), at(given.File, given.Line)})
		}
	}
	return rows
}

func (c *Call) showJSON(r *resolve.Profile) error {
	values := shownValues(r.Values(), func(k key.Name) string { return string(k) })
	for _, h := range r.Hops() {
		values = append(values, shownValues(h.Values(), h.Key)...)
	}
	way := []shownHop{}
	for _, h := range c.hopDetails(r) {
		way = append(way, shownHop{
			Stage:  h.Stage,
			User:   h.User,
			Host:   h.Host,
			Port:   h.Port,
			Proxy:  h.Proxy,
			Origin: h.Origin,
		})
	}
	out := map[string]any{"format": 1, "profile": r.Profile.Name, "file": r.Path(), "line": r.Profile.Line,
		"project": r.Profile.InProject(), "vouched": r.Vouched(), "values": values, "way": way}
	if chain := r.Service(); chain != nil {
		out["chain"] = aliascmd.ChainLinks(chain)
		out["addresses"] = []string{}
		if e, _, ok := chain.OwnValue(key.Addresses); ok {
			out["addresses"] = e.Value.List()
		}
	}
	return render.JSON(c.Stdout, out)
}

func shownValues(all []resolve.Effective, name func(key.Name) string) []shownValue {
	values := make([]shownValue, len(all))
	for i, e := range all {
		values[i] = shownValue{Key: name(e.Field.Name), Value: e.Value.Any(), Template: e.Template, Origin: e.Origin}
		if e.Template != "" && e.Display() == e.Template {
			values[i].Value = e.Template // a variable with a secret-looking name is not expanded
		}
	}
	return values
}

// hopDetails describes the hops where an SSH client configuration adds to their keys.
func (c *Call) hopDetails(r *resolve.Profile) []*hop.Hop {
	if !r.Vouched() || !slices.ContainsFunc(r.Hops(), func(h resolve.Hop) bool { return h.Text(key.SSH) != "" }) {
		return nil
	}
	places, err := c.HopPlaces()
	if err != nil {
		return nil
	}
	hops, notes, found := places.Plan(r)
	if found != nil {
		c.Notice("%s: %s", found.Cause, strings.Join(found.Seen, "; "))
	}
	for _, note := range notes {
		c.Notice("%s", note)
	}
	return hops
}
