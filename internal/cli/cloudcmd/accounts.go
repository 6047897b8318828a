package cloudcmd

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/cloud"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// accountTarget says which file an edit of an account changes.
type accountTarget struct{ project bool }

func (t *accountTarget) flag(fs *base.FlagSet) {
	fs.BoolVar(&t.project, "project", false, "in the project's gharbor.toml rather than in your own profiles.toml")
}

// stripProject removes "project:" from a name and notes it. An account that only the project has needs no "project:".
func (t *accountTarget) stripProject(c *call, name string, new bool) (string, error) {
	file, err := c.Load()
	if err != nil {
		return "", err
	}
	if own, ok := strings.CutPrefix(name, syntax.ProjectPrefix); ok {
		t.project = true
		return own, nil
	}
	if one := file.FindCloud(name); one != nil && one.InProject() && !new {
		t.project = true
	}
	return name, nil
}

// write reads an account's name and the words key=value after it, and makes the edit.
func (c *call) write(ctx context.Context, to *accountTarget, done string, new bool,
	edit func(f *profile.File, name string, sets []schema.Override) (*profile.Edit, error)) (name string, err error) {
	if name, err = to.stripProject(c, c.Args[0], new); err != nil {
		return "", err
	}
	sets, err := c.Settings(to.project, c.accountKeyValue)
	if err != nil {
		return "", err
	}
	return name, c.Change(ctx, to.project, "cloud account", done, name,
		func(f *profile.File) (*profile.Edit, error) { return edit(f, name, sets) })
}

// accountKeyValue reads an account's key=value; an empty value unsets the key.
func (c *call) accountKeyValue(s string) (schema.Override, error) {
	k, text, ok := strings.Cut(s, "=")
	field := c.Keys.CloudField(k)
	switch {
	case !ok:
		return schema.Override{}, errors.New("expected key=value, such as service=https://cloud.saltmarsh.example/instances")
	case field == nil:
		why := c.Keys.UnknownCloudKey(k)
		if quoted := "unknown key " + clean.Name(k); strings.HasPrefix(why, quoted) { // it may be a misplaced secret
			why = "no key of that name" + strings.TrimPrefix(why, quoted)
		}
		return schema.Override{}, errors.New(why)
	case text == "":
		return schema.Override{Field: field, Unset: true}, nil
	}
	value, err := field.ParseValue(text)
	return schema.Override{Field: field, Value: value}, err
}

func cloudAdd() *base.Command {
	var to accountTarget
	return &base.Command{
		Name: "cloud add", Args: "NAME key=value…", Summary: "define a cloud account",
		Long: "The keys:",
		Keys: base.CloudKeyTable,
		Examples: []string{
			"gharbor cloud add harbour service=https://account.saltmarsh.example/v1 " +
				"issuer=https://account.saltmarsh.example client=gharbor scopes=instances,offline_access",
			"gharbor cloud add by-script command=/usr/local/bin/instances,members",
			"gharbor cloud add nightly service=https://account.saltmarsh.example/v1 token-file=/run/token",
		},
		MinArgs: 2, MaxArgs: -1,
		Flags: to.flag,
		Run: run(func(ctx context.Context, c *call) error {
			name, err := c.write(ctx, &to, "saved", true, (*profile.File).AddCloud)
			if err != nil {
				return err
			}
			if to.project {
				c.Say("  try: gharbor vouch cloud:%s   # before it is used", name)
				return nil
			}
			file, err := c.Load()
			if err != nil {
				return err
			}
			c.Say("  try: %s", next(file.CloudNamed(name)))
			return nil
		}),
	}
}

// next is the command to try after an account was defined.
func next(one *profile.Cloud) string {
	if one.Text(key.Issuer) != "" && one.Text(key.ClientSecret) == "" {
		return "gharbor cloud sign-in " + one.Name
	}
	return "gharbor cloud instances " + one.Name
}

func cloudSet() *base.Command {
	var to accountTarget
	return &base.Command{
		Name: "cloud set", Args: "NAME key=value…", Summary: "change values of a cloud account; key= removes one",
		Long: `Another issuer, client, service or authority is another account: a sign-in of before does
not count for it. The keys:`,
		Keys: base.CloudKeyTable,
		Examples: []string{"gharbor cloud set club scopes=instances note='the club'",
			"gharbor cloud set club note="},
		MinArgs: 2, MaxArgs: -1,
		Flags: to.flag,
		Run: run(func(ctx context.Context, c *call) error {
			_, err := c.write(ctx, &to, "changed", false, (*profile.File).SetCloud)
			return err
		}),
	}
}

// listedAccount is an account in `cloud list -format json`.
type listedAccount struct {
	Name     string `json:"name"`
	Issuer   string `json:"issuer,omitempty"`
	Service  string `json:"service,omitempty"` // or the program
	SignedIn bool   `json:"signed_in"`
	File     string `json:"file"`
	Line     int    `json:"line"`
	Project  bool   `json:"project"`
	Vouched  bool   `json:"vouched"`
	Note     string `json:"note,omitempty"`

	state string
}

func cloudList() *base.Command {
	var form base.Format
	return &base.Command{
		Name: "cloud list", Summary: "list the cloud accounts",
		Long:     "The accounts of your own file and of the project. Nothing is asked.",
		Examples: []string{"gharbor cloud list", "gharbor cloud list -format json"},
		Flags:    func(fs *base.FlagSet) { form.Flag(fs) },
		Run: run(func(ctx context.Context, c *call) error {
			all, err := c.listAccounts(ctx)
			if err != nil {
				return err
			}
			if form.JSON() {
				return render.JSON(c.Stdout, map[string]any{"format": 1, "accounts": all})
			}
			if len(all) == 0 {
				c.Say("no cloud accounts yet")
				c.Say("  try: gharbor help cloud add")
				return nil
			}
			var rows [][]string
			for _, a := range all {
				rows = append(rows, []string{a.Name, a.Service, a.state, a.Note})
			}
			return render.Table(c.Stdout, c.NoColour, []string{"account", "service", "sign-in", "note"}, rows)
		}),
	}
}

func (c *call) listAccounts(ctx context.Context) ([]listedAccount, error) {
	clouds, err := c.Clouds()
	if err != nil {
		return nil, err
	}
	all := []listedAccount{}
	for _, one := range clouds.File.AllClouds() {
		a := cloud.AccountOf(one, clouds.Home)
		listed := listedAccount{
			Name:    a.Called,
			Issuer:  a.Issuer,
			Service: a.Service,
			File:    a.File,
			Line:    a.Line,
			Project: one.InProject(),
			Vouched: true,
			Note:    clean.Line(one.Text(key.Note), 200),
		}
		if a.Command != nil {
			listed.Service = "program " + clean.Line(filepath.Base(a.Command[0]), 60)
		}
		if one.InProject() {
			_, found := c.Vouched.JudgeCloud(one, clouds.Home)
			listed.Vouched = found == nil
		}
		listed.SignedIn, listed.state = c.signedIn(ctx, clouds, a, listed.Vouched)
		all = append(all, listed)
	}
	return all, nil
}

// signedIn reports whether an account has a token, as far as is known without a question.
func (c *call) signedIn(ctx context.Context, clouds *cloud.Accounts, a cloud.Account, vouched bool) (bool, string) {
	switch {
	case !vouched:
		return false, "not approved"
	case a.TokenFile != "":
		return false, "token file"
	case a.ClientSecret.Kind != "":
		return false, "client secret"
	case a.Issuer == "" && a.Service == "":
		return false, "the program's"
	}
	owner, err := a.Owner()
	if err != nil {
		return false, "tls-ca is not there"
	}
	at, ok := clouds.Tokens.PlaceOf(ctx, owner)
	switch {
	case !ok:
		return false, "not signed in"
	case at.Forget:
		return true, "until the wallet is locked"
	}
	return true, "signed in"
}

func cloudShow() *base.Command {
	var form base.Format
	return &base.Command{
		Name: "cloud show", Args: "NAME", Summary: "show a cloud account, and where its token is",
		Long:     "Each key with its file and line. Nothing is asked.",
		Examples: []string{"gharbor cloud show station", "gharbor cloud show station -format json"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) { form.Flag(fs) },
		Run: run(func(ctx context.Context, c *call) error {
			clouds, err := c.Clouds()
			if err != nil {
				return err
			}
			one := clouds.File.FindCloud(c.Args[0])
			if one == nil {
				return clouds.File.MissingCloud(c.Args[0])
			}
			return c.showAccount(ctx, clouds, one, form)
		}),
	}
}

func (c *call) showAccount(ctx context.Context, clouds *cloud.Accounts, one *profile.Cloud, form base.Format) error {
	all, err := c.listAccounts(ctx)
	if err != nil {
		return err
	}
	state := ""
	signed := false
	for _, a := range all {
		if a.Name == one.FullName() {
			state, signed = a.state, a.SignedIn
		}
	}
	token := ""
	a := cloud.AccountOf(one, clouds.Home)
	if owner, err := a.Owner(); err == nil && signed {
		if at, ok := clouds.Tokens.PlaceOf(ctx, owner); ok && !at.Forget {
			token = fmt.Sprintf("%s, sealed under the key %s of the %s", clouds.Tokens.Path(owner), at.Key.Entry, at.Key.Source)
		}
	}
	if form.JSON() {
		type value struct {
			Key   string `json:"key"`
			Value any    `json:"value"`
			Line  int    `json:"line"`
		}
		values := []value{}
		for _, e := range one.Entries {
			values = append(values, value{string(e.Field.Name), e.Value.Any(), e.Line})
		}
		return render.JSON(c.Stdout, map[string]any{"format": 1, "account": one.FullName(), "file": one.Path(),
			"line": one.Line, "project": one.InProject(), "values": values, "signed_in": signed, "token": token})
	}
	var rows [][]string
	for _, e := range one.Entries {
		rows = append(rows, []string{string(e.Field.Name), clean.Line(strings.Join(e.Value.List(), ", "), 200),
			fmt.Sprintf("%s:%d", filepath.Base(one.Path()), e.Line)})
	}
	rows = append(rows, []string{"sign-in", state, token})
	return render.Table(c.Stdout, c.NoColour, []string{"key", "value", "origin"}, rows)
}

func cloudRemove() *base.Command {
	var to accountTarget
	var yes bool
	return &base.Command{
		Name: "cloud remove", Args: "NAME", Summary: "remove a cloud account, and forget its token",
		Long: `Refused while a profile uses it. gharbor cloud sign-out, before, also has the issuer take
the token back.`,
		Examples: []string{"gharbor cloud remove club -yes"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&yes, "yes", false, "do not ask")
			to.flag(fs)
		},
		Run: run(func(ctx context.Context, c *call) error { return c.removeAccount(ctx, to, yes) }),
	}
}

func (c *call) removeAccount(ctx context.Context, to accountTarget, yes bool) error {
	name, err := to.stripProject(c, c.Args[0], false)
	if err != nil {
		return err
	}
	clouds, err := c.Clouds()
	if err != nil {
		return err
	}
	one := clouds.File.CloudNamed(name)
	if to.project {
		one = clouds.File.ProjectFile().CloudNamed(name)
	}
	if one == nil {
		return clouds.File.MissingCloud(c.Args[0])
	}
	if users := c.users(clouds.File, one); len(users) > 0 {
		return base.Failure(base.ExitUsage, fmt.Errorf("the cloud account %s is used by the profiles %s", one.FullName(),
			strings.Join(users[:min(len(users), 5)], ", ")), "gharbor list")
	}
	if yes, err = c.MayRemove(ctx, yes, "cloud account "+name); err != nil || !yes {
		return err
	}
	a := cloud.AccountOf(one, clouds.Home)
	if owner, err := a.Owner(); err == nil {
		if gone, err := clouds.Tokens.Remove(ctx, owner); err != nil {
			return err
		} else if gone {
			c.Say("its token is forgotten")
		}
	}
	return c.Change(ctx, to.project, "cloud account", "removed", name,
		func(f *profile.File) (*profile.Edit, error) { return f.RemoveCloud(name) })
}

// users are the profiles whose address is an instance of an account.
func (c *call) users(file *profile.File, one *profile.Cloud) (names []string) {
	env := c.Environment()
	for _, p := range file.All() {
		r := resolve.Resolve(file, p, nil, env)
		v, ok := r.WrittenValue(key.Cloud)
		if !ok {
			continue
		}
		if ref, ok := cloudref.Parse(v.Text()); ok && file.FindCloud(ref.Account) == one {
			names = append(names, r.Called)
		}
	}
	slices.Sort(names)
	return names
}
