// Package check runs the staged test of a profile: one straight line of stages
// over one connection, each of which ends ok, warn, fail or skip, with a
// finding where it is not ok. It is the last room but one on the way profile →
// resolve → route → check → report; it prints nothing and asks nobody but
// through what its Runner is given.
package check

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// Stages are the names of the stages of a profile without hops, in their order.
var Stages = []string{"profile", "secret", "route", "name", "reach", "speak", "tls", "login", "database", "session",
	"expect"}

// stages are the names with those of so many hops.
func stages(hops int) []string {
	all := slices.Clone(Stages[:3])
	for i := range hops {
		all = append(all, fmt.Sprintf("hop %d", i+1))
	}
	return append(all, Stages[3:]...)
}

// DefaultTimeout bounds a whole test; questions to a person do not count.
const DefaultTimeout = 10 * time.Second

// Stage is how one stage ended.
type Stage struct {
	Stage   string           `json:"stage"`
	Outcome finding.Outcome  `json:"outcome"`
	Detail  string           `json:"detail,omitempty"`
	MS      float64          `json:"ms"`
	Finding *finding.Finding `json:"finding,omitempty"`
}

// Report is what a test found.
type Report struct {
	Profile     string          `json:"profile"`
	Outcome     finding.Outcome `json:"outcome"`
	MS          float64         `json:"ms"`
	Interrupted bool            `json:"interrupted,omitempty"`
	Facts       *engine.Facts   `json:"facts"`
	Stages      []Stage         `json:"stages"`
}

// Count is how many stages ended with an outcome.
func (r *Report) Count(o finding.Outcome) int {
	n := 0
	for _, s := range r.Stages {
		if s.Outcome == o {
			n++
		}
	}
	return n
}

// Runner is what a test takes from its surroundings.
type Runner struct {
	Network  route.Network
	Hops     hop.Places
	Finder   *secret.Finder
	Places   nearby.Places
	Timeout  time.Duration
	Progress func(Stage) // told of each stage as it ends; may be nil

	// Admin is the profile that may look an account up when its login is
	// refused; nil for none.
	Admin *resolve.Profile

	until    string               // the test stops after this stage; "" is the end
	onTLS    func(*tlsrule.Facts) // told of the handshake's facts; may be nil
	single   bool                 // no connection but the one that is tested
	thorough bool                 // read what only a comparison needs
	hints    *hints               // what answers nearby, for a run of many; nil for one
}

// test is one test under way.
type test struct {
	*Runner
	profile *resolve.Profile
	report  *Report
	budget  *budget
	held    []Stage // ended, and not told yet: another host may be tried
	holding bool
	over    bool
	passed  []passed // hosts that gave way
	secrets map[address.Candidate]*secret.Located
	secret  *secret.Located // of the server that is being tried
	taken   bool            // it was asked for, and handed over
	plan    plan
	conv    engine.Conversation

	candidates   []address.Candidate // the servers that the profile may mean
	noCandidates *finding.Finding    // why there are none
	resolveTime  time.Duration       // measured during the stage secret, reported under the stage route

	network string // of conv: "tcp" or "unix"
	from    string // the address of its end here, "" for a socket
	way
}

// Run tests a profile. It always returns a report; an interrupted ctx ends the
// test at once, with what is known.
func (r *Runner) Run(ctx context.Context, p *resolve.Profile) *Report {
	report, conv := r.run(ctx, p)
	if conv != nil {
		conv.Close()
	}
	return report
}

// on is the runner with the network as a profile's files have it.
func (r *Runner) on(p *resolve.Profile) *Runner {
	own := *r
	own.Network = r.Network.For(p)
	return &own
}

func (r *Runner) run(ctx context.Context, p *resolve.Profile) (*Report, engine.Conversation) {
	start := time.Now()
	t := &test{Runner: r, profile: p, budget: newBudget(ctx, r.timeout()), report: &Report{
		Profile: p.Profile.Name, Outcome: finding.OK, Stages: []Stage{},
		Facts: startFacts(p),
	}}
	t.Runner = t.Runner.on(p)
	defer t.budget.stop()
	t.straightLine(ctx)
	for _, name := range stages(t.count(p))[len(t.report.Stages):] {
		t.tell(Stage{Stage: name, Outcome: finding.Skip})
	}
	t.report.MS = milliseconds(time.Since(start) - t.budget.pausedFor())
	return t.report, t.conversation()
}

// startFacts is what the profile says itself.
func startFacts(p *resolve.Profile) *engine.Facts {
	return &engine.Facts{Engine: p.Text(key.Engine), User: p.Text(key.User), Database: p.Text(key.Database)}
}

// straightLine goes through the stages until one fails.
func (t *test) straightLine(ctx context.Context) {
	ok := t.stage(ctx, "profile", t.checkProfile) &&
		t.stage(ctx, "secret", t.locateSecret) &&
		t.stage(ctx, "route", t.findRoute)
	if ok && t.connectHops(ctx) {
		t.tryCandidates(ctx)
	}
}

// stage runs one stage and says whether the next may follow.
func (t *test) stage(ctx context.Context, name string, run func(context.Context) finding.Result) bool {
	if t.over {
		return false
	}
	start := time.Now()
	paused := t.budget.pausedFor()
	found := t.resolveTime
	result := run(t.budget.context())
	took := time.Since(start) - (t.budget.pausedFor() - paused) - (t.resolveTime - found)
	if name == "route" {
		took += t.resolveTime
	}
	if ctx.Err() != nil { // Ctrl-C: what the stage made of it is not the server's doing
		result = finding.Result{Outcome: finding.Skip, Detail: "stopped here by Ctrl-C"}
		t.report.Interrupted, t.over = true, true
		defer func() { t.report.Outcome = finding.Fail }() // it is not known to be ready
	}
	t.tell(Stage{Stage: name, Outcome: result.Outcome, Detail: result.Detail, Finding: result.Finding,
		MS: milliseconds(took)})
	return result.Outcome != finding.Fail && !t.over && name != t.until
}

// tell notes a stage's end, and passes it on unless it may still be taken back.
func (t *test) tell(s Stage) {
	if t.holding {
		t.held = append(t.held, s)
		return
	}
	visible(&s)
	t.report.Stages = append(t.report.Stages, s)
	t.report.Outcome = finding.Worse(t.report.Outcome, s.Outcome)
	if t.Progress != nil {
		t.Progress(s)
	}
}

// visible makes sure that nothing in a stage can steer a terminal, whatever a
// server, a file or the environment put into it.
func visible(s *Stage) {
	s.Detail = clean.Visible(s.Detail)
	if s.Finding == nil {
		return
	}
	withoutHome(s.Finding)
	s.Finding.Cause = clean.Visible(s.Finding.Cause)
	for _, lines := range [][]string{s.Finding.Seen, s.Finding.Try} {
		for i := range lines {
			lines[i] = clean.Visible(lines[i])
		}
	}
}

// withoutHome cuts the passwords of URLs out of a finding, and says in it that the home folder is not known,
// where it is about a file there.
func withoutHome(found *finding.Finding) {
	about := false
	tilde := func(text string) string {
		text = clean.WithoutPasswords(text)
		about = about || strings.Contains(text, profile.NoHome)
		return strings.ReplaceAll(text, profile.NoHome, "~")
	}
	found.Cause = tilde(found.Cause)
	for _, lines := range [][]string{found.Seen, found.Try} {
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

// hold keeps the stages that follow back, until release.
func (t *test) hold() { t.holding = true }

func (t *test) release() {
	t.holding = false
	held := t.held
	t.held = nil
	for _, s := range held {
		t.tell(s)
	}
}

func milliseconds(d time.Duration) float64 {
	return math.Round(float64(d.Microseconds())/10) / 100
}

// budget is the time a test has, or one of several hosts within it. It stands
// still while a person is asked.
type budget struct {
	whole   *budget // what this is a part of; nil for a whole test's
	ctx     context.Context
	cancel  context.CancelCauseFunc
	timer   *time.Timer
	end     time.Time
	paused  time.Time
	pausing time.Duration
}

var errTimeout = errors.New("the time for the test ran out")

// grace lets a dial or a read notice the deadline by itself, as a time-out,
// before the context ends it.
const grace = 20 * time.Millisecond

func newBudget(parent context.Context, d time.Duration) *budget {
	b := &budget{end: time.Now().Add(d)}
	b.ctx, b.cancel = context.WithCancelCause(parent)
	b.timer = time.AfterFunc(d+grace, func() { b.cancel(errTimeout) })
	return b
}

// part is the share of one host of those that are left to try.
func (b *budget) part(left int) *budget {
	p := newBudget(b.ctx, time.Until(b.end)/time.Duration(left))
	p.whole = b
	return p
}

func (b *budget) stop() {
	b.timer.Stop()
	b.cancel(nil)
}

// context bounds one stage. Its deadline is the budget's end as it is now.
func (b *budget) context() context.Context { return bounded{b.ctx, b.end} }

func (b *budget) pause() {
	if b.whole != nil {
		b.whole.pause()
	}
	b.timer.Stop()
	b.paused = time.Now()
}

func (b *budget) resume() {
	if b.whole != nil {
		b.whole.resume()
	}
	d := time.Since(b.paused)
	b.pausing += d
	b.end = b.end.Add(d)
	b.timer.Reset(time.Until(b.end) + grace)
}

func (b *budget) pausedFor() time.Duration { return b.pausing }

// bounded is a context that knows the budget's end as its deadline.
type bounded struct {
	context.Context
	end time.Time
}

func (c bounded) Deadline() (time.Time, bool) { return c.end, true }

// Verdict is a report's last line, in words.
func (r *Report) Verdict() string {
	count := fmt.Sprintf("%d ok", r.Count(finding.OK))
	if n := r.Count(finding.Warn); n > 0 {
		count += fmt.Sprintf(", %d warn", n)
	}
	switch {
	case r.Interrupted:
		return fmt.Sprintf("stopped: %s, the rest not tested (%s)", count, Duration(r.MS))
	case r.Outcome == finding.Fail:
		return fmt.Sprintf("not ready: %s at stage %s (%s, then %d fail, %d skip; %s)", r.firstFailure().Finding.Code,
			r.firstFailure().Stage,
			count, r.Count(finding.Fail), r.Count(finding.Skip), Duration(r.MS))
	}
	return fmt.Sprintf("ready: %s (%s; %s)", r.Where(), count, Duration(r.MS))
}

func (r *Report) firstFailure() Stage {
	for _, s := range r.Stages {
		if s.Outcome == finding.Fail {
			return s
		}
	}
	return Stage{}
}

// Where says in one line who one is, where, over which route and how safely.
func (r *Report) Where() string {
	f := r.Facts
	safety := "not encrypted"
	switch {
	case f.TLS != "none" && f.TLSVerified != nil && *f.TLSVerified:
		safety = f.TLS + ", verified"
	case f.TLS != "none":
		safety = f.TLS + ", not verified"
	}
	in := f.Database
	if in == "" {
		in = "no database"
	}
	return fmt.Sprintf("%s in %s at %s, %s", f.User, in, f.Route, safety)
}

// Duration writes milliseconds with a unit that fits.
func Duration(ms float64) string {
	switch {
	case ms >= 10_000:
		return fmt.Sprintf("%.0f s", ms/1000)
	case ms >= 1000:
		return fmt.Sprintf("%.1f s", ms/1000)
	case ms >= 10:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f ms", ms)
}
