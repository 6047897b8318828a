package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// Statements is what an engine says of its statements. nil is an engine that takes none here.
type Statements struct {
	Lexis Lexis
	// Quote writes a name as the engine's statements need it, quotes and all.
	Quote func(name string) string
	// Parameter is how the n-th parameter stands in a statement, from 1: "$1", "?".
	Parameter func(n int) string
	// Known are the first words of statements of which it is known what they may destroy. One of another word can't
	// be seen into.
	Known Words
	// Valued are the first words of statements that take parameters.
	Valued Words
	// Secrets are words behind one another that have a password behind them; "'" is a text in quotes, "*" any word.
	Secrets [][]string
	// Commits are the first words of statements that end a transaction, or begin another.
	Commits Words
	// Bare tells whether a name needs no quotes for its characters, Reserved are the words that need them all the same.
	Bare     func(name string) bool
	Reserved Words
	// Catalogue is how the server says what is on it; nil for an engine where it is not asked.
	Catalogue *Catalogue
	// ClientLines are the lines of scripts that are not for the server; nil where there are none.
	ClientLines *ClientLines
	// Bulk is the statement that takes rows into columns of a table as its data, with tabs between values, \N for NULL,
	// and a backslash before what would end a value; nil where rows are inserted. Names are written as they must be
	// typed.
	Bulk func(table string, columns []string) string
	// Bytes tells whether the values of a type must be sent as bytes, where they are written as \x…; nil where the
	// server reads that itself.
	Bytes func(kind string) bool
	// RowsAtOnce is how many rows one INSERT may have; 0 for as many as fit.
	RowsAtOnce int
	// ReadOnly is the statement that makes a session read-only, "" where there is none.
	ReadOnly string
	// Reads are the first words of statements that change nothing, where there is no such statement.
	Reads Words
	// Rules judge statements of another language than SQL; nil for SQL.
	Rules *Rules
	// Documents are data files whose rows are documents, taken by a statement of their own; nil where there are none.
	Documents *Documents
}

// Rules judge a statement by its words, as the splitter gives them for the engine's language.
type Rules struct {
	Risk   func(words []string) string // what it may destroy, "" for nothing
	Secret func(words []string) bool   // it has a password
	Reads  func(words []string) bool   // it changes nothing
	// Database is the database in which the session goes on after it, "" for the same; nil where no statement does that.
	Database func(words []string) string
	// Rollback ends a transaction without its changes; "" where there are none.
	Rollback string
	// End is what ends a statement, for a person.
	End string
	// NotAtomic says why statements can't be one transaction; "" where they can.
	NotAtomic string
}

// Documents is how documents are added to a collection.
type Documents struct {
	// Statement adds documents, each of which is the text of one.
	Statement func(collection string, documents [][]byte) string
	// Check says what is wrong with a document, nil for nothing.
	Check func(document []byte) error
}

// Words are words with blanks between them. A text, and no list: most runs of the program never look at them.
type Words string

// Has reports whether a word is among them, as it is written.
func (w Words) Has(word string) bool {
	return word != "" && strings.Contains(" "+string(w)+" ", " "+word+" ")
}

// All lists them.
func (w Words) All() []string { return strings.Fields(string(w)) }

// Lexis is how an engine's statements are taken apart: where quotes and comments end, and where a statement does.
type Lexis struct {
	Backslashes    bool // a backslash in quotes takes the next character with it
	EscapeStrings  bool // E'…' has backslashes, whatever Backslashes says
	DoubleQuoted   bool // "…" is a text, with backslashes as '…' has them; else a name
	Backticks      bool // `…` is a name
	DollarQuotes   bool // $tag$…$tag$
	OtherQuotes    bool // q'[…]'
	HashComments   bool // # to the end of the line
	DashSpace      bool // -- begins a comment only before a blank or a line's end
	NestedComments bool
	VersionHints   bool // /*! … */ is a part of the statement
	Parentheses    bool // a ; in parentheses ends nothing
	AtomicBodies   bool // BEGIN … END in a function or procedure
	CopyData       bool // data follows COPY … FROM STDIN
	Delimiter      bool // DELIMITER … changes what ends a statement
	Blocks         bool // blocks of code end with a / on a line of its own

	// Line takes a command apart that is one line; nil where statements are not lines. The error is an *ArgumentError.
	Line func(line []byte) ([]Argument, error)
	// JSON: a statement is one JSON document, of at most Nesting levels.
	JSON    bool
	Nesting int
}

// SQL reports whether statements are those of SQL.
func (l Lexis) SQL() bool { return l.Line == nil && !l.JSON }

// Argument is a part of a command that is one line.
type Argument struct {
	From, To int    // where it stands in the line, with its quotes
	Value    []byte // without them
	Quoted   bool
}

// ArgumentError is a line that can't be taken apart.
type ArgumentError struct {
	At   int // the byte in the line
	What string
}

func (e *ArgumentError) Error() string { return e.What }

// Column is a column of a result.
type Column struct {
	Name   string
	Type   string // as the server names it, "" where it does not
	Number bool   // its values are numbers
	Binary bool   // its values are bytes, written as text: \x…
	JSON   bool   // its values are JSON
	Truth  bool   // its values are true or false
}

// Results takes what a statement gives. A method's error ends the statement.
type Results interface {
	// Begin is called before the rows of each result that has some.
	Begin([]Column) error
	// Row is a row: a nil value is NULL. It is valid until Row returns.
	Row([][]byte) error
	// End is called after each result, one without rows too.
	End(Outcome) error
	// Notice is what the server says beside it.
	Notice(Notice)
}

// Outcome is how one result ended.
type Outcome struct {
	Command  string // the server's word for what was done: "SELECT", "CREATE TABLE"; "" where it has none
	Rows     int64  // given
	Changed  int64  // by the server's count; -1 where it has none
	Warnings int    // that the server counted
}

// Notice is a message beside a result.
type Notice struct {
	Severity string // the server's word: "NOTICE", "WARNING"
	Code     string
	Message  string
	Detail   string
	Hint     string
}

// Statement is one to run.
type Statement struct {
	Text string
	// Arguments are the values of its parameters; nil is NULL.
	Arguments []*string
	// Exact wants results that keep each value's type, where the engine writes documents.
	Exact bool
}

// StatementError is a server's refusal of a statement.
type StatementError struct {
	Severity string
	Code     string // "SQLSTATE 42703", "1054, SQLSTATE 42S22"
	Message  string
	Detail   string
	Hint     string
	Where    string // in which function, in the server's words
	Position int    // in the statement's text, in characters from 1; 0 where the server does not say
	Line     int    // in the statement's text, from 1; 0 where the server does not say
	DataLine int    // the line of the data that it takes, from 1; 0 where the server does not say
	Column   string // of the data, "" where the server does not say
	Near     string // the text at which the server stopped, "" where it does not say
	Fatal    bool   // the server has ended the session
}

func (e *StatementError) Error() string {
	text := e.Message
	if e.Code != "" {
		text += " (" + e.Code + ")"
	}
	return text
}

// ErrNotCancelled is a statement that the server was not told to cancel.
var ErrNotCancelled = errors.New("the statement could not be cancelled at the server")

// LostError is a connection that ended while a statement ran: whether the server carried it out is not known.
type LostError struct{ Err error }

func (e *LostError) Error() string { return fmt.Sprintf("the connection was lost: %v", e.Err) }

func (e *LostError) Unwrap() error { return e.Err }

// Runner is a conversation that runs statements, once its session is open.
type Runner interface {
	// Run runs a statement and gives its results to a Results. Its error is a *StatementError, a *LostError, or
	// what the Results said. At the end of ctx the statement is cancelled at the server, and the error is that of
	// ctx, joined with how the server ended it.
	Run(ctx context.Context, s Statement, to Results) error
	// InTransaction tells whether a transaction is open.
	InTransaction() bool
	// Took is the time of the last statement at the server, 0 where it is not known.
	Took() time.Duration
}

// AbortReporter is a Runner that knows of a transaction which can only be rolled back.
type AbortReporter interface{ TransactionFailed() bool }

// DataReceiver is a Runner that takes the data of a statement which waits for some.
type DataReceiver interface {
	// Take runs a statement with its data, as Run does. What the server refuses of the data is a *StatementError
	// whose DataLine says where. The data may not be read to its end then.
	Take(ctx context.Context, text string, data io.Reader, to Results) error
}
