package redis

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/redis/resp"
)

// maxItem bounds one item of an answer: the servers' own limit for a text, and room for lists.
const maxItem = resp.MaxText + 64<<20

// Run sends one command.
func (c *conversation) Run(ctx context.Context, s engine.Statement, to engine.Results) error {
	words, err := arguments(s)
	if err != nil {
		return &engine.StatementError{Message: err.Error()}
	}
	if why := notSent(words); why != "" {
		return &engine.StatementError{Message: why}
	}
	err = c.runOn(ctx, words, to)
	var moved *movedError
	if errors.As(err, &moved) {
		return c.runElsewhere(ctx, moved, words, to)
	}
	return err
}

// runOn sends a command over this connection.
func (c *conversation) runOn(ctx context.Context, words []string, to engine.Results) error {
	return engine.Cancellable(ctx, c.raw, c.cancel, func() error { return c.run(words, to) })
}

// arguments are the words of a command, with values in the places of parameters.
func arguments(s engine.Statement) ([]string, error) {
	args, err := splitWith([]byte(s.Text), len(s.Arguments) > 0)
	if err != nil {
		return nil, err
	}
	var words []string
	for _, a := range args {
		n, marked := parameterOf(a.Value)
		switch {
		case !marked || a.Quoted || len(s.Arguments) == 0:
			words = append(words, string(a.Value))
		case n > len(s.Arguments) || s.Arguments[n-1] == nil:
			return nil, errors.New("this engine has no NULL for an argument")
		default:
			words = append(words, *s.Arguments[n-1])
		}
	}
	if len(words) == 0 {
		return nil, errors.New("there is no command")
	}
	return words, nil
}

// parameter stands in a command for a value: no text that is typed has a zero byte.
func parameter(n int) string { return "\x00" + strconv.Itoa(n) + "\x00" }

// parameterOf is the number of the parameter that an argument is.
func parameterOf(value []byte) (n int, is bool) {
	if len(value) < 3 || value[0] != 0 || value[len(value)-1] != 0 {
		return 0, false
	}
	n, err := strconv.Atoi(string(value[1 : len(value)-1]))
	return n, err == nil && n > 0
}

// notSent says why a command is not sent, "" for one that is. Such commands change the meaning of later answers, or
// the account of the connection.
func notSent(words []string) string {
	first := strings.ToUpper(words[0])
	switch {
	case engine.Words("SUBSCRIBE PSUBSCRIBE SSUBSCRIBE MONITOR SYNC PSYNC").Has(first):
		return first + " is not sent: its answers never end"
	case engine.Words("AUTH HELLO RESET QUIT").Has(first):
		return first + " is not sent: the connection stays the one that the test proved; for another account use its profile"
	case first == "CLIENT" && len(words) > 1 && strings.EqualFold(words[1], "REPLY"):
		return "CLIENT REPLY is not sent: without answers nothing is known of what was done"
	}
	return ""
}

// run sends a command and gives its answer to the receiver.
func (c *conversation) run(words []string, to engine.Results) error {
	start := time.Now()
	c.took = 0
	c.in.Most = maxItem
	defer func() { c.in.Most = maxFacts }()
	if _, err := c.conn.Write(resp.Append(nil, words...)); err != nil {
		return &engine.LostError{Err: err}
	}
	reply, n, err := c.in.Begin()
	c.took = c.facts.AtServer(start)
	if err != nil {
		return &engine.LostError{Err: err}
	}
	command := strings.ToUpper(words[0])
	switch {
	case reply.IsError():
		c.failed = c.failed || c.multi
		return c.refusedCommand(reply)
	case command == "MULTI":
		c.multi, c.failed = true, false
	case command == "EXEC" || command == "DISCARD":
		c.multi, c.failed = false, false
	}
	if !reply.IsList() {
		return c.giveOne(reply, command, to)
	}
	return c.giveList(reply.Kind, n, command, to)
}

// giveOne gives an answer that is no list.
func (c *conversation) giveOne(r *resp.Reply, command string, to engine.Results) error {
	if r.Kind == '+' && (r.String() == "OK" || r.String() == "QUEUED") {
		done := engine.Outcome{Command: command, Changed: -1}
		if r.String() == "QUEUED" {
			done.Command = command + " queued"
		}
		return to.End(done)
	}
	column := engine.Column{Name: "value"}
	switch r.Kind {
	case ':', ',', '(':
		column.Number = true
	case '#':
		column.Truth = true
	}
	if err := to.Begin([]engine.Column{column}); err != nil {
		return err
	}
	if err := to.Row([][]byte{valueOf(r)}); err != nil {
		return err
	}
	return to.End(engine.Outcome{Command: command, Rows: 1, Changed: -1})
}

// giveList gives a list as rows, as it comes: names and values in two columns. After an error of the receiver's it
// reads the rest and drops it, so that the next answer is read from its start.
func (c *conversation) giveList(kind byte, n int64, command string, to engine.Results) error {
	columns := []engine.Column{{Name: "value"}}
	if kind == '%' {
		columns = []engine.Column{{Name: "name"}, {Name: "value"}}
	}
	failed := to.Begin(columns)
	var refused *resp.Reply
	row := make([][]byte, len(columns))
	for i := int64(0); i < n; i++ {
		item, err := c.in.Item()
		if err != nil {
			return &engine.LostError{Err: err}
		}
		if item.IsError() && refused == nil && command == "EXEC" {
			refused = item
		}
		at := int(i) % len(columns)
		row[at] = valueOf(item)
		if at == len(columns)-1 && failed == nil {
			failed = to.Row(row)
		}
	}
	if failed != nil {
		return failed
	}
	if err := to.End(engine.Outcome{Command: command, Rows: n / int64(len(columns)), Changed: -1}); err != nil {
		return err
	}
	if refused != nil {
		e := c.refusedCommand(refused)
		var said *engine.StatementError
		if errors.As(e, &said) {
			said.Hint = "the transaction's other commands were carried out"
		}
		return e
	}
	return nil
}

// valueOf is a value as text, nil for nothing. A list is JSON. Bytes that are no text, and a text that begins with
// \x, are written as \x and two digits for each byte.
func valueOf(r *resp.Reply) []byte {
	switch {
	case r.Kind == '_':
		return nil
	case r.IsList():
		return appendJSON(nil, r)
	case r.Kind == '#':
		return []byte(map[bool]string{true: "true", false: "false"}[r.String() == "t"])
	}
	return printable(r.Text)
}

// printable is bytes as text.
func printable(text []byte) []byte {
	if text == nil {
		return []byte{}
	}
	if utf8.Valid(text) && !strings.HasPrefix(string(text), `\x`) {
		return text
	}
	return hex.AppendEncode([]byte(`\x`), text)
}

// refusedCommand turns the server's refusal into our error.
func (c *conversation) refusedCommand(r *resp.Reply) error {
	code, message, _ := strings.Cut(r.String(), " ")
	e := &engine.StatementError{Code: code, Message: message}
	if code != strings.ToUpper(code) || message == "" { // an error of a script's own
		e.Code, e.Message = "", r.String()
	}
	switch means(r) {
	case meansMoved:
		host, port, ok := movedTo(message)
		if ok && code == "MOVED" {
			return &movedError{StatementError: e, host: host, port: port}
		}
	case meansNoRight:
		if _, command, quoted := strings.Cut(message, "'"); quoted {
			command, _, _ = strings.Cut(command, "'")
			e.Hint = fmt.Sprintf("an administrator gives the right: ACL SETUSER %s +%s", formatArgument(c.facts.User), command)
		}
	case meansReadOnly:
		e.Hint = "the server is a replica; its primary takes writes"
	case meansMemoryFull:
		e.Hint = "the server's memory is full: delete keys, or raise maxmemory"
	case meansPasswordWanted:
		e.Fatal = true
	}
	return e
}

// movedError says which server of the cluster has a key.
type movedError struct {
	*engine.StatementError
	host string
	port int
}

func (e *movedError) Unwrap() error { return e.StatementError }

// movedTo reads "3999 127.0.0.1:6381". A server that does not know its own name leaves the host out.
func movedTo(message string) (host string, port int, ok bool) {
	_, address, _ := strings.Cut(message, " ")
	host, text, err := net.SplitHostPort(strings.TrimSpace(address))
	port, portErr := strconv.Atoi(text)
	return host, port, err == nil && portErr == nil && host != ""
}

// maxLinks bounds the connections to other servers of a cluster.
const maxLinks = 16

// runElsewhere sends a command to the server that has its key, if the profile lists that server.
func (c *conversation) runElsewhere(ctx context.Context, moved *movedError, words []string, to engine.Results) error {
	address := net.JoinHostPort(moved.host, strconv.Itoa(moved.port))
	link := c.links[address]
	if link == nil {
		var err error
		if link, err = c.connectTo(ctx, moved, address); err != nil {
			return err
		}
	}
	err := link.runOn(ctx, words, to)
	c.took = link.took
	var again *movedError
	if errors.As(err, &again) {
		return again.StatementError
	}
	return err
}

// connectTo logs in at another server of the cluster.
func (c *conversation) connectTo(ctx context.Context, moved *movedError, address string) (*conversation, error) {
	refuse := func(hint string) error {
		e := *moved.StatementError
		e.Hint = hint
		return &e
	}
	if c.to.Follow == nil || c.multi || len(c.links) >= maxLinks {
		return nil, refuse("the key is at another server of the cluster: run this at " + address)
	}
	conn, at, listed, err := c.to.Follow(ctx, moved.host, moved.port)
	switch {
	case !listed:
		return nil, refuse("the key is at " + address + ", which is not among the profile's hosts: nothing was sent there")
	case err != nil:
		return nil, refuse("the key is at " + address + ", which does not accept: " + err.Error())
	}
	target := c.to
	target.Address, target.Database, target.Follow, target.Redial = at, "", nil, nil
	link := begin(conn, target)
	if found := engine.LogIn(ctx, link); found != nil {
		link.Close()
		return nil, refuse("the key is at " + address + ", where the login failed: " + found.Cause)
	}
	if c.links == nil {
		c.links = make(map[string]*conversation)
	}
	c.links[address] = link
	return link, nil
}

// InTransaction reports whether a transaction is open.
func (c *conversation) InTransaction() bool { return c.multi }

// TransactionFailed reports whether the transaction can only be discarded.
func (c *conversation) TransactionFailed() bool { return c.multi && c.failed }

// Took is the time of the last command at the server.
func (c *conversation) Took() time.Duration { return c.took }

// cancel logs in a second time to end a command that waits, or a script that runs. These servers can't end other
// commands (Redis documentation, "CLIENT UNBLOCK", "SCRIPT KILL").
func (c *conversation) cancel() error {
	ctx, stop := context.WithTimeout(context.Background(), engine.CancelWait)
	defer stop()
	other, err := engine.LogInAgain(ctx, &c.to, begin)
	if err != nil {
		return err
	}
	defer other.Close()
	reply, err := other.ask(ctx, "CLIENT", "UNBLOCK", c.hello["id"], "ERROR")
	if err == nil && reply.String() == "1" {
		return nil
	}
	for _, kind := range []string{"SCRIPT", "FUNCTION"} {
		if reply, err = other.ask(ctx, kind, "KILL"); err == nil && !reply.IsError() {
			return nil
		}
	}
	if err == nil {
		err = errors.New("this server ends only commands that wait, and scripts that have written nothing")
	}
	return err
}
