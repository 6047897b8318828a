// Package engine describes a kind of database server in one value, a Spec: its words, port and keys, the files and
// variables of its own clients, its container images, and Begin. Begin starts a Conversation over one raw connection,
// which finds out step by step what answers, how the connection is encrypted, who may log in, and what the login
// sees.
//
// An engine is one sub-package and one line in core/engines; this package links no driver. In the order profile,
// resolve, route, check, report it stands between route and check. Start with Spec.
package engine

import (
	"context"
	"crypto/x509"
	"net"
	"time"

	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// Target has what a conversation needs: where it goes, and what it may use.
type Target struct {
	Profile  string
	User     string
	Database string
	Network  string // "tcp" or "unix"
	Address  string // as dialled: "127.0.0.1:5432", or the socket's path

	// Rotates: a new password can be written to the profile's source.
	Rotates bool

	// Admin is the administrator's profile that looks up what the server does not say; "" for none.
	Admin string
	// Helper names that profile, or another administrator's for the same server, for commands to try. It is called
	// only after a refused login. It may be nil.
	Helper func() string

	TLS *tlsrule.Plan

	// TLSDirect: TLS begins with the first byte, where the engine's protocol can.
	TLSDirect bool

	// ServerKey is the path of the server's public key in PEM, pinned by the
	// profile, "" for none: a password may go out under it without TLS.
	ServerKey string
	// Pinned are bytes to use instead of a file's, by path.
	Pinned map[string][]byte

	// PeerChecked: the process behind a Unix socket belongs to root, to this user, or to the owner of the socket's
	// folder. Without it, and without verified TLS, no password is sent in clear text.
	PeerChecked bool

	// ListenerChecked is the same for a process behind a loopback port, or a container's port. It is nil where the
	// system does not tell.
	ListenerChecked func() bool

	// AuthDatabase is the database that the account was made in, "" for the usual one.
	AuthDatabase string

	// A listener (oracle) is asked for Service or Instance, with the administrator's right As, "" for none. Alias is
	// the alias with the service or instance, and AliasAt its file and line; "" for none.
	Service, Instance, As string
	Alias, AliasAt        string
	// Follow connects to a host and port that the server sent the client to. listed is false, and nothing is dialled,
	// where neither the profile nor its alias has it.
	Follow func(ctx context.Context, host string, port int) (conn net.Conn, address string, listed bool, err error)

	// Thorough asks for facts that only a comparison needs, and that take more time.
	Thorough bool

	// Parameters are what a program on this machine wants of its session, by the protocol's names; nil for a test.
	Parameters map[string]string
	// ReadOnly: a program's session is read-only.
	ReadOnly bool

	// ForStatements: statements will be run, so an answer may be of any size.
	ForStatements bool

	// NoSecret: no password will be sent. The source is none, or no source had an entry; NoSecretTried lists the
	// sources then.
	NoSecret      bool
	Typed         bool // a person types it
	NoSecretTried []string

	// TakeSecret reads the password. It is called at most once, after the server has asked for a password by an
	// allowed method.
	TakeSecret func(context.Context) (secret.Value, error)

	// Greetings are how the servers of other engines are recognised.
	Greetings greeting.Set
	// Redial makes another connection to the same address. A diagnosis may call it a few times after the first
	// connection failed.
	Redial func(context.Context) (net.Conn, error)
}

// Conversation carries the stages of one test over one connection, in the
// order of its methods. After a result that fails only Close may follow.
type Conversation interface {
	// Speak finds out whether the other side is the engine.
	Speak(context.Context) finding.Result
	// Encrypt applies the TLS rule. The facts are nil without encryption.
	Encrypt(context.Context) (*tlsrule.Facts, finding.Result)
	// LogInAs sets the user, before Login, for a login that is made at use and has a user of its own.
	LogInAs(user string)
	// Login logs in.
	Login(context.Context) finding.Result
	// Database says whether the login may use the database.
	Database(context.Context) finding.Result
	// Session reads the user, the server and the state of the session.
	Session(context.Context) finding.Result
	// Missing returns those of the names that do not exist as far as this login can see; what is the key of the profile
	// that lists them, such as expect.tables.
	Missing(ctx context.Context, what key.Name, names []string) ([]string, error)
	// LookUp finds out with this administrator's login why the server refused another one, or its database. It makes
	// that general finding the precise one.
	LookUp(context.Context, Refusal) error
	// Facts is what is known so far.
	Facts() *Facts
	// Close ends the connection, and tells the server where that is possible.
	Close()
}

// Begin starts a conversation on a connection that has just been made.
type Begin func(net.Conn, Target) Conversation

// Facts is what a test learned. A nil pointer and an empty text are unknown values.
type Facts struct {
	Engine   string `json:"engine,omitempty"`
	Version  string `json:"version,omitempty"`
	User     string `json:"user,omitempty"`
	Database string `json:"database,omitempty"`
	// as the server names it, where that is more than the user
	Account string `json:"account,omitempty"`
	// the user and host that the server sees, where it says so
	SeenAs     string `json:"seen_as,omitempty"`
	ServerID   string `json:"server_id,omitempty"`
	Lineage    string `json:"server_lineage,omitempty"` // what its data or its making is known by
	ServerHost string `json:"server_host,omitempty"`    // what it calls its machine, and its port
	// the connection's number on the server, where its greeting has one
	ConnectionID uint32 `json:"connection_id,omitempty"`
	// the lineage or address of what it replicates, where it may be read
	ReplicaOf     string               `json:"replica_of,omitempty"`
	ServerStarted *time.Time           `json:"server_started,omitempty"`
	Route         string               `json:"route,omitempty"`
	TLS           string               `json:"tls,omitempty"` // "TLS 1.3", or "none"
	TLSCipher     string               `json:"tls_cipher,omitempty"`
	TLSVerified   *bool                `json:"tls_verified,omitempty"`
	Certificate   *tlsrule.Certificate `json:"certificate,omitempty"`
	LoginMethod   string               `json:"login_method,omitempty"`
	// ClientAuthorities are the issuers of client certificates that the server named in the handshake.
	ClientAuthorities []string `json:"-"`
	SecretSource      string   `json:"secret_source,omitempty"`
	SecretTaken       bool     `json:"-"` // the server asked for it, and it was sent
	SecretTyped       bool     `json:"-"` // a person typed it for this connection
	Writable          *bool    `json:"writable,omitempty"`
	Persistent        *bool    `json:"persistent,omitempty"`  // what is written outlives the server's process
	ReplicaSet        string   `json:"replica_set,omitempty"` // the name of the set that the server is a member of
	// of the server's data in memory, in bytes; a limit of 0 is none
	MemoryUsed      *int64   `json:"memory_used,omitempty"`
	MemoryLimit     *int64   `json:"memory_limit,omitempty"`
	InRecovery      *bool    `json:"in_recovery,omitempty"`
	Superuser       *bool    `json:"superuser,omitempty"`
	Encoding        string   `json:"encoding,omitempty"`
	Collation       string   `json:"collation,omitempty"`
	SQLMode         string   `json:"sql_mode,omitempty"`
	TimeZone        string   `json:"time_zone,omitempty"`
	ClockDifference *float64 `json:"clock_difference_ms,omitempty"` // the server's clock less ours
	RoundTrip       *float64 `json:"round_trip_ms,omitempty"`       // median of three

	// For a person alone, in the engine's own words.
	Product      string   `json:"-"` // "PostgreSQL"
	Role         string   `json:"-"` // "in recovery", "primary"
	Rights       string   `json:"-"` // "superuser"
	Settings     []string `json:"-"` // "UTF8", "time zone Etc/UTC"
	SourceUnseen bool     `json:"-"` // the account may not see whether this server replicates another
	ReadOnlyBy   string   `json:"-"` // why nothing can be written, where that is so
}

// Refusal is a failed login whose reason the server does not say.
type Refusal struct {
	Profile   string
	User      string
	Database  string
	Network   string // "tcp" or "unix"
	Encrypted bool

	AuthDatabase string // as Target has it

	Method  string // by which the server asked
	SeenAs  string // as Facts has it
	From    string // the address of this end of the connection, "" for a socket
	Admin   string // the profile that looks it up
	Rotates bool   // as Target has it
	By      string // "looked up with the profile … at …: ", for what is seen
	Finding *finding.Finding

	Certificate     *x509.Certificate // the client's own, nil for none
	CertificatePath string
}
