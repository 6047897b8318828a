package check

import (
	"context"

	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/tlsrule"
)

// Certificates reaches the server, encrypts, and ends before the login. The TLS rule of asking must ask for TLS and
// verify nothing. The facts say what verification would object to; they are nil where the report failed.
func (r *Runner) Certificates(ctx context.Context, asking *resolve.Profile) (*Report, *tlsrule.Facts) {
	probe := *r
	probe.until = "tls"
	var facts *tlsrule.Facts
	probe.onTLS = func(f *tlsrule.Facts) { facts = f }
	report := probe.Run(ctx, asking)
	return report, facts
}
