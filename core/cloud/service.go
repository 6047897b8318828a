package cloud

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/cloud/oauth"
	"gentleharbor/core/cloud/tokens"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/secret"
)

// ReadAccount returns the account as the service names it, and the end of its token.
func (s *Session) ReadAccount(ctx context.Context) (*wire.Account, time.Time, *finding.Finding) {
	var a wire.Account
	_, found := s.ask(ctx, Subject{Ref: cloudref.Ref{Account: s.Called}}, wire.Request{Method: http.MethodGet,
		Path: "/account"}, &a)
	if found != nil {
		return nil, time.Time{}, found
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.token != nil {
		return &a, s.token.Until, nil
	}
	return &a, time.Time{}, nil
}

// maxNames is how many instances one request asks for by name: a URL of more is too long for some servers.
const maxNames = 50

// Instances calls take with each instance of the account, page by page, until take returns false. names are the
// instances to ask for, nil for all.
func (s *Session) Instances(ctx context.Context, names []string, take func(*wire.Instance) bool) *finding.Finding {
	about := Subject{Ref: cloudref.Ref{Account: s.Called}}
	for first := true; first || len(names) > 0; first = false {
		some := names[:min(len(names), maxNames)]
		names = names[len(some):]
		r := wire.Request{Method: http.MethodGet, Path: "/instances"}
		for _, name := range some {
			r.Query = append(r.Query, [2]string{"name", name})
		}
		if more, found := s.pages(ctx, about, r, take); found != nil || !more {
			return found
		}
	}
	return nil
}

// pages calls take with each instance of a list. It reports whether take wants more.
func (s *Session) pages(ctx context.Context, about Subject, r wire.Request,
	take func(*wire.Instance) bool) (more bool, found *finding.Finding) {
	for range wire.MaxPages {
		var page wire.Instances
		next, found := s.ask(ctx, about, r, &page)
		if found != nil {
			return false, found
		}
		for i := range page.Instances {
			if !take(&page.Instances[i]) {
				return false, nil
			}
		}
		if next == "" {
			return true, nil
		}
		path, query := splitPath(next)
		r = wire.Request{Method: http.MethodGet, Path: path, Query: query}
	}
	return false, s.explainFailure(about, &brokenAnswer{"its list of instances has more than 200 pages"})
}

// Find returns one instance.
func (s *Session) Find(ctx context.Context, about Subject) (*wire.Instance, *wire.Place, *finding.Finding) {
	var i wire.Instance
	r := wire.Request{Method: http.MethodGet, Path: "/instances/" + about.Ref.Instance}
	_, found := s.ask(ctx, about, r, &i)
	switch {
	case found.Is(finding.CloudUnknownInstance):
		return nil, nil, s.missing(ctx, about)
	case found != nil:
		return nil, nil, found
	}
	if i.Name != about.Ref.Instance {
		return nil, nil, s.explainFailure(about, &brokenAnswer{"it was asked for one instance and answers with another"})
	}
	place, found := s.placeOf(about, &i)
	return &i, place, found
}

// placeOf is the place of the instance, or of the branch that is meant.
func (s *Session) placeOf(about Subject, i *wire.Instance) (*wire.Place, *finding.Finding) {
	if about.Ref.Branch == "" {
		return &i.Place, nil
	}
	var names []string
	for b := range i.Branches {
		if i.Branches[b].Name == about.Ref.Branch {
			return &i.Branches[b].Place, nil
		}
		names = append(names, i.Branches[b].Name)
	}
	return nil, s.explainUnknown(about, names)
}

// act is ask for a request that concerns one instance.
func (s *Session) act(ctx context.Context, about Subject, r wire.Request, into any) *finding.Finding {
	_, found := s.ask(ctx, about, r, into)
	return s.checkInstance(ctx, about, found)
}

// checkInstance returns found; where that says that something is unknown, and the service does not know the instance
// either, the finding is about the instance.
func (s *Session) checkInstance(ctx context.Context, about Subject, found *finding.Finding) *finding.Finding {
	if !found.Is(finding.CloudUnknownInstance) || about.Ref.Instance == "" {
		return found
	}
	if _, _, missing := s.Find(ctx, about); missing != nil {
		return missing
	}
	found.Cause = fmt.Sprintf("%s does not do that for the %s", s.serviceName(), describe(about))
	return found
}

// explainUnknown returns the finding for an instance or a branch that does not exist; names are those that exist.
func (s *Session) explainUnknown(about Subject, names []string) *finding.Finding {
	found := finding.New(finding.CloudUnknownInstance, "%s of the cloud account %s knows no %s", s.serviceName(), s.Called,
		describe(about))
	wanted := about.Ref.Instance
	if about.Ref.Branch != "" {
		wanted = about.Ref.Branch
	}
	for _, near := range nearest.Names(wanted, names, 1) {
		ref := about.Ref
		if ref.Branch != "" {
			ref.Branch = near
		} else {
			ref.Instance = near
		}
		if about.Profile != "" {
			found.Suggest("gharbor set %s cloud=%s", about.Profile, clean.Shell(ref.String()))
		} else {
			found.Cause += fmt.Sprintf("; did you mean %s?", clean.Line(ref.Within(), 200))
		}
	}
	return found.Suggest("gharbor cloud instances %s", s.Called)
}

// at is the path of something that belongs to an instance, a branch or the account.
func at(ref cloudref.Ref, rest string) string {
	path := ""
	if ref.Instance != "" {
		path = "/instances/" + ref.Instance
	}
	if ref.Branch != "" {
		path += "/branches/" + ref.Branch
	}
	return path + rest
}

// change is a request that changes something. It has a key, by which the service carries it out once even if it is
// sent twice.
func change(method, path string, body any) wire.Request {
	return wire.Request{Method: method, Path: path, Body: body, Key: rand.Text()}
}

// Switch switches a feature on or off, of an instance, a branch or the account.
func (s *Session) Switch(
	ctx context.Context, about Subject, feature string, on bool,
) (*wire.Feature, *finding.Finding) {
	var f wire.Feature
	r := change(http.MethodPut, at(about.Ref, "/features/"+feature), map[string]bool{"on": on})
	found := s.act(ctx, about, r, &f)
	switch {
	case found.Is(finding.CloudUnknownInstance):
		return nil, s.noFeature(ctx, about, feature, found)
	case found != nil:
		return nil, found
	}
	return &f, nil
}

// noFeature is found, or the finding for a feature that an instance or an account does not have, with a near name.
func (s *Session) noFeature(
	ctx context.Context, about Subject, feature string, found *finding.Finding,
) *finding.Finding {
	var features []wire.Feature
	if about.Ref.Instance == "" {
		if a, _, found := s.ReadAccount(ctx); found == nil {
			features = a.Features
		}
	} else if _, place, found := s.Find(ctx, about); found == nil {
		features = place.Features
	} else {
		return found // there is no such instance
	}
	found.Cause = fmt.Sprintf("the %s has no feature %s", describe(about), feature)
	var names []string
	for _, f := range features {
		names = append(names, f.Name)
	}
	if near := nearest.Name(feature, names); near != "" {
		found.Cause += fmt.Sprintf("; did you mean %s?", near)
	}
	return found
}

// Rules lists the rules of an instance's network.
func (s *Session) Rules(ctx context.Context, about Subject) ([]wire.Rule, *finding.Finding) {
	var all []wire.Rule
	r := wire.Request{Method: http.MethodGet, Path: at(about.Ref, "/rules")}
	const most = 20 // pages of 1,000
	for range most {
		var page wire.Rules
		next, found := s.ask(ctx, about, r, &page)
		if found != nil {
			return nil, s.checkInstance(ctx, about, found)
		}
		all = append(all, page.Rules...)
		if next == "" {
			return all, nil
		}
		path, query := splitPath(next)
		r = wire.Request{Method: http.MethodGet, Path: path, Query: query}
	}
	return nil, s.explainFailure(about, &brokenAnswer{"its list of rules has more than 20 pages"})
}

// Allow makes a rule that lets a range in for a time. A zero range is the address that the service sees.
func (s *Session) Allow(ctx context.Context, about Subject, from netip.Prefix, life time.Duration,
	note string) (*wire.Rule, *finding.Finding) {
	body := map[string]any{"seconds": int(life / time.Second), "note": note}
	if from.IsValid() {
		body["range"] = from.String()
	}
	var rule wire.Rule
	if found := s.act(ctx, about, change(http.MethodPost, at(about.Ref, "/rules"), body), &rule); found != nil {
		return nil, found
	}
	return &rule, nil
}

// RuleNow asks for the present state of a rule.
func (s *Session) RuleNow(ctx context.Context, about Subject, id string) (*wire.Rule, *finding.Finding) {
	var rule wire.Rule
	r := wire.Request{Method: http.MethodGet, Path: at(about.Ref, "/rules/"+id)}
	if _, found := s.ask(ctx, about, r, &rule); found != nil {
		return nil, found
	}
	return &rule, nil
}

// Disallow takes a rule away.
func (s *Session) Disallow(ctx context.Context, about Subject, id string) *finding.Finding {
	return s.act(ctx, about, change(http.MethodDelete, at(about.Ref, "/rules/"+id), nil), nil)
}

// Wake asks the service to start a paused instance. That may cost money.
func (s *Session) Wake(ctx context.Context, about Subject) *finding.Finding {
	return s.act(ctx, about, change(http.MethodPost, at(about.Ref, "/wake"), struct{}{}), nil)
}

// FirstPassword sets the first password of an instance's administrator. The service shows it once only.
func (s *Session) FirstPassword(ctx context.Context, about Subject) (user string, v secret.Value,
	found *finding.Finding) {
	var first wire.First
	r := change(http.MethodPost, at(about.Ref, "/first-password"), struct{}{})
	if found := s.act(ctx, about, r, &first); found != nil {
		return "", v, found
	}
	if first.Instance != about.Ref.Instance || first.Branch != about.Ref.Branch {
		return "", v, s.explainFailure(about,
			&brokenAnswer{"it was asked for one instance's password and answers with another's"})
	}
	return first.User, secret.NewValue(first.Password), nil
}

// SignIn begins a sign-in that a person confirms.
func (s *Session) SignIn(ctx context.Context) (*oauth.Device, *finding.Finding) {
	s.mu.Lock()
	defer s.mu.Unlock()
	server, err := s.issuer(ctx)
	if err != nil {
		return nil, findingOf(err, s)
	}
	c, found := s.client(ctx)
	if found != nil {
		return nil, found
	}
	d, err := server.Begin(ctx, c)
	if err != nil {
		return nil, findingOf(err, s)
	}
	return d, nil
}

// KeepToken keeps the token of a sign-in.
func (s *Session) KeepToken(ctx context.Context, got *oauth.Token, place tokens.Place) *finding.Finding {
	s.mu.Lock()
	defer s.mu.Unlock()
	owner, err := s.Owner()
	if err != nil {
		return findingOf(err, s)
	}
	unlock, err := s.from.Tokens.Lock(ctx, owner)
	if err != nil {
		return findingOf(err, s)
	}
	defer unlock()
	token := &tokens.Token{Access: got.Access, Refresh: got.Refresh, Until: got.Until, Scopes: got.Scopes,
		Since: time.Now().UTC().Truncate(time.Second)}
	if token.Scopes == nil {
		token.Scopes = s.Scopes
	}
	if place.Forget { // a file of an earlier sign-in would come first
		if _, err := s.from.Tokens.Remove(ctx, owner); err != nil {
			return findingOf(err, s)
		}
	}
	if err := s.from.Tokens.Save(ctx, owner, token, place); err != nil {
		return findingOf(err, s)
	}
	s.token = token
	return nil
}

// Finding is the finding for an error of a sign-in.
func (s *Session) Finding(err error) *finding.Finding { return findingOf(err, s) }

// SignOut revokes the account's tokens at the issuer and forgets them. revoked is false where the issuer can't be
// reached or can't revoke; why says so.
func (s *Session) SignOut(ctx context.Context) (had, revoked bool, why string, found *finding.Finding) {
	s.mu.Lock()
	defer s.mu.Unlock()
	owner, err := s.Owner()
	if err != nil {
		return false, false, "", findingOf(err, s)
	}
	unlock, err := s.from.Tokens.Lock(ctx, owner)
	if err != nil {
		return false, false, "", findingOf(err, s)
	}
	defer unlock()
	if _, had = s.from.Tokens.PlaceOf(ctx, owner); had && s.Account.Issuer != "" {
		revoked, why = s.revoke(ctx, owner)
	}
	gone, err := s.from.Tokens.Remove(ctx, owner)
	if err != nil {
		return false, revoked, why, findingOf(err, s)
	}
	s.token = nil
	return had || gone, revoked, why, nil
}

// revoke revokes both tokens: on some servers the access token stays valid without its refresh token.
func (s *Session) revoke(ctx context.Context, owner tokens.Owner) (revoked bool, why string) {
	token, _, found := s.load(ctx, owner)
	if found != nil {
		return false, found.Cause
	}
	c, found := s.client(ctx)
	if found != nil {
		return false, found.Cause
	}
	server, err := s.issuer(ctx)
	if err != nil {
		return false, findingOf(err, s).Cause
	}
	if !server.Revokes() {
		return false, "the issuer takes no tokens back (RFC 7009): they end by themselves"
	}
	for _, one := range []struct {
		v    secret.Value
		hint string
	}{{token.Access, "access_token"}, {token.Refresh, "refresh_token"}} {
		if !one.v.Present() || one.v.Empty() {
			continue
		}
		if err := server.Revoke(ctx, c, one.v, one.hint); err != nil {
			return false, "the issuer does not take it back: " + clean.Line(err.Error(), reasonAbout)
		}
	}
	return true, ""
}

// MissingFeature is the first feature of a place that a connection needs and that is off, "" for none.
func MissingFeature(p *wire.Place) string {
	if i := slices.IndexFunc(p.Features, func(f wire.Feature) bool { return f.Needed && !f.On }); i >= 0 {
		return p.Features[i].Name
	}
	return ""
}
