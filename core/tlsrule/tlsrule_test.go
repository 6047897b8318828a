package tlsrule

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/finding"
	"gentleharbor/standin/authority"
)

// handshake speaks TLS over a pipe with a server of that configuration.
func handshake(t *testing.T, p *Plan, server *tls.Config) (*Facts, finding.Result, error) {
	t.Helper()
	ours, theirs := net.Pipe()
	defer ours.Close()
	go func() {
		defer theirs.Close()
		secure := tls.Server(theirs, server)
		if secure.Handshake() == nil {
			io.Copy(io.Discard, secure)
		}
	}()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_, facts, result, err := p.Handshake(ctx, ours)
	return facts, result, err
}

func TestRules(t *testing.T) {
	authority, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	ca := t.TempDir() + "/ca.pem"
	if err := os.WriteFile(ca, authority.PEM, 0o600); err != nil {
		t.Fatal(err)
	}
	const name = "tide-db.internal.example"
	good, err := authority.TLS([]string{name, "192.0.2.7"}, 1000*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	leaf := good.Clone()
	leaf.Certificates[0].Certificate = leaf.Certificates[0].Certificate[:1]
	commonOnly, err := authority.TLS([]string{name}, 1000*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	cert, _, _, err := authority.Issue(name, nil, time.Now().Add(-time.Hour), time.Now().Add(1000*time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	commonOnly.Certificates = []tls.Certificate{cert}
	for _, c := range []struct {
		what     string
		rule     Rule
		ca, name string
		server   *tls.Config
		outcome  finding.Outcome
		code     string
		verified bool
	}{
		{"verified", Verified, ca, name, good, finding.OK, "", true},
		{"verified without the authority in the chain", Verified, ca, name, leaf, finding.OK, "", true},
		{"an IP address", Verified, ca, "192.0.2.7", good, finding.OK, "", true},
		{"another IP address", Verified, ca, "192.0.2.8", good, finding.Fail, "tls.wrong-name", false},
		{"letter case does not count", Verified, ca, "Tide-DB.internal.example", good, finding.OK, "", true},
		{"a common name alone", Verified, ca, name, commonOnly, finding.OK, "", true},
		{"another common name", Verified, ca, "other.example", commonOnly, finding.Fail, "tls.wrong-name", false},
		{"another name", Verified, ca, "other.example", good, finding.Fail, "tls.wrong-name", false},
		{"no name, as for to a socket", Verified, ca, "", good, finding.Fail, "tls.wrong-name", false},
		{"the system's authorities", Verified, "", name, good, finding.Fail, "tls.untrusted", false},
		{"required asks nothing", Required, "", "other.example", good, finding.OK, "", false},
		{"offered asks nothing", Offered, "", "other.example", good, finding.OK, "", false},
		{"required, and it would be right", Required, ca, name, good, finding.OK, "", true},
	} {
		p, found := Load(t.Context(), Settings{Profile: "tides", Rule: c.rule, CA: c.ca, Name: c.name, NameKey: "host"})
		if found != nil {
			t.Fatal(found)
		}
		facts, result, err := handshake(t, p, c.server)
		if err != nil {
			t.Errorf("%s: %v", c.what, err)
			continue
		}
		code := ""
		if result.Finding != nil {
			code = string(result.Finding.Code)
		}
		if result.Outcome != c.outcome || code != c.code || facts.Verified != c.verified {
			t.Errorf("%s: %s %s, verified %v; %v", c.what, result.Outcome, code, facts.Verified, facts.Faults)
		}
	}
}

// TestClockMoves: the same certificate at other moments.
func TestClockMoves(t *testing.T) {
	authority, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	const day = 24 * time.Hour
	config, err := authority.TLS([]string{"h.example"}, 100*day)
	if err != nil {
		t.Fatal(err)
	}
	for after, want := range map[time.Duration]string{0: "", 78 * day: "", 80 * day: "tls.expires-soon", 99 * day: "tls.expires-soon", 101 * day: "tls.expired", -2 * time.Hour: "tls.not-yet-valid"} {
		p := &Plan{Settings: Settings{Rule: Required, Name: "h.example"}, Now: func() time.Time { return time.Now().Add(after) }}
		_, result, err := handshake(t, p, config)
		code := ""
		if result.Finding != nil {
			code = string(result.Finding.Code)
		}
		if err != nil || code != want || result.Outcome == finding.Fail {
			t.Errorf("%s later: %q %s, want %q (%v)", after, code, result.Outcome, want, err)
		}
	}
}

func TestDiagnose(t *testing.T) {
	for want, err := range map[string]error{
		"tls.handshake":  errors.New("remote error: tls: handshake failure"),
		"tls.too-old":    errors.New("tls: server selected unsupported protocol version 301"),
		"tls.unfinished": os.ErrDeadlineExceeded,
	} {
		if got := Diagnose(fmt.Errorf("x: %w", err), "tides", "h:1", "raise it"); string(got.Code) != strings.TrimSpace(want) {
			t.Errorf("%v: %s", err, got.Code)
		}
	}
}
