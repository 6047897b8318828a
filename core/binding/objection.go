package binding

import (
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// Objection says why the binding refuses the connection of a query, "" where it allows it.
func (b Binding) Objection(q secret.Query) string {
	why := b.objection(q)
	if why == "" && q.Kind == secret.OfDatabase {
		why = b.sourceObjection(q)
	}
	return why
}

// ObjectUnbound says why a secret without a binding may not be sent for a query, "" where it may: to an address that
// the user's own profile writes.
func ObjectUnbound(q secret.Query) string { return (Binding{}).sourceObjection(q) }

func (b Binding) objection(q secret.Query) string {
	if why := b.problem(); why != "" {
		return why
	}
	if q.Kind != secret.OfDatabase || b.Hop != "" || b.Key != "" || b.Account != "" {
		return b.kindObjection(q)
	}
	if b.Alias != "" {
		return b.aliasObjection(q)
	}
	switch {
	case !q.SpeaksAs(b.Engine):
		return fmt.Sprintf("it is for the engine %s; this is %s", b.Engine, q.Engine)
	case b.Instance != "" || q.Instance != "":
		if b.Instance != q.Instance || b.Service != q.Service {
			return fmt.Sprintf("it is for %s; this is %s", b.addressText(), q.AddressText())
		}
	case b.Container != "" || q.Container != "":
		if why := b.containerObjection(q); why != "" {
			return why
		}
	case !slices.Contains(b.Addresses, lower(q.Address)):
		return fmt.Sprintf("it is for %s; this is %s", b.addressText(), q.Address)
	}
	return b.wayObjection(q)
}

// wayObjection compares the hops, the TLS rule and the server's identity. A stricter TLS rule with another authority
// or name widens the binding, just as a weaker rule does.
func (b Binding) wayObjection(q secret.Query) string {
	serverKey, keyErr := fileHash("server-key", q.ServerKey, q.Pinned)
	switch {
	case !slices.Equal(b.Hops, q.Hops):
		return "it is for another route: " + orNone(b.Hops, "no hop") + ", and this is " + orNone(q.Hops, "no hop")
	case strings.HasPrefix(q.Address, "/"): // a socket is never encrypted
		return ""
	case weaker(q.TLS, string(b.TLS)):
		return fmt.Sprintf("it is for tls = %q; this has less: %q", b.TLS, q.TLS)
	case keyErr != nil || serverKey != "" && serverKey != b.ServerKey:
		return "it is for another server-key"
	case q.TLS != string(tlsrule.Verified):
		return ""
	case b.TLSName != strings.ToLower(q.TLSName):
		return fmt.Sprintf("it is for a certificate for %s; this asks for %s", orHost(b.TLSName), orHost(q.TLSName))
	}
	if has, err := fileHash("tls-ca", q.TLSAuthority, q.Pinned); err != nil || has != b.Authority {
		return "it is for another tls-ca"
	}
	return ""
}

// containerObjection refuses a secret that is bound to another container, or to an address where the query is for a
// container; "" for this container, at whatever port its engine publishes it.
func (b Binding) containerObjection(q secret.Query) string {
	switch {
	case q.Container == "":
		return fmt.Sprintf("it is for the container %s; this is %s", b.Container, q.Address)
	case b.Container == "":
		return fmt.Sprintf("it is for %s; this is the container %s", b.addressText(), q.Container)
	case b.Container != q.Container:
		return fmt.Sprintf("it is for the container %s; this is %s", b.Container, q.Container)
	case b.Endpoint != q.Endpoint:
		return fmt.Sprintf("it is for the container engine at %s; this is %s", b.Endpoint, q.Endpoint)
	}
	return ""
}

// weaker reports whether one TLS rule asks for less than another.
func weaker(rule, than string) bool {
	strength := []tlsrule.Rule{"", tlsrule.Off, tlsrule.Offered, tlsrule.Required, tlsrule.Verified}
	return slices.Index(strength, tlsrule.Rule(rule)) < slices.Index(strength, tlsrule.Rule(than))
}

// aliasObjection refuses a secret that is bound to another alias; "" for an address of this alias, by the route and
// the TLS rule of the alias or of the binding.
func (b Binding) aliasObjection(q secret.Query) string {
	if len(q.Aliases) == 0 {
		return "it is for the alias " + b.Alias + "; this address is no alias"
	}
	why := fmt.Sprintf("it is for the alias %s; this is the alias %s", b.Alias, q.Aliases[0].Name)
	for _, link := range q.Aliases {
		switch {
		case link.Name != b.Alias:
		case link.File != b.AliasFile && b.AliasFile == "":
			why = fmt.Sprintf("it is for your own alias %s; this one is from %s", b.Alias, link.File)
		case link.File != b.AliasFile:
			why = fmt.Sprintf("it is for the alias %s of %s; this is another one of that name", b.Alias, b.AliasFile)
		default:
			return b.aliasFactsObjection(link, q)
		}
	}
	return why
}

// aliasFactsObjection compares a profile's keys with its alias's, or with the binding's where that has them.
func (b Binding) aliasFactsObjection(link secret.Link, q secret.Query) string {
	if link.Engine != "" && !q.SpeaksAs(link.Engine) {
		return fmt.Sprintf("the alias %s is for the engine %s; this is %s", link.Name, link.Engine, q.Engine)
	}
	switch {
	case b.Engine != "" && !q.SpeaksAs(b.Engine):
		return fmt.Sprintf("it is for the engine %s; this is %s", b.Engine, q.Engine)
	case q.PortOverride:
		return fmt.Sprintf("the alias %s has an address without a port, and the profile sets a port", link.Name)
	case b.TLS != "": // the profile that it was bound by said so itself
		return b.wayObjection(q)
	}
	as := Binding{TLS: tlsrule.Rule(link.TLS)}
	if as.TLS == "" { // what a profile that says nothing gets
		as.TLS = tlsrule.Verified
		if q.Local {
			as.TLS = tlsrule.Offered
		}
	}
	if as.TLS == tlsrule.Verified {
		as.TLSName = strings.ToLower(link.TLSName)
		var err error
		if as.Authority, err = fileHash("tls-ca", link.TLSAuthority, q.Pinned); err != nil {
			return err.Error()
		}
	}
	if why := as.wayObjection(q); why != "" {
		return fmt.Sprintf("by the alias %s %s", link.Name, why)
	}
	return ""
}

// sourceObjection refuses an address that is written in no file (from DNS, say), unless TLS is verified against the
// written name, by the system's authorities or those of the binding. An entry without a binding has no such
// authorities.
func (b Binding) sourceObjection(q secret.Query) string {
	switch {
	case q.Told == "" || b.Instance != "": // an instance's address is its service's to tell
		return ""
	case q.TLS != string(tlsrule.Verified):
		return fmt.Sprintf("%s gave the address %s; there it is sent only with tls = \"verified\" (this has %q)",
			q.Told, q.Address, q.TLS)
	case b.Alias != "":
		return "" // aliasFactsObjection has compared authority and name with the alias's
	case strings.ToLower(q.TLSName) != b.TLSName:
		return fmt.Sprintf("%s gave the address %s; there it is sent only if the certificate is for the written "+
			"name (this asks for %s)", q.Told, q.Address, q.TLSName)
	}
	if has, err := fileHash("tls-ca", q.TLSAuthority, q.Pinned); err != nil || has != b.Authority {
		return fmt.Sprintf("%s gave the address %s; there it is sent only to a server that the system's "+
			"authorities trust (this has a tls-ca)", q.Told, q.Address)
	}
	return ""
}

func orNone(words []string, none string) string {
	if len(words) == 0 {
		return none
	}
	return strings.Join(words, ", ")
}

func orHost(name string) string {
	if name == "" {
		return "the host's name"
	}
	return name
}

// kindObjection is for hops and keys: a binding to one fits no database, and a query for one needs a binding of that
// kind.
func (b Binding) kindObjection(q secret.Query) string {
	bound := "a database server, " + b.String()
	switch {
	case b.Hop != "" && q.Kind == secret.OfHop && b.Hop == q.Address,
		b.Key != "" && q.Kind == secret.OfKey && b.Key == q.Address,
		b.Account != "" && q.Kind == secret.OfCloud && b.Account == q.Address:
		return ""
	case b.Hop != "":
		bound = "the hop " + b.Hop
	case b.Key != "":
		bound = "the key " + b.Key
	case b.Account != "":
		bound = "the cloud account " + b.Account
	case b.Alias != "":
		bound = "the alias " + b.Alias
	}
	what := map[string]string{
		secret.OfDatabase: "a database server",
		secret.OfHop:      "the hop " + q.Address,
		secret.OfKey:      "the key " + q.Address,
		secret.OfCloud:    "the cloud account " + q.Address,
	}[q.Kind]
	return fmt.Sprintf("it is for %s; this is %s", bound, what)
}

// Near reports whether a binding has the query's address or alias, whatever else differs.
func (b Binding) Near(q secret.Query) bool {
	return slices.Contains(b.Addresses, lower(q.Address)) || b.Container != "" && b.Container == q.Container ||
		b.Instance != "" && b.Instance == q.Instance ||
		slices.ContainsFunc(q.Aliases, func(l secret.Link) bool { return l.Name == b.Alias })
}

// Words are the addresses of a query: a binding that fits it contains at least one of them.
func Words(q secret.Query) []string {
	words := []string{q.Profile, lower(q.Address)}
	if q.Container != "" {
		words = append(words, q.Container)
	}
	if q.Instance != "" {
		words = append(words, q.Instance)
	}
	for _, link := range q.Aliases {
		words = append(words, link.Name)
	}
	return words
}

// Word is the binding for a query, as keep and bind take it. For an alias it is the alias's name, as the alias may
// lead elsewhere tomorrow.
func Word(q secret.Query) string {
	if len(q.Aliases) > 0 && q.Kind == secret.OfDatabase {
		if q.Aliases[0].File != "" {
			return "alias:project:" + q.Aliases[0].Name
		}
		return "alias:" + q.Aliases[0].Name
	}
	if q.Kind == secret.OfDatabase {
		return q.Profile
	}
	return q.Kind + ":" + q.Address
}
