package engine

import (
	"net"
	"os"
	"regexp"
	"strconv"
	"strings"

	"gentleharbor/core/secret"
)

// Endpoint is one server as a program dials it: a host with a port, or a socket.
type Endpoint struct {
	Host   string
	Port   int
	Socket string // its path, "" for a host
	Folder string // of the socket, where clients look for it by its folder
}

// String is "host:port", or the socket's path.
func (e Endpoint) String() string {
	if e.Socket != "" {
		return e.Socket
	}
	return net.JoinHostPort(e.Host, strconv.Itoa(e.Port))
}

// Connection is what another program needs to connect to a server.
type Connection struct {
	Spec     *Spec
	Profile  string
	Servers  []Endpoint // in the order in which they are tried; at least one
	Database string
	Service  string // what the listener is asked for
	Instance string // in place of a service
	User     string
	Password secret.Value // not Present where none is handed over
	TLS      string       // the rule
	CA       string       // path, "" for the system's authorities
	TLSName  string       // that the certificate carries, "" for the host
	TLSStart string       // "direct" for TLS from the first byte

	AuthDatabase string // that the account was made in, "" for the usual one

	CRL    string // path of revocation lists, "" for none
	Cert   string
	Key    string
	Target string // any, writable, read-only

	// Address is the IP address of the first server, where a name and an address are both known (see
	// SeparateAddress); "" where it is not.
	Address string

	// Elsewhere: the address is that of a tunnel, while the certificate is the server's.
	Elsewhere bool
}

// Variable is an environment variable for a program.
type Variable struct {
	Name, Value string
	Secret      bool // the value has a password in it
}

// Client is how a connection is given to the programs of an engine.
type Client struct {
	Variables func(*Connection) []Variable // without a password
	Extra     func(*Connection) []Variable // what export adds to them, which programs read from a dotenv file
	Cleared   []string                     // prefixes of variables that would change where the connection leads
	Reads     []string                     // variables that name files, which gharbor reads too
	Driver    []string                     // prefixes of variables that the driver would read by itself
	Password  string                       // the variable for a password, "" for none

	// Files writes a credential file into a private folder. It returns its path, and the variables that lead to it;
	// the path is "" without a password. nil where the engine has no such file.
	Files       func(c *Connection, folder string) (path string, variables []Variable, err error)
	Placeholder string // the word for the path of that file in the arguments of a program
	File        string // that file, for a sentence
	// Overruled is the user's own file that would override Files; "" for none.
	Overruled func(home string) string

	Hosts    bool // programs can be given several hosts
	Apart    bool // programs can verify a certificate for another name than the address
	Forms    []Form
	Programs Programs
}

// Form is a form of a connection for `export`, beyond those that fit every engine.
type Form struct {
	Word  string
	What  string // for a sentence: "a password file"
	Lines func(*Connection) ([]string, error)
	// NeedsPassword: without a password the word PASSWORD stands in its place. A form that does not need one has the
	// password on a line of its own: PasswordLine.
	NeedsPassword bool
	PasswordLine  func(password string) string
}

// Programs are the servers' own clients.
type Programs struct {
	Older   map[string]int        // by how many major versions each may be older than its server
	Version func() *regexp.Regexp // the major version in what --version prints, as the first group
	// SameServer reports whether that text is of a client for a server of that version; nil for always.
	SameServer func(said, server string) bool
	Folders    []string // patterns of where packages put programs that are not on the path
	Histories  []string // the files, below the user's home, in which they keep what was typed
	// Spelled finds a command line that has a password in it; nil where the programs take none there.
	Spelled func() *regexp.Regexp
}

// First is the server for a program that takes only one.
func (c *Connection) First() Endpoint { return c.Servers[0] }

// Host is what the engine's clients take as the host. For a socket that is its folder where clients look there, else
// the "localhost" that means the socket to them.
func (c *Connection) Host() string {
	switch s := c.First(); {
	case s.Socket == "":
		return s.Host
	case c.Spec.Sockets.Localhost:
		return "localhost"
	case s.Folder != "" && c.Spec.Sockets.ByPort():
		return s.Folder
	default:
		return s.Socket
	}
}

// Port is the first server's port, "" where it has none.
func (c *Connection) Port() string {
	if port := c.First().Port; port != 0 {
		return strconv.Itoa(port)
	}
	return ""
}

// Socket is the path of the socket, "" for a host.
func (c *Connection) Socket() string { return c.First().Socket }

// bundles are where systems keep their certificate authorities in one file.
var bundles = []string{"/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt",
	"/etc/ssl/ca-bundle.pem", "/etc/ssl/cert.pem", "/opt/homebrew/etc/ca-certificates/cert.pem"}

// Authorities is the file of authorities for a client: most can't name the system's own.
func (c *Connection) Authorities() string {
	if c.TLS != "verified" || c.CA != "" {
		return c.CA
	}
	for _, path := range append([]string{os.Getenv("SSL_CERT_FILE")}, bundles...) {
		if _, err := os.Stat(path); path != "" && err == nil {
			return path
		}
	}
	return ""
}

// VerifiedHost is the host to dial, where the certificate is for another name; ok is false where the two are one.
func (c *Connection) VerifiedHost() (host string, ok bool) {
	s := c.First()
	if c.TLSName == "" || s.Socket != "" || strings.EqualFold(c.TLSName, s.Host) || len(c.Servers) > 1 {
		return "", false
	}
	return s.Host, true
}

// SeparateAddress returns the name on the certificate and the address to dial, where they differ. ok is false where
// they are the same, or the address is not known.
func (c *Connection) SeparateAddress() (name, address string, ok bool) {
	host, ok := c.VerifiedHost()
	address = c.Address
	if net.ParseIP(host) != nil {
		address = host
	}
	return c.TLSName, address, ok && address != ""
}
