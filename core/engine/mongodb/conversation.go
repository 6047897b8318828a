// Package mongodb is the engine for MongoDB and for servers that speak its protocol. Its own code frames the messages
// (sub-package wire), the driver's package bson reads documents, and xdg-go/scram does the SCRAM exchange, one step
// at a time, so that a finding can name the step that failed. The whole driver would add 5 ms to each start, and
// these two add 1 ms. Start with Spec.
package mongodb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/mongodb/wire"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
)

// maxFacts bounds an answer of the stages, in bytes.
const maxFacts = 4 << 20

// oldestWire is the first version of the protocol with OP_MSG, of MongoDB 3.6.
const oldestWire = 6

type conversation struct {
	to    engine.Target
	raw   net.Conn
	conn  net.Conn // raw, or a *tls.Conn
	facts engine.Facts
	probe *probe.Probe

	id    int32         // of the last message
	hello bson.Raw      // what the server says of itself
	asked time.Time     // when hello was sent
	trip  time.Duration // until its answer
	most  int           // bytes of an answer
	empty bool          // the password is empty
	blank bool          // or has a blank at an end
	took  time.Duration // of the last statement at the server
}

// Begin starts a conversation.
func Begin(conn net.Conn, target engine.Target) engine.Conversation { return begin(conn, target) }

func begin(conn net.Conn, target engine.Target) *conversation {
	return &conversation{
		to:    target,
		raw:   conn,
		conn:  conn,
		most:  maxFacts,
		facts: engine.Facts{Engine: Word, TLS: "none"},
		probe: &probe.Probe{
			To:       target,
			Conn:     conn,
			Word:     Word,
			Name:     "MongoDB",
			Ours:     []string{Word},
			Protocol: "MongoDB's",
			First:    true,
		},
	}
}

func (c *conversation) Facts() *engine.Facts { return &c.facts }

func (c *conversation) Close() { c.raw.Close() }

// Speak sends hello, which each server answers before a login.
func (c *conversation) Speak(ctx context.Context) finding.Result {
	if c.probe.Strict() {
		return finding.Good("not asked: TLS begins with the first byte")
	}
	return c.greet(ctx)
}

// Encrypt does the handshake where the rule wants TLS.
func (c *conversation) Encrypt(ctx context.Context) (*tlsrule.Facts, finding.Result) {
	return c.probe.Encrypt(ctx, &c.facts, probe.FirstTLS{
		Plain: speaksPlainly,
		Behind: func(ctx context.Context, secure net.Conn) finding.Result {
			c.conn = secure
			return c.greet(ctx)
		},
		Question: "hello",
		Server:   "set net.tls.mode to requireTLS, and net.tls.certificateKeyFile, in its settings file",
		Versions: "allow TLS 1.2 and 1.3 (net.tls.disabledProtocols)",
	})
}

// speaksPlainly reports whether a server answers without TLS.
func speaksPlainly(_ context.Context, conn net.Conn) bool {
	if _, err := conn.Write(opening()); err != nil {
		return false
	}
	head := make([]byte, 16)
	_, err := io.ReadFull(conn, head)
	return err == nil && isReply(head)
}

// greeting is our hello, by its present name or the older one. Where it has a user, the server's answer lists the
// methods by which that user may log in.
func (c *conversation) greeting(name string) bson.D {
	doc := bson.D{{Key: name, Value: 1}, {Key: "helloOk", Value: true}}
	if c.to.User != "" && c.authDatabase() != external {
		doc = append(doc, bson.E{Key: "saslSupportedMechs", Value: c.authDatabase() + "." + c.to.User})
	}
	client := bson.D{
		{Key: "application", Value: bson.D{{Key: "name", Value: "gharbor"}}},
		{Key: "driver", Value: bson.D{{Key: "name", Value: "gharbor"}, {Key: "version", Value: "1"}}},
		{Key: "os", Value: bson.D{{Key: "type", Value: "unknown"}}},
	}
	return append(doc, bson.E{Key: "client", Value: client}, bson.E{Key: "$db", Value: "admin"})
}

// greet sends hello, and reads the server's description of itself.
func (c *conversation) greet(ctx context.Context) finding.Result {
	defer probe.Guard(ctx, c.raw)()
	c.id = helloID - 1
	c.asked = time.Now()
	if err := c.send(c.greeting("hello")); err != nil {
		return c.probe.ExplainWriteError(ctx, c.conn, &c.facts, err)
	}
	seen := &probe.Head{Reader: c.conn}
	var answer bson.Raw
	_, other, err := c.probe.Listen(ctx, func() (first []byte, err error) {
		answer, err = wire.Read(seen, c.id, c.most)
		return seen.Bytes, err
	})
	c.trip = time.Since(c.asked)
	alert := probe.ClientCertificateAlert(err) // with TLS 1.3 it comes behind the handshake
	switch {
	case alert != "":
		return finding.FailWith(c.to.CertificateRefused(&c.facts, alert))
	case other != nil:
		return c.probe.OtherService(*other, seen.Bytes)
	case len(seen.Bytes) == 0:
		if c.isOld(ctx) {
			return finding.FailWith(c.tooOld("it knows only the messages from before version 3.6"))
		}
		return c.probe.Nothing(ctx, err)
	case err != nil && errors.Is(err, os.ErrDeadlineExceeded) && isReply(seen.Bytes):
		return c.probe.Nothing(ctx, err)
	case err != nil:
		return c.probe.ExplainAnswer(ctx, c.probe.ReadRest(seen.Bytes))
	}
	if refused := refusalOf(answer); refused != nil && refused.means() == meansUnknownCommand {
		if answer, err = c.greetAsBefore(); err != nil {
			return c.probe.Nothing(ctx, err)
		}
	}
	return c.readHello(answer)
}

// greetAsBefore greets a server from before 4.4.2, which knows hello by its older name.
func (c *conversation) greetAsBefore() (bson.Raw, error) {
	c.asked = time.Now()
	if err := c.send(c.greeting("isMaster")); err != nil {
		return nil, err
	}
	answer, err := wire.Read(c.conn, c.id, c.most)
	c.trip = time.Since(c.asked)
	return answer, err
}

// readHello returns the result of the server's answer to hello.
func (c *conversation) readHello(answer bson.Raw) finding.Result {
	if refused := refusalOf(answer); refused != nil {
		if found := c.notReady(refused); found != nil {
			return finding.FailWith(found)
		}
		return finding.FailWith(finding.New(finding.SpeakGarbage, "the server at %s refuses the greeting", c.to.Address).
			Saw("%s", refused.text()).Suggest("gharbor nearby"))
	}
	c.hello = answer
	newest, _ := number(answer, "maxWireVersion")
	if oldest, _ := number(answer, "minWireVersion"); newest < oldestWire || oldest > 1000 {
		return finding.FailWith(c.tooOld(fmt.Sprintf("it speaks versions %d to %d of the protocol", oldest, newest)))
	}
	what := "MongoDB answers"
	switch {
	case text(answer, "msg") == "isdbgrid":
		what += ", a router of a sharded cluster"
	case text(answer, "setName") != "":
		what += ", a member of the set " + clean.Quote(clean.Line(text(answer, "setName"), 60))
	}
	return finding.Good("%s", what)
}

// tooOld is for a server from before MongoDB 3.6.
func (c *conversation) tooOld(seen string) *finding.Finding {
	return finding.New(finding.SpeakTooOld,
		"this server is older than MongoDB 3.6, and gharbor does not speak its protocol").
		Saw("%s", seen).
		Suggest("gharbor nearby   # is it the right server?")
}

// isOld asks, over another connection, whether the server knows the older message.
func (c *conversation) isOld(ctx context.Context) bool {
	if c.to.Redial == nil || c.facts.TLS != "none" {
		return false
	}
	conn, err := c.to.Redial(ctx)
	if err != nil {
		return false
	}
	defer conn.Close()
	defer probe.Guard(ctx, conn)()
	document, err := bson.Marshal(bson.D{{Key: "isMaster", Value: 1}})
	if err != nil {
		return false
	}
	if _, err := conn.Write(wire.AppendQuery(nil, helloID, document)); err != nil {
		return false
	}
	_, err = wire.Read(conn, helloID, maxFacts)
	return err == nil
}

// send sends a command.
func (c *conversation) send(command bson.D) error {
	document, err := bson.Marshal(command)
	if err != nil {
		return err
	}
	c.id++
	_, err = c.conn.Write(wire.Append(nil, c.id, document))
	return err
}

// ask sends a command to a database, and reads the answer. The error is that of the connection, or a *refusal.
func (c *conversation) ask(ctx context.Context, database string, command bson.D) (bson.Raw, error) {
	defer probe.Guard(ctx, c.raw)()
	return c.exchange(database, command)
}

// exchange is ask without a time limit of its own.
func (c *conversation) exchange(database string, command bson.D) (bson.Raw, error) {
	if err := c.send(c.addDatabase(database, command)); err != nil {
		return nil, err
	}
	answer, err := wire.Read(c.conn, c.id, c.most)
	if err != nil {
		return nil, err
	}
	if refused := refusalOf(answer); refused != nil {
		return answer, refused
	}
	return answer, nil
}

// addDatabase adds to a command its database, and that a server which is no primary may answer it.
func (c *conversation) addDatabase(database string, command bson.D) bson.D {
	has := func(name string) bool {
		for _, e := range command {
			if e.Key == name {
				return true
			}
		}
		return false
	}
	command = append(bson.D{}, command...)
	if !has("$db") {
		command = append(command, bson.E{Key: "$db", Value: database})
	}
	if primary, known := c.isPrimary(); known && !primary && !has("$readPreference") {
		mode := bson.D{{Key: "mode", Value: "primaryPreferred"}}
		command = append(command, bson.E{Key: "$readPreference", Value: mode})
	}
	return command
}

// isPrimary reports whether the server takes writes, by the field's present name or the older one.
func (c *conversation) isPrimary() (is, known bool) {
	if is, known = truth(c.hello, "isWritablePrimary"); known {
		return is, known
	}
	return truth(c.hello, "ismaster")
}

// Values of an answer: the zero value where there is none of the kind.

func text(raw bson.Raw, path ...string) string {
	value, err := raw.LookupErr(path...)
	if err != nil {
		return ""
	}
	s, _ := value.StringValueOK()
	return s
}

func number(raw bson.Raw, path ...string) (n int64, known bool) {
	value, err := raw.LookupErr(path...)
	if err != nil {
		return 0, false
	}
	return value.AsInt64OK()
}

func truth(raw bson.Raw, path ...string) (is, known bool) {
	if raw == nil {
		return false, false
	}
	value, err := raw.LookupErr(path...)
	if err != nil {
		return false, false
	}
	return value.BooleanOK()
}

// items are the documents of a list.
func items(raw bson.Raw, path ...string) (all []bson.Raw) {
	for _, value := range values(raw, path...) {
		if document, ok := value.DocumentOK(); ok {
			all = append(all, document)
		}
	}
	return all
}

// texts are the texts of a list.
func texts(raw bson.Raw, path ...string) (all []string) {
	for _, value := range values(raw, path...) {
		if s, ok := value.StringValueOK(); ok {
			all = append(all, s)
		}
	}
	return all
}

func values(raw bson.Raw, path ...string) []bson.RawValue {
	if raw == nil {
		return nil
	}
	value, err := raw.LookupErr(path...)
	if err != nil {
		return nil
	}
	list, ok := value.ArrayOK()
	if !ok {
		return nil
	}
	all, err := list.Values()
	if err != nil {
		return nil
	}
	return all
}

// LogInAs sets another user than the target's.
func (c *conversation) LogInAs(user string) { c.to.User = user }
