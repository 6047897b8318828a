package provisioncmd

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/provision"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/testcmd"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

// carryOut shows a plan, asks, and makes the changes. done is false where there was nothing to send.
func (j *job) carryOut(
	ctx context.Context, server *provision.Server, w *provision.Request, plan *engine.Plan,
) (done bool, err error) {
	j.show(w, plan)
	if len(plan.Lacks) > 0 {
		for _, lack := range plan.Lacks[:len(plan.Lacks)-1] {
			j.Say("%s", clean.Visible(lack))
		}
		return false, base.Failure(base.ExitFailed, errors.New(clean.Line(plan.Lacks[len(plan.Lacks)-1], 0)+
			": nothing was sent"), "gharbor browse "+j.as+" access   # what it may do")
	}
	switch {
	case len(plan.Changes) == 0:
		j.Say("nothing to do")
		return w.Verb == provision.Make && !j.dryRun, nil
	case j.dryRun:
		j.Say("nothing was sent: -dry-run")
		return false, nil
	}
	if err := j.agree(ctx, w, plan); err != nil {
		return false, err
	}
	if err := j.keepPassword(ctx); err != nil {
		return false, err
	}
	made := 0
	err = server.Run(ctx, plan, func(engine.Change) { made++ }, j.notice)
	var refused *provision.StatementError
	switch {
	case ctx.Err() != nil:
		j.Say("stopped: %s carried out; run it again to go on", wording.Count(made, "statement was", "statements were"))
		return false, base.Failure(base.ExitInterrupted, nil)
	case errors.As(err, &refused):
		return false, j.reportRefusal(refused, made)
	case err != nil:
		return false, err
	}
	if plan.Unseen {
		return j.secondRound(ctx, server, w)
	}
	left, err := server.RemainingChanges(ctx, w)
	if err != nil {
		return false, j.planFailed(err)
	}
	j.Say("done: %s", wording.Count(made, "statement", "statements"))
	if len(left) > 0 {
		for _, why := range left {
			j.Say("still so: %s", clean.Visible(why))
		}
		return false, base.Failure(base.ExitFailed, errors.New("the server took the statements, and did not do all of it"),
			"gharbor browse "+j.as+" access   # what it may do")
	}
	return true, nil
}

// secondRound plans changes that depend on the first ones.
func (j *job) secondRound(ctx context.Context, server *provision.Server, w *provision.Request) (bool, error) {
	plan, err := server.Plan(ctx, w)
	if err != nil {
		return false, j.planFailed(err)
	}
	if plan.Unseen {
		return false, base.Failure(base.ExitFailed, errors.New("the database still accepts no connection"))
	}
	if len(plan.Changes) == 0 {
		return true, nil
	}
	return j.carryOut(ctx, server, w, plan)
}

// notice prints a server's notice.
func (j *job) notice(n engine.Notice) {
	j.Say("the server says %s: %s", clean.Line(strings.ToLower(n.Severity), 20), clean.Visible(n.Message))
}

// show prints what will be done.
func (j *job) show(w *provision.Request, plan *engine.Plan) {
	report := render.NewReport(j.Stdout, j.NoColour)
	name := w.Database
	if j.profile != nil {
		name = j.profile.Called
	}
	report.Head(name, fmt.Sprintf("%s at %s, by %s as %s", j.facts.Product, j.facts.Route, j.admin.Called, j.facts.User))
	rows := render.NewPlan(j.Stdout)
	for _, name := range j.profilesSharing(w) {
		rows.Note("the profile " + name + " uses it too")
	}
	for _, note := range plan.Notes {
		rows.Note(note)
	}
	for _, what := range plan.Missing {
		rows.Note(what + " is not there")
	}
	if j.password.made && slices.ContainsFunc(plan.Changes, func(c engine.Change) bool { return c.Text != c.Shown }) {
		rows.Note("a password of " + fmt.Sprint(generatedLength) + " characters is made, and goes into the " + j.placeOf())
	}
	if j.password.none && len(plan.Changes) > 0 {
		rows.Note("the profile sends no password (secret = \"none\"), so the account gets none")
	}
	for _, c := range plan.Changes {
		why, in, word := c.Why, "the database "+c.In, "add"
		if c.In != "" && c.In != w.Facts.Database && !strings.Contains(why, in) {
			why += " (in " + in + ")"
		}
		switch {
		case c.Takes:
			word = "remove"
		case c.Alters:
			word = "change"
		}
		rows.Change(word, why, c.Shown+";")
	}
	for _, c := range plan.Changes {
		if c.Clear != "" {
			rows.Note(c.Clear)
		}
	}
}

// profilesSharing are the other profiles that use the database or the account to drop.
func (j *job) profilesSharing(w *provision.Request) (names []string) {
	file, err := j.Load()
	if err != nil || w.Verb != provision.Drop || j.profile == nil {
		return nil
	}
	for _, one := range file.All() {
		o := resolve.Resolve(file, one, nil, j.Environment())
		database, user := w.DropDatabase && o.Text(key.Database) == w.Database, w.DropAccount && o.Text(key.User) == w.User
		if o.Called == j.profile.Called || o.Problem() != nil || !database && !user {
			continue
		}
		if same, found := j.runner.SameServer(context.Background(), o, j.profile); found == nil &&
			same == check.SameInstance {
			names = append(names, o.Called)
		}
	}
	return names
}

// agree asks for a yes, or for a name where something is dropped for good.
func (j *job) agree(ctx context.Context, w *provision.Request, plan *engine.Plan) error {
	if j.yes {
		return nil
	}
	if !j.Interactive() {
		return base.Failure(base.ExitUsage, errors.New("there is no terminal to ask on; -yes does it without asking"),
			j.CommandWith("yes", "true"))
	}
	if w.Verb == provision.Drop || w.Verb == provision.Database && w.DropDatabase {
		return j.typedName(ctx, w, plan)
	}
	these := func(n int) string {
		if n == 1 {
			return "this statement"
		}
		return fmt.Sprintf("these %d statements", n)
	}
	question := fmt.Sprintf("send %s?", these(len(plan.Changes)))
	alters := 0
	for _, c := range plan.Changes {
		if c.Alters || c.Takes {
			alters++
		}
	}
	if alters > 0 && alters < len(plan.Changes) {
		question = fmt.Sprintf("send these %d statements, of which %d change what is there?", len(plan.Changes), alters)
	} else if alters > 0 {
		question = fmt.Sprintf("change what is there with %s?", these(alters))
	}
	yes, err := j.Confirm(ctx, question, alters == 0)
	if err == nil && !yes {
		err = base.Failure(base.ExitFailed, errors.New("nothing was sent"))
	}
	return err
}

// typedName asks for the name of the thing to drop.
func (j *job) typedName(ctx context.Context, w *provision.Request, plan *engine.Plan) error {
	name := w.Database
	if !w.DropDatabase || slices.ContainsFunc(plan.Missing, func(m string) bool {
		return strings.Contains(m,
			"database")
	}) {
		name = w.User
	}
	answer, err := j.Question(ctx, "type "+clean.Word(name)+" to drop it", "")
	if err == nil && answer != name {
		err = base.Failure(base.ExitFailed, errors.New("nothing was sent"))
	}
	return err
}

// reportRefusal reports which statement the server refused, and what was done before.
func (j *job) reportRefusal(e *provision.StatementError, made int) error {
	var said *engine.StatementError
	message := clean.Line(e.Err.Error(), 0)
	if errors.As(e.Err, &said) {
		message = "the server says " + clean.Quote(clean.Line(said.Error(), 0))
		if said.Detail != "" {
			message += "; " + clean.Quote(clean.Line(said.Detail, 0))
		}
	}
	j.Say("refused: %s", clean.Visible(e.Change.Shown))
	before := "nothing was changed"
	if made > 0 {
		before = wording.Count(made, "statement was", "statements were") + " carried out before it"
	}
	return base.Failure(base.ExitFailed, fmt.Errorf("%s; %s", message, before))
}

// testProfile tests the profile, and prints its verdict: in one line where it is ready.
func (j *job) testProfile(ctx context.Context) error {
	j.close()
	j.sessions = nil
	j.Loaded = nil // the profile may name its source now
	p, err := j.Resolve(j.profile.Called, j.over)
	if err != nil {
		return err
	}
	if j.password.kept {
		defer j.runner.Finder.SetPassword(p.Called, j.password.value, "the "+j.placeOf()+", just saved")()
	}
	j.runner.Admin = j.admin
	report := j.runner.Run(ctx, p)
	j.Remember(ctx, []*resolve.Profile{p}, []*check.Report{report})
	testcmd.NewCall(j.Call).FollowReports(base.FollowUp{As: j.as, Over: j.over}, report)
	first, some := report.First()
	switch {
	case report.Interrupted:
		return context.Canceled
	case some && first.Outcome == finding.Fail:
		render.NewReport(j.Stdout, j.NoColour).Show(p.Called, testcmd.Headline(p), report)
		return base.Failure(base.ExitFailed, nil)
	case some:
		j.Notice("%s (%s)", first.Finding.Cause, first.Finding.Code)
	}
	_, err = fmt.Fprintf(j.Stdout, "%s\n", report.Verdict())
	return err
}
