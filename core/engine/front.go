package engine

import (
	"context"
	"errors"
	"net"

	"gentleharbor/core/finding"
)

// SessionRequest is the request of a program on this machine that connects to a local address that logs in.
type SessionRequest struct {
	User       string            // "" where it names none
	Database   string            // "" for the profile's
	Parameters map[string]string // of the session, by the protocol's own names

	Sequence byte // of the next packet to it, where the protocol counts them

	// Prove asks the program for the password of the address, where that has one. The error is ErrNotProved, or why the
	// program could not be asked.
	Prove func(conn net.Conn, password string) error

	Replication bool       // it wants a stream of changes, not a session
	Cancel      *CancelKey // it wants a statement of another session ended, and no session
}

// ErrNotProved is a program that did not send the password of the address.
var ErrNotProved = errors.New("the program did not send the password of this address")

// CancelKey is the proof of a session by which another connection may end its statement.
type CancelKey struct{ Session, Secret uint32 }

// Front speaks a server's part of the engine's protocol to a program on this machine, up to the login. The program
// takes no part in the login itself.
type Front struct {
	// Receive reads what a program asks for, and no byte more. The error is for one that asks for no session. It is
	// nil where the server speaks first: see Greeter.
	Receive func(conn net.Conn) (*SessionRequest, error)
	// Refuse tells a program in its protocol why it gets no session. o is nil before it has asked for one.
	Refuse func(conn net.Conn, o *SessionRequest, found *finding.Finding) error

	// LocalFiles: a server of the engine can ask a program for files of this machine.
	LocalFiles bool
	// Undo is the statement with which a program makes a read-only session writable again.
	Undo string
}

// GreetFunc lets the conversation with a server greet a program, and says why the program may not have what it asks
// for.
type GreetFunc func(Conversation) *finding.Finding

// Greeter is a conversation whose server speaks first.
type Greeter interface {
	// Greet greets a program as the server did, after the stage speak, and reads what it asks for. The login that
	// follows is for that. With files, the server may ask the program for files of this machine.
	Greet(local net.Conn, files bool) (*SessionRequest, error)
}

// SessionGiver is a conversation that can give its session to a program, after the stage database.
type SessionGiver interface {
	// HandOver tells a program that it is logged in, and returns the connection to the server, which gets the
	// program's bytes unchanged. key is what the program may cancel with.
	HandOver(to net.Conn, key CancelKey) (server net.Conn, err error)
}

// Canceller is a conversation whose statements are cancelled by a key, on another connection.
type Canceller interface {
	// CancelSession ends the statement that runs in a session that was handed over.
	CancelSession(context.Context) error
}
