package engine

import (
	"context"
	"errors"
	"net"
	"slices"
	"strings"

	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/secret"
)

// Spec is everything that the program knows of one engine. A field that is left empty means that the
// engine has no such thing; Why says so where a person asks for it. A Spec is not changed once it is in
// a Set.
type Spec struct {
	Word string // as the key engine takes it
	Name string // as people write it

	OtherWords []string // for it in the settings of applications, beside the schemes of URL; small letters

	Family string // engines that speak one protocol share it; "" for an engine that is alone
	Port   int    // the usual one of its servers

	// Begin starts a conversation: nil for an engine whose servers are recognised and can't be tested.
	Begin Begin

	// Front speaks to programs in a server's place; nil where no local address logs in.
	Front *Front

	Keys        Keys
	URL         URL
	Sockets     Sockets
	Greeting    *greeting.Greeting
	Listener    *Listener             // nil where a server is asked for a database, not a listener for a service
	Credentials secret.CredentialFile // the file in which its own clients keep passwords; nil for none
	Imports     []Import              // the files of its own clients from which profiles can be made
	Variables   []Family              // the environment variables that describe a connection
	Services    *ServiceFile          // the file of named connections of its own clients; nil for none
	Client      Client
	Local       LocalInstall
	Image       *Image // nil where no container image of it is known
	Accounts    Accounts
	Identity    Identity
	Statements  *Statements // nil where none are run
	Provision   *Provision  // nil where no accounts and databases are made

	// Monitor asks a server that watches others for the address of the primary of a name; nil where there are none such.
	// Its error is ErrNotWatched where it watches no servers of the name.
	Monitor func(ctx context.Context, conn net.Conn, name string) (host string, port int, err error)

	// RefusedDo is a step to do where the port of a server refuses; "" for none of its own.
	RefusedDo string
}

// ErrNotWatched is a name of which a server that watches others knows none.
var ErrNotWatched = errors.New("it watches no servers of that name")

// Keys says which keys of a profile the engine gives a meaning.
type Keys struct {
	// Only are keys that mean something on this engine and on those that name them too.
	Only []key.Name
	// Idle are keys without effect, with the reason.
	Idle map[key.Name]string
	// Notes are what help says of a key beyond its summary.
	Notes map[key.Name]string
	// UserDatabase: a login that names no database is in that of the user's name.
	UserDatabase bool
	// OwnAccount: there is an account for a login that names no user.
	OwnAccount bool
	// Needs is a set of keys of which the profile has to have one.
	Needs Need
	// Rights are the administrator's rights that a login can ask for, the values of the key as.
	Rights []string
}

// Need is a set of keys of which one must be set.
type Need struct {
	Keys []key.Name // in the order in which they are proposed; nil where nothing is needed
	What string     // what is missing: "which service the listener is to be asked for"
	Ask  string     // the question to a person
}

// Sockets says how the servers' Unix sockets are named.
type Sockets struct {
	Names          []string // the fixed names that packages give it; the first is used for a new one
	Prefix, Suffix string   // of a name with the port in it; both "" for fixed names
	Usual          []string // patterns of where packages put them
	Localhost      bool     // the engine's own clients mean the socket by the host localhost
}

// Accounts is what is known of accounts.
type Accounts struct {
	Administrators []string              // the names of accounts that may do everything, the first is there from the start
	WeakMethods    map[string]WeakMethod // by the name of the login method
}

// WeakMethod is a login method that gives away more than it has to.
type WeakMethod struct {
	Why     string
	Clear   bool // the password goes out as it is
	Default bool // the server's own default
}

// Identity says what two tests of servers tell about whether they are one.
type Identity struct {
	Name       string // of the identifier, in the plural: "the system identifiers"
	StartExact bool   // the start is known to the microsecond
	Shared     string // why two servers may have one identifier without one being a copy; "" where they don't
}

// Set is the engines that a program knows, in the order in which it lists them. The zero value has none.
type Set struct{ specs []*Spec }

// NewSet makes a set. Two engines of one word are a mistake in the program.
func NewSet(specs ...*Spec) Set {
	for i, s := range specs {
		if slices.ContainsFunc(specs[:i], func(o *Spec) bool { return o.Word == s.Word }) {
			panic("two engines with the word " + s.Word)
		}
	}
	return Set{specs: specs}
}

// All lists the engines.
func (set Set) All() []*Spec { return set.specs }

// ByWord is the engine of that word, or nil.
func (set Set) ByWord(word string) *Spec {
	for _, s := range set.specs {
		if s.Word == word {
			return s
		}
	}
	return nil
}

// Words lists the words of all engines.
func (set Set) Words() []string { return set.words(func(*Spec) bool { return true }) }

// Testable lists the words of the engines that can be tested.
func (set Set) Testable() []string { return set.words(func(s *Spec) bool { return s.Begin != nil }) }

// WithKey lists the words of the engines that give a key of a profile a meaning by Keys.Only.
func (set Set) WithKey(name key.Name) []string {
	return set.words(func(s *Spec) bool { return s.Takes(name) })
}

func (set Set) words(which func(*Spec) bool) []string {
	var words []string
	for _, s := range set.specs {
		if which(s) {
			words = append(words, s.Word)
		}
	}
	return words
}

// Port is the usual port of an engine's servers, 0 for an unknown word.
func (set Set) Port(word string) int {
	if s := set.ByWord(word); s != nil {
		return s.Port
	}
	return 0
}

// AtPort is the first engine whose usual port it is, or nil.
func (set Set) AtPort(port int) *Spec {
	for _, s := range set.specs {
		if s.Port == port && port != 0 {
			return s
		}
	}
	return nil
}

// Greetings are how the servers of all engines are recognised.
func (set Set) Greetings() greeting.Set {
	var all greeting.Set
	for _, s := range set.specs {
		if s.Greeting != nil {
			all = append(all, s.Greeting)
		}
	}
	return all
}

// Example is the first engine, which texts take for their examples. A set without engines has an empty one.
func (set Set) Example() *Spec {
	if len(set.specs) == 0 {
		return &Spec{Word: "ENGINE", Name: "ENGINE"}
	}
	return set.specs[0]
}

// CredentialFiles are those of all engines, one for each word of a source.
func (set Set) CredentialFiles() []secret.CredentialFile {
	var all []secret.CredentialFile
	for _, s := range set.specs {
		c := s.Credentials
		if c != nil && !slices.ContainsFunc(all, func(o secret.CredentialFile) bool { return o.Source() == c.Source() }) {
			all = append(all, c)
		}
	}
	return all
}

// FamilyOf lists the words of the engines that speak the protocol of an engine, its own too.
func (set Set) FamilyOf(word string) []string {
	return set.words(func(s *Spec) bool { return set.SameFamily(s.Word, word) })
}

// SameFamily reports whether two words are of servers that speak one protocol. A word that no engine has
// is its own family.
func (set Set) SameFamily(a, b string) bool {
	one, other := set.ByWord(a), set.ByWord(b)
	return a == b || one != nil && other != nil && one.Family != "" && one.Family == other.Family
}

// Takes reports whether a key is one of those that only some engines give a meaning, and this one does.
func (s *Spec) Takes(name key.Name) bool { return slices.Contains(s.Keys.Only, name) }

// FileFor is the name of a socket for a server at a port, "" where the engine has no sockets.
func (s Sockets) FileFor(port string) string {
	switch {
	case s.Prefix != "" || s.Suffix != "":
		return s.Prefix + port + s.Suffix
	case len(s.Names) > 0:
		return s.Names[0]
	}
	return ""
}

// ByPort reports whether the names have the port in them.
func (s Sockets) ByPort() bool { return s.Prefix != "" || s.Suffix != "" }

// PortIn is the port in the name of a socket, "" where that has none.
func (s Sockets) PortIn(name string) string {
	rest, ok := strings.CutPrefix(name, s.Prefix)
	if ok {
		rest, ok = strings.CutSuffix(rest, s.Suffix)
	}
	if !ok || !s.ByPort() || strings.Trim(rest, "0123456789") != "" {
		return ""
	}
	return rest
}
