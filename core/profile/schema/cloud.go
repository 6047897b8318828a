package schema

import (
	"net"
	"net/url"
	"strings"

	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
)

// validHTTPS accepts the URL of a service: https, a host, and no user, query or fragment (RFC 8414, section 2).
func validHTTPS(s string) bool {
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "https" || u.User != nil || u.RawQuery != "" || u.ForceQuery || u.Fragment != "" ||
		u.Opaque != "" || strings.Contains(s, "#") {
		return false
	}
	host := u.Hostname()
	if u.Port() != "" && !validPort(u.Port()) {
		return false
	}
	return syntax.ValidHost(host) || net.ParseIP(host) != nil
}

// validScope accepts a scope-token (RFC 6749, section 3.3).
func validScope(s string) bool {
	return s != "" && strings.IndexFunc(s, func(r rune) bool { return r <= ' ' || r > '~' || r == '"' || r == '\\' }) < 0
}

// validClient accepts a client identifier (RFC 6749, appendix A.1: visible characters).
func validClient(s string) bool {
	return s != "" && strings.IndexFunc(s, func(r rune) bool { return r < ' ' || r > '~' }) < 0
}

// cloudFields lists every key of a cloud account in the order in which the tool writes and shows them.
func cloudFields() []Field {
	return []Field{
		{Name: "issuer", Expected: `an https URL such as "https://accounts.saltmarsh.example"`,
			Summary: "who signs people in: the URL of an OAuth 2.0 server (RFC 8414)", valid: validHTTPS},
		{Name: "client", Expected: "the client's identifier", Summary: "gharbor's client identifier there",
			valid: validClient},
		{Name: "client-secret", Source: true, Expected: "a secret source: " + secret.HopForms,
			Summary: "for jobs: where the client's secret is", valid: secret.ValidForHop},
		{Name: "scopes", Kind: List, Expected: `a list of scopes such as ["instances", "offline_access"]`,
			Summary: "the rights to ask for", valid: validScope},
		{Name: "token-file", Path: true, Private: true, Expected: "a path",
			Summary: "for jobs: a file with a token, which the machine keeps fresh", valid: notEmpty},
		{Name: "service", Expected: `an https URL such as "https://cloud.saltmarsh.example/instances"`,
			Summary: "who knows the instances: the URL of an instance service", valid: validHTTPS},
		{Name: "command", Kind: List, Expected: `a list of words such as ["/usr/local/bin/instances", "members"]`,
			Summary: "in place of service: a program that answers the same requests", valid: notEmpty},
		{Name: "tls-ca", Path: true, Expected: "a path",
			Summary: "PEM file of the authorities of issuer and service, in place of the system's", valid: notEmpty},
		{Name: "note", NotUse: true, Expected: "one line of text", Summary: "a note for people",
			valid: func(string) bool { return true }},
	}
}

// UnknownCloudKey is the message for a key that no cloud account has, with the nearest one.
func (s *Schema) UnknownCloudKey(name string) string {
	if here := map[string]string{"token": "token-file", "url": "service", "secret": "client-secret", "scope": "scopes",
		"client_id": "client", "client-id": "client", "ca": "tls-ca"}[strings.ToLower(name)]; here != "" {
		return "unknown key " + name + `; did you mean "` + here + `"?`
	}
	return UnknownOf(name, "a cloud account", s.cloudFields)
}

// CloudFields returns the description of every key of a cloud account, in writing order.
func (s *Schema) CloudFields() []Field { return s.cloudFields }

// CloudField returns the description of a cloud account's key, or nil.
func (s *Schema) CloudField(name string) *Field {
	for i := range s.cloudFields {
		if string(s.cloudFields[i].Name) == name {
			return &s.cloudFields[i]
		}
	}
	return nil
}

// validCloud accepts ACCOUNT/INSTANCE[/BRANCH].
func validCloud(s string) bool {
	_, ok := cloudref.Parse(s)
	return ok
}
