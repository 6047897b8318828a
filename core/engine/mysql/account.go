package mysql

import (
	"context"
	"crypto/x509/pkix"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
)

// account is one account as an administrator sees it: a name and the hosts
// that it may come from.
type account struct{ user, host string }

// LookUp looks up why the server refused a login, or its database.
func (c *conversation) LookUp(ctx context.Context, r engine.Refusal) error {
	if r.Finding.Code == finding.DatabaseNoAccess {
		return c.lookUpDatabase(ctx, r)
	}
	_, rows, err := c.query(ctx,
		"SELECT User, Host FROM mysql.user WHERE (User = ? OR User = '') AND Host <> '' LIMIT 1000", r.User)
	if err != nil {
		return err
	}
	var own, fitting []account
	_, seen, _ := cutLast(r.SeenAs, "@")
	if _, err := netip.ParseAddr(seen); err == nil || r.Network == "unix" {
		r.From = "" // the server knows no other word for this machine
	}
	for _, row := range rows {
		a := account{user: row[0], host: row[1]}
		if a.user == r.User {
			own = append(own, a)
		}
		if seen != "" && (hostFits(a.host, seen) || r.From != "" && hostFits(a.host, r.From)) {
			fitting = append(fitting, a)
		}
	}
	switch {
	case len(own) == 0:
		return c.noSuchAccount(ctx, r)
	case seen == "" && len(own) == 1: // it did not say where it sees this machine
		return c.explain(ctx, r, own[0])
	case seen == "":
		r.Finding.Saw("%sthe accounts of that name are for %s; the server did not say which host it sees", r.By,
			hostsOf(own))
		return nil
	case !slices.ContainsFunc(fitting, func(a account) bool { return a.user == r.User }):
		c.elsewhere(r, own, seen)
		return nil
	}
	slices.SortStableFunc(fitting, before)
	if fitting[0].user != r.User {
		c.explainAnonymous(r, fitting[0], own)
		return nil
	}
	return c.explain(ctx, r, fitting[0])
}

// refine replaces the general finding by the exact one.
func refine(found *finding.Finding, code finding.Code, cause string, args ...any) *finding.Finding {
	found.Code, found.Cause, found.Try, found.Do = code, fmt.Sprintf(cause, args...), []string{}, []string{}
	return found
}

func (c *conversation) noSuchAccount(ctx context.Context, r engine.Refusal) error {
	names, err := c.column(ctx, "SELECT DISTINCT User FROM mysql.user WHERE Host <> '' AND User <> '' LIMIT 10000")
	if err != nil {
		return err
	}
	found := refine(r.Finding, finding.LoginNoSuchRole, "there is no account %s on this server, for any host",
		clean.Quote(r.User)).Saw("%sno such account", r.By)
	if near := nearest.Names(r.User, names, 3); len(near) > 0 {
		found.Saw("similar accounts: %s", clean.Quote(strings.Join(near, ", ")))
	}
	found.SuggestValues(r.Profile, "user", nil).
		ByAdmin(r.Admin, "provision make "+r.Profile, "CREATE USER %s", c.accountName(r.User, "%"))
	return nil
}

func hostsOf(accounts []account) string {
	var hosts []string
	for _, a := range accounts {
		hosts = append(hosts, "'"+a.host+"'")
	}
	return clean.Line(strings.Join(hosts, ", "), 200)
}

// elsewhere is for a user who has accounts, but none for the host that the server sees.
func (c *conversation) elsewhere(r engine.Refusal, own []account, seen string) {
	found := refine(r.Finding, finding.LoginHostNotAllowed,
		"the account %s may connect from %s, but the server sees this machine as '%s'",
		clean.Quote(r.User), hostsOf(own),
		clean.Line(seen, 100)).
		Saw("%sthe accounts of that name are for %s", r.By, hostsOf(own))
	forSocket := slices.ContainsFunc(own, func(a account) bool { return strings.EqualFold(a.host, "localhost") })
	switch {
	case forSocket && r.Network == "tcp" && (seen == "127.0.0.1" || seen == "::1"):
		found.Saw("for this server 'localhost' is the socket; over TCP it sees addresses").
			Advise("name the socket: gharbor set %s host= port= socket=PATH (the server's socket)", r.Profile)
	case r.Network == "unix":
		found.Saw("over a socket the server always sees 'localhost'").
			Suggest("gharbor set %s socket= host=127.0.0.1", r.Profile)
	}
	found.ByAdmin(r.Admin, "provision make "+r.Profile, "CREATE USER %s", c.accountName(r.User, seen))
}

func (c *conversation) explainAnonymous(r engine.Refusal, anonymous account, own []account) {
	refine(r.Finding, finding.LoginAnonymousFirst,
		"an anonymous account for '%s' matches before %s, so its password is compared",
		clean.Line(anonymous.host, 100), clean.Quote(r.User)).
		Saw("%sthe accounts are ''@'%s' and %s for %s; the more exact host wins", r.By,
			clean.Line(anonymous.host, 100), clean.Quote(r.User), hostsOf(own)).
		ByAdmin(r.Admin, "provision make "+r.Profile, "DROP USER %s", c.accountName("", anonymous.host))
}

// explain returns the finding for the account that the server chose.
func (c *conversation) explain(ctx context.Context, r engine.Refusal, a account) error {
	name := c.accountName(r.User, a.host)
	text, err := c.value(ctx, "SHOW CREATE USER "+literal(r.User)+"@"+literal(a.host))
	if err != nil {
		return err
	}
	if r.Network == "tcp" && !r.Encrypted {
		if set, err := c.pairs(ctx, "SHOW GLOBAL VARIABLES LIKE 'require_secure_transport'"); err == nil &&
			strings.EqualFold(set["require_secure_transport"], "ON") {
			c.needsTLS(r, "require_secure_transport is on")
			return nil
		}
	}
	found := r.Finding
	by := func(what string) *finding.Finding { return found.Saw("%sthe account is %s; %s", r.By, name, what) }
	upper := strings.ToUpper(text)
	switch {
	case strings.Contains(upper, "ACCOUNT LOCK"):
		refine(found, finding.LoginLocked, "the account %s is locked", clean.Quote(r.User))
		by("it says ACCOUNT LOCK").ByAdmin(r.Admin, "provision unlock "+r.Profile, "ALTER USER %s ACCOUNT UNLOCK",
			name)
	case expiredNow(upper):
		refine(found, finding.LoginExpired, "the password of %s has expired", clean.Quote(r.User))
		by("it says PASSWORD EXPIRE")
		suggestRenewal(found, r.Admin, r.Profile, r.Rotates, name)
	case strings.Contains(upper, "REQUIRE SSL") && !r.Encrypted:
		c.needsTLS(r, fmt.Sprintf("the account is %s; it says REQUIRE SSL", name))
	case strings.Contains(upper, "REQUIRE X509") || strings.Contains(upper, "REQUIRE SUBJECT") ||
		strings.Contains(upper, "REQUIRE ISSUER"):
		c.needsCertificate(r, name, text)
	case allowsSocketOnly(text):
		refine(found, finding.LoginPeer,
			"the account %s logs in by its system account over a Unix socket, not with a password",
			clean.Quote(r.User))
		by("it says unix_socket").
			Advise("name the socket: gharbor set %s host= port= socket=PATH (as the system account of that name)",
				r.Profile)
	case !strings.Contains(upper, "IDENTIFIED"):
		refine(found, finding.LoginNoPasswordSet, "the account %s has no password, so no password can be right",
			clean.Quote(r.User))
		by("no password is stored").
			ByAdmin(r.Admin, "provision make "+r.Profile, "ALTER USER %s with the profile's password", name)
	default:
		found.Code, found.Cause = finding.LoginPassword, fmt.Sprintf("the password sent for %s is wrong",
			clean.Quote(r.User))
		by("it is not locked and not expired, so the password is wrong")
	}
	return nil
}

// suggestRenewal adds how an administrator's profile renews an expired password: by a new one where the profile's
// source can store it, else by giving the same one a new date.
func suggestRenewal(found *finding.Finding, admin, profile string, rotates bool, account string) *finding.Finding {
	if rotates {
		found.ByAdmin(admin, "secret rotate "+profile, "ALTER USER %s with a new password", account)
	}
	return found.ByAdmin(admin, "provision expire "+profile+" -never", "ALTER USER %s PASSWORD EXPIRE NEVER", account)
}

// needsCertificate is for an account that requires a client certificate: any, or one with a certain subject or
// issuer. It compares them with those of the profile's.
func (c *conversation) needsCertificate(r engine.Refusal, name, definition string) {
	found := refine(r.Finding, finding.TLSClientCertificate,
		"the account %s needs a client certificate", clean.Quote(r.User))
	var wants []string
	for _, what := range []string{"SUBJECT", "ISSUER"} {
		if _, rest, ok := strings.Cut(definition, what+" '"); ok {
			value, _, _ := strings.Cut(rest, "'")
			wants = append(wants, what+" "+clean.Line(value, 200))
		}
	}
	require := "X509"
	if len(wants) > 0 {
		require = strings.Join(wants, ", ")
	}
	found.Saw("%sthe account is %s; it says REQUIRE %s", r.By, name, require)
	if r.Certificate != nil {
		found.Cause = fmt.Sprintf("the account %s wants another client certificate than the profile's",
			clean.Quote(r.User))
		found.Saw("the profile's certificate is for %s, issued by %s (%s)",
			clean.Quote(slashName(r.Certificate.Subject)),
			clean.Quote(slashName(r.Certificate.Issuer)), r.CertificatePath)
	}
	if !r.Encrypted {
		found.Saw("the connection was not encrypted, so no certificate was sent")
	}
	found.Advise("name the certificate and its key: gharbor set %s tls-cert=PATH tls-key=PATH", r.Profile)
	if len(wants) > 0 && r.Certificate != nil {
		found.AsAdmin(r.Admin, "ALTER USER %s REQUIRE SUBJECT %s", name, literal(slashName(r.Certificate.Subject)))
	}
}

// slashName writes a certificate's name in the form that the server compares: /C=XX/O=name/CN=name, in the
// certificate's order.
func slashName(name pkix.Name) string {
	short := map[string]string{
		"2.5.4.3": "CN", "2.5.4.6": "C", "2.5.4.7": "L", "2.5.4.8": "ST", "2.5.4.10": "O", "2.5.4.11": "OU",
		"1.2.840.113549.1.9.1": "emailAddress",
	}
	text := ""
	for _, one := range name.Names {
		word := one.Type.String()
		if known := short[word]; known != "" {
			word = known
		}
		text += fmt.Sprintf("/%s=%v", word, one.Value)
	}
	return clean.Line(text, 300)
}

func (c *conversation) needsTLS(r engine.Refusal, why string) {
	refine(r.Finding, finding.TLSRequiredByServer,
		"the server wants TLS for this account, and the connection was not encrypted").
		Saw("%s%s", r.By, why).
		Suggest("gharbor set %s tls=verified", r.Profile).
		Suggest("gharbor set %s tls=required   # encrypted, without checking the server", r.Profile)
}

// expiredNow reports whether a statement has PASSWORD EXPIRE, and not PASSWORD EXPIRE NEVER, DEFAULT or INTERVAL.
func expiredNow(upper string) bool {
	_, rest, ok := strings.Cut(upper, "PASSWORD EXPIRE")
	if !ok {
		return false
	}
	rest = strings.TrimSpace(rest)
	for _, word := range []string{"DEFAULT", "NEVER", "INTERVAL"} {
		if strings.HasPrefix(rest, word) {
			return false
		}
	}
	return true
}

func allowsSocketOnly(definition string) bool {
	socket := strings.Contains(definition, "unix_socket") || strings.Contains(definition, "auth_socket")
	return socket && !strings.Contains(definition, " OR ")
}

// lookUpDatabase finds out whether a database does not exist, or the account has no rights in it.
func (c *conversation) lookUpDatabase(ctx context.Context, r engine.Refusal) error {
	names, err := c.databases(ctx)
	if err != nil {
		return err
	}
	if slices.Contains(names, r.Database) {
		r.Finding.Cause = fmt.Sprintf("the database %s exists, but the account has no right to it",
			clean.Quote(r.Database))
		r.Finding.Saw("%sit exists", r.By)
		return nil
	}
	found := refine(r.Finding, finding.DatabaseMissing, "there is no database %s on this server",
		clean.Quote(r.Database)).Saw("%sno such database", r.By)
	near := nearest.Names(r.Database, names, 3)
	if len(near) > 0 {
		found.Saw("similar names that exist: %s", clean.Quote(strings.Join(near, ", ")))
	}
	found.SuggestValues(r.Profile, "database", near).
		ByAdmin(r.Admin, "provision make "+r.Profile, "CREATE DATABASE %s", identifier(r.Database))
	return nil
}

// hostFits reports whether a host pattern fits the host that the server sees: "%" and "_" are wildcards, and a
// network has a mask or a number of bits (MySQL documentation, "Specifying Account Names").
func hostFits(pattern, seen string) bool {
	if network, mask, ok := strings.Cut(pattern, "/"); ok {
		return networkHas(network, mask, seen)
	}
	return like(strings.ToLower(pattern), strings.ToLower(seen))
}

// like is SQL's LIKE for a pattern without escapes.
func like(pattern, s string) bool {
	if pattern == "" {
		return s == ""
	}
	switch pattern[0] {
	case '%':
		for i := 0; i <= len(s); i++ {
			if like(pattern[1:], s[i:]) {
				return true
			}
		}
		return false
	case '_':
		return s != "" && like(pattern[1:], s[1:])
	}
	return s != "" && s[0] == pattern[0] && like(pattern[1:], s[1:])
}

func networkHas(network, mask, seen string) bool {
	base, err := netip.ParseAddr(network)
	addr, seenErr := netip.ParseAddr(seen)
	if err != nil || seenErr != nil {
		return false
	}
	if prefix, err := netip.ParsePrefix(network + "/" + mask); err == nil {
		return prefix.Masked().Contains(addr)
	}
	m, err := netip.ParseAddr(mask)
	if err != nil || !m.Is4() || !base.Is4() || !addr.Is4() {
		return false
	}
	b, a, bits := base.As4(), addr.As4(), m.As4()
	for i := range bits {
		if b[i]&bits[i] != a[i]&bits[i] {
			return false
		}
	}
	return true
}

// before is the order in which a server compares accounts: exact hosts, then
// the longest text before a wildcard; a name before the anonymous one (MySQL
// documentation, "Access Control, Stage 1").
func before(a, b account) int {
	if n := exactness(b.host) - exactness(a.host); n != 0 {
		return n
	}
	return len(b.user) - len(a.user)
}

func exactness(host string) int {
	if strings.Contains(host, "/") {
		return 1000
	}
	if i := strings.IndexAny(host, "%_"); i >= 0 {
		return i
	}
	return 10_000
}
