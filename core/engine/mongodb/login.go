package mongodb

import (
	"context"
	"crypto/md5"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/xdg-go/scram"
	"go.mongodb.org/mongo-driver/v2/bson"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// The methods of a login (MongoDB documentation, "Authentication Mechanisms").
const (
	methodSHA256 = "SCRAM-SHA-256"
	methodSHA1   = "SCRAM-SHA-1"
	methodPlain  = "PLAIN"
	methodX509   = "MONGODB-X509"
	methodNone   = "none asked"
)

// external is the database of accounts that the server does not keep: those of certificates, or of LDAP.
const external = "$external"

// firstSHA256 is the first version of the protocol whose servers know SCRAM-SHA-256, of MongoDB 4.0.
const firstSHA256 = 7

// usualAuthDatabase is the usual database for making accounts.
const usualAuthDatabase = "admin"

// The steps of a login, as a report names them: the step at which a server refuses is a part of the reason.
const (
	stepFirst = "it refused at the first step, before the password was proved: most often there is no such user in the " +
		"auth-database %s"
	stepProof = "it refused the proof of the password"
)

func (c *conversation) authDatabase() string {
	if c.to.AuthDatabase == "" {
		return usualAuthDatabase
	}
	return c.to.AuthDatabase
}

// method is the method of the login: the certificate's or the other system's for an account that the server does not
// keep, else the strongest that the server offers for this account.
func (c *conversation) method() string {
	offered := texts(c.hello, "saslSupportedMechs")
	switch {
	case c.authDatabase() == external && c.to.TLS.Cert != "":
		return methodX509
	case c.authDatabase() == external:
		return methodPlain
	case slices.Contains(offered, methodSHA256):
		return methodSHA256
	case slices.Contains(offered, methodSHA1):
		return methodSHA1
	case slices.Contains(offered, methodPlain):
		return methodPlain
	case len(offered) > 0:
		return offered[0]
	}
	if version, _ := number(c.hello, "maxWireVersion"); version < firstSHA256 {
		return methodSHA1
	}
	return methodSHA256
}

// Login logs in, where the profile names a user or a certificate does.
func (c *conversation) Login(ctx context.Context) finding.Result {
	method := c.method()
	if c.to.User == "" && method != methodX509 {
		return c.withoutLogin(ctx)
	}
	c.facts.User, c.facts.LoginMethod = c.to.User, clean.Line(method, 60)
	open, err := c.isOpen(ctx)
	if err != nil {
		return finding.FailWith(c.probe.EndedAtLogin(ctx, &c.facts, c.facts.LoginMethod, err))
	}
	if found := c.logInBy(ctx, method, open); found != nil {
		return finding.FailWith(found)
	}
	detail := fmt.Sprintf("%s by %s", clean.Quote(c.to.User), c.facts.LoginMethod)
	if c.to.User == "" {
		detail = "by " + c.facts.LoginMethod
	}
	switch {
	case open:
		return finding.WarnWith(c.openToAll(), "%s", detail)
	case method == methodSHA1:
		return finding.WarnWith(finding.New(finding.LoginWeakMethod,
			"the password was checked by SCRAM-SHA-1, which keeps an MD5 hash of it").
			Advise("as an administrator: set the password of %s again, which adds SCRAM-SHA-256 on version 4.0 and later",
				clean.Line(c.to.User, 60)), "%s", detail)
	}
	return finding.Good("%s", detail)
}

// isOpen reports whether the server has no access control: it lists databases before a login.
func (c *conversation) isOpen(ctx context.Context) (bool, error) {
	_, err := c.ask(ctx, "admin", bson.D{{Key: "listDatabases", Value: 1}, {Key: "nameOnly", Value: true}})
	var refused *refusal
	if errors.As(err, &refused) {
		return false, nil
	}
	return err == nil, err
}

// openToAll is for a server without access control.
func (c *conversation) openToAll() *finding.Finding {
	return finding.New(finding.LoginNoPasswordAsked,
		"the server wants no login: everybody who reaches it may do everything").
		Saw("it listed its databases before the login").
		Advise("on the server: make an administrator, then set security.authorization to enabled and restart it")
}

// withoutLogin is the login stage of a profile without a user.
func (c *conversation) withoutLogin(ctx context.Context) finding.Result {
	open, err := c.isOpen(ctx)
	switch {
	case err != nil:
		return finding.FailWith(c.probe.EndedAtLogin(ctx, &c.facts, c.facts.LoginMethod, err))
	case open:
		c.facts.LoginMethod = methodNone
		return finding.WarnWith(c.openToAll(), "nobody is logged in")
	}
	return finding.FailWith(finding.New(finding.LoginPasswordWanted,
		"the server wants a login, and the profile names no user").
		Saw("it lists no databases without one").
		Advise("name the user: gharbor set %s user=NAME", c.to.Profile))
}

// logInBy logs in by a method. The finding says why that failed; it is nil after a login.
func (c *conversation) logInBy(ctx context.Context, method string, open bool) *finding.Finding {
	switch method {
	case methodX509:
		return c.byCertificate(ctx)
	case methodSHA256, methodSHA1, methodPlain:
	default:
		return finding.New(finding.LoginUnsupportedMethod,
			"the account logs in by %s, which gharbor does not do", clean.Quote(method)).
			Saw("the server offers %s", clean.Quote(strings.Join(texts(c.hello, "saslSupportedMechs"), ", "))).
			Advise("use an account with a password, or one with a certificate (auth-database=%s)", external)
	}
	if c.to.NoSecret {
		return c.to.PasswordWanted(finding.New(finding.LoginPasswordWanted,
			"the account %s needs a password, and the profile sends none", clean.Quote(c.to.User)))
	}
	if method == methodPlain && !c.to.ClearAllowed(&c.facts) {
		return c.to.NotInTheClear(finding.New(finding.LoginCleartextRefused,
			"the server wants the password as it is (PLAIN), and the way to it is not safe"), &c.facts)
	}
	value, err := c.to.TakeSecret(ctx)
	if err != nil {
		return c.to.ExplainSecretError(&engine.SecretError{Err: err})
	}
	password := value.Disclose()
	c.empty, c.blank = value.Empty(), strings.TrimSpace(password) != password
	if method == methodPlain {
		return c.byPlain(ctx, password, open)
	}
	return c.byScram(ctx, method, password, open)
}

// byCertificate logs in as the subject of the client's certificate.
func (c *conversation) byCertificate(ctx context.Context) *finding.Finding {
	if c.facts.TLS == "none" {
		return finding.New(finding.LoginCertificate, "a login by certificate needs TLS, and the rule is %s", c.to.TLS.Rule).
			Suggest("gharbor test %s -override tls=verified", c.to.Profile)
	}
	command := bson.D{{Key: "authenticate", Value: 1}, {Key: "mechanism", Value: methodX509}}
	if c.to.User != "" {
		command = append(command, bson.E{Key: "user", Value: c.to.User})
	}
	_, err := c.ask(ctx, external, command)
	var refused *refusal
	switch {
	case errors.As(err, &refused):
		found := finding.New(finding.LoginCertificate, "the server does not accept the certificate for a login").
			Saw("%s", refused.text())
		if leaf := c.to.TLS.ClientCertificate(); leaf != nil {
			found.Saw("the certificate is for %s", clean.Quote(leaf.Subject.String()))
		}
		return found.Advise("as an administrator: make a user in $external whose name is the certificate's subject")
	case err != nil:
		return c.probe.EndedAtLogin(ctx, &c.facts, c.facts.LoginMethod, err)
	}
	return nil
}

// byPlain sends the password in the clear (RFC 4616).
func (c *conversation) byPlain(ctx context.Context, password string, open bool) *finding.Finding {
	source := external
	if c.to.AuthDatabase != "" {
		source = c.to.AuthDatabase
	}
	payload := bson.Binary{Data: []byte("\x00" + c.to.User + "\x00" + password)}
	_, err := c.ask(ctx, source, bson.D{
		{Key: "saslStart", Value: 1},
		{Key: "mechanism", Value: methodPlain},
		{Key: "payload", Value: payload},
		{Key: "autoAuthorize", Value: 1},
	})
	return c.refusedLogin(ctx, err, stepProof, open)
}

// Bounds of the rounds that a server may ask for: its own default is 15,000 for SCRAM-SHA-256, and 10,000 for
// SCRAM-SHA-1.
const (
	leastRounds = 4096
	mostRounds  = 1_000_000
)

// errRounds says that a server asks for too few or too many rounds.
var errRounds = errors.New("the server asks for a number of rounds that is not safe")

// errNotProved says that a server does not know the password.
var errNotProved = errors.New("the server accepted the login, and did not prove that it knows the password")

// byScram logs in by SCRAM (RFC 5802, RFC 7677; MongoDB's driver specification, "Authentication").
func (c *conversation) byScram(ctx context.Context, method, password string, open bool) *finding.Finding {
	client, err := scramClient(method, c.to.User, password)
	if err != nil {
		return finding.New(finding.LoginRefused, "the user's name or the password can't be sent by %s", method).
			Saw("%s", clean.Line(err.Error(), 200)).Suggest("gharbor show %s", c.to.Profile)
	}
	talk := client.NewConversation()
	first, err := talk.Step("")
	if err != nil {
		return c.brokenExchange(err)
	}
	answer, err := c.ask(ctx, c.authDatabase(), bson.D{
		{Key: "saslStart", Value: 1},
		{Key: "mechanism", Value: method},
		{Key: "payload", Value: bson.Binary{Data: []byte(first)}},
		{Key: "autoAuthorize", Value: 1},
		{Key: "options", Value: bson.D{{Key: "skipEmptyExchange", Value: true}}},
	})
	if err != nil {
		return c.refusedLogin(ctx, err, fmt.Sprintf(stepFirst, clean.Quote(c.authDatabase())), open)
	}
	const mostSteps = 4 // an exchange has three
	for range mostSteps {
		next := ""
		if payload := payloadOf(answer); !talk.Done() {
			if err := safeRounds(payload); err != nil {
				return c.brokenExchange(err)
			}
			if next, err = talk.Step(payload); err != nil {
				return c.brokenExchange(err)
			}
		}
		if done, _ := truth(answer, "done"); done {
			break
		}
		id, _ := number(answer, "conversationId")
		answer, err = c.ask(ctx, c.authDatabase(), bson.D{
			{Key: "saslContinue", Value: 1},
			{Key: "conversationId", Value: int32(id)},
			{Key: "payload", Value: bson.Binary{Data: []byte(next)}},
		})
		if err != nil {
			return c.refusedLogin(ctx, err, stepProof, open)
		}
	}
	if !talk.Valid() {
		return c.brokenExchange(errNotProved)
	}
	return nil
}

// scramClient prepares the exchange. For SCRAM-SHA-1 the password is a hash of user and password, in the server's
// stored form.
func scramClient(method, user, password string) (*scram.Client, error) {
	if method == methodSHA1 {
		sum := md5.Sum([]byte(user + ":mongo:" + password))
		return scram.SHA1.NewClientUnprepped(user, hex.EncodeToString(sum[:]), "")
	}
	return scram.SHA256.NewClientUnprepped(user, engine.SASLPrep(password), "")
}

// payloadOf is the server's part of a step.
func payloadOf(answer bson.Raw) string {
	value, err := answer.LookupErr("payload")
	if err != nil {
		return ""
	}
	if _, data, ok := value.BinaryOK(); ok {
		return string(data)
	}
	s, _ := value.StringValueOK()
	return s
}

// safeRounds checks the number of rounds in a server's first message: with too few a password is soon guessed, and
// too many would keep us busy.
func safeRounds(payload string) error {
	for part := range strings.SplitSeq(payload, ",") {
		text, is := strings.CutPrefix(part, "i=")
		if !is {
			continue
		}
		if n, err := strconv.Atoi(text); err != nil || n < leastRounds || n > mostRounds {
			return errRounds
		}
	}
	return nil
}

// brokenExchange is for a server that breaks the rules of the exchange.
func (c *conversation) brokenExchange(err error) *finding.Finding {
	return finding.New(finding.LoginRefused, "the login was broken off: the server does not keep to the method %s",
		c.facts.LoginMethod).
		Saw("%s", clean.Line(err.Error(), 200)).
		Suggest("gharbor test %s   # again; if it repeats, is it the right server?", c.to.Profile)
}

// refusedLogin turns the end of a step into a finding, nil for a step without an error.
func (c *conversation) refusedLogin(ctx context.Context, err error, step string, open bool) *finding.Finding {
	var refused *refusal
	switch {
	case err == nil:
		return nil
	case !errors.As(err, &refused):
		return c.probe.EndedAtLogin(ctx, &c.facts, c.facts.LoginMethod, err)
	}
	if found := c.notReady(refused); found != nil {
		return found
	}
	user := clean.Quote(c.to.User)
	switch refused.means() {
	case meansNoMethod, meansUnknownCommand:
		return finding.New(finding.LoginUnsupportedMethod, "the server does not do %s for %s", c.facts.LoginMethod, user).
			Saw("%s", refused.text()).
			Advise("as an administrator: set the account's mechanisms, or name its auth-database in the profile")
	case meansLogin:
	default:
		if !strings.Contains(strings.ToLower(refused.message), "auth") {
			return finding.New(finding.LoginRefused, "the server refused the login").Saw("%s", refused.text()).
				Suggest("gharbor show %s", c.to.Profile)
		}
	}
	if c.empty {
		return c.to.PasswordAgain(finding.New(finding.LoginEmptyPassword, "the password is empty, and the server refused it").
			Saw("%s", refused.text()).Saw("it came from: %s", c.facts.SecretSource))
	}
	found := finding.New(finding.LoginPassword,
		"the server refused %s: the password is wrong, there is no such user, or it was made in another database than %s",
		user, clean.Quote(c.authDatabase())).
		Saw("%s", refused.text()).Saw("%s", step)
	switch {
	case open:
		found.Saw("the server wants no login: without a user everything is allowed")
	case c.blank:
		found.Saw("the password begins or ends with a blank")
	}
	c.to.PasswordAgain(found)
	if c.to.Database != "" && c.authDatabase() != c.to.Database {
		found.Suggest("gharbor test %s -override auth-database=%s   # if the account was made there", c.to.Profile,
			clean.Shell(c.to.Database))
	}
	return c.to.LookUpAs(found)
}

// LookUp finds out, in an administrator's session, why the server refused another login.
func (c *conversation) LookUp(ctx context.Context, r engine.Refusal) error {
	answer, err := c.ask(ctx, "admin", bson.D{
		{Key: "usersInfo", Value: bson.D{{Key: "forAllDBs", Value: true}}},
		{Key: "filter", Value: bson.D{{Key: "user", Value: r.User}}},
	})
	if err != nil {
		return err
	}
	source := r.AuthDatabase
	if source == "" {
		source = usualAuthDatabase
	}
	f := r.Finding
	var places []string
	for _, user := range items(answer, "users") {
		if text(user, "user") == r.User {
			places = append(places, clean.Line(text(user, "db"), 100))
		}
	}
	switch {
	case len(places) == 0:
		f.Code, f.Cause = finding.LoginNoSuchRole, fmt.Sprintf("there is no user %s on this server", clean.Quote(r.User))
		f.Saw("%susersInfo finds none of that name in any database", r.By)
		f.Try, f.Do = nil, nil
		f.Advise("as an administrator: make the user, with createUser (in a session, not in a shell's history)")
	case !slices.Contains(places, source):
		f.Code, f.Cause = finding.LoginNoSuchRole, fmt.Sprintf("the user %s was made in another database than %s",
			clean.Quote(r.User), clean.Quote(source))
		f.Saw("%sit is in %s", r.By, clean.Quote(strings.Join(places, ", ")))
		f.Try, f.Do = nil, nil
		f.SuggestValues(r.Profile, "auth-database", places)
	default:
		f.Cause = fmt.Sprintf("the password of %s is wrong: the user is there, in %s", clean.Quote(r.User),
			clean.Quote(source))
		f.Saw("%susersInfo finds the user", r.By)
	}
	return nil
}
