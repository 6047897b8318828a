package address

import (
	"context"
	"errors"
	"net"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/syntax"
)

// sentinel is a server that watches others, and gives the address of the primary: NAME@HOST:PORT.
var sentinel = &Kind{
	Key:     key.Sentinel,
	Replace: "sentinel=",
	Asked:   true,
	Hosts:   func(Profile) []HostPort { return nil },
	Local:   func(Profile) bool { return false },
	// A sentinel may give any address: only a certificate for a written name proves the server behind it.
	Conflict: func(p Profile) *finding.Finding {
		switch {
		case p.Engine() != nil && p.Engine().Monitor == nil:
			return finding.New(finding.ProfileConflict, "servers of %s are not watched by sentinels", p.Engine().Word).
				Suggest("gharbor show %s", p.Name())
		case p.BehindHops():
			return finding.New(finding.ProfileConflict, "a sentinel is not asked through hops").
				Advise("name the server itself: gharbor set %s sentinel= host=HOST", p.Name())
		case p.Text(key.TLS) != "verified" && p.Text(key.Secret) != "none":
			return finding.New(finding.ProfileConflict,
				"a server that a sentinel names gets a password with tls = \"verified\" only").
				Suggest("gharbor set %s tls=verified", p.Name()).
				Suggest("gharbor set %s secret=none   # if the server asks for no password", p.Name())
		}
		return nil
	},
	Locate: func(ctx context.Context, from Sources, p Profile) ([]Candidate, *finding.Finding) {
		return askSentinel(ctx, from, p)
	},
	Bind: bindAsWritten,
	UnknownName: func(p Profile, found *finding.Finding) {
		found.Suggest("gharbor show %s   # is its sentinel right?", p.Name())
	},
	Short: func(_ Profile, shown func(key.Name) string) string { return "sentinel " + shown(key.Sentinel) },
}

// askSentinel asks for the primary. Its certificate must be for the sentinel's own host, or for the profile's tls-name.
func askSentinel(ctx context.Context, from Sources, p Profile) ([]Candidate, *finding.Finding) {
	name, at, _ := strings.Cut(p.Text(key.Sentinel), "@")
	spec := p.Engine()
	if spec == nil || spec.Monitor == nil || from.Primary == nil {
		return nil, finding.New(finding.ProfileIncomplete, "the sentinel %s can't be asked", clean.Quote(at)).
			Suggest("gharbor show %s", p.Name())
	}
	host, port, err := from.Primary(ctx, spec, at, name)
	switch {
	case errors.Is(err, engine.ErrNotWatched):
		return nil, finding.New(finding.SentinelUnknown, "the sentinel at %s watches no servers of the name %s", at,
			clean.Quote(name)).
			Advise("name what it watches: gharbor set %s sentinel=NAME@%s", p.Name(), at)
	case err != nil:
		return nil, finding.New(finding.SentinelUnreachable, "the sentinel at %s can't be asked for the primary of %s", at,
			clean.Quote(name)).
			Saw("%s", plainReason(err)).
			Suggest("gharbor test %s -timeout 30s", p.Name()).
			Suggest("gharbor show %s   # is its sentinel right?", p.Name())
	case !syntax.ValidHost(host) || port < 1 || port > 65535:
		return nil, finding.New(finding.SentinelUnreachable, "the sentinel at %s tells of no usable address", at).
			Saw("it says %s, port %d", clean.Quote(host), port).
			Suggest("gharbor show %s", p.Name())
	}
	asked, _ := hostname.SplitPort(at)
	c := Candidate{Host: host, Port: port, Source: "the sentinel at " + at, Name: asked}
	return completeCandidates(p, []Candidate{c}), nil
}

// plainReason is why a connection failed, without the addresses that a driver repeats.
func plainReason(err error) string {
	var operation *net.OpError
	if errors.As(err, &operation) && operation.Err != nil {
		err = operation.Err
	}
	return clean.Line(err.Error(), 200)
}
