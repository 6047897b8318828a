// Package finding has the conclusions of stages. A finding has a stable code, a cause in one sentence, what was seen,
// commands to try, and steps that are no command; the catalogue has the long text of every code for `gharbor
// explain`. Engines and the check make findings, render prints them. Start with New.
package finding

import (
	"fmt"

	"gentleharbor/core/clean"
)

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
	Try   []string `json:"try"`   // commands that work as they stand; "   # " begins a comment
	Do    []string `json:"do"`    // steps for which there is no such command, in words

	// Values are the values of SuggestValues, by key.
	Values map[string][]string `json:"-"`
}

// New makes a finding with its cause formatted as by fmt.Sprintf.
func New(code Code, cause string, args ...any) *Finding {
	return &Finding{Code: code, Cause: fmt.Sprintf(cause, args...), Seen: []string{}, Try: []string{}, Do: []string{}}
}

// Saw adds an observation, formatted as by fmt.Sprintf.
func (f *Finding) Saw(format string, args ...any) *Finding {
	f.Seen = append(f.Seen, fmt.Sprintf(format, args...))
	return f
}

// Suggest adds a command to try, formatted as by fmt.Sprintf. It must work when it is pasted: use Advise for a step
// in which something must be filled in.
func (f *Finding) Suggest(format string, args ...any) *Finding {
	f.Try = append(f.Try, fmt.Sprintf(format, args...))
	return f
}

// Advise adds a step that is no command, formatted as by fmt.Sprintf.
func (f *Finding) Advise(format string, args ...any) *Finding {
	f.Do = append(f.Do, fmt.Sprintf(format, args...))
	return f
}

// SuggestValues suggests values for a key of a profile: those of near, the nearest first. Without any it advises to
// set the key.
func (f *Finding) SuggestValues(profile, key string, near []string) *Finding {
	const most = 2
	if len(near) > 0 {
		if f.Values == nil {
			f.Values = make(map[string][]string)
		}
		f.Values[key] = append(f.Values[key], near...)
	}
	for _, name := range near[:min(len(near), most)] {
		f.Suggest("gharbor set %s %s", profile, clean.Shell(key+"="+name))
	}
	if len(near) == 0 {
		f.Advise("name another %s: gharbor set %s %s=NAME", key, profile, key)
	}
	return f
}

// AsAdmin adds a statement for an administrator, formatted as by fmt.Sprintf: as a command for the profile admin, or
// as a step where admin is "".
func (f *Finding) AsAdmin(admin, statement string, args ...any) *Finding {
	statement = fmt.Sprintf(statement, args...)
	if admin == "" {
		return f.Advise("as an administrator, run: %s", statement)
	}
	return f.Suggest("gharbor query %s %s", admin, clean.Shell(statement))
}

// ByAdmin adds a gharbor command for an administrator's profile: the command without its -as, and the statement that
// it sends, formatted as by fmt.Sprintf. It is a step where admin is "".
func (f *Finding) ByAdmin(admin, command, statement string, args ...any) *Finding {
	statement = fmt.Sprintf(statement, args...)
	if admin == "" {
		return f.Advise("with an administrator's profile: gharbor %s -as ADMIN (it sends %s)", command, statement)
	}
	return f.Suggest("gharbor %s -as %s   # sends %s", command, admin, statement)
}

// AdviseUnseen adds a statement with a password in it for an administrator, formatted as by fmt.Sprintf.
func (f *Finding) AdviseUnseen(statement string, args ...any) *Finding {
	return f.Advise("as an administrator, run: "+statement+" (in a session, not in a shell's history)", args...)
}

// Result is the result of one stage. Detail describes it in a few words; Finding is nil where the outcome is ok or
// skip.
type Result struct {
	Outcome Outcome
	Detail  string
	Finding *Finding
}

// Good is a stage that ended well.
func Good(detail string, args ...any) Result {
	return Result{Outcome: OK, Detail: fmt.Sprintf(detail, args...)}
}

// FailWith is a stage that f ended.
func FailWith(f *Finding) Result { return Result{Outcome: Fail, Finding: f} }

// WarnWith is the result of a stage that succeeded in spite of f.
func WarnWith(f *Finding, detail string, args ...any) Result {
	return Result{Outcome: Warn, Detail: fmt.Sprintf(detail, args...), Finding: f}
}
