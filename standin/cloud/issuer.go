package cloud

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"
)

// Client is the issuer's client without a secret, and Job the one with a secret.
const (
	Client    = "gharbor"
	Job       = "gharbor-nightly"
	JobSecret = "ebb-tide-at-the-sluice"
)

// issuer signs people in. The lock of its provider guards it.
type issuer struct {
	from   *Provider
	codes  map[string]*code  // by device code
	access map[string]*grant // by token
	fresh  map[string]*grant // by refresh token

	Refreshes int // how often a token was refreshed
	slow      int // answers of slow_down that are left
}

// code is a sign-in that waits for a person.
type code struct {
	user      string
	challenge string
	until     time.Time
	confirmed bool
	denied    bool
	asked     time.Time
}

// grant is a sign-in that was confirmed.
type grant struct{ until time.Time }

func newIssuer(p *Provider) *issuer {
	return &issuer{from: p, codes: make(map[string]*code), access: make(map[string]*grant), fresh: make(map[string]*grant)}
}

// Confirm does what a person does who compares the code and agrees. It is false where no sign-in has that code.
func (i *issuer) Confirm(user string) bool {
	return i.settle(user, func(c *code) { c.confirmed = true })
}

// Deny is a person who says no.
func (i *issuer) Deny(user string) bool { return i.settle(user, func(c *code) { c.denied = true }) }

// DenyAny denies whatever sign-in waits.
func (i *issuer) DenyAny() bool { return i.settle("", func(c *code) { c.denied = true }) }

// ConfirmAny confirms whatever sign-in waits.
func (i *issuer) ConfirmAny() bool { return i.settle("", func(c *code) { c.confirmed = true }) }

func (i *issuer) settle(user string, do func(*code)) (known bool) {
	i.from.mu.Lock()
	defer i.from.mu.Unlock()
	for _, c := range i.codes {
		if user == "" || c.user == user {
			do(c)
			known = true
		}
	}
	return known
}

// Grant returns an access token without a sign-in, as a machine of the provider has one.
func (i *issuer) Grant() string {
	i.from.mu.Lock()
	defer i.from.mu.Unlock()
	token := "at-" + rand.Text()
	i.access[token] = &grant{until: time.Now().Add(i.from.TokenFor)}
	return token
}

// SlowDown answers the next questions about a code with slow_down.
func (i *issuer) SlowDown(times int) {
	i.from.mu.Lock()
	defer i.from.mu.Unlock()
	i.slow = times
}

// EndTokens revokes every access token; refresh tokens stay valid.
func (i *issuer) EndTokens() {
	i.from.mu.Lock()
	defer i.from.mu.Unlock()
	clear(i.access)
}

// EndSignIns ends all sign-ins.
func (i *issuer) EndSignIns() {
	i.from.mu.Lock()
	defer i.from.mu.Unlock()
	clear(i.access)
	clear(i.fresh)
}

// Tokens are all tokens that are valid.
func (i *issuer) Tokens() (all []string) {
	i.from.mu.Lock()
	defer i.from.mu.Unlock()
	for t := range i.access {
		all = append(all, t)
	}
	for t := range i.fresh {
		all = append(all, t)
	}
	return all
}

// valid reports whether a token is.
func (i *issuer) valid(token string) bool {
	g := i.access[token]
	return g != nil && time.Now().Before(g.until)
}

func reply(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(body)
}

func refuse(w http.ResponseWriter, word string) {
	reply(w, http.StatusBadRequest, map[string]string{"error": word})
}

// metadata is RFC 8414's.
func (i *issuer) metadata(w http.ResponseWriter) {
	p := i.from
	if p.has(NoMetadata) {
		http.NotFound(w, nil)
		return
	}
	m := map[string]any{
		"issuer":                                p.URL(),
		"token_endpoint":                        p.URL() + "/token",
		"device_authorization_endpoint":         p.URL() + "/device",
		"response_types_supported":              []string{},
		"token_endpoint_auth_methods_supported": []string{"none", "client_secret_basic"},
	}
	if !p.NoRevoke {
		m["revocation_endpoint"] = p.URL() + "/revoke"
	}
	if !p.NoPKCE {
		m["code_challenge_methods_supported"] = []string{"S256"}
	}
	if p.has(OtherIssuer) {
		m["issuer"] = "https://elsewhere.saltmarsh.example"
	}
	if p.has(OtherToken) {
		m["token_endpoint"] = "https://elsewhere.saltmarsh.example/token"
	}
	reply(w, http.StatusOK, m)
}

// consonants are letters that make no words (RFC 8628, section 6.1).
const consonants = "BCDFGHJKLMNPQRSTVWXZ"

// device begins a sign-in.
func (i *issuer) device(w http.ResponseWriter, r *http.Request) {
	p := i.from
	if r.FormValue("client_id") != Client {
		refuse(w, "invalid_client")
		return
	}
	raw := make([]byte, 8)
	rand.Read(raw)
	user := ""
	for at, b := range raw {
		if at == 4 {
			user += "-"
		}
		user += string(consonants[int(b)%len(consonants)])
	}
	c := &code{user: user, challenge: r.FormValue("code_challenge"), until: time.Now().Add(p.CodeFor)}
	device := rand.Text()
	i.codes[device] = c
	page := p.URL() + "/confirm"
	if p.has(PlainPage) {
		page = strings.Replace(page, "https:", "http:", 1)
	}
	if p.has(EscapeCode) {
		user = "\x1b]0;gone\x07" + user
	}
	reply(w, http.StatusOK, map[string]any{
		"device_code":               device,
		"user_code":                 user,
		"verification_uri":          page,
		"verification_uri_complete": page + "?code=" + c.user,
		"expires_in":                int(p.CodeFor / time.Second),
		"interval":                  p.Interval,
	})
}

// token gives tokens.
func (i *issuer) token(w http.ResponseWriter, r *http.Request) {
	p := i.from
	if p.has(RedirectIssuer) {
		http.Redirect(w, r, "https://elsewhere.saltmarsh.example/token", http.StatusTemporaryRedirect)
		return
	}
	if p.has(TokenInError) {
		reply(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant",
			"error_description": "not this one: " + r.FormValue("refresh_token") + r.FormValue("device_code")})
		return
	}
	id, secret, basic := r.BasicAuth()
	if r.FormValue("grant_type") == "client_credentials" {
		if !basic || id != Job || secret != JobSecret {
			refuse(w, "invalid_client")
			return
		}
		i.grant(w, false)
		return
	}
	if r.FormValue("client_id") != Client {
		refuse(w, "invalid_client")
		return
	}
	switch r.FormValue("grant_type") {
	case "refresh_token":
		g := i.fresh[r.FormValue("refresh_token")]
		if g == nil {
			refuse(w, "invalid_grant")
			return
		}
		delete(i.fresh, r.FormValue("refresh_token")) // one that was used is worth nothing
		i.Refreshes++
		i.grant(w, true)
	case "urn:ietf:params:oauth:grant-type:device_code":
		i.deviceToken(w, r)
	default:
		refuse(w, "unsupported_grant_type")
	}
}

// deviceToken returns the tokens for a confirmed code (RFC 8628, section 3.5).
func (i *issuer) deviceToken(w http.ResponseWriter, r *http.Request) {
	c := i.codes[r.FormValue("device_code")]
	sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	switch {
	case c == nil:
		refuse(w, "invalid_grant")
	case time.Now().After(c.until):
		refuse(w, "expired_token")
	case c.challenge != "" && base64.RawURLEncoding.EncodeToString(sum[:]) != c.challenge:
		refuse(w, "invalid_grant")
	case i.slow > 0:
		i.slow--
		refuse(w, "slow_down")
	case time.Since(c.asked) < time.Duration(i.from.Interval)*time.Second*8/10:
		refuse(w, "slow_down")
	case c.denied:
		refuse(w, "access_denied")
	case !c.confirmed:
		c.asked = time.Now()
		refuse(w, "authorization_pending")
	default:
		delete(i.codes, r.FormValue("device_code"))
		i.grant(w, true)
	}
}

// grant returns an access token, and for a person a refresh token.
func (i *issuer) grant(w http.ResponseWriter, refresh bool) {
	life := i.from.TokenFor
	token := "at-" + rand.Text()
	i.access[token] = &grant{until: time.Now().Add(life)}
	body := map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": int(life / time.Second)}
	if refresh {
		again := "rt-" + rand.Text()
		i.fresh[again] = &grant{}
		body["refresh_token"] = again
	}
	reply(w, http.StatusOK, body)
}

// revoke takes a token back (RFC 7009).
func (i *issuer) revoke(w http.ResponseWriter, r *http.Request) {
	delete(i.access, r.FormValue("token"))
	delete(i.fresh, r.FormValue("token"))
	w.WriteHeader(http.StatusOK)
}

// confirmPage is the page that a person sees in a browser.
func (i *issuer) confirmPage(w http.ResponseWriter, r *http.Request) {
	fmt.Fprintf(w, "Compare the code: %s\n", r.FormValue("code"))
}
