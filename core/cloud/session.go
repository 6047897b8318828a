package cloud

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/cloud/https"
	"gentleharbor/core/cloud/oauth"
	"gentleharbor/core/cloud/tokens"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/secret"
)

// Session asks the issuer and the service of one account, for one run of the program. It may be used by several
// goroutines.
type Session struct {
	Account
	from *Accounts
	way  transport
	http *https.Client // nil where neither issuer nor service is asked over HTTPS

	mu     sync.Mutex // of the token
	token  *tokens.Token
	server *oauth.Server
	sent   []secret.Value // every token that the service was sent: no text of its own shows one

	known instanceCache
	loginCache
}

// early is how long before its end a token is refreshed, so that it does not end during a request.
const early = 30 * time.Second

// newSession prepares a session; it asks nothing yet.
func (a *Accounts) newSession(account Account) (*Session, error) {
	s := &Session{Account: account, from: a}
	if account.Issuer != "" || account.Service != "" {
		pem, err := account.authority()
		if err != nil {
			return nil, err
		}
		if s.http, err = https.New(a.Dial, pem, account.Issuer, account.Service); err != nil {
			return nil, fmt.Errorf("tls-ca %s: %w", account.Authority, err)
		}
	}
	if account.Service != "" {
		s.way = &httpsTransport{account.Service, s.http}
	} else {
		s.way = &programTransport{&s.Account}
	}
	return s, nil
}

// signsIn reports whether the account uses a token: one whose program signs in by itself has none.
func (s *Session) signsIn() bool { return s.Issuer != "" || s.TokenFile != "" || s.Service != "" }

// issuer reads the metadata of the issuer, once.
func (s *Session) issuer(ctx context.Context) (*oauth.Server, error) {
	if s.server == nil {
		server, err := oauth.Discover(ctx, s.http, s.Account.Issuer)
		if err != nil {
			return nil, err
		}
		s.server = server
	}
	return s.server, nil
}

// client is the client that signs in, with its secret where it has one.
func (s *Session) client(ctx context.Context) (oauth.Client, *finding.Finding) {
	c := oauth.Client{ID: s.Client, Scopes: s.Scopes}
	if s.ClientSecret.Kind == "" {
		return c, nil
	}
	q := secret.Query{
		Kind:    secret.OfCloud,
		Profile: s.Called,
		Setting: "client-secret",
		Source:  s.ClientSecret,
		Command: s.secretWords,
		Folder:  filepath.Dir(s.File),
		Address: s.Name + " client-secret " + s.Account.Issuer,
		Project: s.project,
		Pinned:  s.pinned,
		Recheck: s.recheck,
	}
	defer secret.Pause(ctx)()
	located, found := s.from.Secrets.Locate(ctx, q)
	if located == nil {
		return c, found
	}
	var err error
	if c.Secret, err = located.Take(ctx); err != nil {
		return c, findingOf(err, s)
	}
	return c, nil
}

// recheck judges a project's account once more, directly before a program runs. It is nil for an account of the
// user's own.
func (s *Session) recheck() *finding.Finding {
	if !s.project {
		return nil
	}
	_, found := s.from.Vouch(s.table)
	return found
}

// access is a token that is valid now: from the token file, by the client's own secret, or of a person's sign-in,
// refreshed where it has ended. rejected is one that the service did not take, and is not returned again.
func (s *Session) access(ctx context.Context, rejected secret.Value) (secret.Value, *finding.Finding) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case !s.signsIn():
		return secret.Value{}, nil
	case s.TokenFile != "":
		return s.fromFile(ctx)
	case s.usable(s.token, rejected):
		return s.token.Access, nil
	case s.ClientSecret.Kind != "":
		return s.forClient(ctx)
	}
	return s.signInToken(ctx, rejected)
}

// usable reports whether a token may be sent.
func (s *Session) usable(t *tokens.Token, rejected secret.Value) bool {
	return t != nil && t.Access.Present() && !(rejected.Present() && t.Access.Same(rejected)) &&
		(t.Until.IsZero() || time.Until(t.Until) > early || !t.Refresh.Present() && time.Until(t.Until) > 0)
}

// fromFile reads the token file at each use: another program keeps it fresh.
func (s *Session) fromFile(ctx context.Context) (secret.Value, *finding.Finding) {
	q := secret.Query{Profile: s.Called, Setting: "token-file", Kind: secret.OfCloud, Pinned: s.pinned,
		Source: secret.Source{Kind: "file", Arg: s.TokenFile}}
	if found := q.Judge(s.TokenFile, "the token file"); found != nil {
		if found.Code == finding.SecretMissing {
			found.Try = nil
			found.Advise("name the file: gharbor cloud set %s token-file=PATH", s.Called)
		}
		return secret.Value{}, found
	}
	v, err := secret.FirstLine(s.TokenFile)
	switch {
	case err != nil:
		return secret.Value{}, secret.Unreadable(s.TokenFile, "the token file", err)
	case v.Empty():
		return secret.Value{}, s.notSignedIn("the token file is empty")
	}
	return v, nil
}

// forClient signs in as the account's own client, and keeps the token in memory.
func (s *Session) forClient(ctx context.Context) (secret.Value, *finding.Finding) {
	c, found := s.client(ctx)
	if found != nil {
		return secret.Value{}, found
	}
	server, err := s.issuer(ctx)
	if err != nil {
		return secret.Value{}, findingOf(err, s)
	}
	got, err := server.ForClient(ctx, c)
	if err != nil {
		return secret.Value{}, findingOf(err, s)
	}
	s.token = &tokens.Token{Access: got.Access, Until: got.Until, Scopes: got.Scopes, Since: time.Now()}
	return got.Access, nil
}

// signInToken is the token of a person's sign-in. Where it has ended, one of several processes refreshes it; the others
// wait for that one and read what it wrote.
func (s *Session) signInToken(ctx context.Context, rejected secret.Value) (secret.Value, *finding.Finding) {
	owner, err := s.Owner()
	if err != nil {
		return secret.Value{}, finding.New(finding.CloudBroken, "%s", clean.Line(err.Error(), 300)).
			Advise("name the file: gharbor cloud set %s tls-ca=PATH", s.Called)
	}
	token, _, found := s.load(ctx, owner)
	if found != nil {
		return secret.Value{}, found
	}
	if s.usable(token, rejected) {
		s.token = token
		return token.Access, nil
	}
	unlock, err := s.from.Tokens.Lock(ctx, owner)
	if err != nil {
		return secret.Value{}, findingOf(err, s)
	}
	defer unlock()
	token, place, found := s.load(ctx, owner)
	if found != nil {
		return secret.Value{}, found
	}
	if s.usable(token, rejected) { // refreshed by another process meanwhile
		s.token = token
		return token.Access, nil
	}
	if !token.Refresh.Present() || s.Account.Issuer == "" {
		return secret.Value{}, s.explainExpiry("its token has ended, and there is none to refresh it by")
	}
	c, found := s.client(ctx)
	if found != nil {
		return secret.Value{}, found
	}
	server, err := s.issuer(ctx)
	if err != nil {
		return secret.Value{}, findingOf(err, s)
	}
	got, err := server.Refresh(ctx, c, token.Refresh)
	if err != nil {
		return secret.Value{}, findingOf(err, s)
	}
	fresh := &tokens.Token{Access: got.Access, Refresh: got.Refresh, Until: got.Until, Scopes: token.Scopes,
		Since: token.Since}
	if got.Scopes != nil {
		fresh.Scopes = got.Scopes
	}
	// The old refresh token may be worth nothing any more: the new one is kept before it is used, also after Ctrl-C.
	if err := s.from.Tokens.Save(context.WithoutCancel(ctx), owner, fresh, place); err != nil {
		return secret.Value{}, findingOf(err, s)
	}
	s.token = fresh
	return fresh.Access, nil
}

// load reads the account's token. It may ask a person for a passphrase; a test's time limit does not run meanwhile.
func (s *Session) load(ctx context.Context, owner tokens.Owner) (*tokens.Token, tokens.Place, *finding.Finding) {
	defer secret.Pause(ctx)()
	token, place, err := s.from.Tokens.Load(ctx, owner)
	if errors.Is(err, tokens.ErrNone) {
		return nil, place, s.notSignedIn("")
	}
	var failure *secret.Failure
	if errors.As(err, &failure) && failure.Found.Is(finding.SecretMissing, finding.SecretNoMatch,
		finding.SecretBoundElsewhere) {
		return nil, place, s.notSignedIn("the key that seals its token is not there: " + failure.Found.Cause)
	}
	if err != nil {
		return nil, place, findingOf(err, s)
	}
	return token, place, nil
}

// The bounds of a request that a service puts off.
const (
	maxTries    = 4
	firstPause  = 500 * time.Millisecond // where the service does not say how long
	maxPutOff   = time.Minute            // a service that says more is not waited for
	reasonAbout = 300
)

// ask sends a request and reads the answer into into, nil for none. Where the service says so, it waits and sends it
// again; where the service does not take the token, it refreshes the token once.
func (s *Session) ask(ctx context.Context, about Subject, r wire.Request, into any) (next string,
	found *finding.Finding) {
	var rejected secret.Value
	pause := firstPause
	for try := 1; ; try++ {
		token, found := s.access(ctx, rejected)
		if found != nil {
			return "", found
		}
		s.note(token)
		if s.Service == "" { // a program is run
			if found := s.recheck(); found != nil {
				return "", found
			}
		}
		answer, err := s.way.ask(ctx, token, r)
		if err != nil {
			return "", s.explainFailure(about, err)
		}
		if answer.status >= 200 && answer.status < 300 {
			if into == nil {
				return answer.next, nil
			}
			if err := wire.Read(answer.body, into); err != nil {
				return "", s.explainFailure(about, &brokenAnswer{err.Error()})
			}
			return answer.next, nil
		}
		if answer.status >= 300 && answer.status < 400 {
			return "", s.explainFailure(about,
				&brokenAnswer{fmt.Sprintf("it answers %d, and redirects are not followed", answer.status)})
		}
		problem := wire.ReadProblem(answer.status, answer.body)
		kind := problem.Kind()
		switch {
		case kind == wire.NotSignedIn && !rejected.Present() && token.Present():
			rejected = token
			continue
		case (kind == wire.TooMany || kind == wire.Unavailable) && try < maxTries && answer.after <= maxPutOff:
			if s.putOff(ctx, max(answer.after, pause)) {
				pause *= 2
				continue
			}
		}
		return "", s.explainProblem(about, problem, answer.after)
	}
}

// note remembers a token that is sent.
func (s *Session) note(token secret.Value) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if token.Present() && !slices.ContainsFunc(s.sent, token.Same) {
		s.sent = append(s.sent, token)
	}
}

// putOff waits as long as a service asks for. It is false where there is no time for that.
func (s *Session) putOff(ctx context.Context, pause time.Duration) bool {
	if until, ok := ctx.Deadline(); ok && time.Until(until) <= pause {
		return false
	}
	select {
	case <-ctx.Done():
		return false
	case <-time.After(pause):
		return true
	}
}

// Subject is what a request is about, for commands to try.
type Subject struct {
	Ref     cloudref.Ref
	Profile string // whose address it is, "" for none
}

// Word names the instance to a command: by the profile where there is one.
func (a Subject) Word() string {
	if a.Profile != "" {
		return a.Profile
	}
	return a.Ref.String()
}
