// Package handover gives a connection to another program: as the environment
// variables and credential files that the engine's own open-source clients read,
// as a URL, or as lines of the files that those keep. Every secret it writes goes
// into a file that only its owner can read, or into the one variable that was
// asked for. It stands behind profile and secret, for `with` and `export`.
package handover

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
	"gentleharbor/core/secret/passfile"
)

// Connection is what a program needs to connect.
type Connection struct {
	Profile  string
	Engine   string
	Servers  []route.Candidate // in the order in which they are tried
	Database string
	Service  string // what the listener is asked for (oracle)
	Instance string // its SID, in place of a service
	User     string
	Password secret.Value // not Present where none is handed over
	TLS      string       // the rule
	CA       string       // path, "" for the system's authorities
	TLSName  string       // that the certificate carries, "" for the host
	Cert     string
	Key      string
	Target   string // any, writable, read-only

	local bool // the address is not the server's own, and the certificate is the server's
}

// Of is the connection that a profile leads to. servers are its candidates.
func Of(p *profile.Resolved, servers []route.Candidate, v secret.Value) (Connection, *finding.Finding) {
	if found := p.Problem(); found != nil {
		return Connection{}, found
	}
	if len(servers) == 0 || p.Text("engine") == "" {
		return Connection{}, finding.New(finding.ProfileIncomplete,
			"the profile does not say where the server is, or which engine it is").
			Suggest("gharbor show %s", p.Called)
	}
	c := Connection{
		Profile:  p.Called,
		Engine:   p.Text("engine"),
		Servers:  servers,
		Database: p.Text("database"),
		User:     p.Text("user"),
		Password: v,
		Service:  p.Text("service"),
		Instance: p.Text("instance"),
		TLS:      p.Text("tls"),
		CA:       p.Text("tls-ca"),
		TLSName:  p.Text("tls-name"),
		Cert:     p.Text("tls-cert"),
		Key:      p.Text("tls-key"),
		Target:   p.Text("target"),
	}
	if c.TLS != "verified" {
		c.CA, c.TLSName = "", ""
	}
	c.spellOut()
	return c, nil
}

// spellOut makes of the servers what a program can dial that knows nothing of [hosts]
// and SRV records: addresses, and apart from them the name that a certificate must
// be for. Programs take one such name, so then they are given the first server.
func (c *Connection) spellOut() {
	first := c.first()
	c.Servers = slices.Clone(c.Servers)
	for i, s := range c.Servers {
		if s.StaticHost != nil {
			c.Servers[i].Host = s.StaticHost.Addresses[0].String()
		}
	}
	if c.TLS == "verified" && c.TLSName == "" && (first.StaticHost != nil || first.Name != "") {
		c.TLSName, c.Servers = first.CertificateName(), c.Servers[:1]
	}
}

// At is the connection by another address that leads to the same server, such as the
// local one of a tunnel: the certificate is still the server's.
func (c Connection) At(local route.Candidate) Connection {
	if c.TLS == "verified" && c.TLSName == "" && c.first().Socket == "" {
		c.TLSName = c.first().Host
	}
	c.Servers, c.local = []route.Candidate{local}, true
	return c
}

// mysql reports whether the engine speaks MySQL's protocol.
func (c *Connection) mysql() bool { return c.Engine == "mysql" || c.Engine == "mariadb" }

// first is the server that a program which knows only one is given.
func (c *Connection) first() route.Candidate { return c.Servers[0] }

// Host is what the engine's clients take as the host: for a socket the folder
// that PostgreSQL's look in, and the localhost that means one to MySQL's.
func (c *Connection) Host() string {
	switch s := c.first(); {
	case s.Socket == "":
		return s.Host
	case c.mysql():
		return "localhost"
	case s.Folder != "":
		return s.Folder
	default:
		return s.Socket
	}
}

// Port is the first server's port.
func (c *Connection) Port() string {
	if port := c.first().Port; port != 0 {
		return strconv.Itoa(port)
	}
	return ""
}

// Socket is the path of the socket, "" for a host.
func (c *Connection) Socket() string { return c.first().Socket }

// tlsMode is the rule in the words of an engine's clients: PostgreSQL's sslmode
// (PostgreSQL documentation, "SSL Mode Descriptions") and MySQL's ssl-mode (MySQL
// documentation, "Command Options for Encrypted Connections").
func (c *Connection) tlsMode() string {
	words := map[string][2]string{
		"off":      {"disable", "DISABLED"},
		"offered":  {"prefer", "PREFERRED"},
		"required": {"require", "REQUIRED"},
		"verified": {"verify-full", "VERIFY_IDENTITY"},
	}[c.TLS]
	if c.mysql() {
		return words[1]
	}
	return words[0]
}

// bundles are where systems keep their certificate authorities in one file.
var bundles = []string{"/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt",
	"/etc/ssl/ca-bundle.pem", "/etc/ssl/cert.pem", "/opt/homebrew/etc/ca-certificates/cert.pem"}

// authorities is the file of authorities that a client is told: most have no word
// for the system's own.
func (c *Connection) authorities() string {
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

// URL is a connection URL. With a password it is a secret.
func (c *Connection) URL() string {
	u := url.URL{Scheme: c.Engine, Path: "/" + c.Database}
	if c.Engine == "mariadb" {
		u.Scheme = "mysql"
	}
	switch {
	case c.Password.Present():
		u.User = url.UserPassword(c.User, c.Password.Disclose())
	case c.User != "":
		u.User = url.User(c.User)
	}
	query := url.Values{}
	var hosts []string
	for _, s := range c.Servers {
		if s.Socket == "" {
			hosts = append(hosts, net.JoinHostPort(s.Host, strconv.Itoa(s.Port)))
		}
	}
	u.Host = strings.Join(hosts, ",")
	switch {
	case c.Engine == "oracle":
		u.Host = net.JoinHostPort(c.first().Host, c.Port())
		u.Path = "/" + c.Service
		query.Set("SID", c.Instance)
	case c.Engine == "postgresql":
		if c.Socket() != "" {
			query.Set("host", c.Host())
			query.Set("port", c.Port())
		}
		if name, address, ok := c.apart(); ok && (c.local || address == c.first().Host) {
			u.Host = net.JoinHostPort(name, c.Port())
			query.Set("hostaddr", address)
		}
		query.Set("sslmode", c.tlsMode())
		query.Set("sslrootcert", c.CA)
		query.Set("sslcert", c.Cert)
		query.Set("sslkey", c.Key)
		query.Set("target_session_attrs", c.sessionAttributes())
	case c.mysql():
		if c.Socket() != "" {
			u.Host = "localhost"
			query.Set("socket", c.Socket())
		} else {
			query.Set("ssl-mode", c.tlsMode())
		}
		query.Set("ssl-ca", c.CA)
		query.Set("ssl-cert", c.Cert)
		query.Set("ssl-key", c.Key)
	}
	for key, values := range query {
		if values[0] == "" {
			delete(query, key)
		}
	}
	u.RawQuery = strings.ReplaceAll(query.Encode(), "%2F", "/")
	return u.String()
}

// sessionAttributes is the target in the words of libpq, "" for any server.
func (c *Connection) sessionAttributes() string {
	return map[string]string{"writable": "read-write", "read-only": "read-only"}[c.Target]
}

// apart are the host name and the address that PostgreSQL's clients can take
// apart, so that the certificate is verified for the name although another
// address is dialled (libpq's host and hostaddr). ok is false where one host is
// both.
func (c *Connection) apart() (name, address string, ok bool) {
	s := c.first()
	if c.TLSName == "" || s.Socket != "" || strings.EqualFold(c.TLSName, s.Host) || len(c.Servers) > 1 {
		return "", "", false
	}
	if net.ParseIP(s.Host) != nil {
		return c.TLSName, s.Host, true
	}
	if found, err := net.LookupHost(s.Host); err == nil && len(found) > 0 {
		return c.TLSName, found[0], true
	}
	return "", "", false
}

// PassfileLines are the lines of a PostgreSQL password file for the connection:
// one for each way in which a client may look it up.
func (c *Connection) PassfileLines() []string {
	var lines []string
	add := func(host, port string) {
		line := passfile.Line(passfile.Query{Host: host, Port: port, Database: "*", User: c.User}, c.Password.Disclose())
		if !slices.Contains(lines, line) {
			lines = append(lines, line)
		}
	}
	if name, address, ok := c.apart(); ok {
		add(name, c.Port())
		add(address, c.Port())
	}
	for _, s := range c.Servers {
		port := strconv.Itoa(s.Port)
		if s.Socket == "" {
			add(s.Host, port)
			continue
		}
		add("localhost", port) // what libpq looks up for its default folder
		if s.Folder != "" {
			add(s.Folder, port)
		}
	}
	return lines
}

// ServiceLines are a section of a PostgreSQL service file (PostgreSQL
// documentation, "The Connection Service File"), without a password.
func (c *Connection) ServiceLines() ([]string, error) {
	if c.Engine != "postgresql" {
		return nil, fmt.Errorf("a service file is PostgreSQL's, and the profile is for %s", c.Engine)
	}
	lines := []string{"[" + c.Profile + "]"}
	for _, pair := range c.libpq() {
		if pair.service != "" && pair.value != "" {
			lines = append(lines, pair.service+"="+pair.value)
		}
	}
	return lines, nil
}
