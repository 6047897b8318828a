package cloud

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/finding"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/secret"
)

// Check is the result for one part of the interface.
type Check struct {
	Part    string          `json:"part"`
	Outcome finding.Outcome `json:"outcome"` // ok, fail or skip
	Detail  string          `json:"detail,omitempty"`
}

// conformity tries a service.
type conformity struct {
	*Session
	ctx  context.Context
	told func(Check)

	account wire.Account
	all     []wire.Instance
	signed  bool // the service took the token
}

// Conform tries every part of the interface on the service of an account. Without a reference it changes nothing.
// With one it also makes and removes a rule, sets a feature to the value that it has, and makes a login, all of that
// instance. told is called after each part.
func (s *Session) Conform(ctx context.Context, change cloudref.Ref, told func(Check)) {
	c := &conformity{Session: s, ctx: ctx, told: told}
	parts := []struct {
		name string
		try  func() (detail string, err error)
	}{
		{"account", c.tryAccount},
		{"instances", c.tryInstances},
		{"instances by name", c.tryNames},
		{"one instance", c.tryOne},
		{"what is not there", c.tryUnknown},
		{"authorities", c.tryAuthorities},
		{"addresses", c.tryAddresses},
		{"rules", c.tryRules},
		{"without a token", c.tryWithout},
	}
	for _, p := range parts {
		c.part(p.name, p.try)
	}
	if change.Instance == "" {
		return
	}
	about := Subject{Ref: change}
	c.part("a rule made and removed", func() (string, error) { return c.tryRule(about) })
	c.part("a feature switched", func() (string, error) { return c.tryFeature(about) })
	c.part("a login", func() (string, error) { return c.tryLogin(about) })
}

// skippedPart is a part that can't be tried here.
type skippedPart struct{ why string }

func (e *skippedPart) Error() string { return e.why }

func (c *conformity) part(name string, try func() (string, error)) {
	if c.ctx.Err() != nil {
		return
	}
	detail, err := try()
	var skip *skippedPart
	switch {
	case errors.As(err, &skip):
		c.told(Check{name, finding.Skip, skip.why})
	case err != nil:
		c.told(Check{name, finding.Fail, err.Error()})
	default:
		c.told(Check{name, finding.OK, detail})
	}
}

// raw sends a request once and returns any answer, also that of an error.
func (c *conformity) raw(r wire.Request, signedIn bool) (*reply, error) {
	var token secret.Value
	if signedIn {
		var found *finding.Finding
		if token, found = c.access(c.ctx, secret.Value{}); found != nil {
			return nil, errors.New(found.Cause)
		}
		c.note(token)
	}
	answer, err := c.way.ask(c.ctx, token, r)
	if err != nil {
		return nil, errors.New(c.withoutTokens(err.Error()))
	}
	return answer, nil
}

// read is raw for an answer that must be a good one.
func (c *conformity) read(r wire.Request, into any) (*reply, error) {
	answer, err := c.raw(r, true)
	switch {
	case err != nil:
		return nil, err
	case answer.status < 200 || answer.status > 299:
		return nil, fmt.Errorf("it answers %d: %s", answer.status,
			c.withoutTokens(wire.ReadProblem(answer.status, answer.body).Error()))
	case into == nil:
		return answer, nil
	}
	return answer, wire.Read(answer.body, into)
}

// refusal is raw for an answer that must be a problem of a kind.
func (c *conformity) refusal(r wire.Request, signedIn bool, kind wire.Kind) error {
	answer, err := c.raw(r, signedIn)
	if err != nil {
		return err
	}
	if answer.status < 400 {
		return fmt.Errorf("it answers %d, where %s was expected", answer.status, kind)
	}
	if got := wire.ReadProblem(answer.status, answer.body).Kind(); got != kind {
		return fmt.Errorf("it answers %d with the problem %q, where %s was expected", answer.status, got, kind)
	}
	if !wire.Problems(answer.body) {
		return fmt.Errorf("it answers %d without a problem of type %s%s", answer.status, wire.Prefix, kind)
	}
	return nil
}

func (c *conformity) tryAccount() (string, error) {
	if _, err := c.read(wire.Request{Method: http.MethodGet, Path: "/account"}, &c.account); err != nil {
		return "", err
	}
	c.signed = true
	for _, right := range c.account.Rights {
		if !slices.Contains(wire.Rights, right) {
			return "", fmt.Errorf("%s is no right of the interface", right)
		}
	}
	return "rights: " + strings.Join(c.account.Rights, ", "), nil
}

func (c *conformity) tryInstances() (string, error) {
	r := wire.Request{Method: http.MethodGet, Path: "/instances"}
	seen := make(map[string]bool)
	pages := 0
	for {
		var page wire.Instances
		answer, err := c.read(r, &page)
		if err != nil {
			return "", fmt.Errorf("page %d: %w", pages+1, err)
		}
		pages++
		for _, i := range page.Instances {
			if seen[i.Name] {
				return "", fmt.Errorf("the instance %s is listed twice", i.Name)
			}
			seen[i.Name] = true
			c.all = append(c.all, i)
		}
		if answer.next == "" {
			return fmt.Sprintf("instances: %d, pages: %d", len(c.all), pages), nil
		}
		if pages == wire.MaxPages {
			return "", fmt.Errorf("it has more than %d pages", wire.MaxPages)
		}
		path, query := splitPath(answer.next)
		r = wire.Request{Method: http.MethodGet, Path: path, Query: query}
	}
}

// errNone is a part that needs an instance.
var errNone = &skippedPart{"there is no instance"}

func (c *conformity) tryNames() (string, error) {
	if len(c.all) == 0 {
		return "", errNone
	}
	wanted := []string{c.all[0].Name}
	if last := c.all[len(c.all)-1].Name; last != wanted[0] {
		wanted = append(wanted, last)
	}
	r := wire.Request{Method: http.MethodGet, Path: "/instances"}
	for _, name := range append(slices.Clone(wanted), "no-such-instance-here") {
		r.Query = append(r.Query, [2]string{"name", name})
	}
	var page wire.Instances
	if _, err := c.read(r, &page); err != nil {
		return "", err
	}
	var got []string
	for _, i := range page.Instances {
		got = append(got, i.Name)
	}
	slices.Sort(got)
	slices.Sort(wanted)
	if !slices.Equal(got, wanted) {
		return "", fmt.Errorf("it was asked for %d names that there are and one that there is not, and answers with %d",
			len(wanted), len(got))
	}
	return fmt.Sprintf("%d of %d", len(got), len(c.all)), nil
}

func (c *conformity) tryOne() (string, error) {
	if len(c.all) == 0 {
		return "", errNone
	}
	var one wire.Instance
	if _, err := c.read(wire.Request{Method: http.MethodGet, Path: "/instances/" + c.all[0].Name}, &one); err != nil {
		return "", err
	}
	if one.Name != c.all[0].Name || one.Engine != c.all[0].Engine || len(one.Branches) != len(c.all[0].Branches) {
		return "", errors.New("by itself the instance is another than in the list")
	}
	return one.Name, nil
}

func (c *conformity) tryUnknown() (string, error) {
	r := wire.Request{Method: http.MethodGet, Path: "/instances/no-such-instance-here"}
	return "a problem of type " + string(wire.Unknown), c.refusal(r, true, wire.Unknown)
}

// places are all instances and branches.
func (c *conformity) places() map[string]*wire.Place {
	all := make(map[string]*wire.Place)
	for i := range c.all {
		one := &c.all[i]
		all[one.Name] = &one.Place
		for b := range one.Branches {
			all[one.Name+"/"+one.Branches[b].Name] = &one.Branches[b].Place
		}
	}
	return all
}

func (c *conformity) tryAuthorities() (string, error) {
	count := 0
	for name, p := range c.places() {
		if p.Authority == "" {
			continue
		}
		block, _ := pem.Decode([]byte(p.Authority))
		if block == nil {
			return "", fmt.Errorf("the authority of %s is no PEM", name)
		}
		cert, err := x509.ParseCertificate(block.Bytes)
		switch {
		case err != nil:
			return "", fmt.Errorf("the authority of %s is no certificate", name)
		case !cert.IsCA:
			return "", fmt.Errorf("the authority of %s may sign no certificates", name)
		case time.Now().After(cert.NotAfter):
			return "", fmt.Errorf("the authority of %s ended on %s", name, cert.NotAfter.UTC().Format(time.DateOnly))
		}
		count++
	}
	if count == 0 {
		return "", &skippedPart{"no instance has one of its own"}
	}
	return fmt.Sprintf("%d are certificates", count), nil
}

func (c *conformity) tryAddresses() (string, error) {
	count := 0
	for name, p := range c.places() {
		if p.State == wire.Running && len(p.Addresses) == 0 {
			return "", fmt.Errorf("%s runs and has no address", name)
		}
		for _, a := range p.Addresses {
			if !hostname.Elsewhere(a.Host) {
				return "", fmt.Errorf("%s has an address of the machine that asks, or of its own network: %s", name, a.Host)
			}
			count++
		}
	}
	if count == 0 {
		return "", &skippedPart{"no instance has one"}
	}
	return fmt.Sprintf("%d can be dialled", count), nil
}

func (c *conformity) tryRules() (string, error) {
	for name, p := range c.places() {
		if p.Access == nil {
			continue
		}
		instance, branch := cutBranch(name)
		rules, found := c.Rules(c.ctx, Subject{Ref: cloudref.Ref{Account: c.Called, Instance: instance, Branch: branch}})
		if found != nil {
			return "", errors.New(found.Cause)
		}
		return fmt.Sprintf("%d of %s", len(rules), name), nil
	}
	return "", &skippedPart{"no instance has a network with rules"}
}

func cutBranch(name string) (instance, branch string) {
	ref, _ := cloudref.Parse("x/" + name)
	return ref.Instance, ref.Branch
}

func (c *conformity) tryWithout() (string, error) {
	if c.Service == "" {
		return "", &skippedPart{"a program may sign in by itself"}
	}
	r := wire.Request{Method: http.MethodGet, Path: "/account"}
	return "a problem of type " + string(wire.NotSignedIn), c.refusal(r, false, wire.NotSignedIn)
}

// documentation is a range that no network has (RFC 5737).
const documentation = "192.0.2.1/32"

func (c *conformity) tryRule(about Subject) (string, error) {
	if !slices.Contains(c.account.Rights, "allow") {
		return "", &skippedPart{"the account may not"}
	}
	body := map[string]any{"range": documentation, "seconds": 120, "note": "a try of the interface"}
	r := change(http.MethodPost, at(about.Ref, "/rules"), body)
	var made, again wire.Rule
	if _, err := c.read(r, &made); err != nil {
		return "", err
	}
	defer c.Disallow(c.ctx, about, made.ID)
	if _, err := c.read(r, &again); err != nil {
		return "", fmt.Errorf("the same request once more: %w", err)
	}
	switch {
	case again.ID != made.ID:
		return "", errors.New("two requests with one idempotency key made two rules")
	case made.Range != documentation:
		return "", errors.New("the rule is for another range than was asked for")
	case made.Until.IsZero() || time.Until(made.Until) > 10*time.Minute:
		return "", errors.New("the rule does not end when it was asked to")
	}
	if _, found := c.RuleNow(c.ctx, about, made.ID); found != nil {
		return "", fmt.Errorf("the rule can't be read: %s", found.Cause)
	}
	if found := c.Disallow(c.ctx, about, made.ID); found != nil {
		return "", fmt.Errorf("the rule can't be removed: %s", found.Cause)
	}
	return "made once, read, removed", c.refusal(wire.Request{Method: http.MethodGet,
		Path: at(about.Ref, "/rules/"+made.ID)}, true, wire.Unknown)
}

func (c *conformity) tryFeature(about Subject) (string, error) {
	_, place, found := c.Find(c.ctx, about)
	switch {
	case found != nil:
		return "", errors.New(found.Cause)
	case len(place.Features) == 0:
		return "", &skippedPart{"it has no features"}
	case !slices.Contains(c.account.Rights, "switch"):
		return "", &skippedPart{"the account may not"}
	}
	f := place.Features[0]
	got, found := c.Switch(c.ctx, about, f.Name, f.On)
	switch {
	case found != nil:
		return "", errors.New(found.Cause)
	case got.Name != f.Name || got.On != f.On:
		return "", errors.New("the answer is for another feature or state than was asked for")
	}
	return f.Name + ", to what it was", nil
}

func (c *conformity) tryLogin(about Subject) (string, error) {
	_, place, found := c.Find(c.ctx, about)
	switch {
	case found != nil:
		return "", errors.New(found.Cause)
	case place.Login == "":
		return "", &skippedPart{"the service makes no logins for it"}
	case place.State != wire.Running:
		return "", &skippedPart{"it does not run"}
	case !slices.Contains(c.account.Rights, "login"):
		return "", &skippedPart{"the account may not"}
	}
	var got wire.Login
	r := change(http.MethodPost, at(about.Ref, "/logins"), map[string]string{})
	if _, err := c.read(r, &got); err != nil {
		return "", err
	}
	login, err := c.loginOf(about, place.Login, "", &got)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("by %s, for %s", place.Login, time.Until(login.Until).Round(time.Second)), nil
}
