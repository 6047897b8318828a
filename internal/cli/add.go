package cli

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
	"gentleharbor/core/secret"
)

func addCommand() *command {
	var given assignments
	var o addOptions
	return &command{
		name: "add", args: "NAME [URL]", summary: "define a profile: by flags, by a connection URL, or question by question",
		long: `With flags or a URL the profile is written at once. With neither, on a terminal,
each value is asked for: the default is shown, Enter keeps it, and a test is offered.

A password has no place here. Say with -secret where it is. Where nothing is said, the
engine's credential file is looked through, then an open wallet, then the terminal is
asked. A URL with its password in it is pasted: -url-stdin -into wallet.`,
		examples: []string{
			"gharbor add sightings -engine {{engine}} -host 127.0.0.1 -port {{port}} -database sightings -user warden",
			"gharbor add sightings-ro -like sightings -user visitor -secret env:VISITOR_PASSWORD",
			"gharbor add tides '{{scheme}}://tidekeeper@tide-db.internal.example/tides?sslmode=verify-full' -test",
		},
		minArgs: 1, maxArgs: 2,
		flags: func(fs *flagSet) {
			given.flags(fs)
			o.to.flag(fs)
			fs.BoolVar(&o.test, "test", false, "test the profile once it is kept")
			fs.BoolVar(&o.urlStdin, "url-stdin", false,
				"the URL is the first line of standard input; it may have its password with -into wallet")
			intoFlag(fs, &o.into)
			o.wallet.flags(fs)
		},
		run: func(ctx context.Context, c *call) error { return c.add(ctx, o, given) },
	}
}

// addOptions are the flags of add that are no keys of a profile.
type addOptions struct {
	to       target
	test     bool
	urlStdin bool
	into     string
	wallet   walletFlags
}

func (c *call) add(ctx context.Context, o addOptions, given assignments) error {
	name := c.args[0]
	if !schema.ValidName(name) {
		if strings.Contains(name, "://") {
			return usage("the name comes first: gharbor add NAME URL")
		}
		return usage("not a profile name: %s", schema.NameRule)
	}
	given, password, err := c.fromURL(o, given)
	if err != nil {
		return err
	}
	if err := given.oneAddress(); err != nil {
		return err
	}
	asked := len(given) == 0
	if given, err = c.complete(ctx, o.to, given); err != nil {
		return err
	}
	if password.Present() {
		if err := c.free(o.to, name); err != nil {
			return err
		}
		if err := c.keepPasswords(ctx, o.wallet,
			[]*planned{{Found: intake.Found{Name: name, Password: password}, sets: given}}); err != nil {
			return err
		}
		c.Say("kept: the password, as entry %s of the wallet", name)
	}
	if err := c.keep(ctx, o.to, name, given); err != nil || o.to.project {
		return err // a project's profile has to be vouched for first
	}
	test := o.test
	if asked {
		if test, err = c.Confirm(ctx, "test it now?", true); err != nil {
			return err
		}
	}
	return c.firstTest(ctx, name, test)
}

// firstTest tests a profile that was just kept, or says how.
func (c *call) firstTest(ctx context.Context, name string, test bool) error {
	if !test {
		c.Say("  try: gharbor test %s", name)
		return nil
	}
	p, err := c.resolve(name, nil)
	if err != nil {
		return err
	}
	runner, err := c.runner(check.DefaultTimeout)
	if err != nil {
		return err
	}
	return c.testOne(ctx, runner, p, testOptions{form: "text"})
}

// fromURL adds what a URL says, as a word or pasted, to what the flags say. A
// pasted one's password comes back apart.
func (c *call) fromURL(o addOptions, given assignments) (assignments, secret.Value, error) {
	var err error
	switch {
	case o.into != "" && !o.urlStdin:
		err = usage("-into wallet goes with -url-stdin: a password on a command line would be in the shell's history")
	case o.urlStdin && len(c.args) == 2:
		err = usage("-url-stdin and a URL are two ways to give it; give one")
	case o.into != "" && o.to.project:
		err = usage("-into wallet and -project contradict each other: a project's file is shared, a wallet is not")
	case o.urlStdin:
		return c.withPastedURL(c.args[0], given, o.into)
	case len(c.args) == 2:
		given, err = c.withURL(given, c.args[1])
	}
	return given, secret.Value{}, err
}

// complete asks for the values where none was given, and wants an engine where
// some were.
func (c *call) complete(ctx context.Context, to target, given assignments) (assignments, error) {
	_, engine := given.get("engine")
	_, like := given.get("like")
	_, alias := given.get("alias")
	switch {
	case engine || like || alias:
		return given, nil
	case len(given) > 0:
		return nil, &exitError{
			code: exitUsage,
			err:  errors.New("-engine is missing: which kind of server is it?"),
			try:  []string{"gharbor add " + c.args[0] + " -engine " + c.Engines.Example().Word + " …"},
		}
	case !c.Interactive():
		return nil, &exitError{
			code: exitUsage,
			err:  errors.New("nothing to add, and no terminal to ask on: give flags or a URL"),
			try:  []string{"gharbor help add"},
		}
	}
	if err := c.free(to, c.args[0]); err != nil {
		return nil, err
	}
	return c.ask(ctx)
}

// keep writes the new profile.
func (c *call) keep(ctx context.Context, to target, name string, given assignments) error {
	if !to.project { // in a project's file a relative path is the repository's
		given.wholePaths(c.environment().Home)
	}
	err := c.update(ctx, to, "kept", name, func(f *profile.File) (*profile.Edit, error) { return f.Add(name, given) })
	if _, alias := given.get("alias"); alias && err == nil {
		c.astray(to, name)
	}
	return err
}

// withPastedURL takes a URL from standard input. Its password, if it has one,
// comes back apart, and the profile names the wallet for it.
func (c *call) withPastedURL(name string, given assignments, into string) (assignments, secret.Value, error) {
	pasted, err := c.secretFromStdin()
	if err != nil {
		return nil, secret.Value{}, err
	}
	sets, password, err := connurl.Split(c.keys, strings.TrimSpace(pasted.Disclose()))
	switch {
	case err != nil:
		return nil, secret.Value{}, usage("%w", err)
	case password.Present() && into == "":
		return nil, secret.Value{}, usage("the URL has a password in it; -into wallet keeps it there")
	}
	given, err = withSets(given, sets)
	if err != nil || into == "" {
		return given, secret.Value{}, err
	}
	if !password.Present() {
		return nil, secret.Value{}, usage("-into wallet: the URL has no password in it")
	}
	if _, twice := given.get("secret"); twice {
		return nil, secret.Value{}, usage("-secret and -into wallet both say where the password is; give one")
	}
	err = given.add(c.keys.Field(key.Secret), "wallet:"+name, false)
	return given, password, err
}

func (c *call) withURL(given assignments, url string) (assignments, error) {
	fromURL, err := connurl.Parse(c.keys, url)
	if err != nil {
		return nil, usage("%w", err)
	}
	return withSets(given, fromURL)
}

// withSets adds what a URL says to what the flags say.
func withSets(given assignments, fromURL []schema.Override) (assignments, error) {
	for _, one := range fromURL {
		if _, twice := given.get(string(one.Field.Name)); twice && one.Field.Name != "engine" {
			return nil, usage("-%s and the URL both say the %s; give it once", one.Field.Name, one.Field.Name)
		}
		if e, twice := given.get("engine"); twice && one.Field.Name == "engine" {
			if e.Text() != one.Value.Text() {
				return nil, usage("-engine and the URL name different engines; give one")
			}
			continue
		}
		given = append(given, one)
	}
	return given, nil
}

// free refuses a name that is taken before any question is asked.
func (c *call) free(to target, name string) error {
	file, err := c.load()
	if err != nil {
		return err
	}
	if to.project {
		file = file.Attached()
	}
	if file == nil {
		return nil
	}
	if p := file.Lookup(name); p != nil && p.InProject() == to.project {
		return usage("profile %q exists already (%s:%d); gharbor set %s changes it", name, file.Path, p.Line, name)
	}
	return nil
}

// ask goes through the values of a new profile on the terminal.
func (c *call) ask(ctx context.Context) (assignments, error) {
	c.Say("Enter keeps the value in brackets; Ctrl-C keeps nothing.")
	var given assignments
	word, err := c.askField(ctx, "engine", "engine", c.Engines.Example().Word, &given)
	if err != nil {
		return nil, err
	}
	spec := c.Engines.Named(word)
	if err := c.askWhere(ctx, &given); err != nil {
		return nil, err
	}
	if _, socket := given.get("socket"); !socket {
		if _, err := c.askField(ctx, "port", "port", strconv.Itoa(spec.Port), &given); err != nil {
			return nil, err
		}
	}
	user, err := c.askField(ctx, "user", "user", c.account(), &given)
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
	host, _ := given.get("host")
	if _, socket := given.get("socket"); socket || hostname.Local(host.Text()) {
		rule = "offered"
	}
	_, err = c.askField(ctx, "tls", "tls: off, offered, required or verified", rule, &given)
	return given, err
}

// askWhere takes a host or, by its slash, the path of a socket.
func (c *call) askWhere(ctx context.Context, given *assignments) error {
	for {
		answer, err := c.Question(ctx, "host, or the path of a Unix socket", "127.0.0.1")
		if err != nil {
			return err
		}
		k := "host"
		if strings.HasPrefix(answer, "/") || strings.HasPrefix(answer, "~") {
			k = "socket"
		}
		if err := given.add(c.keys.Field(key.Name(k)), answer, false); err != nil {
			c.Say("  %s", err)
			continue
		}
		return nil
	}
}

// askField asks for one key until the answer fits. What Enter keeps is noted
// where the file is the better for it; defaults that follow from other values
// are left to follow.
func (c *call) askField(ctx context.Context, k, prompt, byDefault string, given *assignments) (string, error) {
	for {
		answer, err := c.Question(ctx, prompt, byDefault)
		if err != nil {
			return "", err
		}
		if answer == byDefault && (k == "secret" || k == "tls" || k == "database" && answer == "") {
			return answer, nil
		}
		if err := given.add(c.keys.Field(key.Name(k)), answer, false); err != nil {
			c.Say("  %s", err)
			continue
		}
		return answer, nil
	}
}
