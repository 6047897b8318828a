package profilecmd

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/connurl"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/render"
)

// questions ask for the values of a new profile, one after another; "-" goes back to the last question.
type questions struct {
	*Call
	ctx    context.Context
	places []offeredServer
	given  base.Assignments
	engine *engine.Spec // nil until it is known
	url    bool         // the place is from a URL, which says the port where it is not the usual one
	keep   bool         // the password is to be kept in the wallet, once the profile is
}

// question is one question. ask returns errBack where the answer is "-".
type question struct {
	wanted func() bool // whether it has to be asked
	ask    func() error
}

var (
	errBack  = errors.New("back")
	errNoTLS = errors.New("expected one of the numbers")
)

// ask asks the questions. keep is true where the wallet must keep the password.
func (c *Call) ask(ctx context.Context) (given base.Assignments, keep bool, err error) {
	q := &questions{Call: c, ctx: ctx}
	done := c.showWaiting("looking for servers on this machine")
	all, connections, err := c.places(ctx)
	done()
	if err != nil {
		return nil, false, err
	}
	q.places = all
	c.Say("Enter takes the value in brackets; - goes back; Ctrl-C ends without saving.")
	if connections > 0 {
		c.Say("%d short connections were made on this machine; a server may count them.", connections)
	}
	always := func() bool { return true }
	list := []question{
		{always, q.askPlace},
		{func() bool { return !q.has(key.Engine) && !q.has(key.Like) && !q.has(key.Alias) }, q.askEngine},
		{func() bool { return q.has(key.Host) && !q.has(key.Port) && !q.url }, q.askPort},
		{q.needsService, q.askService},
		{always, q.askUser},
		{q.wantsDatabase, q.askDatabase},
		{func() bool { return !q.has(key.Secret) }, q.askSecret},
		{q.wantsTLS, q.askTLS},
	}
	var answered []base.Assignments // what was given before each question that was asked
	var asked []int
	for i := 0; i < len(list); i++ {
		if !list[i].wanted() {
			continue
		}
		before := slices.Clone(q.given)
		err := list[i].ask()
		switch {
		case errors.Is(err, errBack) && len(asked) == 0:
			c.Say("  this is the first question")
			i--
		case errors.Is(err, errBack):
			last := len(asked) - 1
			i, q.given = asked[last]-1, answered[last]
			asked, answered = asked[:last], answered[:last]
		case err != nil:
			return nil, false, err
		default:
			asked, answered = append(asked, i), append(answered, before)
		}
	}
	return q.given, q.keep, nil
}

// showWaiting shows what a person waits for.
func (c *Call) showWaiting(what string) (done func()) {
	p := render.NewProgress(c.Stderr, 1)
	p.Begin(what)
	return p.Clear
}

// has reports whether a key has a value.
func (q *questions) has(k key.Name) bool {
	_, ok := q.given.Get(k)
	return ok
}

// line asks one question.
func (q *questions) line(prompt, byDefault string) (string, error) {
	answer, err := q.Question(q.ctx, prompt, byDefault)
	if err == nil && answer == "-" {
		err = errBack
	}
	return answer, err
}

// field asks for the value of a key until it fits.
func (q *questions) field(k key.Name, prompt, byDefault string) (string, error) {
	for {
		answer, err := q.line(prompt, byDefault)
		if err != nil {
			return "", err
		}
		if err := q.given.Add(q.Keys.Field(k), answer, false); err != nil {
			q.Say("  %s", err)
			continue
		}
		return answer, nil
	}
}

// askPlace shows the servers that were found, and takes a number, or any address.
func (q *questions) askPlace() error {
	q.given, q.engine, q.url = nil, nil, false
	byDefault := ""
	if len(q.places) > 0 {
		q.Say("Where is the server?")
		for i, p := range q.places {
			q.Say("  %2d  %s", i+1, p.text)
		}
		byDefault = "1"
	}
	prompt := "host:port, a URL, or the path of a socket"
	if byDefault != "" {
		prompt = "a number, or " + prompt
	}
	for {
		answer, err := q.line(prompt, byDefault)
		if err != nil {
			return err
		}
		if err := q.takePlace(answer); err != nil {
			q.Say("  %s", err)
			q.given = nil
			continue
		}
		if e, ok := q.given.Get(key.Engine); ok {
			q.engine = q.Engines.ByWord(e.Text())
		}
		return nil
	}
}

// takePlace reads the answer to the question about the server's place.
func (q *questions) takePlace(answer string) error {
	if n, err := strconv.Atoi(answer); err == nil {
		if n < 1 || n > len(q.places) {
			return fmt.Errorf("expected a number from 1 to %d", len(q.places))
		}
		q.given = slices.Clone(q.places[n-1].sets)
		return nil
	}
	switch {
	case answer == "":
		return errors.New("expected an address, such as 127.0.0.1:" + strconv.Itoa(q.Engines.Example().Port))
	case strings.Contains(answer, "://"):
		read, err := connurl.Parse(q.Keys, answer)
		if errors.Is(err, connurl.ErrPassword) {
			return errors.New("the URL has a password in it: give the URL without it")
		}
		if err != nil {
			return err
		}
		q.given, q.url = read.Sets, true
		q.NoteLeftOut(read)
		return nil
	case strings.HasPrefix(answer, "/"), strings.HasPrefix(answer, "~"):
		return q.given.Add(q.Keys.Field(key.Socket), answer, false)
	}
	host, port, err := net.SplitHostPort(answer)
	if err != nil {
		host, port = answer, ""
	}
	if err := q.given.Add(q.Keys.Field(key.Host), host, false); err != nil || port == "" {
		return err
	}
	return q.given.Add(q.Keys.Field(key.Port), port, false)
}

// askEngine lists the engines; a number, a word or the start of one chooses.
func (q *questions) askEngine() error {
	words := q.Engines.Testable()
	byDefault := q.likelyEngine()
	q.Say("Which kind of server is it?")
	for i, word := range words {
		q.Say("  %2d  %s", i+1, word)
	}
	for {
		answer, err := q.line("a number, or its first letters", byDefault)
		if err != nil {
			return err
		}
		if word := chosenEngine(answer, words); word != "" {
			q.engine = q.Engines.ByWord(word)
			return q.given.Add(q.Keys.Field(key.Engine), word, false)
		}
		q.Say("  expected one of %s", strings.Join(words, ", "))
	}
}

// chosenEngine is the engine of an answer, "" for none or several.
func chosenEngine(answer string, words []string) string {
	if n, err := strconv.Atoi(answer); err == nil && n >= 1 && n <= len(words) {
		return words[n-1]
	}
	chosen := ""
	for _, word := range words {
		switch {
		case answer == word:
			return word
		case answer != "" && strings.HasPrefix(word, strings.ToLower(answer)) && chosen == "":
			chosen = word
		case answer != "" && strings.HasPrefix(word, strings.ToLower(answer)):
			return ""
		}
	}
	return chosen
}

// likelyEngine is the engine whose usual port was given, else the first that was found on this machine, else none.
func (q *questions) likelyEngine() string {
	if port, ok := q.given.Get(key.Port); ok {
		for _, word := range q.Engines.Testable() {
			if strconv.Itoa(q.Engines.Port(word)) == port.Text() {
				return word
			}
		}
	}
	for _, p := range q.places {
		if e, ok := p.sets.Get(key.Engine); ok {
			return e.Text()
		}
	}
	return ""
}

func (q *questions) askPort() error {
	_, err := q.field(key.Port, "port", strconv.Itoa(q.engine.Port))
	return err
}

// needsService reports whether the engine needs a service, and none is known.
func (q *questions) needsService() bool {
	if q.engine == nil || len(q.engine.Keys.Needs.Keys) == 0 {
		return false
	}
	return !slices.ContainsFunc(q.engine.Keys.Needs.Keys, q.has)
}

func (q *questions) askService() error {
	_, err := q.field(q.engine.Keys.Needs.Keys[0], q.engine.Keys.Needs.Ask, "")
	return err
}

// askUser asks for the account. A profile with like or an alias may take it from there.
func (q *questions) askUser() error {
	byDefault := ""
	if user, ok := q.given.Get(key.User); ok {
		byDefault = user.Text()
		q.given = slices.DeleteFunc(q.given, func(s schema.Override) bool { return s.Field.Name == key.User })
	}
	if q.engine == nil {
		return q.optional(key.User, "user, or Enter for the one it has", byDefault)
	}
	if byDefault == "" {
		byDefault = q.LikelyUser(q.engine)
	}
	_, err := q.field(key.User, "user", byDefault)
	return err
}

// optional asks for a key that needs no value.
func (q *questions) optional(k key.Name, prompt, byDefault string) error {
	for {
		answer, err := q.line(prompt, byDefault)
		if err != nil || answer == "" {
			return err
		}
		if err := q.given.Add(q.Keys.Field(k), answer, false); err != nil {
			q.Say("  %s", err)
			continue
		}
		return nil
	}
}

// wantsDatabase reports whether a database can be chosen, and none was.
func (q *questions) wantsDatabase() bool {
	if q.engine == nil {
		return !q.has(key.Database)
	}
	_, idle := q.engine.Keys.Idle[key.Database]
	return !idle && !q.has(key.Database)
}

func (q *questions) askDatabase() error {
	switch {
	case q.engine == nil:
		return q.optional(key.Database, "database, or Enter for the one it has", "")
	case !q.engine.Keys.UserDatabase: // no database is one too
		return q.optional(key.Database, "database, or Enter for none", "")
	}
	user, _ := q.given.Get(key.User)
	_, err := q.field(key.Database, "database", user.Text())
	return err
}

// secretChoices are the places where the password of a new profile can be.
var secretChoices = []string{
	"ask for it each time",
	"keep it in the wallet now",
	"it is somewhere else: a file, a variable, a command, …",
	"none: the server wants no password",
}

// askSecret asks where the password is. It does not show an answer that is none of the choices, as it may be the
// password itself.
func (q *questions) askSecret() error {
	q.keep = false
	if place := q.foundPassword(); place != "" {
		q.Say("The password is in the %s.", place)
		return nil // the profile finds it there
	}
	q.Say("The password:")
	for i, choice := range secretChoices {
		q.Say("  %2d  %s", i+1, choice)
	}
	n, err := q.Choice(q.ctx, "a number (a password typed here is not shown and not saved)", secretChoices, 1)
	switch {
	case err != nil:
		return err
	case n == 0:
		return errBack
	case n == 1:
		return q.given.Add(q.Keys.Field(key.Secret), "ask", false)
	case n == 2:
		q.keep = true
		return q.given.Add(q.Keys.Field(key.Secret), "wallet", false)
	case n == 4:
		return q.given.Add(q.Keys.Field(key.Secret), "none", false)
	}
	_, err = q.field(key.Secret, "where: "+secret.Words, "")
	return err
}

// foundPassword is the place of a password in the engine's credential file, "" where there is none for this server.
func (q *questions) foundPassword() string {
	finder, err := q.Finder()
	if err != nil || q.engine == nil || q.engine.Credentials == nil {
		return ""
	}
	finder.Wallet, finder.Terminal = nil, false
	p := resolve.Values(q.Keys, "new", q.given, q.Environment())
	query, err := secretcmd.NewCall(q.Call.Call).QueryOf(q.ctx, p)
	if err != nil {
		return ""
	}
	located, found := finder.Locate(q.ctx, query)
	if located == nil || found != nil || located.None {
		return ""
	}
	return located.Place
}

// wantsTLS reports whether encryption matters: it does not for a connection within this machine.
func (q *questions) wantsTLS() bool {
	host, ok := q.given.Get(key.Host)
	return ok && !q.has(key.TLS) && !hostname.Local(host.Text())
}

func (q *questions) askTLS() error {
	rules := []string{"verified", "required", "off"}
	q.Say("The connection leaves this machine. Encrypt it:")
	for i, text := range []string{
		"verified: yes, and check that it is the right server",
		"required: yes, without checking who answers",
		"off: no",
	} {
		q.Say("  %2d  %s", i+1, text)
	}
	for {
		answer, err := q.line("a number", "1")
		if err != nil {
			return err
		}
		n, err := strconv.Atoi(answer)
		if at := slices.Index(rules, answer); at >= 0 {
			n, err = at+1, nil
		}
		if err != nil || n < 1 || n > len(rules) {
			q.Say("  %s", errNoTLS)
			continue
		}
		if n == 1 { // which is what a profile has that says nothing
			return nil
		}
		return q.given.Add(q.Keys.Field(key.TLS), rules[n-1], false)
	}
}
