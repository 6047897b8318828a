package cloud

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/http"
	"sync"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/secret"
)

// loginCache keeps the logins that a service made, in memory only and no longer than they are valid.
type loginCache struct {
	minting sync.Mutex
	made    map[string]*secret.Login // by instance, branch and the user that was asked for
}

// leastLife is how long a login must still be valid to be used: a connection can take some seconds.
const leastLife = 5 * time.Second

// mint returns a login at an instance: one that was made before and is still valid, or a new one.
func (s *Session) mint(ctx context.Context, about Subject, kind wire.LoginKind, p address.Profile) (*secret.Login,
	error) {
	s.minting.Lock()
	defer s.minting.Unlock()
	user := p.Text(key.User)
	of := fmt.Sprintf("%q %q", about.Ref.Within(), user)
	if login := s.made[of]; login != nil && time.Until(login.Until) > leastLife {
		return login, nil
	}
	body := map[string]string{}
	if user != "" {
		body["user"] = user
	}
	if database := p.Text(key.Database); database != "" {
		body["database"] = database
	}
	var got wire.Login
	if _, found := s.ask(ctx, about, change(http.MethodPost, at(about.Ref, "/logins"), body), &got); found != nil {
		return nil, &secret.Failure{Found: found}
	}
	login, err := s.loginOf(about, kind, user, &got)
	if err != nil {
		return nil, &secret.Failure{Found: s.explainFailure(about, &brokenAnswer{err.Error()})}
	}
	if s.made == nil {
		s.made = make(map[string]*secret.Login)
	}
	s.made[of] = login
	return login, nil
}

// loginOf checks a login: it must be for this instance and this user, of the expected kind, and not expired.
func (s *Session) loginOf(about Subject, kind wire.LoginKind, user string, got *wire.Login) (*secret.Login, error) {
	left := time.Until(got.Until)
	switch {
	case got.Instance != about.Ref.Instance || got.Branch != about.Ref.Branch:
		return nil, errOther
	case user != "" && got.User != user:
		return nil, fmt.Errorf("it was asked for a login of %s and answers with another user's", clean.Quote(user))
	case left <= 0:
		return nil, fmt.Errorf("the login that it made has ended already (this machine's clock says %s)",
			time.Now().UTC().Format(time.DateTime+" MST"))
	case left > wire.MaxLife:
		return nil, fmt.Errorf("the login that it made lasts longer than %s", wire.MaxLife)
	case (kind == wire.ByCertificate) != (got.Certificate != ""):
		return nil, fmt.Errorf("the login that it made is no %s, which it said it would be", kind)
	}
	login := &secret.Login{User: got.User, Until: got.Until}
	if kind == wire.ByPassword {
		login.Password = secret.NewValue(got.Password)
		return login, nil
	}
	pair, err := tls.X509KeyPair([]byte(got.Certificate), []byte(got.Key))
	if err != nil {
		return nil, fmt.Errorf("the certificate and the key of the login that it made do not fit each other")
	}
	login.Certificate = &pair
	login.PEM = secret.NewValue(got.Certificate + "\n" + got.Key)
	return login, nil
}

// Lasts is the end of the login that was made for a profile, the zero time where none was made.
func (a *Accounts) Lasts(p address.Profile) time.Time {
	s, found := a.sessionOf(p)
	if found != nil {
		return time.Time{}
	}
	s.minting.Lock()
	defer s.minting.Unlock()
	if login := s.made[fmt.Sprintf("%q %q", address.CloudOf(p).Within(), p.Text(key.User))]; login != nil {
		return login.Until
	}
	return time.Time{}
}

var _ address.Clouds = (*Accounts)(nil)
