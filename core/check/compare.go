package check

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/resolve"
)

// Kinship is what two profiles lead to.
type Kinship string

// The kinds of kinship.
const (
	SameInstance Kinship = "same-instance" // one running server
	SameLineage  Kinship = "same-lineage"  // a standby, a replica or a clone
	Different    Kinship = "different"
	Unknown      Kinship = "unknown"
)

// Comparison has two profiles side by side.
type Comparison struct {
	Verdict      Kinship       `json:"verdict"`
	Why          string        `json:"why"`
	A            *Report       `json:"a"`
	B            *Report       `json:"b"`
	Differs      []Difference  `json:"differs"`
	Expectations []Expectation `json:"expectations"` // those that hold on one only
}

// Difference is a fact with two different values; "" is one that is not known.
type Difference struct {
	Fact string `json:"fact"`
	A    string `json:"a"`
	B    string `json:"b"`
}

// Expectation is one of a profile's, checked on both servers. A text is the value found there, "" where it holds.
type Expectation struct {
	Key   string `json:"key"`
	Want  string `json:"want"`
	Of    string `json:"of"` // the profile that has it
	OnA   bool   `json:"holds_on_a"`
	OnB   bool   `json:"holds_on_b"`
	HaveA string `json:"found_on_a,omitempty"`
	HaveB string `json:"found_on_b,omitempty"`
}

// side is one of the two.
type side struct {
	profile *resolve.Profile
	report  *Report
	conv    engine.Conversation
}

// Compare logs in to both at the same time and compares what is there.
func (r *Runner) Compare(ctx context.Context, a, b *resolve.Profile) *Comparison {
	one := *r
	one.Progress, one.until, one.thorough, one.hints = nil, "session", true, &hintCache{}
	sides := [2]*side{{profile: a}, {profile: b}}
	var group defect.Group
	for _, s := range sides {
		group.Go(func() {
			group.Do(func() {
				t := one.test(ctx, s.profile)
				s.report, s.conv = t.stages.report, t.conversation()
			})
		})
	}
	group.Wait()
	for _, s := range sides {
		if s.conv != nil {
			defer s.conv.Close()
		}
	}
	c := &Comparison{A: sides[0].report, B: sides[1].report, Differs: []Difference{}, Expectations: []Expectation{}}
	c.Verdict, c.Why = verdict(a.Schema().Engines(), sides[0].report, sides[1].report)
	for _, d := range differences(sides[0].report.Facts, sides[1].report.Facts) {
		// The start of one server, read at two moments, may differ by a second. A fact that a failed test did not
		// reach is no difference.
		same := c.Verdict == SameInstance && d.Fact == "server_started" ||
			(d.A == "" || d.B == "") && (d.Fact == "tls_verified" || d.Fact == "certificate") // one has no TLS
		unread := (d.A == "" || d.B == "") && !(sides[0].ready() && sides[1].ready())
		if !same && !unread {
			c.Differs = append(c.Differs, d)
		}
	}
	if sides[0].ready() && sides[1].ready() {
		bound, cancel := context.WithTimeout(ctx, DefaultTimeout)
		defer cancel()
		c.Expectations = append(c.Expectations, compareOneSided(bound, sides)...)
	}
	return c
}

func (s *side) ready() bool { return s.report.Reached("session") }

// verdict reports whether two reports are of one server, and how that is known.
func verdict(engines engine.Set, a, b *Report) (kin Kinship, why string) {
	for _, r := range []*Report{a, b} {
		if r.Interrupted {
			return Unknown, "the test of " + r.Profile + " was stopped"
		}
		if r.Outcome == finding.Fail {
			return Unknown, "the test of " + r.Profile + " did not reach a session: " + string(r.firstFailure().Finding.Code)
		}
	}
	f, g := a.Facts, b.Facts
	id := identityOf(engines, f.Engine)
	switch {
	case f.Engine != g.Engine:
		return Different, fmt.Sprintf("one is %s, the other %s", f.Engine, g.Engine)
	case replicates(f, g) || replicates(g, f):
		return SameLineage, "one replicates the other"
	case f.ReplicaOf != "" && f.ReplicaOf == g.ReplicaOf:
		return SameLineage, "both replicate " + clean.Quote(f.ReplicaOf)
	case f.Lineage == "" || g.Lineage == "":
		if id.StartExact && f.ServerStarted != nil && g.ServerStarted != nil &&
			f.ServerStarted.Equal(*g.ServerStarted) {
			return SameInstance, "they started in the same microsecond (their identifier can't be read)"
		}
		return Unknown, "the servers' identifiers can't be read, and nothing else tells"
	case f.Lineage != g.Lineage && (f.SourceUnseen || g.SourceUnseen):
		blind := a
		if !f.SourceUnseen {
			blind = b
		}
		return Unknown, fmt.Sprintf("%s differ, but the account of %s may not see whether one replicates the other", id.Name,
			blind.Profile)
	case f.Lineage != g.Lineage:
		return Different, id.Name + " differ"
	case f.ServerStarted == nil || g.ServerStarted == nil:
		return Unknown, id.Name + " are the same; the start times are not known"
	}
	return sameLineage(id, f, g)
}

// sameLineage compares two servers with one identifier: the start time tells a server from its standby or clone.
func sameLineage(id engine.Identity, f, g *engine.Facts) (kin Kinship, why string) {
	name := id.Name
	if id.StartExact {
		if f.ServerStarted.Equal(*g.ServerStarted) {
			return SameInstance, name + " and the start are the same"
		}
		return SameLineage, name + " are the same, the start times are not: a standby or a clone"
	}
	// Their up time is in whole seconds, and read at two moments.
	const second = 2 * time.Second
	apart := f.ServerStarted.Sub(*g.ServerStarted).Abs()
	switch {
	case apart <= second && f.ServerHost == g.ServerHost:
		return SameInstance, name + ", the start, the machine's name and the port are the same"
	case id.Shared != "":
		return Unknown, name + " are the same, the start or the machine's name is not: " + id.Shared
	}
	return SameLineage, name +
		" are the same, the start or the machine's name is not: one is a copy of the other"
}

// identityOf says what distinguishes two servers of an engine.
func identityOf(engines engine.Set, word string) engine.Identity {
	if spec := engines.ByWord(word); spec != nil && spec.Identity.Name != "" {
		return spec.Identity
	}
	return engine.Identity{Name: "the identifiers"}
}

// replicates reports whether f says that it is a replica of g.
func replicates(f, g *engine.Facts) bool {
	return f.ReplicaOf != "" && (f.ReplicaOf == g.Lineage || f.ReplicaOf == g.Route || f.ReplicaOf == g.ServerHost)
}

// differences lists the facts that are not the same, in a fixed order.
func differences(a, b *engine.Facts) []Difference {
	pairs := func(f *engine.Facts) [][2]string {
		certificate := ""
		if f.Certificate != nil {
			certificate = f.Certificate.Fingerprint
		}
		started := ""
		if f.ServerStarted != nil {
			started = f.ServerStarted.Format("2006-01-02T15:04:05Z")
		}
		return [][2]string{{"engine", f.Engine}, {"version", f.Version}, {"route", f.Route}, {"user", f.User},
			{"account", f.Account}, {"database", f.Database},
			{"server_lineage", f.Lineage}, {"server_host", f.ServerHost}, {"server_started", started},
			{"replica_of", f.ReplicaOf},
			{"tls", f.TLS}, {"tls_verified", yesNo(f.TLSVerified)}, {"certificate", certificate},
			{"login_method", f.LoginMethod},
			{"writable", yesNo(f.Writable)}, {"in_recovery", yesNo(f.InRecovery)}, {"superuser", yesNo(f.Superuser)},
			{"encoding", f.Encoding}, {"collation", f.Collation}, {"sql_mode", f.SQLMode}, {"time_zone", f.TimeZone}}
	}
	one, other := pairs(a), pairs(b)
	var all []Difference
	for i := range one {
		if one[i][1] != other[i][1] {
			all = append(all, Difference{one[i][0], one[i][1], other[i][1]})
		}
	}
	return all
}

func yesNo(b *bool) string {
	if b == nil {
		return ""
	}
	return strconv.FormatBool(*b)
}

// compareOneSided checks the expectations of both profiles on both servers, and returns those that hold on only one.
func compareOneSided(ctx context.Context, sides [2]*side) []Expectation {
	var all []Expectation
	for _, owner := range sides {
		for _, e := range owner.profile.Values() {
			key, ok := strings.CutPrefix(string(e.Field.Name), "expect.")
			if !ok {
				continue
			}
			words := []string{e.Value.Text()}
			if key == "tables" || key == "extensions" {
				words = e.Value.List()
			}
			for _, want := range words {
				x := Expectation{Key: key, Want: want, Of: owner.report.Profile}
				x.HaveA, x.OnA = sides[0].holds(ctx, key, want)
				x.HaveB, x.OnB = sides[1].holds(ctx, key, want)
				twice := slices.ContainsFunc(all, func(o Expectation) bool { return o.Key == key && o.Want == want })
				if x.OnA != x.OnB && !twice {
					all = append(all, x)
				}
			}
		}
	}
	return all
}

// holds is the value found for an expectation on one side, "" where it holds.
func (s *side) holds(ctx context.Context, word, want string) (have string, ok bool) {
	for _, l := range listed {
		if string(l.key) != "expect."+word {
			continue
		}
		missing, err := s.conv.Missing(ctx, l.key, []string{want})
		switch {
		case err != nil:
			return "could not be asked", false
		case len(missing) > 0:
			return "not there", false
		}
		return "", true
	}
	if have, ok = compare(word, want, s.conv.Facts()); ok {
		have = ""
	}
	return have, ok
}
