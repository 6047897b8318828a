package provisioncmd

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/engine"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/provision"
	"gentleharbor/core/secret"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
)

// otherUsers are others that used the old password, one on a line: profiles, readers of the wallet, and containers.
func (t *profileRotation) otherUsers(ctx context.Context) (lines []string) {
	file, err := t.Load()
	if err != nil {
		return nil
	}
	for _, p := range file.All() {
		o := resolve.Resolve(file, p, nil, t.Environment())
		if o.Called == t.profile.Called || o.Problem() != nil || o.Text(key.User) != t.profile.Text(key.User) {
			continue
		}
		if same, found := t.runner.SameServer(ctx, o, t.profile); found != nil || same != check.SameInstance {
			continue
		}
		lines = append(lines, t.otherProfile(ctx, o))
	}
	if t.last != nil {
		for _, r := range t.last.File.Readers() {
			lines = append(lines, fmt.Sprintf("the reader %s gets the new password from the wallet", r.Name))
		}
	}
	return append(lines, t.containers(ctx)...)
}

// otherUser is the first profile that takes its password from the place to change, and has another account or perhaps
// another server: it could no longer log in. "" for none.
func (t *profileRotation) otherUser(ctx context.Context) string {
	file, err := t.Load()
	if err != nil {
		return ""
	}
	for _, p := range file.All() {
		o := resolve.Resolve(file, p, nil, t.Environment())
		if o.Called == t.profile.Called || o.Problem() != nil || !t.sharesPlace(ctx, o) {
			continue
		}
		same, found := t.runner.SameServer(ctx, o, t.profile)
		if o.Text(key.User) != t.profile.Text(key.User) || !t.same && (found != nil || same != check.SameInstance) {
			return o.Called
		}
	}
	return ""
}

// sharesPlace reports whether another profile takes its password from the same place. Each line of a password file is
// for one account.
func (t *profileRotation) sharesPlace(ctx context.Context, o *resolve.Profile) bool {
	q, err := secretcmd.NewCall(t.Call).QueryOf(ctx, o)
	if err != nil {
		return false
	}
	switch t.query.Source.Kind {
	case "wallet":
		if q.Source.Kind != "wallet" && q.Source.Kind != "default" {
			return false
		}
		e, _ := t.last.Match(q)
		return e != nil && e.Name == t.entry
	case "keyring":
		return q.Source.Kind == "keyring" && q.KeyringEntry() == t.query.KeyringEntry()
	case "file", "optionfile":
		return q.Source == t.query.Source
	}
	return false
}

// otherProfile names where another profile of the same account has its password.
func (t *profileRotation) otherProfile(ctx context.Context, o *resolve.Profile) string {
	q, err := secretcmd.NewCall(t.Call).QueryOf(ctx, o)
	if err == nil && o.Text(key.Secret) == "" {
		q.Source = t.runner.Finder.SourceFor(ctx, q)
	}
	if err == nil && q.Source.Kind == "wallet" && t.last != nil {
		if e, _ := t.last.Match(q); e != nil && e.Name == t.entry {
			return fmt.Sprintf("the profile %s has it from the same entry", o.Called)
		}
	}
	if err == nil && t.entry == "" && q.Source.Kind == t.query.Source.Kind && q.Source.Arg == t.query.Source.Arg {
		if located, _ := t.runner.Finder.Locate(ctx, q); located != nil && located.Read != nil && !located.Asks {
			if v, err := located.Take(ctx); err == nil && v.Same(t.next) {
				return fmt.Sprintf("the profile %s has it from the same place", o.Called)
			}
		}
	}
	source := o.Text(key.Secret)
	if source == "" {
		source = q.Source.Kind
	}
	return fmt.Sprintf("the profile %s has the old password still, from %s", o.Called, clean.Line(source, 80))
}

// containers are this machine's containers that have the old password in a variable.
func (t *profileRotation) containers(ctx context.Context) (lines []string) {
	client, found := t.Containers().Client(ctx, "")
	if found != nil {
		return nil
	}
	defer client.Close()
	all, err := client.List(ctx)
	if err != nil {
		return nil
	}
	for _, s := range all {
		one, err := client.Inspect(ctx, s.ID)
		if err == nil {
			if name := variableOf(one, t.old); name != "" {
				lines = append(lines, fmt.Sprintf("the container %s was given the old password in %s: make it again with "+
					"the new one", clean.Line(strings.TrimPrefix(one.Name, "/"), 100), clean.Line(name, 100)))
			}
		}
	}
	return lines
}

// variableOf is the variable of a container that has a password in it, "" for none.
func variableOf(one *api.Container, password secret.Value) string {
	for name, value := range one.Config.Env {
		if value.Holds(password) {
			return name
		}
	}
	return ""
}

// endOld ends the old password that stayed valid beside a new one.
func (r *rotateRun) endOld(ctx context.Context, p *resolve.Profile) error {
	j, err := r.call.newJob(&r.options, p.Called)
	if err != nil {
		return err
	}
	defer j.close()
	by := j.admin.Engine().Provision
	if by.DropOld == nil {
		return base.Usage("-drop-old: %s keeps only one password", p.Engine().Name)
	}
	w, err := j.desiredState(ctx, provision.Unlock)
	if err != nil {
		return err
	}
	ask, err := j.server().Ask(ctx)
	if err != nil {
		return err
	}
	plan, err := by.DropOld(ctx, ask, &w.DesiredState)
	if err != nil {
		return j.planFailed(err)
	}
	if len(plan.Missing) > 0 {
		return j.planFailed(&provision.NotThereError{What: plan.Missing[0], Account: true})
	}
	j.show(w, plan)
	switch {
	case len(plan.Changes) == 0:
		j.Say("nothing to do: there is no old password")
		return nil
	case j.dryRun:
		j.Say("nothing was sent: -dry-run")
		return nil
	}
	if err := j.agree(ctx, w, plan); err != nil {
		return err
	}
	made := 0
	err = j.server().Run(ctx, plan, func(engine.Change) { made++ }, j.notice)
	var refused *provision.StatementError
	if errors.As(err, &refused) {
		return j.reportRefusal(refused, made)
	}
	if err != nil {
		return err
	}
	return j.testProfile(ctx)
}
