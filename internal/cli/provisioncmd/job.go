package provisioncmd

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/provision"
	"gentleharbor/core/secret"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/querycmd"
	"gentleharbor/internal/cli/testcmd"
)

// job is an administrator's work for another profile.
type job struct {
	*call
	*options
	runner  *check.Runner
	profile *resolve.Profile // nil where the verb is about the server alone
	admin   *resolve.Profile

	sessions map[string]*check.Session // of the administrator, by database; "" is the first
	around   string                    // the database of the first, where it must not be the profile's own
	facts    *engine.Facts
	password password
	warned   []finding.Code
}

// newJob resolves both profiles. It refuses one that can't be used before it dials.
func (c *call) newJob(o *options, profile string) (*job, error) {
	j := &job{call: c, options: o, sessions: make(map[string]*check.Session)}
	var err error
	if j.runner, err = testcmd.NewCall(c.Call).Runner(o.timeout); err != nil {
		return nil, err
	}
	j.runner.Writes = true
	if profile != "" {
		if j.profile, err = c.usable(profile, o.over); err != nil {
			return nil, err
		}
	}
	if o.as == "" {
		return j, nil
	}
	if j.admin, err = c.usable(o.as, nil); err != nil {
		return nil, fmt.Errorf("-as: %w", err)
	}
	if j.admin.Text(key.Guard) == "read-only" {
		return nil, base.Failure(base.ExitFailed, fmt.Errorf("the guard of %s is read-only: nothing may be changed with it",
			j.admin.Called))
	}
	return j, nil
}

// usable refuses a profile whose engine has no accounts to make.
func (c *call) usable(name string, over base.Overrides) (*resolve.Profile, error) {
	p, err := c.Resolve(name, over)
	if err != nil {
		return nil, err
	}
	if found := p.Problem(); found != nil {
		return nil, base.FindingError(base.ExitFile, errors.New(found.Cause), found)
	}
	if p.Engine() == nil || p.Engine().Provision == nil {
		return nil, base.Usage("this version changes no accounts on %s", p.Text(key.Engine))
	}
	return p, nil
}

// close ends the administrator's sessions.
func (j *job) close() {
	for _, o := range j.sessions {
		o.Close()
	}
}

// session is the administrator's session in a database.
func (j *job) session(ctx context.Context, database string) (engine.Runner, error) {
	if database == "" {
		database = j.around
	}
	if o := j.sessions[database]; o != nil {
		return o.Runner, nil
	}
	p := j.admin
	if database != "" {
		over := base.Overrides{{Field: j.Keys.Field(key.Database), Value: schema.TextValue(database)}}
		var err error
		if p, err = j.Resolve(j.as, over); err != nil {
			return nil, err
		}
	}
	o, err := j.open(ctx, p)
	if err != nil {
		return nil, err
	}
	j.sessions[database] = o
	if j.facts == nil {
		j.facts = o.Report.Facts
	}
	if before := p.Engine().Provision.Before; before != "" {
		if err := o.Runner.Run(ctx, engine.Statement{Text: before}, discard{}); err != nil {
			return nil, err
		}
	}
	return o.Runner, nil
}

// open tests a profile, and keeps the connection.
func (j *job) open(ctx context.Context, p *resolve.Profile) (*check.Session, error) {
	o := j.runner.Open(ctx, p)
	warn := func(f *finding.Finding) {
		if !slices.Contains(j.warned, f.Code) { // of several sessions, once
			j.Notice("%s (%s)", f.Cause, f.Code)
		}
		j.warned = append(j.warned, f.Code)
	}
	if err := querycmd.Judge(j.Call, p, o, warn); err != nil {
		o.Close()
		return nil, err
	}
	return o, nil
}

// discard takes no results.
type discard struct{}

func (discard) Begin([]engine.Column) error { return nil }
func (discard) Row([][]byte) error          { return nil }
func (discard) End(engine.Outcome) error    { return nil }
func (discard) Notice(engine.Notice)        {}

// server is the server that the administrator is connected to.
func (j *job) server() *provision.Server {
	return &provision.Server{By: j.admin.Engine().Provision, Session: j.session}
}

// provision carries a verb out.
func (c *call) provision(ctx context.Context, verb provision.Verb, o *options) error {
	if err := c.conflict(verb, o); err != nil {
		return err
	}
	profile := c.Args[0]
	if verb == provision.Database {
		profile = ""
	}
	j, err := c.newJob(o, profile)
	if err != nil {
		return err
	}
	defer j.close()
	if verb == provision.Drop && j.profile.Text(key.Guard) == "read-only" {
		return base.Failure(base.ExitFailed, fmt.Errorf("the guard of %s is read-only: nothing of it is dropped",
			j.profile.Called))
	}
	w, err := j.desiredState(ctx, verb)
	if err != nil {
		return err
	}
	server := j.server()
	if !server.Offers(w) {
		return base.Usage("this version has no provision %s for %s", verb, j.admin.Text(key.Engine))
	}
	plan, err := server.Plan(ctx, w)
	if err != nil {
		return j.planFailed(err)
	}
	done, err := j.carryOut(ctx, server, w, plan)
	over := !w.Until.IsZero() && w.Until.Before(time.Now()) // the account is to be refused
	if err != nil || !done || j.profile == nil || over || verb == provision.Drop || verb == provision.Revoke {
		return err
	}
	return j.testProfile(ctx)
}

// desiredState makes the request of a verb from the flags and the profile, and logs the administrator in.
func (j *job) desiredState(ctx context.Context, verb provision.Verb) (*provision.Request, error) {
	w := &provision.Request{Verb: verb, DropAccount: true, DropDatabase: true}
	if j.profile == nil {
		w.Database, w.Owner, w.User, w.DropDatabase = j.Args[0], j.owner, j.owner, j.drop
	} else {
		w.User, w.Database = j.profile.Text(key.User), j.profile.Text(key.Database)
		if j.account != j.options.database {
			w.DropAccount, w.DropDatabase = j.account, j.options.database
		}
	}
	if err := j.complete(w); err != nil {
		return nil, err
	}
	by := j.admin.Engine().Provision
	drops := w.DropDatabase && (verb == provision.Drop || verb == provision.Database)
	if drops && by.Around != nil {
		i := slices.IndexFunc(by.Around, func(d string) bool { return d != w.Database })
		if own := j.admin.Text(key.Database); own == "" || own == w.Database {
			j.around = by.Around[i]
		}
	}
	w.Access, w.Tables, w.Until = j.access, j.tables, j.until
	if verb == provision.Make && w.Access == "" {
		w.Access, w.Usual = j.usualAccess(), true
	}
	if verb == provision.Database && !j.drop {
		w.Access = engine.AccessOwn
	}
	if _, err := j.session(ctx, ""); err != nil {
		return nil, err
	}
	w.Facts = j.facts
	if j.profile == nil {
		return w, nil
	}
	if err := j.readOrigin(ctx, w); err != nil {
		return nil, err
	}
	if verb == provision.Make {
		w.Quiet = j.profile.Text(key.ExpectWritable) == "false"
		if err := j.takePassword(ctx); err != nil {
			return nil, err
		}
		w.Password = j.password.value
	}
	w.LogsIn = j.logsIn
	return w, nil
}

// complete is the error for keys that the verb needs and the profile lacks.
func (j *job) complete(w *provision.Request) error {
	if j.profile == nil {
		return nil
	}
	spec := j.profile.Engine()
	if w.User == "" && !spec.Keys.OwnAccount {
		return base.Advise(base.Usage("the profile %s names no user", j.profile.Called),
			"name it: gharbor set "+j.profile.Called+" user=NAME")
	}
	if w.Database == "" && spec.Keys.UserDatabase {
		w.Database = w.User
	}
	database := w.Verb == provision.Grant || w.Verb == provision.Revoke || w.Verb == provision.Drop && !w.DropAccount
	if w.Database == "" && database && !spec.Provision.Numbered && spec.Provision.DropDatabase != nil {
		return base.Advise(base.Usage("the profile %s names no database", j.profile.Called),
			"name it: gharbor set "+j.profile.Called+" database=NAME")
	}
	return nil
}

// usualAccess is the access of a new account without -access.
func (j *job) usualAccess() engine.Access {
	if j.profile.Text(key.ExpectWritable) == "false" {
		return engine.AccessRead
	}
	return engine.AccessOwn
}

// readOrigin finds out whether the profile leads to the administrator's server, and from which host the server sees
// it.
func (j *job) readOrigin(ctx context.Context, w *provision.Request) error {
	same, found := j.runner.SameServer(ctx, j.profile, j.admin)
	if found != nil {
		return base.RouteFailed(found)
	}
	if same == check.Different {
		return j.otherServer("their engines differ")
	}
	by := j.admin.Engine().Provision
	if by.Arrives == nil {
		if same == check.SameInstance || j.same {
			return nil
		}
		return j.sameByLogin(ctx)
	}
	over := append(slices.Clone(j.over), schema.Override{Field: j.Keys.Field(key.Secret), Value: schema.TextValue("none")})
	bare, err := j.Resolve(j.profile.Called, over) // nothing is sent that far
	if err != nil {
		return err
	}
	var failed error
	report := j.runner.Reach(ctx, bare, func(f *engine.Facts) {
		var ask engine.Ask
		if ask, failed = j.server().Ask(ctx); failed == nil {
			w.Host, failed = by.Arrives(ctx, ask, f.ConnectionID)
		}
	})
	switch first, _ := report.First(); {
	case report.Interrupted:
		return context.Canceled
	case first.Outcome == finding.Fail:
		return querycmd.Judge(j.Call, bare, &check.Session{Report: report}, nil)
	case failed != nil:
		return fmt.Errorf("where the profile's connection comes from could not be read: %w", failed)
	case w.Host == "" && same != check.SameInstance && !j.same:
		return j.otherServer("the administrator's server does not see the profile's connection")
	}
	return nil
}

// otherServer refuses two profiles that lead to two servers, or may do so.
func (j *job) otherServer(why string) error {
	return base.Advise(base.Failure(base.ExitUsage,
		fmt.Errorf("it is not known that %s and %s lead to the same server: %s",
			j.profile.Called, j.admin.Called, why), fmt.Sprintf("gharbor compare %s %s", j.profile.Called, j.admin.Called)),
		"if you know that they do, add -same-server")
}

// sameByLogin compares the servers of both logins, where the profile's works already.
func (j *job) sameByLogin(ctx context.Context) error {
	switch c := j.runner.Compare(ctx, j.profile, j.admin); c.Verdict {
	case check.SameInstance:
		return nil
	case check.Different, check.SameLineage:
		return base.Usage("%s and %s lead to two servers: %s", j.profile.Called, j.admin.Called, c.Why)
	default:
		return j.otherServer("their addresses differ, and " + c.Why)
	}
}

// logsIn reports whether the profile's account can log in with its password.
func (j *job) logsIn(ctx context.Context) (bool, error) {
	report := j.tryPassword(ctx, j.profile, j.password.value)
	switch first, _ := report.First(); {
	case report.Interrupted:
		return false, context.Canceled
	case report.Reached("login"):
		return true, nil
	case first.Stage != "login":
		return false, fmt.Errorf("whether the account gets in could not be tried: %s", report.Verdict())
	}
	return false, nil
}

// tryPassword tests a profile with another password than its source's, or with the source's where v is not Present.
func (j *job) tryPassword(ctx context.Context, p *resolve.Profile, v secret.Value) *check.Report {
	if v.Present() {
		defer j.runner.Finder.SetPassword(p.Called, v, "this run")()
	}
	return j.runner.Run(ctx, p)
}

// planFailed is the command's error for a plan that failed.
func (j *job) planFailed(err error) error {
	var gone *provision.NotThereError
	var wrong *engine.NameError
	var refused *engine.StatementError
	switch {
	case errors.As(err, &gone) && j.profile != nil:
		return base.Failure(base.ExitFailed, errors.New(clean.Line(gone.Error(), 0)),
			fmt.Sprintf("gharbor provision make %s -as %s", j.profile.Called, j.as))
	case errors.As(err, &gone):
		return base.Failure(base.ExitFailed, errors.New(clean.Line(gone.Error(), 0)))
	case errors.As(err, &wrong):
		return base.Usage("%s", clean.Line(wrong.Error(), 0))
	case errors.As(err, &refused):
		return base.Failure(base.ExitFailed, fmt.Errorf("%s may not look up what is there: the server says %s", j.as,
			clean.Quote(clean.Line(refused.Error(), 0))))
	}
	return err
}
