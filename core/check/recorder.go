package check

import (
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
)

// recorder puts the stages that ended into the report. The stages of an open attempt wait: commit adds them, discard
// drops them before the next server is tried. A recorder belongs to one test, which runs in one goroutine.
type recorder struct {
	report   *Report
	progress func(Stage) // told of each stage that is in the report; nil for nobody
	attempt  []Stage     // kept back
	open     bool        // an attempt is under way
}

// begin opens an attempt.
func (r *recorder) begin() { r.attempt, r.open = nil, true }

// commit puts the attempt's stages into the report.
func (r *recorder) commit() {
	kept := r.attempt
	r.attempt, r.open = nil, false
	for _, s := range kept {
		r.tell(s)
	}
}

// discard forgets the attempt's stages.
func (r *recorder) discard() { r.attempt, r.open = nil, false }

// failure is the finding that the open attempt ends with, nil where it did not fail.
func (r *recorder) failure() *finding.Finding {
	if len(r.attempt) == 0 {
		return nil
	}
	if last := r.attempt[len(r.attempt)-1]; last.Outcome == finding.Fail {
		return last.Finding
	}
	return nil
}

// record notes a stage's end, in the attempt where one is open.
func (r *recorder) record(s Stage) {
	if r.open {
		r.attempt = append(r.attempt, s)
		return
	}
	r.tell(s)
}

// tell puts a stage into the report, before the stages that wait.
func (r *recorder) tell(s Stage) {
	makeVisible(&s)
	r.report.Stages = append(r.report.Stages, s)
	r.report.Outcome = finding.Worse(r.report.Outcome, s.Outcome)
	if r.progress != nil {
		r.progress(s)
	}
}

// makeVisible removes control characters from a stage, whether they came from a server, a file or the environment.
func makeVisible(s *Stage) {
	s.Detail = clean.Visible(s.Detail)
	if s.Finding == nil {
		return
	}
	withoutHome(s.Finding)
	s.Finding.Cause = clean.Visible(s.Finding.Cause)
	for _, lines := range [][]string{s.Finding.Seen, s.Finding.Try, s.Finding.Do} {
		for i := range lines {
			lines[i] = clean.Visible(lines[i])
		}
	}
}

// withoutHome cuts the passwords of URLs out of a finding. It adds that the home folder is not known, where the
// finding is about a file there.
func withoutHome(found *finding.Finding) {
	about := false
	tilde := func(text string) string {
		text = clean.WithoutPasswords(text)
		about = about || strings.Contains(text, profile.NoHome)
		return strings.ReplaceAll(text, profile.NoHome, "~")
	}
	found.Cause = tilde(found.Cause)
	for _, lines := range [][]string{found.Seen, found.Try, found.Do} {
		for i := range lines {
			lines[i] = tilde(lines[i])
		}
	}
	if about {
		found.Saw("HOME is not set, or is not an absolute path, so there is nothing under ~")
		found.Try = append([]string{`export HOME="$(getent passwd "$(id -u)" | cut -d: -f6)"   # your home folder`},
			found.Try...)
	}
}
