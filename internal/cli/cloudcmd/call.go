// Package cloudcmd has the commands of cloud accounts and of the instances behind them. A command is a struct value in
// a file of its own; package base runs it.
package cloudcmd

import (
	"context"
	"errors"
	"fmt"

	"gentleharbor/core/address"
	"gentleharbor/core/cloud"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// call is one run of a command of this group.
type call struct{ *base.Call }

// run makes a command's function of a method of this group.
func run(command func(context.Context, *call) error) func(context.Context, *base.Call) error {
	return func(ctx context.Context, c *base.Call) error { return command(ctx, &call{c}) }
}

// Cloud is the group.
func Cloud() *base.Command {
	return &base.Command{
		Name: "cloud", Args: "VERB", Summary: "sign in at a provider, see its instances, be let in",
		Long: `A cloud account says who signs you in and which service knows the instances. A profile
whose address is an instance (cloud = "ACCOUNT/INSTANCE") finds it at each use, and with
secret = "cloud" the service makes a login that lasts minutes. docs/cloud.md begins with
an example, docs/cloud-service.md describes the interface for providers and scripts.`,
		Verbs: func() []*base.Command {
			return []*base.Command{
				cloudAdd(), cloudSet(), cloudList(), cloudShow(), cloudRemove(),
				signIn(), signOut(), whoCommand(), instances(), adopt(), switchFeature(true), switchFeature(false),
				allow(), disallow(), wake(), firstPassword(), check(),
			}
		},
	}
}

// subject is what a command's first word names: an instance by a profile or as ACCOUNT/INSTANCE[/BRANCH], or an
// account as a whole.
func (c *call) subject(word string) (*cloud.Session, cloud.Subject, error) {
	file, err := c.Load()
	if err != nil {
		return nil, cloud.Subject{}, err
	}
	about := cloud.Subject{}
	if file.Lookup(word) != nil {
		p, err := c.Resolve(word, nil)
		if err != nil {
			return nil, about, err
		}
		if found := p.Problem(); found != nil {
			return nil, about, base.FindingError(base.ExitFile, fmt.Errorf("%s (%s)", found.Cause, found.Code), found)
		}
		if !p.Address().InCloud() {
			return nil, about, base.Failure(base.ExitUsage,
				fmt.Errorf("the address of the profile %s is no cloud instance", p.Called), "gharbor show "+p.Called)
		}
		about = cloud.Subject{Ref: address.CloudOf(p), Profile: p.Called}
	} else if ref, ok := cloud.Ref(word); ok && (ref.Instance != "" || file.FindCloud(ref.Account) != nil) {
		about.Ref = ref
	} else {
		return nil, about, base.Failure(base.ExitUsage,
			errors.New("expected a profile, ACCOUNT/INSTANCE or ACCOUNT/INSTANCE/BRANCH"), "gharbor cloud list")
	}
	s, err := c.CloudSession(about.Ref.Account)
	return s, about, err
}

// instance is subject for a command that needs an instance.
func (c *call) instance(word string) (*cloud.Session, cloud.Subject, error) {
	s, about, err := c.subject(word)
	if err == nil && about.Ref.Instance == "" {
		err = base.Failure(base.ExitUsage, fmt.Errorf("%s is a whole account: name an instance, %s/INSTANCE", word, word),
			"gharbor cloud instances "+word)
	}
	return s, about, err
}

// describeRef names what a command is about.
func describeRef(ref cloudref.Ref) string {
	switch {
	case ref.Branch != "":
		return fmt.Sprintf("the branch %s of the instance %s", ref.Branch, ref.Instance)
	case ref.Instance != "":
		return "the instance " + ref.Instance
	}
	return "the account " + ref.Account
}

// findingError is a command's error for a finding, and for Ctrl-C where that is why.
func findingError(ctx context.Context, found *finding.Finding) error {
	if ctx.Err() != nil && errors.Is(context.Cause(ctx), context.Canceled) {
		return context.Canceled
	}
	return base.CloudFailed(found)
}

// progress shows, on a terminal, what the command waits for.
func (c *call) progress(what string) (done func()) {
	p := render.NewProgress(c.Stderr, 1)
	p.Begin(what)
	return p.Clear
}
