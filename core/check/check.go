// Package check runs the staged test of a profile: one straight line of stages over one connection. Each stage ends
// ok, warn, fail or skip, with a finding where it is not ok. In the order profile, resolve, route, check, report it
// is the last but one. It prints nothing; questions to a person go through its Runner. Start with Runner.Run.
package check

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// Stages are the names of the stages of a profile without hops, in order.
var Stages = []string{"profile", "secret", "route", "name", "reach", "speak", "tls", "login", "database", "session",
	"expect"}

// stages are the names of the stages of a profile with that many hops.
func stages(hops int) []string {
	all := slices.Clone(Stages[:3])
	for i := range hops {
		all = append(all, fmt.Sprintf("hop %d", i+1))
	}
	return append(all, Stages[3:]...)
}

// DefaultTimeout bounds a whole test. The time of questions to a person does not count.
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

// Count is the number of stages that ended with an outcome.
func (r *Report) Count(o finding.Outcome) int {
	n := 0
	for _, s := range r.Stages {
		if s.Outcome == o {
			n++
		}
	}
	return n
}

// Runner has what a test needs of its surroundings.
type Runner struct {
	Network  route.Network
	Hops     hop.Places
	Finder   *secret.Finder
	Places   nearby.Places
	Timeout  time.Duration
	Progress func(Stage) // told of each stage as it ends; may be nil

	// Admin is the profile that looks an account up when its login is refused; nil for none.
	Admin *resolve.Profile

	// Administrator names the profile of an administrator for another profile's server; "" for none. It may be nil.
	// Only commands to try use it.
	Administrator func(*resolve.Profile) string

	// Rotating reports whether a change of a profile's password was begun and has not ended. It may be nil.
	Rotating func(profile string) bool

	// Writes: the profile has several servers and sets no target; the first that takes changes is wanted.
	Writes bool

	until      string                 // the test stops after this stage; "" is the end
	onTLS      func(*tlsrule.Facts)   // told of the handshake's facts; may be nil
	single     bool                   // no connection but the one that is tested
	thorough   bool                   // read what only a comparison needs
	statements bool                   // the conversation is for statements
	greet      engine.GreetFunc       // of that program, where the server speaks first; nil for none
	request    *engine.SessionRequest // what the program wants that the session is for; nil for none
	readOnly   bool                   // the program's session is read-only
	only       []address.Candidate    // the servers to try; nil for the profile's
	openWay    *hop.Link              // a way to the last hop that is open already, and stays open; nil for none
	hints      *hintCache             // what answers nearby, for a run of many; nil for one
}

// test is one test under way.
type test struct {
	*Runner
	profile *resolve.Profile
	stages  recorder
	budget  *budget
	stopped bool         // by Ctrl-C: nothing more is run
	passed  []passedHost // servers that gave way
	secrets map[address.Candidate]*secret.Location
	plan    testPlan
	last    *attempt // at a server, the one under way; nil before the first

	candidates   []address.Candidate // the servers that the profile may mean
	noCandidates *finding.Finding    // why there are none
	resolveTime  time.Duration       // measured during the stage secret, reported under the stage route

	hopPath
}

// Run tests a profile. It always returns a report; an interrupted ctx ends the
// test at once, with what is known.
func (r *Runner) Run(ctx context.Context, p *resolve.Profile) *Report {
	t := r.test(ctx, p)
	t.end()
	return t.stages.report
}

// Session is a connection that a test proved, for statements.
type Session struct {
	Report *Report
	Runner engine.Runner // nil where a stage before the expectations failed, or the engine runs no statements
	conv   engine.Conversation
}

// Close ends the connection, and the hops that it goes through.
func (o *Session) Close() {
	if o.conv != nil {
		o.conv.Close()
	}
}

// Open tests a profile, and keeps the connection. Whoever opens it closes it.
func (r *Runner) Open(ctx context.Context, p *resolve.Profile) *Session {
	one := *r
	one.statements = true
	o := &Session{}
	t := one.test(ctx, p)
	o.Report, o.conv = t.stages.report, t.conversation()
	if !o.Report.Reached("session") || o.Report.Interrupted {
		return o
	}
	conv := o.conv
	if hops, ok := conv.(throughHops); ok {
		conv = hops.Conversation
	}
	o.Runner, _ = conv.(engine.Runner)
	return o
}

// forProfile is the runner with the network as seen by a profile: its files may have [hosts].
func (r *Runner) forProfile(p *resolve.Profile) *Runner {
	own := *r
	own.Network = r.Network.For(p)
	return &own
}

// test runs the stages, and leaves the connection open.
func (r *Runner) test(ctx context.Context, p *resolve.Profile) *test {
	start := time.Now()
	report := &Report{
		Profile: p.Called,
		Outcome: finding.OK,
		Stages:  []Stage{},
		Facts:   startFacts(p),
	}
	t := &test{
		Runner:  r.forProfile(p),
		profile: p,
		budget:  newBudget(ctx, r.timeout()),
		stages:  recorder{report: report, progress: r.Progress},
	}
	defer t.budget.stop()
	t.runAll(ctx)
	for _, name := range stages(t.count(p))[len(report.Stages):] {
		t.stages.record(Stage{Stage: name, Outcome: finding.Skip})
	}
	report.MS = milliseconds(time.Since(start) - t.budget.pausedFor())
	if report.Interrupted {
		report.Outcome = finding.Skip // it is not known
	}
	report.leaveOutFacts()
	return t
}

// leaveOutFacts removes the facts that the test did not learn: a value of the profile is not the server's, and an
// unknown is not "none".
func (r *Report) leaveOutFacts() {
	f := r.Facts
	if !r.Reached("speak") {
		f.Engine = ""
	}
	if !r.Reached("tls") {
		f.TLS = ""
	}
	if !r.Reached("login") {
		f.User = ""
		if strings.HasPrefix(f.LoginMethod, "none asked") {
			f.LoginMethod = ""
		}
	}
	if !r.Reached("database") {
		f.Database = ""
	}
}

// end closes the connection.
func (t *test) end() {
	if conv := t.conversation(); conv != nil {
		conv.Close()
	}
}

// startFacts is what the profile says itself.
func startFacts(p *resolve.Profile) *engine.Facts {
	return &engine.Facts{Engine: p.Text(key.Engine), User: p.Text(key.User), Database: p.Text(key.Database)}
}

// step is one stage to run.
type step struct {
	name string
	run  func(context.Context) finding.Result
}

// runAll runs the stages until one fails.
func (t *test) runAll(ctx context.Context) {
	ok := t.runSteps(ctx, []step{
		{"profile", t.checkProfile},
		{"secret", t.locateSecret},
		{"route", t.findRoute},
	})
	if ok && t.connectHops(ctx) {
		t.tryCandidates(ctx)
	}
}

// runSteps runs steps in order and records them. It stops at one that fails, and at the last that is wanted; it
// reports whether later steps may follow.
func (t *test) runSteps(ctx context.Context, steps []step) bool {
	for _, s := range steps {
		ended, ok := t.run(ctx, s)
		if ended.Stage != "" {
			t.stages.record(ended)
		}
		if !ok {
			return false
		}
	}
	return true
}

// run runs a step, and reports whether the next may follow. After a stop it runs nothing, and the stage is empty.
func (t *test) run(ctx context.Context, s step) (ended Stage, ok bool) {
	if t.stopped {
		return Stage{}, false
	}
	start := time.Now()
	paused, resolved := t.budget.pausedFor(), t.resolveTime
	result := s.run(t.budget.context())
	took := time.Since(start) - (t.budget.pausedFor() - paused) - (t.resolveTime - resolved)
	if s.name == "route" {
		took += t.resolveTime
	}
	if ctx.Err() != nil { // Ctrl-C: what the stage made of it is not the server's doing
		result = finding.Result{Outcome: finding.Skip, Detail: "stopped here by Ctrl-C"}
		t.stopped = true
		t.stages.report.Interrupted = true
	}
	return Stage{
		Stage:   s.name,
		Outcome: result.Outcome,
		Detail:  result.Detail,
		Finding: result.Finding,
		MS:      milliseconds(took),
	}, result.Outcome != finding.Fail && !t.stopped && s.name != t.until
}

func milliseconds(d time.Duration) float64 {
	return math.Round(float64(d.Microseconds())/10) / 100
}

// Verdict is a report's last line, in words.
func (r *Report) Verdict() string {
	failed := r.firstFailure()
	switch {
	case r.Interrupted:
		return "stopped"
	case failed.Finding != nil:
		return fmt.Sprintf("not ready: %s at stage %s (%s)", failed.Finding.Code, failed.Stage, Duration(r.MS))
	}
	warnings := ""
	switch n := r.Count(finding.Warn); {
	case n == 1:
		warnings = "1 warning, "
	case n > 1:
		warnings = fmt.Sprintf("%d warnings, ", n)
	}
	return fmt.Sprintf("ready: %s (%s%s)", r.Summary(), warnings, Duration(r.MS))
}

// NotReached are the names of the stages that were skipped.
func (r *Report) NotReached() (names []string) {
	for _, s := range r.Stages {
		if s.Outcome == finding.Skip {
			names = append(names, s.Stage)
		}
	}
	return names
}

// Reached reports whether a stage ended well, with or without a warning: not where it failed, was not run, or was
// stopped. From the stage "speak" on, one that was reached has a conversation; what needs a login asks for "session".
func (r *Report) Reached(stage string) bool {
	outcome := r.stage(stage).Outcome
	return outcome == finding.OK || outcome == finding.Warn
}

// stage is a stage by its name; empty where it is not there.
func (r *Report) stage(name string) Stage {
	for _, s := range r.Stages {
		if s.Stage == name {
			return s
		}
	}
	return Stage{}
}

func (r *Report) firstFailure() Stage {
	for _, s := range r.Stages {
		if s.Outcome == finding.Fail {
			return s
		}
	}
	return Stage{}
}

// Summary says in one line: which user, which server, which route, how safe.
func (r *Report) Summary() string {
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
	if strings.Trim(in, "0123456789") == "" {
		in = "database " + in
	}
	who := f.User
	if who == "" {
		who = "nobody"
	}
	return fmt.Sprintf("%s in %s at %s, %s", who, in, f.Route, safety)
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
