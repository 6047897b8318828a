package redis

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/redis/resp"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
	"gentleharbor/core/tlsrule"
)

// defaultUser is the account before a login, and of a login without a name (Redis documentation, "ACL").
const defaultUser = "default"

// The ways of a login.
const (
	methodPassword = "password"
	methodNone     = "none asked"
)

// Login logs in with AUTH where the server asks for it, or the profile names an account.
func (c *conversation) Login(ctx context.Context) finding.Result {
	user := c.to.User
	if user == "" {
		user = defaultUser
	}
	c.facts.User = user
	if user == defaultUser && !isRefusal(c.pong, "NOAUTH") {
		c.facts.LoginMethod = methodNone
		if result := c.greet(ctx, nil); result != nil {
			return *result
		}
		return c.notAsked()
	}
	words, found := c.authentication(ctx, user)
	if found != nil {
		return finding.FailWith(found)
	}
	if result := c.greet(ctx, words); result != nil {
		return *result
	}
	c.facts.LoginMethod = methodPassword
	detail := fmt.Sprintf("%s by %s", clean.Quote(user), methodPassword)
	if c.inTheClear() && !c.listenerChecked() {
		return finding.WarnWith(finding.New(finding.LoginWeakMethod,
			"the password went to the server as it is: the rule is tls = off").
			Saw("the connection is not encrypted").
			Suggest("gharbor test %s -override tls=verified   # if the server has a port for TLS", c.to.Profile), "%s", detail)
	}
	return finding.Good("%s", detail)
}

// notAsked is the result for a server that asks for no login.
func (c *conversation) notAsked() finding.Result {
	found := finding.New(finding.LoginNoPasswordAsked,
		"the server asks for no password: everybody who reaches it is its user %s", defaultUser)
	if !c.to.NoSecret {
		found.Cause = "the server asks for no password: the profile's was not sent"
		found.Saw("its default user has none")
	}
	return finding.WarnWith(found.Advise(
		"on the server: give the default user a password, with requirepass or ACL SETUSER"),
		"%s, no password asked", clean.Quote(defaultUser))
}

// inTheClear reports whether others can read on the way what is sent.
func (c *conversation) inTheClear() bool {
	return c.to.Network != "unix" && (c.facts.TLSVerified == nil || !*c.facts.TLSVerified)
}

func (c *conversation) listenerChecked() bool {
	return c.to.ListenerChecked != nil && c.to.ListenerChecked()
}

// authentication is the command AUTH. It has the password in the clear, so it is sent only over verified TLS, to a
// socket or a loopback port whose process was checked, or where the profile says tls = off.
func (c *conversation) authentication(ctx context.Context, user string) ([]string, *finding.Finding) {
	words := []string{"AUTH", user, ""}
	if user == defaultUser {
		words = []string{"AUTH", ""}
	}
	if c.to.NoSecret {
		if user == defaultUser {
			return nil, c.to.PasswordWanted(finding.New(finding.LoginPasswordWanted,
				"the server wants a password, and the profile sends none").Saw("%s", serverText(c.pong)))
		}
		return words, nil // an account may have none
	}
	allowed := c.to.ClearAllowed(&c.facts) || c.to.Network != "unix" && (c.to.TLS.Rule == tlsrule.Off ||
		c.listenerChecked())
	if !allowed {
		return nil, c.unsafe()
	}
	value, err := c.to.TakeSecret(ctx)
	if err != nil {
		return nil, c.to.ExplainSecretError(&engine.SecretError{Err: err})
	}
	c.blank, c.empty = strings.TrimSpace(value.Disclose()) != value.Disclose(), value.Empty()
	words[len(words)-1] = value.Disclose()
	return words, nil
}

// unsafe is for a password that others could read on the way.
func (c *conversation) unsafe() *finding.Finding {
	found := c.to.NotInTheClear(finding.New(finding.LoginCleartextRefused,
		"the server wants the password as it is, and the way to it is not safe"), &c.facts)
	if c.to.Network == "unix" {
		return found
	}
	return found.Advise("where nobody else is on the way: gharbor set %s tls=off   # the password is sent as it is",
		c.to.Profile)
}

// greet logs in, and asks for the newer protocol in the same message. It is nil after a login.
func (c *conversation) greet(ctx context.Context, authentication []string) *finding.Result {
	commands := [][]string{{"HELLO", "3"}}
	if authentication != nil {
		commands = [][]string{authentication, {"HELLO", "3"}}
	}
	replies, err := c.askAll(ctx, commands...)
	if err != nil {
		result := finding.FailWith(c.probe.EndedAtLogin(ctx, &c.facts, methodPassword, err))
		return &result
	}
	if refused := replies[0]; authentication != nil && refused.IsError() {
		result := finding.FailWith(c.refusedLogin(refused))
		return &result
	}
	c.hello = fields(replies[len(replies)-1])
	if c.hello["mode"] == "sentinel" {
		result := finding.FailWith(c.sentinel(ctx))
		return &result
	}
	return nil
}

// refusedLogin turns the answer to AUTH into a finding.
func (c *conversation) refusedLogin(r *resp.Reply) *finding.Finding {
	user := c.facts.User
	switch what := means(r); {
	case what == meansPasswordWrong && c.to.NoSecret:
		found := finding.New(finding.LoginPasswordWanted,
			"the server wants a password for %s, and the profile sends none", clean.Quote(user)).
			Saw("%s", serverText(r)).Saw("this server gives the same answer for a user that does not exist")
		return c.to.LookUpAs(c.to.PasswordWanted(found))
	case what == meansPasswordWrong && c.empty:
		return c.to.PasswordAgain(finding.New(finding.LoginEmptyPassword, "the password is empty, and the server refused it").
			Saw("%s", serverText(r)).Saw("it came from: %s", c.facts.SecretSource))
	case what == meansPasswordWrong:
		found := finding.New(finding.LoginPassword, "the server refused the password of %s", clean.Quote(user)).
			Saw("%s", serverText(r))
		if user != defaultUser {
			found.Cause = "the server refused " + clean.Quote(user) +
				": the password is wrong, there is no such user, or it is switched off"
			found.Saw("this server gives one answer for all of these")
		}
		if c.blank {
			found.Saw("the password begins or ends with a blank")
		}
		return c.to.LookUpAs(c.to.PasswordAgain(found))
	case what == meansNoPasswordSet:
		return finding.New(finding.LoginRefused, "the server has no password for its default user, and was sent one").
			Saw("%s", serverText(r)).
			Suggest("gharbor test %s -override secret=none", c.to.Profile)
	case strings.Contains(r.String(), "wrong number of arguments"):
		return finding.New(finding.LoginNoSuchRole,
			"this server is older than version 6, and knows no users: only a password").
			Saw("%s", serverText(r)).
			Suggest("gharbor set %s user=", c.to.Profile)
	}
	if found := c.refusedFirst(r); found != nil {
		return found
	}
	return finding.New(finding.LoginRefused, "the server refused the login").Saw("%s", serverText(r)).
		Suggest("gharbor show %s", c.to.Profile)
}

// sentinel is for a server that watches others. The report shows what it says about them; we don't follow it.
func (c *conversation) sentinel(ctx context.Context) *finding.Finding {
	found := finding.New(finding.SpeakSentinel, "a sentinel answers at %s: it watches servers, and has no data",
		c.to.Address)
	reply, err := c.ask(ctx, "SENTINEL", "MASTERS")
	if err != nil || !reply.IsList() {
		return found.Advise("name the server itself: gharbor set %s host=HOST port=PORT", c.to.Profile)
	}
	const most = 2
	for i, item := range reply.Items {
		one := fields(&item)
		if i == most {
			found.Saw("and %d more", len(reply.Items)-most)
			break
		}
		found.Saw("it says that the primary of %s is at %s, port %s", clean.Quote(one["name"]), clean.Quote(one["ip"]),
			clean.Quote(one["port"]))
	}
	return found.Advise("compare the address with what you know, then: gharbor set %s host=HOST port=PORT", c.to.Profile)
}

// fields are the names and values of a reply, which older servers send as a list.
func fields(r *resp.Reply) map[string]string {
	all := make(map[string]string)
	if r == nil || !r.IsList() {
		return all
	}
	for i := 0; i+1 < len(r.Items); i += 2 {
		all[r.Items[i].String()] = r.Items[i+1].String()
	}
	return all
}

// Database selects the profile's database, which has a number.
func (c *conversation) Database(ctx context.Context) finding.Result {
	c.facts.Database = c.to.Database
	if c.facts.Database == "" {
		c.facts.Database = "0"
	}
	if _, err := strconv.ParseUint(c.facts.Database, 10, 31); err != nil {
		return finding.FailWith(finding.New(finding.DatabaseMissing,
			"databases have numbers on this server, and the profile "+
				"says %s", clean.Quote(c.facts.Database)).
			Suggest("gharbor set %s database=0", c.to.Profile))
	}
	if c.facts.Database == "0" {
		return finding.Good("0")
	}
	reply, err := c.ask(ctx, "SELECT", c.facts.Database)
	if err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	switch {
	case !reply.IsError():
		return finding.Good("%s", c.facts.Database)
	case means(reply) == meansNoDatabase:
		return finding.FailWith(c.noDatabase(ctx, reply))
	case means(reply) == meansNoRight:
		return finding.FailWith(finding.New(finding.DatabaseNoAccess, "the account %s may not choose a database",
			clean.Quote(c.facts.User)).Saw("%s", serverText(reply)).
			Suggest("gharbor test %s -override database=0", c.to.Profile).
			ByAdmin(c.to.Helping(), "provision grant "+c.to.Profile+" -access read", "ACL SETUSER %s +select",
				formatArgument(c.facts.User)))
	}
	return finding.FailWith(c.refusedQuestion(reply))
}

// noDatabase is for a number that the server does not have.
func (c *conversation) noDatabase(ctx context.Context, refused *resp.Reply) *finding.Finding {
	found := finding.New(finding.DatabaseMissing, "there is no database %s on this server", c.facts.Database).
		Saw("%s", serverText(refused))
	reply, err := c.ask(ctx, "CONFIG", "GET", "databases")
	n, _ := strconv.Atoi(fields(replyOr(reply, err))["databases"])
	switch {
	case strings.Contains(refused.String(), "cluster mode"):
		found.Saw("a server of a cluster has only database 0")
		n = 1
	case n > 0:
		found.Saw("it has %d databases, 0 to %d", n, n-1)
	}
	var names []string
	for i := range min(n, 1000) {
		names = append(names, strconv.Itoa(i))
	}
	near := nearest.Names(c.facts.Database, names, 1)
	if len(near) == 0 {
		near = []string{"0"}
	}
	return found.SuggestValues(c.to.Profile, "database", near)
}

// replyOr is a reply, nil after an error.
func replyOr(r *resp.Reply, err error) *resp.Reply {
	if err != nil {
		return nil
	}
	return r
}

// LookUp finds out, in an administrator's session, why the server refused another login.
func (c *conversation) LookUp(ctx context.Context, r engine.Refusal) error {
	user := r.User
	if user == "" {
		user = defaultUser
	}
	reply, err := c.ask(ctx, "ACL", "GETUSER", user)
	if err != nil {
		return err
	}
	if reply.IsError() {
		return fmt.Errorf("ACL GETUSER: %s", clean.Line(reply.String(), 200))
	}
	f := r.Finding
	if reply.Kind == '_' {
		f.Code, f.Cause = finding.LoginNoSuchRole, fmt.Sprintf("there is no user %s on this server", clean.Quote(user))
		f.Saw("%sACL GETUSER gives nothing", r.By)
		f.Try, f.Do = nil, nil
		f.ByAdmin(r.Admin, "provision make "+r.Profile, "ACL SETUSER %s on …", formatArgument(user))
		return nil
	}
	account := readAccount(reply)
	switch {
	case !account.on:
		f.Code, f.Cause = finding.LoginLocked, fmt.Sprintf("the user %s is switched off", clean.Quote(user))
		f.Saw("%sits flags are %s", r.By, clean.Quote(strings.Join(account.flags, " ")))
		f.Try, f.Do = nil, nil
		f.ByAdmin(r.Admin, "provision unlock "+r.Profile, "ACL SETUSER %s on", formatArgument(user))
	case len(account.passwords) == 0:
		f.Code, f.Cause = finding.LoginNoPasswordSet, fmt.Sprintf("the user %s has no password, so nobody gets in as it",
			clean.Quote(user))
		f.Saw("%sit has no passwords, and not the flag nopass", r.By)
		f.Try, f.Do = nil, nil
		f.ByAdmin(r.Admin, "provision make "+r.Profile, "ACL SETUSER %s #HASH", formatArgument(user))
	default:
		f.Cause = fmt.Sprintf("the password of %s is wrong: the user is there, and switched on", clean.Quote(user))
		f.Saw("%sthe user has %d password(s)", r.By, len(account.passwords))
	}
	return nil
}
