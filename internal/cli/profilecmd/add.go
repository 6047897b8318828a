package profilecmd

import (
	"context"
	"errors"
	"strings"

	"gentleharbor/core/check"
	"gentleharbor/core/intake"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/connurl"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/cli/testcmd"
	"gentleharbor/internal/cli/transfercmd"
)

func Add() *base.Command {
	var given base.Assignments
	var o addOptions
	return &base.Command{
		Name: "add", Args: "NAME [URL]", Summary: "define a connection profile: with flags, with a URL, or by " +
			"answering questions",
		Long: `With flags or a URL the profile is written at once. With neither, on a terminal,
add asks for each value (Enter takes the default that is shown), and offers a test.

Give no password here: -secret says where it is. Without -secret, gharbor looks in the
engine's credential file, then in an unlocked wallet, and then asks at the terminal. To
paste a URL with its password: -url-stdin -into wallet.`,
		Examples: []string{
			"gharbor add counts -engine {{engine}} -host 127.0.0.1 -port {{port}} -database sightings -user warden",
			"gharbor add reports -like sightings -user visitor -secret env:VISITOR_PASSWORD",
			"gharbor add gauges '{{scheme}}://tidekeeper@tide-db.internal.example/tides?sslmode=require'",
		},
		MinArgs: 1, MaxArgs: 2,
		Flags: func(fs *base.FlagSet) {
			given.Flags(fs)
			fs.Section("Saving")
			o.to.Flag(fs)
			fs.BoolVar(&o.test, "test", false, "test the profile after saving it")
			fs.BoolVar(&o.urlStdin, "url-stdin", false,
				"read the URL from standard input; with -into wallet it may contain the password")
			transfercmd.IntoFlag(fs, &o.into)
			o.wallet.Flags(fs)
		},
		Run: run(func(ctx context.Context, c *Call) error { return c.add(ctx, o, given) }),
	}
}

// addOptions are the flags of add that set no key of a profile.
type addOptions struct {
	to       base.Target
	test     bool
	urlStdin bool
	into     string
	wallet   secretcmd.WalletFlags
}

func (c *Call) add(ctx context.Context, o addOptions, given base.Assignments) error {
	name := c.Args[0]
	if !syntax.ValidName(name) {
		if strings.Contains(name, "://") {
			return base.Usage("the name comes first: gharbor add NAME URL")
		}
		return base.Usage("not a profile name: %s", syntax.NameRule)
	}
	given, password, err := c.fromURL(o, given)
	if err != nil {
		return err
	}
	if err := given.OneAddress(); err != nil {
		return err
	}
	asked, keep := len(given) == 0, false
	if asked {
		given, keep, err = c.askAll(ctx, o.to)
	} else {
		err = c.complete(given)
	}
	if err != nil {
		return err
	}
	if password.Present() {
		if err := c.Free(o.to, name); err != nil {
			return err
		}
		plan := &transfercmd.PlannedImport{
			Connection: intake.Connection{Name: name, Password: password},
			Settings:   given,
		}
		err := transfercmd.NewCall(c.Call).KeepPasswords(ctx, o.wallet, []*transfercmd.PlannedImport{plan})
		if err != nil {
			return err
		}
		c.Say("saved: the password, as the wallet's entry %s", name)
	}
	if err := c.Keep(ctx, o.to, name, given); err != nil || o.to.Project {
		return err // a project's profile has to be vouched for first
	}
	if !asked {
		return c.FirstTest(ctx, name, o.test)
	}
	if keep {
		if err := secretcmd.NewCall(c.Call).KeepSecret(ctx, name); err != nil {
			return err
		}
	}
	test, err := c.Confirm(ctx, "test it now?", true)
	if err != nil {
		return err
	}
	if !test {
		return c.FirstTest(ctx, name, false)
	}
	return c.testAndCorrect(ctx, name)
}

// FirstTest tests a new profile, or suggests to.
func (c *Call) FirstTest(ctx context.Context, name string, test bool) error {
	p, err := c.Resolve(name, nil)
	if err != nil {
		return err
	}
	if !test {
		c.nextTest(p)
		return nil
	}
	runner, err := testcmd.NewCall(c.Call).Runner(check.DefaultTimeout)
	if err != nil {
		return err
	}
	return testcmd.NewCall(c.Call).TestOne(ctx, runner, p, testcmd.TestOptions{Form: "text"})
}

// nextTest suggests to test a profile, or first to add what it lacks.
func (c *Call) nextTest(p *resolve.Profile) {
	found := check.Untestable(p)
	if found == nil || p.AliasProblem() != nil {
		c.Say("  try: gharbor test %s", p.Called)
		return
	}
	c.Notice("%s (%s)", found.Cause, found.Code)
	for _, line := range found.Try {
		c.Say("  try: %s", line)
	}
	for _, step := range found.Do {
		c.Say("  do: %s", step)
	}
}

// fromURL adds the values of a URL, typed or pasted, to those of the flags. It returns a pasted one's password apart.
func (c *Call) fromURL(o addOptions, given base.Assignments) (base.Assignments, secret.Value, error) {
	var err error
	switch {
	case o.into != "" && !o.urlStdin:
		err = base.Usage("-into wallet needs -url-stdin: a password on the command line ends up in the shell's history")
	case o.urlStdin && len(c.Args) == 2:
		err = base.Usage("give a URL or -url-stdin, not both")
	case o.into != "" && o.to.Project:
		err = base.Usage("-into wallet and -project do not go together: a project's file is shared, a wallet is not")
	case o.urlStdin:
		return c.withPastedURL(c.Args[0], given, o.into)
	case len(c.Args) == 2:
		given, err = c.withURL(given, c.Args[1])
	}
	return given, secret.Value{}, err
}

// complete wants an engine.
func (c *Call) complete(given base.Assignments) error {
	for _, k := range []key.Name{key.Engine, key.Like, key.Alias} {
		if _, ok := given.Get(k); ok {
			return nil
		}
	}
	return base.Failure(base.ExitUsage, errors.New("-engine is missing: which kind of server is it?"),
		c.CommandWith("engine", c.Engines.Example().Word)+"   # or which it is")
}

// askAll asks for the values of a new profile.
func (c *Call) askAll(ctx context.Context, to base.Target) (given base.Assignments, keep bool, err error) {
	if !c.Interactive() {
		return nil, false, base.Failure(base.ExitUsage,
			errors.New("nothing to add: give flags or a URL (there is no terminal to ask on)"), "gharbor help add")
	}
	if err := c.Free(to, c.Args[0]); err != nil {
		return nil, false, err
	}
	return c.ask(ctx)
}

// Keep writes the new profile.
func (c *Call) Keep(ctx context.Context, to base.Target, name string, given base.Assignments) error {
	if !to.Project { // in a project's file a relative path is the repository's
		given.WholePaths(c.Environment().Home)
	}
	err := c.Update(ctx, to, "saved", name, func(f *profile.File) (*profile.Edit, error) { return f.Add(name, given) })
	if _, alias := given.Get(key.Alias); alias && err == nil {
		c.warnAliasProblem(to, name)
	}
	return err
}

// withPastedURL takes a URL from standard input. It returns a password apart, and the profile names the wallet for
// it.
func (c *Call) withPastedURL(name string, given base.Assignments, into string) (base.Assignments, secret.Value, error) {
	pasted, err := secretcmd.NewCall(c.Call).SecretFromStdin()
	if err != nil {
		return nil, secret.Value{}, err
	}
	read, err := connurl.Split(c.Keys, strings.TrimSpace(pasted.Disclose()))
	if err != nil {
		return nil, secret.Value{}, base.Usage("%w", err)
	}
	password := read.Password
	if password.Present() && into == "" {
		return nil, secret.Value{}, base.Usage("the URL has a password in it: add -into wallet to save it there")
	}
	given, err = withSets(given, read.Sets)
	c.NoteLeftOut(read)
	if err != nil || into == "" {
		return given, secret.Value{}, err
	}
	if !password.Present() {
		return nil, secret.Value{}, base.Usage("-into wallet: the URL has no password in it")
	}
	if _, twice := given.Get(key.Secret); twice {
		return nil, secret.Value{}, base.Usage("-secret and -into wallet both say where the password is: give one")
	}
	err = given.Add(c.Keys.Field(key.Secret), "wallet:"+name, false)
	return given, password, err
}

func (c *Call) withURL(given base.Assignments, url string) (base.Assignments, error) {
	fromURL, err := connurl.Parse(c.Keys, url)
	if errors.Is(err, connurl.ErrPassword) {
		return nil, base.Failure(base.ExitUsage, err,
			"gharbor add "+c.Args[0]+" -url-stdin -into wallet   # then paste the URL")
	}
	if err != nil {
		return nil, base.Usage("%w", err)
	}
	c.NoteLeftOut(fromURL)
	return withSets(given, fromURL.Sets)
}

// withSets adds the values of a URL to those of the flags.
func withSets(given base.Assignments, fromURL []schema.Override) (base.Assignments, error) {
	for _, one := range fromURL {
		if _, twice := given.Get(one.Field.Name); twice && one.Field.Name != "engine" {
			return nil, base.Usage("the URL already says the %s: leave out -%s", one.Field.Name, one.Field.Name)
		}
		if e, twice := given.Get(key.Engine); twice && one.Field.Name == "engine" {
			if e.Text() != one.Value.Text() {
				return nil, base.Usage("-engine and the URL name different engines")
			}
			continue
		}
		given = append(given, one)
	}
	return given, nil
}

// Free refuses a name that is taken before any question is asked.
func (c *Call) Free(to base.Target, name string) error {
	file, err := c.Load()
	if err != nil {
		return err
	}
	if to.Project {
		file = file.ProjectFile()
	}
	if file == nil {
		return nil
	}
	if p := file.Lookup(name); p != nil && p.InProject() == to.Project {
		return base.Usage("profile %q exists already (%s:%d); gharbor set %s changes it", name, file.Path, p.Line, name)
	}
	return nil
}
