// Package finding says what a stage concluded. A finding has a stable code, a
// cause in one sentence, what was seen, and what to try; the catalogue behind
// it holds the long text of every code for `gharbor explain`. Engines and the
// check make findings, render prints them: it is the language of the report.
package finding

import "fmt"

// Outcome is how a stage, or a whole test, ended.
type Outcome string

// The four outcomes. A test's own outcome is the worst of its stages'.
const (
	OK   Outcome = "ok"
	Warn Outcome = "warn"
	Fail Outcome = "fail"
	Skip Outcome = "skip"
)

// Worse returns the worse of two outcomes; skip counts as ok.
func Worse(a, b Outcome) Outcome {
	rank := map[Outcome]int{Skip: 0, OK: 0, Warn: 1, Fail: 2}
	if rank[b] > rank[a] {
		return b
	}
	if a == Skip {
		return OK
	}
	return a
}

// Finding is what a stage that did not end ok concluded.
type Finding struct {
	Code  Code     `json:"code"`  // stable, "stage.what"; its page is `gharbor explain CODE`
	Cause string   `json:"cause"` // one sentence, no more than the server said
	Seen  []string `json:"seen"`  // observations; text from outside is cleaned and quoted
	Try   []string `json:"try"`   // commands to paste, or a sentence where no command exists
}

// New makes a finding with its cause formatted as by fmt.Sprintf.
func New(code Code, cause string, args ...any) *Finding {
	return &Finding{Code: code, Cause: fmt.Sprintf(cause, args...), Seen: []string{}, Try: []string{}}
}

// Saw adds an observation, formatted as by fmt.Sprintf.
func (f *Finding) Saw(format string, args ...any) *Finding {
	f.Seen = append(f.Seen, fmt.Sprintf(format, args...))
	return f
}

// Suggest adds a line to try, formatted as by fmt.Sprintf.
func (f *Finding) Suggest(format string, args ...any) *Finding {
	f.Try = append(f.Try, fmt.Sprintf(format, args...))
	return f
}

// Result is how one stage ended: Detail says in a few words what it found,
// Finding is nil where the outcome is ok or skip.
type Result struct {
	Outcome Outcome
	Detail  string
	Finding *Finding
}

// Good is a stage that ended well.
func Good(detail string, args ...any) Result {
	return Result{Outcome: OK, Detail: fmt.Sprintf(detail, args...)}
}

// Failed is a stage that f ended.
func Failed(f *Finding) Result { return Result{Outcome: Fail, Finding: f} }

// Warned is a stage that went on in spite of f.
func Warned(f *Finding, detail string, args ...any) Result {
	return Result{Outcome: Warn, Detail: fmt.Sprintf(detail, args...), Finding: f}
}
