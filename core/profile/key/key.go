// Package key has the names of the keys of profiles, hops and aliases, as values that the compiler checks. What each
// key takes and means is in schema, whose tests compare the two.
package key

import "strings"

// Name is the name of a key, as the files have it.
type Name string

// The keys of a profile.
const (
	Like              Name = "like"
	Engine            Name = "engine"
	Host              Name = "host"
	Port              Name = "port"
	Hosts             Name = "hosts"
	Target            Name = "target"
	Socket            Name = "socket"
	Alias             Name = "alias"
	Container         Name = "container"
	Sentinel          Name = "sentinel"
	Endpoint          Name = "endpoint"
	Cloud             Name = "cloud"
	Service           Name = "service"
	Instance          Name = "instance"
	Database          Name = "database"
	User              Name = "user"
	AuthDatabase      Name = "auth-database"
	As                Name = "as"
	Secret            Name = "secret"
	Command           Name = "command"
	TLS               Name = "tls"
	TLSCA             Name = "tls-ca"
	TLSName           Name = "tls-name"
	TLSCert           Name = "tls-cert"
	TLSKeySecret      Name = "tls-key-secret"
	TLSCRL            Name = "tls-crl"
	TLSStart          Name = "tls-start"
	TLSKey            Name = "tls-key"
	ServerKey         Name = "server-key"
	Guard             Name = "guard"
	Tags              Name = "tags"
	Note              Name = "note"
	ExpectVersion     Name = "expect.version"
	ExpectTLS         Name = "expect.tls"
	ExpectWritable    Name = "expect.writable"
	ExpectUser        Name = "expect.user"
	ExpectDatabase    Name = "expect.database"
	ExpectTables      Name = "expect.tables"
	ExpectExtensions  Name = "expect.extensions"
	ExpectKeys        Name = "expect.keys"
	ExpectCollections Name = "expect.collections"
	ExpectIndexes     Name = "expect.indexes"
	ExpectPersistent  Name = "expect.persistent"
	ExpectReplicaSet  Name = "expect.replica-set"
	ExpectServer      Name = "expect.server"
	ExpectEncoding    Name = "expect.encoding"
	ExpectCollation   Name = "expect.collation"
	ExpectSQLMode     Name = "expect.sql-mode"
	ExpectTimeZone    Name = "expect.time-zone"
	ExpectLatency     Name = "expect.latency"
)

// The keys of an alias that a profile does not have.
const (
	Addresses      Name = "addresses"
	SRV            Name = "srv"
	Pick           Name = "pick"
	ConnectTimeout Name = "connect-timeout"
	Retries        Name = "retries"
)

// The keys of a hop that a profile does not have.
const (
	SSH        Name = "ssh"
	Proxy      Name = "proxy"
	Key        Name = "key"
	KeySecret  Name = "key-secret"
	Agent      Name = "agent"
	HostKey    Name = "host-key"
	Algorithms Name = "algorithms"
)

// The keys of a cloud account that nothing else has.
const (
	Issuer       Name = "issuer"
	Client       Name = "client"
	ClientSecret Name = "client-secret"
	Scopes       Name = "scopes"
	TokenFile    Name = "token-file"
)

// ForPrograms lists the keys whose values another program is given.
func ForPrograms() []Name {
	return []Name{
		Engine, Host, Port, Socket, Database, User, AuthDatabase, Service, Instance, Target,
		TLS, TLSCA, TLSName, TLSCert, TLSKey, TLSCRL, TLSStart,
	}
}

// Variable is the environment variable that has the key's value: "GHARBOR_TLS_CA".
func (n Name) Variable() string {
	return "GHARBOR_" + strings.ToUpper(strings.ReplaceAll(string(n), "-", "_"))
}

// All lists every name.
func All() []Name {
	return []Name{
		Like,
		Engine,
		Host,
		Port,
		Hosts,
		Target,
		Socket,
		Alias,
		Container,
		Sentinel,
		Endpoint,
		Cloud,
		Service,
		Instance,
		Database,
		User,
		AuthDatabase,
		As,
		Secret,
		Command,
		TLS,
		TLSCA,
		TLSName,
		TLSCert,
		TLSKeySecret,
		TLSCRL,
		TLSStart,
		TLSKey,
		ServerKey,
		Guard,
		Tags,
		Note,
		ExpectVersion,
		ExpectTLS,
		ExpectWritable,
		ExpectUser,
		ExpectDatabase,
		ExpectTables,
		ExpectExtensions,
		ExpectKeys,
		ExpectCollections,
		ExpectIndexes,
		ExpectPersistent,
		ExpectReplicaSet,
		ExpectServer,
		ExpectEncoding,
		ExpectCollation,
		ExpectSQLMode,
		ExpectTimeZone,
		ExpectLatency,
		Addresses,
		SRV,
		Pick,
		ConnectTimeout,
		Retries,
		SSH,
		Proxy,
		Key,
		KeySecret,
		Agent,
		HostKey,
		Algorithms,
		Issuer,
		Client,
		ClientSecret,
		Scopes,
		TokenFile,
	}
}
