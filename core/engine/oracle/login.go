package oracle

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	goora "github.com/sijms/go-ora/v2"
	"github.com/sijms/go-ora/v2/configurations"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/oracle/tns"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
)

// These end a login before the password is sent.
var (
	errWeak  = errors.New("the server asked for a broken login method")
	errEmpty = errors.New("an empty password")
	errNone  = errors.New("no password")
)

// errDriverPanic: the driver panicked while it parsed a message of the server.
var errDriverPanic = errors.New("the driver can't read the server's answer")

// session is the driver's part of the conversation.
type session struct {
	db     *goora.Connection
	replay *replayConn
	open   bool
}

// close ends the session by the protocol's own message.
func (s *session) close() {
	if s.open {
		s.guardCall(s.db.Close)
	}
}

// guardCall runs the driver's code. Where that panics at a hostile server's bytes, the call ends with an error and
// the program goes on.
func (s *session) guardCall(call func() error) (err error) {
	defer func() {
		if defect := recover(); defect != nil {
			err = fmt.Errorf("%w: %v", errDriverPanic, defect)
		}
		if err != nil && s.replay.err != nil {
			err = s.replay.err
		}
	}()
	return call()
}

// Login logs in through the driver, over the connection that earlier stages tested.
func (c *conversation) Login(ctx context.Context) finding.Result {
	if err := c.logIn(ctx); err != nil {
		return finding.FailWith(c.loginFailed(ctx, err))
	}
	detail := fmt.Sprintf("%s by the %s", clean.Quote(c.facts.User), c.facts.LoginMethod)
	if c.to.As != "" {
		detail += ", as " + c.to.As
	}
	if c.session.replay.warning == "" {
		return finding.Good("%s", detail)
	}
	return finding.WarnWith(finding.New(finding.LoginExpiresSoon,
		"the server let %s in, with a warning: the password expires soon",
		clean.Quote(c.to.User)).
		Saw("it said %s", clean.Quote(c.session.replay.warning)).
		Advise("as %s, run: ALTER USER %s IDENTIFIED BY \"NEW-PASSWORD\" REPLACE \"OLD-PASSWORD\" (in a session, "+
			"not in a shell's history)", c.to.User, identifier(c.to.User)), "%s", detail)
}

// logIn takes the password and runs the driver's login.
func (c *conversation) logIn(ctx context.Context) error {
	if c.to.NoSecret {
		return errNone
	}
	value, err := c.to.TakeSecret(ctx)
	if err != nil {
		return &engine.SecretError{Err: err}
	}
	if value.Empty() {
		return errEmpty
	}
	defer c.bindContext(ctx)()
	s := &replayConn{Conn: c.conn, replay: c.accepted.Replay, long: c.accepted.Version >= tns.LongLengths, login: true}
	s.judge = func(body []byte) error {
		kind, ok := verifier(body)
		if !ok {
			return nil
		}
		c.facts.LoginMethod = verifierName(kind)
		if kind == verifier10 && !c.to.ClearAllowed(&c.facts) {
			return errWeak
		}
		return nil
	}
	config := c.config(s)
	config.Password = value.Disclose()
	db, err := goora.NewConnection("", config)
	if err != nil {
		return err
	}
	c.session = &session{db: db, replay: s}
	if err := c.session.guardCall(func() error { return db.OpenWithContext(ctx) }); err != nil {
		return err
	}
	s.login, c.session.open = false, true
	c.takeFacts(db.SessionProperties)
	return nil
}

// bindContext ends reads and writes when ctx ends. It does not use the deadline of ctx, which was set before a person
// was asked for a password.
func (c *conversation) bindContext(ctx context.Context) (release func() bool) {
	c.raw.SetDeadline(time.Time{})
	return context.AfterFunc(ctx, func() { c.raw.SetDeadline(time.Unix(1, 0)) })
}

// config is the driver's configuration, field by field: the driver's reader of connection strings looks for wallets,
// and asks the system for the user's name.
func (c *conversation) config(s *replayConn) *configurations.ConnectionConfig {
	wanted := c.target()
	return &configurations.ConnectionConfig{
		ClientInfo: configurations.ClientInfo{
			ProgramName: "gharbor",
			ProgramPath: "gharbor",
			DriverName:  "gharbor",
			HostName:    "gharbor",
			OSUserName:  "gharbor",
			PID:         os.Getpid(),
			Language:    "AMERICAN",
			Territory:   "AMERICA",
		},
		DatabaseInfo: configurations.DatabaseInfo{UserID: c.to.User, ServiceName: c.to.Service, SID: c.to.Instance,
			Servers:      []configurations.ServerAddr{{Protocol: "tcp", Addr: wanted.Host, Port: wanted.Port}},
			DBAPrivilege: configurations.DBAPrivilegeFromString(c.to.As),
			Location:     "UTC"}, // so that it does not ask
		SessionInfo: configurations.SessionInfo{
			SessionDataUnitSize:   8192,
			TransportDataUnitSize: 0xffff,
			Protocol:              "tcp",
			Dialer:                s,
		},
		PrefetchRows: 100,
		Lob:          configurations.STREAM,
	}
}

// takeFacts takes the facts that the server sends when it accepts a login.
func (c *conversation) takeFacts(p map[string]string) {
	f := &c.facts
	f.User = clean.Line(strings.ToUpper(c.to.User), 100)
	if n, err := strconv.ParseUint(p["AUTH_VERSION_NO"], 10, 32); err == nil {
		f.Version = tns.Version(uint32(n))
	}
	f.Database = clean.Line(firstOf(p["AUTH_DBNAME"], p["AUTH_SC_DBUNIQUE_NAME"]), 100)
	f.ServerHost = clean.Line(p["AUTH_SC_SERVER_HOST"], 100)
	if at, err := time.Parse("2006-01-02 15:04:05.999999999 -07:00", p["AUTH_SC_INSTANCE_START_TIME"]); err == nil {
		at = at.UTC()
		f.ServerStarted = &at
	}
	if f.LoginMethod == "" {
		f.LoginMethod = "a method that was not seen"
	}
}

func firstOf(words ...string) string {
	for _, word := range words {
		if word != "" {
			return word
		}
	}
	return ""
}

// Database reports the database that the service opened: with this server the client does not choose it.
func (c *conversation) Database(context.Context) finding.Result {
	p := c.session.db.SessionProperties
	words := []string{c.describeTarget()}
	for _, one := range [][2]string{{"database ", c.facts.Database}, {"instance ", p["AUTH_SC_INSTANCE_NAME"]}} {
		if one[1] != "" {
			words = append(words, one[0]+clean.Line(one[1], 60))
		}
	}
	return finding.Good("%s", strings.Join(words, ", "))
}

// query runs a statement and returns its rows as text.
func (c *conversation) query(ctx context.Context, sql string) (rows [][]string, err error) {
	defer probe.Guard(ctx, c.raw)()
	err = c.session.guardCall(func() error {
		result, err := c.session.db.QueryContext(ctx, sql, nil)
		if err != nil {
			return err
		}
		rows, err = engine.Rows(result, maxRows)
		return err
	})
	return rows, err
}

// maxRows bounds an answer.
const maxRows = 1000

// ping measures one round trip.
func (c *conversation) ping(ctx context.Context) (time.Duration, error) {
	defer probe.Guard(ctx, c.raw)()
	before := time.Now()
	err := c.session.guardCall(func() error { return c.session.db.Ping(ctx) })
	return time.Since(before), err
}
