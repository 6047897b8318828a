package profilecmd

import (
	"context"
	"errors"
	"strconv"
	"strings"

	"gentleharbor/core/check"
	"gentleharbor/core/hostname"
	"gentleharbor/core/intake"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/connurl"
	"gentleharbor/core/profile/key"
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
		Name: "add", Args: "NAME [URL]", Summary: "define a profile: by flags, by a connection URL, or question by question",
		Long: `With flags or a URL the profile is written at once. With neither, on a terminal,
each value is asked for: the default is shown, Enter keeps it, and a test is offered.

A password has no place here. Say with -secret where it is. Where nothing is set, the
engine's credential file is looked through, then an open wallet, then the terminal is
asked. A URL with its password in it is pasted: -url-stdin -into wallet.`,
		Examples: []string{
			"gharbor add sightings -engine {{engine}} -host 127.0.0.1 -port {{port}} -database sightings -user warden",
			"gharbor add sightings-ro -like sightings -user visitor -secret env:VISITOR_PASSWORD",
			"gharbor add tides '{{scheme}}://tidekeeper@tide-db.internal.example/tides?sslmode=require' -test",
		},
		MinArgs: 1, MaxArgs: 2,
		Flags: func(fs *base.FlagSet) {
			given.Flags(fs)
			o.to.Flag(fs)
			fs.BoolVar(&o.test, "test", false, "test the profile once it is kept")
			fs.BoolVar(&o.urlStdin, "url-stdin", false,
				"the URL is the first line of standard input; it may have its password with -into wallet")
			transfercmd.IntoFlag(fs, &o.into)
			o.wallet.Flags(fs)
		},
		Run: run(func(ctx context.Context, c *Call) error { return c.add(ctx, o, given) }),
	}
}

// addOptions are the flags of add that are no keys of a profile.
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
	asked := len(given) == 0
	if given, err = c.complete(ctx, o.to, given); err != nil {
		return err
	}
	if password.Present() {
		if err := c.Free(o.to, name); err != nil {
			return err
		}
		if err := transfercmd.Of(c.Call).KeepPasswords(ctx, o.wallet,
			[]*transfercmd.Planned{{Found: intake.Found{Name: name, Password: password}, Settings: given}}); err != nil {
			return err
		}
		c.Say("kept: the password, as entry %s of the wallet", name)
	}
	if err := c.Keep(ctx, o.to, name, given); err != nil || o.to.Project {
		return err // a project's profile has to be vouched for first
	}
	test := o.test
	if asked {
		if test, err = c.Confirm(ctx, "test it now?", true); err != nil {
			return err
		}
	}
	return c.FirstTest(ctx, name, test)
}

// FirstTest tests a profile that was just kept, or says how.
func (c *Call) FirstTest(ctx context.Context, name string, test bool) error {
	if !test {
		c.Say("  try: gharbor test %s", name)
		return nil
	}
	p, err := c.Resolve(name, nil)
	if err != nil {
		return err
	}
	runner, err := testcmd.Of(c.Call).Runner(check.DefaultTimeout)
	if err != nil {
		return err
	}
	return testcmd.Of(c.Call).TestOne(ctx, runner, p, testcmd.TestOptions{Form: "text"})
}

// fromURL adds what a URL says, as a word or pasted, to what the flags say. A
// pasted one's password comes back apart.
func (c *Call) fromURL(o addOptions, given base.Assignments) (base.Assignments, secret.Value, error) {
	var err error
	switch {
	case o.into != "" && !o.urlStdin:
		err = base.Usage("-into wallet goes with -url-stdin: a password on a command line would be in the shell's history")
	case o.urlStdin && len(c.Args) == 2:
		err = base.Usage("-url-stdin and a URL are two ways to give it; give one")
	case o.into != "" && o.to.Project:
		err = base.Usage("-into wallet and -project contradict each other: a project's file is shared, a wallet is not")
	case o.urlStdin:
		return c.withPastedURL(c.Args[0], given, o.into)
	case len(c.Args) == 2:
		given, err = c.withURL(given, c.Args[1])
	}
	return given, secret.Value{}, err
}

// complete asks for the values where none was given, and wants an engine where
// some were.
func (c *Call) complete(ctx context.Context, to base.Target, given base.Assignments) (base.Assignments, error) {
	_, engine := given.Get(key.Engine)
	_, like := given.Get(key.Like)
	_, alias := given.Get(key.Alias)
	switch {
	case engine || like || alias:
		return given, nil
	case len(given) > 0:
		return nil, base.Failure(base.ExitUsage,
			errors.New("-engine is missing: which kind of server is it?"),
			"gharbor help add")
	case !c.Interactive():
		return nil, base.Failure(base.ExitUsage,
			errors.New("nothing to add, and no terminal to ask on: give flags or a URL"),
			"gharbor help add")
	}
	if err := c.Free(to, c.Args[0]); err != nil {
		return nil, err
	}
	return c.ask(ctx)
}

// Keep writes the new profile.
func (c *Call) Keep(ctx context.Context, to base.Target, name string, given base.Assignments) error {
	if !to.Project { // in a project's file a relative path is the repository's
		given.WholePaths(c.Environment().Home)
	}
	err := c.Update(ctx, to, "kept", name, func(f *profile.File) (*profile.Edit, error) { return f.Add(name, given) })
	if _, alias := given.Get(key.Alias); alias && err == nil {
		c.warnAliasProblem(to, name)
	}
	return err
}

// withPastedURL takes a URL from standard input. Its password, if it has one,
// comes back apart, and the profile names the wallet for it.
func (c *Call) withPastedURL(name string, given base.Assignments, into string) (base.Assignments, secret.Value, error) {
	pasted, err := secretcmd.Of(c.Call).SecretFromStdin()
	if err != nil {
		return nil, secret.Value{}, err
	}
	sets, password, err := connurl.Split(c.Keys, strings.TrimSpace(pasted.Disclose()))
	switch {
	case err != nil:
		return nil, secret.Value{}, base.Usage("%w", err)
	case password.Present() && into == "":
		return nil, secret.Value{}, base.Usage("the URL has a password in it; -into wallet keeps it there")
	}
	given, err = withSets(given, sets)
	if err != nil || into == "" {
		return given, secret.Value{}, err
	}
	if !password.Present() {
		return nil, secret.Value{}, base.Usage("-into wallet: the URL has no password in it")
	}
	if _, twice := given.Get(key.Secret); twice {
		return nil, secret.Value{}, base.Usage("-secret and -into wallet both say where the password is; give one")
	}
	err = given.Add(c.Keys.Field(key.Secret), "wallet:"+name, false)
	return given, password, err
}

func (c *Call) withURL(given base.Assignments, url string) (base.Assignments, error) {
	fromURL, err := connurl.Parse(c.Keys, url)
	if err != nil {
		return nil, base.Usage("%w", err)
	}
	return withSets(given, fromURL)
}

// withSets adds what a URL says to what the flags say.
func withSets(given base.Assignments, fromURL []schema.Override) (base.Assignments, error) {
	for _, one := range fromURL {
		if _, twice := given.Get(one.Field.Name); twice && one.Field.Name != "engine" {
			return nil, base.Usage("-%s and the URL both say the %s; give it once", one.Field.Name, one.Field.Name)
		}
		if e, twice := given.Get(key.Engine); twice && one.Field.Name == "engine" {
			if e.Text() != one.Value.Text() {
				return nil, base.Usage("-engine and the URL name different engines; give one")
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
		file = file.Attached()
	}
	if file == nil {
		return nil
	}
	if p := file.Lookup(name); p != nil && p.InProject() == to.Project {
		return base.Usage("profile %q exists already (%s:%d); gharbor set %s changes it", name, file.Path, p.Line, name)
	}
	return nil
}

// ask goes through the values of a new profile on the terminal.
func (c *Call) ask(ctx context.Context) (base.Assignments, error) {
	c.Say("Enter keeps the value in brackets; Ctrl-C keeps nothing.")
	var given base.Assignments
	word, err := c.askField(ctx, "engine", "engine", c.Engines.Example().Word, &given)
	if err != nil {
		return nil, err
	}
	spec := c.Engines.Named(word)
	if err := c.askWhere(ctx, &given); err != nil {
		return nil, err
	}
	if _, socket := given.Get(key.Socket); !socket {
		if _, err := c.askField(ctx, "port", "port", strconv.Itoa(spec.Port), &given); err != nil {
			return nil, err
		}
	}
	user, err := c.askField(ctx, "user", "user", c.SystemAccount(), &given)
	if err != nil {
		return nil, err
	}
	inOrder := "wallet, then ask"
	if spec.Credentials != nil {
		inOrder = spec.Credentials.Source() + ", " + inOrder
	}
	for _, k := range spec.Keys.Needs.Keys[:min(1, len(spec.Keys.Needs.Keys))] {
		if _, err := c.askField(ctx, string(k), spec.Keys.Needs.Ask, "", &given); err != nil {
			return nil, err
		}
	}
	if _, idle := spec.Keys.Idle["database"]; !idle {
		question := "database"
		if !spec.Keys.UserDatabase { // no database is one too, and the user's name is none
			question, user = "database, or Enter for none", ""
		}
		if _, err := c.askField(ctx, "database", question, user, &given); err != nil {
			return nil, err
		}
	}
	if _, err := c.askField(ctx, "secret", "where the password is: "+secret.Words, inOrder, &given); err != nil {
		return nil, err
	}
	rule := "verified"
	host, _ := given.Get(key.Host)
	if _, socket := given.Get(key.Socket); socket || hostname.Local(host.Text()) {
		rule = "offered"
	}
	_, err = c.askField(ctx, "tls", "tls: off, offered, required or verified", rule, &given)
	return given, err
}

// askWhere takes a host or, by its slash, the path of a socket.
func (c *Call) askWhere(ctx context.Context, given *base.Assignments) error {
	for {
		answer, err := c.Question(ctx, "host, or the path of a Unix socket", "127.0.0.1")
		if err != nil {
			return err
		}
		k := "host"
		if strings.HasPrefix(answer, "/") || strings.HasPrefix(answer, "~") {
			k = "socket"
		}
		if err := given.Add(c.Keys.Field(key.Name(k)), answer, false); err != nil {
			c.Say("  %s", err)
			continue
		}
		return nil
	}
}

// askField asks for one key until the answer fits. What Enter keeps is noted
// where the file is the better for it; defaults that follow from other values
// are left to follow.
func (c *Call) askField(ctx context.Context, k, prompt, byDefault string, given *base.Assignments) (string, error) {
	for {
		answer, err := c.Question(ctx, prompt, byDefault)
		if err != nil {
			return "", err
		}
		if answer == byDefault && (k == "secret" || k == "tls" || k == "database" && answer == "") {
			return answer, nil
		}
		if err := given.Add(c.Keys.Field(key.Name(k)), answer, false); err != nil {
			c.Say("  %s", err)
			continue
		}
		return answer, nil
	}
}
