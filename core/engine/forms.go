package engine

import (
	"fmt"

	"gentleharbor/core/profile/key"
)

// Lookup finds a variable of the environment.
type Lookup = func(name string) (string, bool)

// Section is one connection in a file of an engine's own clients.
type Section struct {
	Name   string // as the file calls it, "" where it has no names
	Line   int    // where it begins, 0 where that is not known
	Engine string // the engine's word, where the file tells more than whose file it is
	// Pairs are named values, each of a parameter in URL.Parameters; "password" is one.
	Pairs  [][2]string
	Origin string   // "service file /home/w/.pg_service.conf, [sightings]"
	Names  []string // what a profile of it could be called
	Source string   // the secret source that leads to the password where it stands, "" for none
}

// Place is where the section stands, for an error: "FILE:3: [tides]".
func (s Section) Place(path string) string {
	place := path
	if s.Line > 0 {
		place = fmt.Sprintf("%s:%d", path, s.Line)
	}
	if s.Name != "" {
		place += ": [" + s.Name + "]"
	}
	return place
}

// Import is a file of an engine's own clients that profiles can be made from.
type Import struct {
	Form    string // the word for import
	Summary string // for help
	Path    func(lookup Lookup, home string) string
	Read    func(path string) ([]Section, error)
}

// Family is a set of environment variables that make one connection (the servers' documentation, and that
// of their official container images). Each name stands for a parameter in URL.Parameters.
type Family struct {
	Names map[string]string
	Least []string // one of them has to be there
	// Prefix begins the names of all variables that the engine's clients read: others with it are listed as left out.
	Prefix string
}

// ServiceFile is a file in which an engine's own clients find connections by name.
type ServiceFile struct {
	Name       string // for a sentence: "the service file of …"
	Paths      func(lookup Lookup, home string) []string
	ByVariable func(path string, lookup Lookup) bool // one of Paths is there because a variable says so
	// Find is the first section of that name; its Line is 0 where there is none. names lists all.
	Find func(data []byte, path, name string) (s Section, names []string, err error)
}

// URL says how an engine's connection URLs are read and written.
type URL struct {
	Scheme  string                         // that is written; "" where there are no URLs
	Schemes []string                       // that are read
	Means   map[string]map[key.Name]string // what a scheme says by itself, where parameters do not
	// SRV is the prefix of a host in the name of its SRV records, by scheme.
	SRV        map[string]string
	Path       key.Name             // what the path is; "" for the database
	Fold       bool                 // parameters may be written in letters of another size
	Parameters map[string]Parameter // by name; where engines share a name they mean the same by it
	// Settle gets the parameters by name, and returns what several of them mean together: values of keys ("" removes
	// a key), and notes for a person; nil for nothing.
	Settle func(given map[string]string) (keys map[string]string, notes []string)
	// Pairs splits a connection string of names and values, which is no URL; ok is false for another text. It is nil
	// where the engine has none.
	Pairs func(text string) (pairs [][2]string, ok bool)
	// Write fills in what follows the scheme, from the user, the hosts and the database.
	Write func(c *Connection, u *URLParts)
}

// Settle gets the path and the user under these names, which no parameter has.
const (
	PathParameter = "/"
	UserParameter = "@"
)

// URLParts are the parts of a URL that an engine's Write may change. Parameters without a value are left out.
type URLParts struct {
	Scheme     string // "" for that of URL
	Host, Path string
	Query      map[string]string
}

// Parameter is what a named value of a URL, a service file, an option file or a variable means.
type Parameter struct {
	Key      string            // of the profile; "" for one that changes nothing there
	Values   map[string]string // the profile's words for the values; nil for the value itself
	Fold     bool              // capital letters are the same as small ones
	Expected string            // the values, for an error; "" where another value is no error, and is passed over
	Prefix   string            // before the value, such as "passfile:"
	Form     ParameterForm
}

// ParameterForm says how the value of a parameter is used.
type ParameterForm int

// The forms of parameters.
const (
	Plain       ParameterForm = iota // the value of Key
	Hosts                            // one or more hosts, or the folder of a socket
	DialAddress                      // dialled in place of the host, which stays the certificate's name
	Password                         // the password
	Passphrase                       // that of the client's key: never kept, and refused on a command line
	Idle                             // it changes how one client connects, not where: left out, with a notice
	Unkept                           // it asks for something that a profile can't promise; Expected says what
)
