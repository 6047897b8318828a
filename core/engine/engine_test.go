package engine

import (
	"slices"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
)

// TestCleartextOnlyWhereSafe is the whole table of where a password may go out
// as it is.
func TestCleartextOnlyWhereSafe(t *testing.T) {
	yes, no := true, false
	for _, c := range []struct {
		network  string
		peer     bool
		rule     tlsrule.Rule
		tls      string
		verified *bool
		want     bool
	}{
		{"unix", true, tlsrule.Offered, "none", nil, true},
		{"unix", false, tlsrule.Offered, "none", nil, false},
		{"tcp", true, tlsrule.Off, "none", nil, false},
		{"tcp", false, tlsrule.Offered, "none", nil, false},
		{"tcp", false, tlsrule.Required, "TLS 1.3", &no, false},
		{"tcp", false, tlsrule.Required, "TLS 1.3", &yes, false}, // nobody asked for verification, so nothing stops when it ends
		{"tcp", false, tlsrule.Verified, "TLS 1.3", &no, false},
		{"tcp", false, tlsrule.Verified, "TLS 1.3", &yes, true},
	} {
		to := Target{Network: c.network, PeerChecked: c.peer, TLS: &tlsrule.Plan{Settings: tlsrule.Settings{Rule: c.rule}}}
		if got := to.ClearAllowed(&Facts{TLS: c.tls, TLSVerified: c.verified}); got != c.want {
			t.Errorf("%+v: %v", c, got)
		}
	}
}

func TestWithoutTLS(t *testing.T) {
	for _, c := range []struct {
		network string
		rule    tlsrule.Rule
		offered bool
		done    bool
		want    finding.Outcome
	}{
		{"tcp", tlsrule.Off, true, true, finding.OK}, {"tcp", tlsrule.Offered, true, false, ""}, {"tcp", tlsrule.Offered, false, true, finding.OK},
		{"tcp", tlsrule.Required, false, true, finding.Fail}, {"tcp", tlsrule.Verified, false, true, finding.Fail}, {"tcp", tlsrule.Verified, true, false, ""},
		{"unix", tlsrule.Offered, true, true, finding.OK}, {"unix", tlsrule.Required, true, true, finding.Fail},
	} {
		to := Target{Network: c.network, TLS: &tlsrule.Plan{Settings: tlsrule.Settings{Rule: c.rule}}}
		if r, done := to.WithoutTLS(c.offered, NotOffered{Seen: "it is so", Server: "do so"}); done != c.done || r.Outcome != c.want {
			t.Errorf("%+v: %v %s", c, done, r.Outcome)
		}
	}
	to := Target{Network: "tcp", TLS: &tlsrule.Plan{Settings: tlsrule.Settings{Rule: tlsrule.Offered}}}
	for port, want := range map[bool]string{true: "this port speaks without TLS", false: "the server does not offer it"} {
		if r, _ := to.WithoutTLS(false, NotOffered{Port: port}); !strings.Contains(r.Detail, want) {
			t.Errorf("%q, want %q", r.Detail, want)
		}
	}
}

func TestWords(t *testing.T) {
	yes, no := true, false
	f := Facts{Product: "Tern", Version: "3", Writable: &no, User: "warden", Rights: Either(&yes, "chief", ""), LoginMethod: "nod", ServerID: "7",
		RoundTrip: Milliseconds(1234 * time.Microsecond), ClockDifference: Milliseconds(-2 * time.Second), Settings: []string{"UTF8", Either(nil, "e", "f")}}
	want := [][2]string{{"account", "warden, chief, by nod"}, {"password", ""}, {"server", "Tern 3, read-only"}, {"settings", "UTF8"}, {"identity", "7"}, {"timing", "clock -2000 ms, round trip 1.23 ms"}}
	if got := f.Lines(); !slices.Equal(got, want) {
		t.Error(got)
	}
	if (&Facts{}).Server() != "" {
		t.Error("an unknown server has words")
	}
	if Median([]time.Duration{5, 1, 3}) != 3 {
		t.Error("a median is wrong")
	}
	set := NewSet(&Spec{Word: "tern", Family: "t"}, &Spec{Word: "gull", Family: "t"}, &Spec{Word: "knot"}, &Spec{Word: "reed"})
	if !set.SameFamily("tern", "gull") || set.SameFamily("knot", "reed") || set.SameFamily("tern", "knot") || !set.SameFamily("x", "x") {
		t.Error("a family is wrong")
	}
}
