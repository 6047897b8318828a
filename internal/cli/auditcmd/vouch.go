package auditcmd

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/intake/compose"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/vouch"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/transfercmd"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

func Vouch() *base.Command {
	var list, withdraw bool
	var expect string
	var form base.Format
	return &base.Command{
		Name: "vouch", Args: "[PROFILE…]", Summary: "approve the profiles of a project",
		Long: `A profile of a project's gharbor.toml does nothing until you have approved what it uses:
address, user, command, files, environment variables, TLS rule. Your approval is saved
with a hash of each file of the repository that it names. When one of these changes, the
change is shown and you approve again; a changed note does not matter. Without names: all
profiles.

If an environment variable (GHARBOR_ALIASES, {{reads}}) names a
file in a repository, vouch for the file by its path, with a slash in it.

If a profile of your own names an alias of the project, vouch for alias:NAME. For import,
vouch for a compose file by its path: only then may it use variables of this machine and
files outside of the repository.

In CI, where nobody can be asked, -expect compares with the hash that vouch showed.`,
		Examples: []string{"gharbor vouch", "gharbor vouch reports", "gharbor vouch -list",
			"gharbor vouch -withdraw reports",
			"gharbor vouch compose.yaml"},
		MaxArgs: -1,
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&list, "list", false, "show what was approved, and ask nothing")
			fs.BoolVar(&withdraw, "withdraw", false, "take the approval back")
			fs.StringVar(&expect, "expect", "", "approve without asking, if the hash is this one")
			form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *call) error {
			switch {
			case list && withdraw, list && expect != "", withdraw && expect != "":
				return base.Usage("give one of -list, -withdraw and -expect")
			case !form.Text() && !list:
				return base.Usage("-format goes with -list")
			}
			items, err := c.vouchable(ctx)
			if err != nil {
				return err
			}
			switch {
			case list:
				return c.vouchList(items, form)
			case withdraw:
				return c.withdraw(ctx, items)
			}
			return c.vouch(ctx, items, expect)
		}),
	}
}

// vouchable are the project's profiles and aliases that the arguments name; without arguments all profiles, and the
// aliases that profiles of the user's own name.
func (c *call) vouchable(ctx context.Context) ([]vouch.Item, error) {
	if files := transfercmd.ComposeFiles(c.Args); len(files) > 0 {
		return transfercmd.NewCall(c.Call).VouchableCompose(ctx, files)
	}
	if len(c.Args) > 0 && strings.Contains(c.Args[0], "/") {
		return c.vouchableFiles()
	}
	file, err := c.Load()
	if err != nil {
		return nil, err
	}
	if c.Broken != nil {
		return nil, c.Broken
	}
	project := file.ProjectFile()
	if project == nil {
		return nil, base.Advise(
			base.Usage("there is no gharbor.toml here, nor in a folder above up to the repository's root"),
			"make a project's profile: gharbor add NAME -project")
	}
	env := c.Environment()
	var chosen []vouch.Item
	if len(c.Args) == 0 {
		for _, p := range project.Profiles {
			chosen = append(chosen, vouch.ProfileItem(resolve.Resolve(file, p, nil, env).ProjectProfile()))
		}
		for _, a := range project.Aliases {
			if users := c.Book.Users(a, file); len(users) > 0 {
				chosen = append(chosen, vouch.AliasItem(a, env.Home))
			}
		}
		for _, one := range project.Clouds {
			chosen = append(chosen, vouch.CloudItem(one, env.Home))
		}
	}
	for _, name := range c.Args {
		if word, ok := strings.CutPrefix(name, vouch.AliasWord); ok {
			a := project.AliasNamed(strings.TrimPrefix(word, syntax.ProjectPrefix))
			if a == nil {
				return nil, missingIn("alias", strings.TrimPrefix(word, syntax.ProjectPrefix), project.AliasNames())
			}
			chosen = append(chosen, vouch.AliasItem(a, env.Home))
			continue
		}
		if word, ok := strings.CutPrefix(name, vouch.CloudWord); ok {
			word = strings.TrimPrefix(word, syntax.ProjectPrefix)
			one := project.CloudNamed(word)
			if one == nil {
				return nil, base.Usage("the project's file has no cloud account of that name")
			}
			chosen = append(chosen, vouch.CloudItem(one, env.Home))
			continue
		}
		name = strings.TrimPrefix(name, syntax.ProjectPrefix)
		p := project.Lookup(name)
		if p == nil {
			return nil, missingIn("profile", name, project.Names())
		}
		chosen = append(chosen, vouch.ProfileItem(resolve.Resolve(file, p, nil, env).ProjectProfile()))
	}
	if len(chosen) == 0 {
		return nil, base.Usage("the project's file %s has no profiles", project.Path)
	}
	return chosen, nil
}

// vouchableFiles are the files of aliases, services or passwords that an environment variable names.
func (c *call) vouchableFiles() ([]vouch.Item, error) {
	home := c.Environment().Home
	var chosen []vouch.Item
	for _, path := range c.Args {
		if !filepath.IsAbs(path) {
			dir, err := c.WorkDir()
			if err != nil {
				return nil, err
			}
			path = filepath.Join(dir, path)
		}
		root := vouch.RepositoryOf(path, home, filepath.Dir(c.Vouched.Path))
		if root == "" {
			return nil, base.Usage("%s is in no repository, so it needs no approval", clean.Word(path))
		}
		chosen = append(chosen, vouch.FileItem(c.Keys, path, root, home))
	}
	return chosen, nil
}

// missingIn is the error for a name that the project's file does not have.
func missingIn(what, name string, names []string) error {
	if near := nearest.Name(name, names); near != "" {
		return base.Usage("the project's file has no %s of that name; did you mean %q?", what, near)
	}
	return base.Usage("the project's file has no %s of that name", what)
}

// vouch shows what profiles would use, and records it after a yes, or where the hash is the expected one.
func (c *call) vouch(ctx context.Context, items []vouch.Item, expect string) error {
	c.Environment()
	var all []vouch.Uses
	var records []vouch.Record
	news := 0
	for _, i := range items {
		state, before, err := c.Vouched.StateOf(i)
		if err != nil {
			return err
		}
		uses := i.Uses()
		if uses.Trouble != "" {
			return &profile.FileError{Path: i.Path, Line: i.Line, What: fmt.Sprintf("%s: %s", i.Title(), uses.Trouble)}
		}
		all = append(all, uses)
		if state != vouch.Vouched {
			news++
		}
		c.showUses(i, state, before, uses)
		records = append(records, vouch.Record{
			File:    i.Path,
			Profile: i.Name,
			Hash:    uses.Hash,
			At:      time.Now().UTC().Truncate(time.Second),
			Uses:    uses.Lines(),
		})
	}
	hash := vouch.CombinedHash(all)
	fmt.Fprintf(c.Stdout, "hash of %s: %s\n", wording.Plural(len(all), "this", "these"), hash)
	switch {
	case expect != "" && !strings.EqualFold(expect, hash):
		return base.Failure(base.ExitFailed,
			errors.New("the hash is different, so nothing was approved: what a profile uses has changed"),
			"gharbor vouch   # on a machine where somebody can look")
	case expect != "":
	case news == 0:
		c.Say("already approved; gharbor vouch -withdraw takes that back")
		return nil
	case !c.Interactive():
		return base.Advise(base.Usage("there is no terminal to ask on, so nothing was approved"),
			"give the hash that somebody has seen on a terminal: gharbor vouch -expect HASH")
	default:
		what := wording.Plural(len(all), "this profile", "these profiles")
		if items[0].Name == vouch.FileWord {
			what = wording.Plural(len(all), "this file", "these files")
		}
		if items[0].Name == compose.Word {
			what = "this compose file"
		}
		yes, err := c.Confirm(ctx, fmt.Sprintf("allow %s to use that?", what), false)
		if err != nil {
			return err
		}
		if !yes {
			c.Say("nothing was approved")
			return nil
		}
	}
	if err := c.Vouched.Add(ctx, records...); err != nil {
		return err
	}
	names := make([]string, len(items))
	for i, one := range items {
		names[i] = one.Name
	}
	c.Say("approved: %s", strings.Join(names, ", "))
	return nil
}

// stateWords say a state to a person.
var stateWords = map[vouch.State]string{
	vouch.Never:   "not approved",
	vouch.Lapsed:  "changed since you approved it",
	vouch.Vouched: "approved",
}

func (c *call) showUses(i vouch.Item, state vouch.State, before *vouch.Record, uses vouch.Uses) {
	at := filepath.Base(i.Path)
	if i.Line > 0 {
		at += fmt.Sprintf(", line %d", i.Line)
	}
	fmt.Fprintf(c.Stdout, "%s  %s: %s\n", i.Name, at, stateWords[state])
	if state == vouch.Lapsed {
		for _, line := range before.Difference(uses) {
			fmt.Fprintf(c.Stdout, "  %s\n", line)
		}
		fmt.Fprintf(c.Stdout, "  what it uses:\n")
	}
	width := 0
	for _, use := range uses.List {
		width = max(width, len(use.Key))
	}
	for _, use := range uses.List {
		fmt.Fprintf(c.Stdout, "    %-*s  %s\n", width, use.Key, use.Display())
		if use.Note != "" {
			fmt.Fprintf(c.Stdout, "    %-*s  not hashed: %s\n", width, "", use.Note)
		}
	}
}

func (c *call) withdraw(ctx context.Context, items []vouch.Item) error {
	c.Environment()
	names := c.Args
	if word := items[0].Name; word == compose.Word || word == vouch.FileWord {
		names = []string{word}
	}
	gone, err := c.Vouched.Withdraw(ctx, items[0].Path, names)
	if err != nil {
		return err
	}
	if len(gone) == 0 {
		c.Say("none of that was approved")
	}
	for _, r := range gone {
		c.Say("withdrawn: %s", r.Profile)
	}
	return nil
}

// listedVouch is a profile in `vouch -list -format json`.
type listedVouch struct {
	Profile string     `json:"profile"`
	File    string     `json:"file"`
	Line    int        `json:"line"`
	State   string     `json:"state"` // not vouched, lapsed, vouched
	At      *time.Time `json:"at,omitempty"`
	Uses    []string   `json:"uses"`
	Hash    string     `json:"hash"`
}

func (c *call) vouchList(items []vouch.Item, form base.Format) error {
	c.Environment()
	all := []listedVouch{}
	var rows [][]string
	for _, i := range items {
		state, record, err := c.Vouched.StateOf(i)
		if err != nil {
			return err
		}
		var uses vouch.Uses
		count := ""
		if state != vouch.Never { // of those nothing is read
			uses = i.Uses()
			count = fmt.Sprintf("%d uses", len(uses.List))
		}
		one := listedVouch{
			Profile: i.Name,
			File:    i.Path,
			Line:    i.Line,
			State:   string(state),
			Uses:    uses.Lines(),
			Hash:    uses.Hash,
		}
		since := ""
		if record != nil {
			one.At, since = &record.At, record.At.Local().Format(time.DateOnly)
		}
		all = append(all, one)
		rows = append(rows, []string{i.Name, stateWords[state], since, count})
	}
	if form.JSON() {
		return render.JSON(c.Stdout, map[string]any{"format": 1, "profiles": all})
	}
	return render.Table(c.Stdout, c.NoColour, []string{"profile", "state", "since", "uses"}, rows)
}
