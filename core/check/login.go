package check

import (
	"cmp"
	"context"

	"gentleharbor/core/address"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route/hop"
)

// ProgramLogin is what a program on this machine needs of a login.
type ProgramLogin struct {
	Request  *engine.SessionRequest // what the program wants; nil where the server speaks first
	Greet    engine.GreetFunc       // by which the program says so there, else nil
	Through  *hop.Link              // an open way to the profile's last hop, which stays open; nil without hops
	ReadOnly bool                   // its session is read-only
}

// LogIn runs the stages of a test up to the database, for a program, and keeps the connection. The finding says why a
// stage failed.
func (r *Runner) LogIn(ctx context.Context, p *resolve.Profile,
	l ProgramLogin) (engine.Conversation, *finding.Finding) {
	one := *r
	one.Progress, one.until, one.statements, one.single = nil, "database", true, true
	one.request, one.greet, one.openWay, one.readOnly = l.Request, l.Greet, l.Through, l.ReadOnly
	if target := p.Text(key.Target); target != "" && target != "any" {
		at, found := one.chooseServer(ctx, p)
		if found != nil {
			return nil, found
		}
		one.only = []address.Candidate{at}
	}
	t := one.test(ctx, p)
	failed := t.stages.report.firstFailure()
	if t.stages.report.Reached("database") {
		return t.conversation(), nil
	}
	t.end()
	if failed.Finding == nil {
		failed.Finding = finding.New(finding.LoginTimeout, "the login was ended before it was done").
			Suggest("gharbor test %s", p.Called)
	}
	return nil, failed.Finding
}

// chooseServer returns the server at which a test would end. It is found by a session of its own: that of a program
// may be read-only, and its answers may have a form for the program.
func (r *Runner) chooseServer(ctx context.Context, p *resolve.Profile) (address.Candidate, *finding.Finding) {
	one := *r
	one.until, one.statements, one.request, one.greet, one.readOnly = "session", false, nil, nil, false
	t := one.test(ctx, p)
	defer t.end()
	if failed := t.stages.report.firstFailure(); failed.Finding != nil {
		return address.Candidate{}, failed.Finding
	}
	if !t.stages.report.Reached("session") {
		return address.Candidate{}, finding.New(finding.LoginTimeout, "the choice of a server was ended before it was done").
			Suggest("gharbor test %s", p.Called)
	}
	return t.last.at, nil
}

// greetProgram has the program greeted once the server has spoken.
func (a *attempt) greetProgram(spoken finding.Result) finding.Result {
	if a.greet == nil || spoken.Outcome == finding.Fail {
		return spoken
	}
	a.budget.pause() // it is the program's time
	defer a.budget.resume()
	if found := a.greet(a.conv); found != nil {
		return finding.FailWith(found)
	}
	return spoken
}

// database is the one to open: the program's, else the profile's.
func (t *test) database() string {
	own := t.profile.Text(key.Database)
	if t.request == nil {
		return own
	}
	return cmp.Or(t.request.Database, own)
}

// parameters are what a program wants of its session, nil where there is none.
func (t *test) parameters() map[string]string {
	if t.request == nil {
		return nil
	}
	return t.request.Parameters
}
