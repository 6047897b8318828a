package handover

import (
	"strings"

	"gentleharbor/core/profile/key"
)

// Values are what the connection says beside its servers, by the keys of a profile. What it does not say is left out.
func (c *Connection) Values() map[key.Name]string {
	all := map[key.Name]string{
		key.Engine:   c.Spec.Word,
		key.User:     c.User,
		key.Database: c.Database,
		key.Service:  c.Service,
		key.Instance: c.Instance,
		key.TLS:      c.TLS,
		key.TLSCA:    c.CA,
		key.TLSName:  c.TLSName,
		key.TLSCert:  c.Cert,
		key.TLSKey:   c.Key,
		key.TLSCRL:   c.CRL,
		key.TLSStart: c.TLSStart,
		key.Target:   c.Target,

		key.AuthDatabase: c.AuthDatabase,
	}
	for k, value := range all {
		if value == "" {
			delete(all, k)
		}
	}
	return all
}

// Document is the connection for JSON: Values with "_" for "-", and the servers. intake.Reader reads it.
func (c *Connection) Document() map[string]any {
	document := make(map[string]any)
	for k, value := range c.Values() {
		document[strings.ReplaceAll(string(k), "-", "_")] = value
	}
	var servers []string
	for _, s := range c.All {
		servers = append(servers, s.String())
	}
	document["servers"] = servers
	return map[string]any{"format": 1, "profile": c.Profile, "connection": document}
}

// MissingFrom are the values and servers that another connection does not have, as a person would set them. They are
// what a form has no place for, where other is what was read back from it.
func (c *Connection) MissingFrom(other *Connection) []string {
	var lost []string
	there := other.Values()
	here := c.Values()
	for _, k := range key.All() {
		value := here[k]
		switch {
		case value == there[k], k == key.Target && value == "any", k == key.TLSCA && c.Authorities() == other.Authorities():
		case c.First().Socket != "" && (k == key.TLS || strings.HasPrefix(string(k), "tls-")): // TLS is for TCP
		case value == "":
			lost = append(lost, string(k)+"=")
		default:
			lost = append(lost, string(k)+"="+value)
		}
	}
	known := make(map[string]bool)
	for _, s := range other.All {
		known[s.String()] = true
	}
	for _, s := range c.All {
		if !known[s.String()] {
			lost = append(lost, "the server "+s.String())
		}
	}
	return lost
}
