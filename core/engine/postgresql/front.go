package postgresql

import (
	"bytes"
	"context"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// front speaks the server's side of the protocol before a session (PostgreSQL documentation, "Message Flow",
// "Start-up").
var front = &engine.Front{Receive: receive, Refuse: refuse, Undo: "SET " + readOnlySetting + " = off"}

// readOnlySetting is the one by which a session's transactions are read-only (PostgreSQL documentation, "Statement
// Behavior").
const readOnlySetting = "default_transaction_read_only"

// Codes in place of a version in a first message (PostgreSQL documentation, "Message Formats").
const (
	codeCancel = 1234<<16 | 5678
	codeSSL    = 1234<<16 | 5679
	codeGSS    = 1234<<16 | 5680
)

// The server's own bounds of a first message, in bytes, and how often encryption may be asked for.
const (
	maxOpening  = 10000
	maxRequests = 2
)

// receive reads a program's first message. It declines encryption: the address is on this machine.
func receive(conn net.Conn) (*engine.SessionRequest, error) {
	for range maxRequests + 1 {
		body, err := firstMessage(conn)
		if err != nil {
			return nil, err
		}
		switch code := binary.BigEndian.Uint32(body); {
		case code == codeSSL || code == codeGSS:
			if _, err := conn.Write([]byte{'N'}); err != nil {
				return nil, err
			}
		case code == codeCancel && len(body) == 12:
			return &engine.SessionRequest{Cancel: &engine.CancelKey{Session: binary.BigEndian.Uint32(body[4:]),
				Secret: binary.BigEndian.Uint32(body[8:])}}, nil
		case code == codeCancel:
			return nil, fmt.Errorf("a request to cancel has %d bytes", len(body))
		case code>>16 != 3:
			return nil, fmt.Errorf("the program speaks version %d.%d of the protocol", code>>16, code&0xffff)
		default:
			return opening(conn, code, body[4:])
		}
	}
	return nil, errors.New("the program asks for encryption again and again")
}

// firstMessage is the body of a message without a type.
func firstMessage(conn net.Conn) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(conn, head); err != nil {
		return nil, err
	}
	size := binary.BigEndian.Uint32(head)
	if size < 8 || size > maxOpening {
		return nil, fmt.Errorf("the first message says that it has %d bytes", size)
	}
	body := make([]byte, size-4)
	_, err := io.ReadFull(conn, body)
	return body, err
}

// opening reads the pairs of a start-up message. It declines a newer minor version of the protocol, and its options.
func opening(conn net.Conn, version uint32, pairs []byte) (*engine.SessionRequest, error) {
	o := &engine.SessionRequest{Parameters: make(map[string]string), Prove: prove}
	var options []string
	for len(pairs) > 0 && pairs[0] != 0 {
		name, rest, ok := bytes.Cut(pairs, []byte{0})
		value, rest, okToo := bytes.Cut(rest, []byte{0})
		if !ok || !okToo {
			return nil, errors.New("the start-up message ends in the middle of a parameter")
		}
		pairs = rest
		switch text := string(value); string(name) {
		case "user":
			o.User = text
		case "database":
			o.Database = text
		case "replication":
			if !slices.Contains([]string{"", "0", "false", "off", "no"}, strings.ToLower(text)) {
				o.Replication, o.Parameters["replication"] = true, text
			}
		default:
			if strings.HasPrefix(string(name), "_pq_.") {
				options = append(options, string(name))
				continue
			}
			o.Parameters[string(name)] = text
		}
	}
	if len(pairs) != 1 {
		return nil, errors.New("the start-up message does not end with a zero")
	}
	if o.Database == o.User { // what a client names where its own settings name none
		o.Database = ""
	}
	if version == pgproto3.ProtocolVersion30 && len(options) == 0 {
		return o, nil
	}
	answer, err := (&pgproto3.NegotiateProtocolVersion{NewestMinorProtocol: 0, UnrecognizedOptions: options}).Encode(nil)
	if err == nil {
		_, err = conn.Write(answer)
	}
	return o, err
}

// maxPassword is the server's own bound of a message with a password, in bytes.
const maxPassword = 65535

// prove asks for the password in the clear: the address is on this machine, and the password is valid for it alone.
func prove(conn net.Conn, password string) error {
	question, err := (&pgproto3.AuthenticationCleartextPassword{}).Encode(nil)
	if err != nil {
		return err
	}
	if _, err := conn.Write(question); err != nil {
		return err
	}
	head := make([]byte, 5)
	if _, err := io.ReadFull(conn, head); err != nil {
		return err
	}
	size := binary.BigEndian.Uint32(head[1:])
	if head[0] != 'p' || size < 5 || size > maxPassword {
		return errors.New("its answer to the question for a password is none")
	}
	answer := make([]byte, size-4)
	if _, err := io.ReadFull(conn, answer); err != nil {
		return err
	}
	if subtle.ConstantTimeCompare(answer, append([]byte(password), 0)) != 1 {
		return engine.ErrNotProved
	}
	return nil
}

// forProgram are the parameters of a program's session, with those that the address adds. A parameter wins over the
// same one in options; capital letters in its name don't matter.
func (c *conversation) forProgram(wanted map[string]string) map[string]string {
	if !c.to.ReadOnly {
		return wanted
	}
	maps.DeleteFunc(wanted, func(name, _ string) bool { return strings.EqualFold(name, readOnlySetting) })
	wanted[readOnlySetting] = "on"
	return wanted
}

// refuse sends a finding as a server's error at start-up. The SQLSTATE is that of a rejected connection (SQL:2023,
// class 08).
func refuse(conn net.Conn, _ *engine.SessionRequest, found *finding.Finding) error {
	message := &pgproto3.ErrorResponse{
		Severity:            "FATAL",
		SeverityUnlocalized: "FATAL",
		Code:                "08004",
		Message:             fmt.Sprintf("%s (%s)", found.Cause, found.Code),
		Detail:              strings.Join(found.Seen, "; "),
		Hint:                strings.Join(append(slices.Clone(found.Try), found.Do...), "; "),
	}
	p, err := message.Encode(nil)
	if err != nil {
		return err
	}
	_, err = conn.Write(p)
	return err
}

// syncWithin is how long a server may take to answer while a session is handed over.
const syncWithin = 10 * time.Second

// HandOver is that of engine.SessionGiver. The program gets the parameters that the server sent, and a cancel key of
// our own.
func (c *conversation) HandOver(to net.Conn, key engine.CancelKey) (net.Conn, error) {
	// A write that took long has left a reader of the driver's behind, which would take what is the program's.
	ctx, cancel := context.WithTimeout(context.Background(), syncWithin)
	defer cancel()
	if err := c.pg.SyncConn(ctx); err != nil {
		return nil, err
	}
	session, err := c.pg.Hijack()
	if err != nil {
		return nil, err
	}
	messages := []pgproto3.BackendMessage{&pgproto3.AuthenticationOk{}}
	for _, name := range slices.Sorted(maps.Keys(session.ParameterStatuses)) {
		messages = append(messages, &pgproto3.ParameterStatus{Name: name, Value: session.ParameterStatuses[name]})
	}
	messages = append(messages, &pgproto3.BackendKeyData{ProcessID: key.Session,
		SecretKey: binary.BigEndian.AppendUint32(nil, key.Secret)}, &pgproto3.ReadyForQuery{TxStatus: session.TxStatus})
	var out []byte
	for _, m := range messages {
		if out, err = m.Encode(out); err != nil {
			return nil, err
		}
	}
	_, err = to.Write(append(out, c.watch.buffer...))
	return session.Conn, err
}

// CancelSession is an engine.Canceller's.
func (c *conversation) CancelSession(context.Context) error { return c.cancel() }
