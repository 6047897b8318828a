package profilecmd

import (
	"context"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

// listEntry is a profile in `list -format json`.
type listEntry struct {
	Name     string   `json:"name"`
	Engine   string   `json:"engine,omitempty"`
	Where    string   `json:"where"`
	Hops     []string `json:"hops,omitempty"` // in order from here
	User     string   `json:"user,omitempty"`
	Database string   `json:"database,omitempty"`
	Tags     []string `json:"tags"`
	Note     string   `json:"note,omitempty"`
	Like     string   `json:"like,omitempty"`
	File     string   `json:"file"`
	Line     int      `json:"line"`
	Project  bool     `json:"project"` // it stands in a project's file
	Vouched  bool     `json:"vouched"` // it may be used
}

func List() *base.Command {
	var chosen base.Selection
	var form base.Format
	return &base.Command{
		Name: "list", Quick: true, Summary: "list the profiles",
		Long:     "-tag and -engine limit the list.",
		Examples: []string{"gharbor list", "gharbor list -tag local", "gharbor list -engine {{engine}} -format json"},
		MaxArgs:  0,
		Flags: func(fs *base.FlagSet) {
			chosen.Flags(fs, false)
			form.Flag(fs)
		},
		Run: run(func(_ context.Context, c *Call) error {
			file, err := c.Load()
			if err != nil {
				return err
			}
			profiles := c.selectEntries(file, chosen)
			if form.JSON() {
				return render.JSON(c.Stdout, map[string]any{"format": 1, "profiles": profiles})
			}
			return c.listTable(file, profiles)
		}),
	}
}

func (c *Call) selectEntries(file *profile.File, chosen base.Selection) []listEntry {
	profiles := []listEntry{}
	env := c.Environment()
	for _, p := range file.All() {
		r := resolve.Resolve(file, p, nil, env)
		if !chosen.Has(r) {
			continue
		}
		one := listEntry{
			Name:     r.Called,
			Engine:   r.Text(key.Engine),
			Where:    wording.ShortAddress(r),
			Hops:     wording.HopWords(r),
			User:     wording.ListValue(r, "user"),
			Database: wording.ListValue(r, "database"),
			Tags:     []string{},
			Note:     clean.Line(r.Text(key.Note), 200),
			Like:     r.Text(key.Like),
			File:     r.Path(),
			Line:     p.Line,
			Project:  p.InProject(),
			Vouched:  r.Vouched(),
		}
		if tags, ok := r.Get(key.Tags); ok {
			one.Tags = make([]string, 0, len(tags.Value.List()))
			for _, t := range tags.Value.List() {
				one.Tags = append(one.Tags, clean.Line(t, 64))
			}
		}
		profiles = append(profiles, one)
	}
	return profiles
}

func (c *Call) listTable(file *profile.File, profiles []listEntry) error {
	if len(file.All()) == 0 {
		c.Say("no profiles yet")
		c.Say("  try: gharbor nearby        the database servers of this machine")
		c.Say("  try: gharbor add NAME      asks question by question")
		return nil
	}
	if len(profiles) == 0 {
		c.Say("none of the %d profiles matches", len(file.All()))
		return nil
	}
	headings := []string{"profile", "engine", "where", "user", "database", "tags"}
	if file.ProjectFile() != nil {
		headings = append(headings, "from")
	}
	rows := make([][]string, len(profiles))
	for i, p := range profiles {
		rows[i] = []string{p.Name, p.Engine, render.ShortPath(p.Where) + wording.BehindHops(len(p.Hops)), p.User, p.Database,
			strings.Join(p.Tags, " ")}
		switch {
		case file.ProjectFile() == nil:
		case !p.Vouched:
			rows[i] = append(rows[i], "project, not approved")
		case p.Project:
			rows[i] = append(rows[i], "project")
		default:
			rows[i] = append(rows[i], "you")
		}
	}
	return render.Table(c.Stdout, c.NoColour, headings, rows)
}
