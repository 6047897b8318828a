package check

import (
	"context"
	"errors"
	"slices"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
)

// ServingTarget is the server that a program is to connect to, and the place of its secret: the server at which a
// test would end.
type ServingTarget struct {
	Servers []address.Candidate // the one that serves first; the others where the same secret is for them too
	Secret  *secret.Location
	Trouble *finding.Finding // with the secret or with servers that gave way, or why none serves; nil for none
}

// FindServing needs no connection where the profile has one server and a known secret. Else it logs in as a test
// does, to find the server that serves, or to see whether it wants a password. The finding says why there is nothing
// to hand over: no server is known, the secret may not be used, or the login is refused.
func (r *Runner) FindServing(ctx context.Context, p *resolve.Profile) (*ServingTarget, *finding.Finding) {
	candidates, found := r.candidates(ctx, p)
	if found != nil {
		return nil, found
	}
	known, found := locate(ctx, r.Finder, p, candidates)
	if known == nil {
		return nil, found
	}
	s := &ServingTarget{Servers: candidates, Secret: known.first, Trouble: found}
	spec := p.Engine()
	sure := len(candidates) == 1 && !(known.first.None && len(known.first.Tried) > 0)
	if sure || spec == nil || spec.Begin == nil {
		return s, nil
	}
	one := *r
	one.Progress, one.until, one.single = nil, "session", true
	t := one.test(ctx, p)
	defer t.end()
	failed := t.stages.report.firstFailure()
	switch failed.Stage {
	case "":
	case "login", "session", "secret":
		return nil, failed.Finding
	default:
		s.Trouble = failed.Finding
		return s, nil
	}
	if reached := t.stages.report.stage("reach"); reached.Finding != nil { // servers that gave way
		s.Trouble = reached.Finding
	}
	if at := t.last; at != nil {
		s.Secret = at.secret
		s.Servers = append([]address.Candidate{at.at}, slices.DeleteFunc(slices.Clone(t.candidates),
			func(c address.Candidate) bool { return c == at.at || t.secrets[c] != at.secret })...)
	}
	return s, nil
}

// noServer is for a profile that does not say where its server is.
func noServer(p *resolve.Profile) *finding.Finding {
	return finding.New(finding.ProfileIncomplete, "the profile does not say where the server is").
		Advise("name the host: gharbor set %s host=HOST (or socket=PATH)", p.Called)
}

// SecretQuery says for which connection the profile's secret is wanted: that to its first server.
func (r *Runner) SecretQuery(ctx context.Context, p *resolve.Profile) (secret.Query, *finding.Finding) {
	candidates, found := r.candidates(ctx, p)
	if found != nil {
		return secret.Query{}, found
	}
	return secretQuery(p, candidates[0]), nil
}

// candidates are a profile's servers, at least one.
func (r *Runner) candidates(ctx context.Context, p *resolve.Profile) ([]address.Candidate, *finding.Finding) {
	all, found := r.Network.Candidates(ctx, p)
	if found == nil && len(all) == 0 {
		found = noServer(p)
	}
	return all, found
}

// SecretPlace is the place of the secret for the first server that has one. The finding is a warning, or the reason
// why there is no place.
func (r *Runner) SecretPlace(ctx context.Context, p *resolve.Profile) (*secret.Location, *finding.Finding) {
	candidates, found := r.candidates(ctx, p)
	if found != nil {
		return nil, found
	}
	known, found := locate(ctx, r.Finder, p, candidates)
	if known == nil {
		return nil, found
	}
	return known.first, found
}

// keySecret says for which key file a passphrase is wanted.
func keySecret(p *resolve.Profile) secret.Query {
	source, _ := secret.ParseSource(p.Text(key.TLSKeySecret))
	return secret.Query{
		Kind:    secret.OfKey,
		Setting: string(key.TLSKeySecret),
		Profile: p.Called,
		Source:  source,
		Folder:  p.SecretFolder(),
		Address: p.Text(key.TLSKey),
		Project: !p.Own(),
		Pinned:  p.PinnedFiles(),
		Recheck: p.Recheck(),
	}
}

// keyPassphrase takes the passphrase of the client's key; nil where the profile does not say where it is.
func (t *test) keyPassphrase(p *resolve.Profile) func(context.Context) ([]byte, *finding.Finding) {
	if p.Text(key.TLSKeySecret) == "" {
		return nil
	}
	return func(ctx context.Context) ([]byte, *finding.Finding) {
		located, found := t.Finder.Locate(ctx, keySecret(p))
		if located == nil {
			return nil, found
		}
		t.budget.pause()
		defer t.budget.resume()
		value, err := located.Take(ctx)
		var failure *secret.Failure
		switch {
		case errors.As(err, &failure):
			return nil, failure.Found
		case err != nil:
			return nil, finding.New(finding.SecretUnreadable, "the passphrase of tls-key could not be read").
				Saw("%s", clean.Line(err.Error(), 0)).Suggest("gharbor show %s", p.Called)
		}
		return []byte(value.Disclose()), nil
	}
}
