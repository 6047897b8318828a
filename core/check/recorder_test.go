package check

import (
	"strings"
	"testing"

	"gentleharbor/core/finding"
)

// TestRecorder: an attempt's stages reach the report when it is committed, and never when it is discarded.
func TestRecorder(t *testing.T) {
	var told []string
	r := recorder{report: &Report{Outcome: finding.OK}, progress: func(s Stage) { told = append(told, s.Stage) }}
	r.record(Stage{Stage: "route", Outcome: finding.OK})
	r.begin()
	r.record(Stage{Stage: "name", Outcome: finding.OK})
	if r.failure() != nil {
		t.Error("an attempt that goes on has failed")
	}
	r.tell(Stage{Stage: "hop 1", Outcome: finding.Warn}) // before whatever is kept back
	r.record(Stage{Stage: "reach", Outcome: finding.Fail, Finding: finding.New(finding.ReachRefused, "no \x1b[31mserver")})
	if why := r.failure(); !why.Is(finding.ReachRefused) || r.report.Outcome != finding.Warn {
		t.Errorf("%+v, %s", why, r.report.Outcome)
	}
	r.discard()
	r.begin()
	r.record(Stage{Stage: "name", Outcome: finding.OK})
	r.record(Stage{Stage: "reach", Outcome: finding.OK, Detail: "\x1b[2Jaccepts"})
	r.commit()
	r.record(Stage{Stage: "speak", Outcome: finding.OK})
	if got := strings.Join(told, " "); got != "route hop 1 name reach speak" || len(r.report.Stages) != 5 || r.open {
		t.Errorf("told were %s", got)
	}
	if r.report.Outcome != finding.Warn || strings.Contains(r.report.Stages[3].Detail, "\x1b") {
		t.Errorf("%+v", r.report)
	}
}
