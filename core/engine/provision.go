package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gentleharbor/core/secret"
)

// Access is what an account may do with a database.
type Access string

// The accesses, each of which has the rights of the next.
const (
	AccessOwn   Access = "own"   // the database is the account's: it makes and drops tables
	AccessWrite Access = "write" // rows are read and changed, functions are called
	AccessRead  Access = "read"  // rows are read
)

// Accesses lists them.
var Accesses = []Access{AccessOwn, AccessWrite, AccessRead}

// Ask sends a question to a server, and gives its rows as texts; NULL is "". It changes nothing there.
type Ask func(ctx context.Context, question string, values ...string) ([][]string, error)

// DesiredState is what is to be true at a server of an account and a database.
type DesiredState struct {
	Facts *Facts // of the administrator's session

	User string
	// Host is from where the account connects, as the server sees it; "" where accounts are not for hosts, or where it
	// is not known.
	Host string
	// Socket: the account connects over a Unix socket.
	Socket bool
	// Password is the account's. Not Present: none is set or changed.
	Password secret.Value
	// Quiet: the account's sessions are read-only, where an account can have that as its own setting.
	Quiet bool
	// KeepOld: the password before it stays good too, where the server keeps two.
	KeepOld bool
	// LogsIn tells whether the account gets in with the password, where the server does not show how it is kept. nil
	// where that can't be tried.
	LogsIn func(context.Context) (bool, error)

	Database string
	// Owner is that of a database to make; "" for the account where Access is AccessOwn, else the administrator.
	Owner  string
	Access Access
	// Usual: nobody named the access. An account does not take a database over from another one then.
	Usual bool
	// Tables are those that the rights are for, "schema.table" or "table"; none is for all that are there and will be.
	Tables []string

	// DropsDatabase: Database is dropped too, before the account.
	DropsDatabase bool

	// Until is when the password ends; zero is never.
	Until time.Time
}

// Change is one statement that brings the server nearer to a DesiredState.
type Change struct {
	// Why says what is missing or differs, for a person: "there is no role warden".
	Why string
	// Text is the statement as it is sent. Shown is the same with [hidden] for a password.
	Text, Shown string
	// Alters: something that exists becomes another thing. Else something new is added.
	Alters bool
	// Takes: something is taken away for good.
	Takes bool
	// Clear says why the server sees a password as it is, "" where it sees none, or a hash.
	Clear string
	// In is the database to which the connection must be that sends it; "" for any.
	In string
}

// Adding is a change that adds something, without a password. The statement is formatted as by fmt.Sprintf.
func Adding(why, statement string, args ...any) Change {
	text := fmt.Sprintf(statement, args...)
	return Change{Why: why, Text: text, Shown: text}
}

// Altering is a change of something that exists.
func Altering(why, statement string, args ...any) Change {
	c := Adding(why, statement, args...)
	c.Alters = true
	return c
}

// Revoking makes a change that takes rights away.
func Revoking(why, statement string, args ...any) Change {
	c := Adding(why, statement, args...)
	c.Takes = true
	return c
}

// Plan is what a DesiredState needs. Without changes all of it is there already.
type Plan struct {
	Changes []Change
	// Lacks are the rights that the administrator's account lacks for the changes, for a sentence each.
	Lacks []string
	// Notes are what a person wants to know before a yes: sizes, who is connected, what depends.
	Notes []string
	// Missing are the things to change that are not there: "the database moult".
	Missing []string
	// Also are databases that hold something of the account.
	Also []string
	// Unseen: what is in the database can be looked at only after the changes.
	Unseen bool
	// NewDatabase: the database is not there yet, and one of the changes makes it.
	NewDatabase bool
}

// Add adds what another plan has. A statement that both have is sent once, the last time; a note that both have is one.
func (p *Plan) Add(o *Plan) {
	again := func(c Change) bool {
		return slices.ContainsFunc(o.Changes, func(n Change) bool { return n.Text == c.Text && n.In == c.In })
	}
	p.Changes = append(slices.DeleteFunc(p.Changes, again), o.Changes...)
	p.Lacks = append(p.Lacks, o.Lacks...)
	for _, note := range o.Notes {
		if !slices.Contains(p.Notes, note) {
			p.Notes = append(p.Notes, note)
		}
	}
	p.Missing = append(p.Missing, o.Missing...)
	p.Also = append(p.Also, o.Also...)
	p.NewDatabase = p.NewDatabase || o.NewDatabase
	p.Unseen = p.Unseen || o.Unseen
}

// Planner looks at a server, and plans. A nil Ask stands for a database that is not there yet.
type Planner func(ctx context.Context, ask Ask, w *DesiredState) (*Plan, error)

// Provision is how an administrator makes, changes and takes away accounts and databases. A Planner that is nil is
// one that the engine, or this program for it, does not have.
type Provision struct {
	// Hosts: an account is a name and the hosts from which it may come.
	Hosts bool
	// Numbered: the server's databases are always there, so none is made or dropped.
	Numbered bool
	// Apart: the rights within a database are seen and changed on a connection to it alone.
	Apart bool
	// Around is a database to connect to while another is dropped; nil where any will do.
	Around []string
	// Before is sent at the start of the administrator's session, so that its settings decide nothing.
	Before string

	Account  Planner // the account is there, may log in, and has the password
	Database Planner // the database is there, and the account may connect to it
	Rights   Planner // the rights in the database
	Revoke   Planner // none of the account's rights in the database are left
	Unlock   Planner // the account may log in again
	Expire   Planner // the password ends at Until

	DropAccount  Planner
	Disown       Planner // in one of Plan.Also: nothing there is the account's any more
	DropDatabase Planner

	// Password changes the account's own password in its own session, Reset does by an administrator.
	Password, Reset Planner
	// DropOld ends the password that KeepOld kept; nil for servers that keep one alone.
	DropOld Planner
	// Arrives asks an administrator's session where a connection comes from, by the number in its greeting.
	Arrives func(ctx context.Context, ask Ask, connection uint32) (host string, err error)
}

// NameError is a desired state with a name that is not there, or that is not unique.
type NameError struct {
	What string // a sentence: "there is no table hides"
	Near string // a name that comes near, "" for none
}

func (e *NameError) Error() string {
	if e.Near != "" {
		return e.What + "; did you mean " + e.Near + "?"
	}
	return e.What
}

// OrNoRow is an error, or that a server gave no row where one was expected.
func OrNoRow(err error) error {
	if err == nil {
		err = errors.New("the server gave no row where one was expected")
	}
	return err
}
