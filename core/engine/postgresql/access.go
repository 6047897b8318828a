package postgresql

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
)

// accessRules is for an account that no line of pg_hba.conf lets in from here, or that a line rejects. Where the
// connection was not encrypted, encryption may be all that is missing: one more connection, without a password, finds
// out.
func (a *attempt) accessRules(ctx context.Context, e *pgconn.PgError, what meaning) *finding.Finding {
	if a.to.Network == "tcp" && a.facts.TLS == "none" && a.offered != 'N' {
		if asked, certificate := a.askOverTLS(ctx); asked != "" {
			found := a.wantsTLS(e).Saw("over TLS, on another connection, it %s", asked)
			if certificate {
				found.Cause = "the server wants TLS and a client certificate for this account, and the connection " +
					"was not encrypted"
				found.Try = []string{}
				found.Advise("name a certificate too: gharbor set %s tls=verified tls-cert=PATH tls-key=PATH",
					a.to.Profile)
			}
			return found
		}
	}
	found := finding.New(finding.LoginHostNotAllowed,
		"the server's rules (pg_hba.conf) do not allow this user, database and client address").
		Saw("%s", serverText(e))
	where := "in pg_hba.conf"
	if what == meansRejected {
		found.Cause = "a line of the server's rules (pg_hba.conf) rejects this user, database and client address"
		where = "in pg_hba.conf, above the line that rejects"
	}
	if a.facts.TLS != "none" {
		found.Saw("the connection is encrypted: a rule for unencrypted ones (hostnossl) does not count for it")
	}
	return found.Suggest("gharbor show %s   # is it the right user and database?", a.to.Profile).
		Advise("on the server, %s: %s (the address as the server sees it; then run SELECT pg_reload_conf())", where,
			clean.Line(a.accessRule(e), 200))
}

// accessRule is a line of pg_hba.conf for this login (PostgreSQL documentation, "The pg_hba.conf File"). Its address
// is the one that the server sees, which may be that of a hop or a relay.
func (a *attempt) accessRule(e *pgconn.PgError) string {
	seen := seenFrom(e.Message)
	if a.to.Network == "unix" || seen == "[local]" {
		return fmt.Sprintf("local %s %s scram-sha-256", a.to.Database, a.to.User)
	}
	kind, from := "host", "this address"
	if a.facts.TLS != "none" {
		kind = "hostssl"
	}
	host, _, err := net.SplitHostPort(a.raw.LocalAddr().String())
	if seen != "" {
		host, err = seen, nil
	}
	if here, badAddress := netip.ParseAddr(host); err == nil && badAddress == nil && !here.IsUnspecified() {
		bits := "/32"
		if strings.Contains(host, ":") {
			bits = "/128"
		}
		from = host + bits
	}
	return fmt.Sprintf("%s %s %s %s scram-sha-256", kind, a.to.Database, a.to.User, from)
}

// seenFrom is the client's address in the server's message, in any language: the first text in quotes that is an
// address, or "[local]" for a socket; "" where there is none.
func seenFrom(message string) string {
	parts := strings.Split(strings.NewReplacer("»", `"`, "«", `"`, "“", `"`, "”", `"`).Replace(message), `"`)
	for i := 1; i < len(parts); i += 2 {
		if _, err := netip.ParseAddr(parts[i]); err == nil || parts[i] == "[local]" {
			return parts[i]
		}
	}
	return ""
}
