// Package handover gives a connection to another program: as the environment
// variables and credential files that the engine's own open-source clients read,
// as a URL, or as lines of the files that those keep. Every secret it writes goes
// into a file that only its owner can read, or into the one variable that was
// asked for. It stands behind profile and secret, for `with` and `export`.
package handover

import (
	"fmt"
	"net/url"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
)

// Connection is what a program needs to connect.
type Connection struct {
	engine.Connection
	All []engine.Endpoint // every server of the profile; Servers are those that one certificate's name fits
}

// NewConnection is the connection that a profile leads to. servers are its candidates.
func NewConnection(p *resolve.Profile, servers []address.Candidate, v secret.Value) (Connection, *finding.Finding) {
	if found := p.Problem(); found != nil {
		return Connection{}, found
	}
	spec := p.Engine()
	if len(servers) == 0 || spec == nil {
		return Connection{}, finding.New(finding.ProfileIncomplete,
			"the profile does not say where the server is, or which engine it has").
			Suggest("gharbor show %s", p.Called)
	}
	c := Connection{Connection: engine.Connection{
		Spec:     spec,
		Profile:  p.Called,
		Servers:  endpoints(servers),
		Database: p.Text(key.Database),
		User:     p.Text(key.User),
		Password: v,
		Service:  p.Text(key.Service),
		Instance: p.Text(key.Instance),
		TLS:      p.Text(key.TLS),
		CA:       p.Text(key.TLSCA),
		TLSName:  p.Text(key.TLSName),
		TLSStart: p.Text(key.TLSStart),
		CRL:      p.Text(key.TLSCRL),
		Cert:     p.Text(key.TLSCert),
		Key:      p.Text(key.TLSKey),
		Target:   p.Text(key.Target),

		AuthDatabase: p.Text(key.AuthDatabase),
	}}
	if c.TLS != "verified" {
		c.CA, c.TLSName, c.CRL = "", "", ""
	}
	c.All = c.Servers
	c.setCertificateName(servers)
	return c, nil
}

// endpoints are the servers as a program dials them that knows nothing of [hosts] and SRV records.
func endpoints(servers []address.Candidate) []engine.Endpoint {
	all := make([]engine.Endpoint, len(servers))
	for i, s := range servers {
		all[i] = Endpoint(s)
		if s.StaticHost != nil {
			all[i].Host = s.StaticHost.Addresses[0].String()
		}
	}
	return all
}

// Endpoint is a candidate as a program dials it.
func Endpoint(c address.Candidate) engine.Endpoint {
	return engine.Endpoint{Host: c.Host, Port: c.Port, Socket: c.Socket, Folder: c.Folder}
}

// setCertificateName sets the name on the certificate where it differs from the address to dial. Programs take one
// such name, so they then get only the first server.
func (c *Connection) setCertificateName(servers []address.Candidate) {
	first := servers[0]
	if c.TLS == "verified" && c.TLSName == "" && (first.StaticHost != nil || first.Name != "") {
		c.TLSName, c.Servers = first.CertificateName(), c.Servers[:1]
	}
}

// At is the connection by another address that leads to the same server, such as the
// local one of a tunnel: the certificate is still the server's.
func (c Connection) At(local engine.Endpoint) Connection {
	if c.TLS == "verified" && c.TLSName == "" && c.First().Socket == "" {
		c.TLSName = c.First().Host
	}
	c.Servers, c.Elsewhere, c.Address = []engine.Endpoint{local}, true, ""
	c.All = c.Servers
	return c
}

// LoggedIn is the connection by a local address that logs in by itself: there is no password but the address's own, and
// no TLS but behind it.
func (c Connection) LoggedIn(local engine.Endpoint, own secret.Value) Connection {
	c.Password, c.TLS, c.TLSName, c.TLSStart, c.CA, c.CRL, c.Cert, c.Key, c.Target = own, "", "", "", "",
		"", "", "", ""
	return c.At(local)
}

// URL is a connection URL. With a password it is a secret.
func (c *Connection) URL() string {
	scheme := c.Spec.URL.Scheme
	if scheme == "" {
		scheme = c.Spec.Word
	}
	u := url.URL{Scheme: scheme}
	switch {
	case c.Password.Present():
		u.User = url.UserPassword(c.User, c.Password.Disclose())
	case c.User != "":
		u.User = url.User(c.User)
	}
	var hosts []string
	for _, s := range c.Servers {
		if s.Socket == "" {
			hosts = append(hosts, s.String())
		}
	}
	parts := engine.URLParts{
		Host:  strings.Join(hosts, ","),
		Path:  "/" + c.Database,
		Query: make(map[string]string),
	}
	if c.Spec.URL.Write != nil {
		c.Spec.URL.Write(&c.Connection, &parts)
	}
	u.Host, u.Path = parts.Host, parts.Path
	if parts.Scheme != "" {
		u.Scheme = parts.Scheme
	}
	query := url.Values{}
	for key, value := range parts.Query {
		if value != "" {
			query.Set(key, value)
		}
	}
	// a blank as a plus sign is a form's way, which programs that read URLs do not share
	u.RawQuery = strings.NewReplacer("%2F", "/", "+", "%20").Replace(query.Encode())
	return u.String()
}

// Form is one of the forms that the connection's engine has for `export`. err says whose form it is where
// that is another's; known is false where no engine has it.
func (c *Connection) Form(engines engine.Set, word string) (form *engine.Form, known bool, err error) {
	for _, spec := range engines.All() {
		for i := range spec.Client.Forms {
			one := &spec.Client.Forms[i]
			switch {
			case one.Word != word:
			case engines.SameFamily(spec.Word, c.Spec.Word):
				return one, true, nil
			default:
				known, err = true, fmt.Errorf("%s; the profile is for %s", one.What, c.Spec.Word)
			}
		}
	}
	return nil, known, err
}
