package check

import (
	"fmt"
	"time"

	"gentleharbor/core/finding"
)

// Summary counts how the tests of many profiles ended.
type Summary struct {
	Profiles  int     `json:"profiles"`
	Ready     int     `json:"ready"`  // without a warning
	Warned    int     `json:"warned"` // ready, with a warning
	Failed    int     `json:"failed"`
	NotTested int     `json:"not_tested"` // interrupted before the end
	MS        float64 `json:"ms"`
}

// Summarise counts reports; took is the time of the whole run.
func Summarise(reports []*Report, took time.Duration) Summary {
	s := Summary{Profiles: len(reports), MS: milliseconds(took)}
	for _, r := range reports {
		switch {
		case r.Interrupted:
			s.NotTested++
		case r.Outcome == finding.Fail:
			s.Failed++
		case r.Outcome == finding.Warn:
			s.Warned++
		default:
			s.Ready++
		}
	}
	return s
}

// String is the summary in a line.
func (s Summary) String() string {
	text := fmt.Sprintf("%d %s: %d ready", s.Profiles,
		map[bool]string{true: "profile", false: "profiles"}[s.Profiles == 1], s.Ready)
	for _, part := range []struct {
		n    int
		what string
	}{{s.Warned, "ready with a warning"}, {s.Failed, "not ready"}, {s.NotTested, "not tested"}} {
		if part.n > 0 {
			text += fmt.Sprintf(", %d %s", part.n, part.what)
		}
	}
	return text + "; " + Duration(s.MS)
}

// Failed reports whether a test counts as failed; strict counts warnings too.
func (r *Report) Failed(strict bool) bool {
	return r.Interrupted || r.Outcome == finding.Fail || strict && r.Outcome == finding.Warn
}

// Word is a report's verdict in a word or two.
func (r *Report) Word() string {
	switch {
	case r.Interrupted:
		return "not tested"
	case r.Outcome == finding.Fail:
		return "not ready"
	case r.Outcome == finding.Warn:
		return "warned"
	}
	return "ready"
}

// First is the finding that a report is about: the failure, else the first
// warning, else nil.
func (r *Report) First() (Stage, bool) {
	var first Stage
	for _, s := range r.Stages {
		if s.Finding == nil {
			continue
		}
		if s.Outcome == finding.Fail {
			return s, true
		}
		if first.Finding == nil {
			first = s
		}
	}
	return first, first.Finding != nil
}
