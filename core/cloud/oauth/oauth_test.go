package oauth

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/cloud/https"
	"gentleharbor/core/secret"
)

// scripted is an OAuth 2.0 server that answers as a test says.
type scripted struct {
	*httptest.Server
	t      *testing.T
	client *https.Client
	meta   map[string]any
	say    map[string]func(form url.Values, r *http.Request) (status int, body string) // by path
	asked  []string
}

func script(t *testing.T) *scripted {
	t.Helper()
	s := &scripted{t: t, say: make(map[string]func(url.Values, *http.Request) (int, string))}
	s.Server = httptest.NewTLSServer(http.HandlerFunc(s.serve))
	t.Cleanup(s.Close)
	var err error
	root := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw})
	if s.client, err = https.New((&net.Dialer{}).DialContext, root, s.URL); err != nil {
		t.Fatal(err)
	}
	s.meta = map[string]any{"issuer": s.URL, "token_endpoint": s.URL + "/token", "device_authorization_endpoint": s.URL + "/device",
		"revocation_endpoint": s.URL + "/revoke", "code_challenge_methods_supported": []string{"S256"},
		"token_endpoint_auth_methods_supported": []string{"none", "client_secret_basic"}}
	return s
}

func (s *scripted) serve(w http.ResponseWriter, r *http.Request) {
	s.asked = append(s.asked, r.URL.Path)
	if say := s.say[r.URL.Path]; say != nil {
		r.ParseForm()
		status, body := say(r.Form, r)
		if body == "away" {
			w.Header().Set("Location", "https://elsewhere.example/")
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		w.Write([]byte(body))
		return
	}
	if r.URL.Path == "/.well-known/oauth-authorization-server" && s.meta != nil {
		json.NewEncoder(w).Encode(s.meta)
		return
	}
	http.NotFound(w, r)
}

func (s *scripted) discovered() *Server {
	s.t.Helper()
	server, err := Discover(s.t.Context(), s.client, s.URL)
	if err != nil {
		s.t.Fatal(err)
	}
	return server
}

func kindOf(err error) string {
	var e *Error
	if !errors.As(err, &e) {
		return fmt.Sprint(err)
	}
	return map[Kind]string{Unreachable: "unreachable", Broken: "broken", Denied: "denied", Expired: "expired", Refused: "refused", TooMany: "too many"}[e.Kind]
}

// TestDiscover: metadata count where they are the issuer's own, and lead nowhere else.
func TestDiscover(t *testing.T) {
	for name, c := range map[string]struct {
		change func(s *scripted)
		want   string // "" for good
	}{
		"good":           {func(*scripted) {}, ""},
		"another issuer": {func(s *scripted) { s.meta["issuer"] = "https://elsewhere.example" }, "broken"},
		"a slash more":   {func(s *scripted) { s.meta["issuer"] = s.URL + "/" }, "broken"},
		"a token's host": {func(s *scripted) { s.meta["token_endpoint"] = "https://elsewhere.example/t" }, "broken"},
		"a plain endpoint": {func(s *scripted) {
			s.meta["device_authorization_endpoint"] = strings.Replace(s.URL, "https", "http", 1)
		}, "broken"},
		"a revocation": {func(s *scripted) { s.meta["revocation_endpoint"] = "https://elsewhere.example/t" }, "broken"},
		"no token":     {func(s *scripted) { delete(s.meta, "token_endpoint") }, "broken"},
		"none":         {func(s *scripted) { s.meta = nil }, "broken"},
		"no JSON":      {func(s *scripted) { s.answer("/.well-known/oauth-authorization-server", 200, "knot") }, "broken"},
		"500":          {func(s *scripted) { s.answer("/.well-known/oauth-authorization-server", 500, "") }, "unreachable"},
		"429":          {func(s *scripted) { s.answer("/.well-known/oauth-authorization-server", 429, "") }, "too many"},
		"a redirect":   {func(s *scripted) { s.answer("/.well-known/oauth-authorization-server", 302, "away") }, "broken"},
		"OpenID Connect": {func(s *scripted) {
			data, _ := json.Marshal(s.meta)
			s.meta = nil
			s.answer("/.well-known/openid-configuration", 200, string(data))
		}, ""},
	} {
		s := script(t)
		c.change(s)
		_, err := Discover(t.Context(), s.client, s.URL)
		if got := kindOf(err); err == nil && c.want != "" || err != nil && got != c.want {
			t.Errorf("%s: %s, want %q (%v)", name, got, c.want, err)
		}
	}
	if got := metadataURLs("https://a.example/tenant/"); got[0] != "https://a.example/.well-known/oauth-authorization-server/tenant" || got[1] != "https://a.example/tenant/.well-known/openid-configuration" {
		t.Errorf("%q", got)
	}
}

// answer has a path answered in one way.
func (s *scripted) answer(path string, status int, body string) {
	s.say[path] = func(url.Values, *http.Request) (int, string) { return status, body }
}

const begun = `{"device_code":"dc-knot","user_code":"WDJB-MJHT","verification_uri":"https://a.example/go","expires_in":600,"interval":1}`

// TestBegin: a code is shown only where a person can compare it, and its page opened safely.
func TestBegin(t *testing.T) {
	with := func(old, new string) string { return strings.Replace(begun, old, new, 1) }
	for name, c := range map[string]struct{ body, want string }{
		"good":       {begun, ""},
		"no code":    {with("dc-knot", ""), "broken"},
		"escapes":    {with("WDJB", "\\u001b]0;"), "broken"},
		"long":       {with("WDJB", strings.Repeat("W", 60)), "broken"},
		"plain page": {with("https:", "http:"), "broken"},
		"script":     {with("https://a.example/go", "javascript:alert(1)"), "broken"},
		"odd page":   {with("/go", "/\\u202ego"), "broken"},
		"complete":   {with(`"interval"`, `"verification_uri_complete":"file:///etc","interval"`), "broken"},
		"no end":     {with(`"expires_in":600,`, ""), "broken"},
		"no JSON":    {"knot", "broken"},
	} {
		s := script(t)
		s.answer("/device", 200, c.body)
		_, err := s.discovered().Begin(t.Context(), Client{ID: "gharbor"})
		if got := kindOf(err); err == nil && c.want != "" || err != nil && got != c.want {
			t.Errorf("%s: %s (%v)", name, got, err)
		}
	}
	s := script(t)
	delete(s.meta, "device_authorization_endpoint")
	if _, err := s.discovered().Begin(t.Context(), Client{}); kindOf(err) != "broken" {
		t.Errorf("no device sign-in: %v", err)
	}
	s = script(t)
	s.answer("/device", 200, with("600", "99999999"))
	d, err := s.discovered().Begin(t.Context(), Client{ID: "gharbor", Scopes: []string{"a", "b"}})
	if err != nil || time.Until(d.Until) > longestSignIn {
		t.Errorf("%v, until %v", err, d)
	}
}

// TestWait: the server is asked until the code is confirmed, with the proof of who began.
func TestWait(t *testing.T) {
	t.Parallel()
	s := script(t)
	challenge := ""
	s.say["/device"] = func(form url.Values, _ *http.Request) (int, string) {
		if challenge = form.Get("code_challenge"); form.Get("code_challenge_method") != "S256" || form.Get("scope") != "a b" || form.Get("client_id") != "gharbor" {
			t.Errorf("%v", form)
		}
		return 200, begun
	}
	tries := 0
	s.say["/token"] = func(form url.Values, _ *http.Request) (int, string) {
		tries++
		sum := sha256.Sum256([]byte(form.Get("code_verifier")))
		if base64.RawURLEncoding.EncodeToString(sum[:]) != challenge || form.Get("device_code") != "dc-knot" {
			t.Errorf("%v", form)
		}
		switch tries {
		case 1:
			return 400, `{"error":"authorization_pending"}`
		case 2:
			return 503, ""
		}
		return 200, `{"access_token":"at-knot","refresh_token":"rt-knot","token_type":"bearer","expires_in":60,"scope":"a"}`
	}
	d, err := s.discovered().Begin(t.Context(), Client{ID: "gharbor", Scopes: []string{"a", "b"}})
	if err != nil {
		t.Fatal(err)
	}
	token, err := d.Wait(t.Context())
	if err != nil || token.Access.Disclose() != "at-knot" || token.Refresh.Disclose() != "rt-knot" || len(token.Scopes) != 1 || time.Until(token.Until) > time.Minute {
		t.Errorf("%+v %v", token, err)
	}
}

// TestEnds: how a sign-in ends that gives no token, and nothing of what was sent is repeated.
func TestEnds(t *testing.T) {
	t.Parallel()
	for body, want := range map[string]string{
		`{"error":"access_denied"}`: "denied", `{"error":"expired_token"}`: "expired", `{"error":"invalid_grant","error_description":"dc-knot"}`: "expired",
		`{"error":"invalid_client"}`: "refused", `{"error":"knot-knot"}`: "broken", "knot": "broken",
		`{"access_token":"a","token_type":"mac"}`: "broken", `{"access_token":"a b","token_type":"Bearer"}`: "broken",
		`{"access_token":"` + strings.Repeat("a", maxToken+1) + `","token_type":"Bearer"}`: "broken",
	} {
		t.Run(want, func(t *testing.T) {
			t.Parallel()
			s := script(t)
			s.answer("/device", 200, begun)
			status := 400
			if strings.Contains(body, "access_token") {
				status = 200
			}
			s.answer("/token", status, body)
			d, err := s.discovered().Begin(t.Context(), Client{ID: "gharbor"})
			if err != nil {
				t.Fatal(err)
			}
			_, err = d.Wait(t.Context())
			if kindOf(err) != want || strings.Contains(err.Error(), "knot") {
				t.Errorf("%s: %s (%v)", body[:min(len(body), 60)], kindOf(err), err)
			}
		})
	}
	s := script(t)
	s.answer("/device", 200, strings.Replace(begun, "600", "1", 1))
	s.answer("/token", 400, `{"error":"authorization_pending"}`)
	d, err := s.discovered().Begin(t.Context(), Client{ID: "gharbor"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := d.Wait(t.Context()); kindOf(err) != "expired" {
		t.Errorf("nobody confirms: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := d.Wait(ctx); !errors.Is(err, context.Canceled) {
		t.Errorf("Ctrl-C: %v", err)
	}
}

// TestTokens: tokens are refreshed, got for a client of its own, and taken back; a client's secret is sent in one way.
func TestTokens(t *testing.T) {
	s := script(t)
	good := `{"access_token":"at","token_type":"Bearer","expires_in":60}`
	s.say["/token"] = func(form url.Values, r *http.Request) (int, string) {
		id, secret, basic := r.BasicAuth()
		switch form.Get("grant_type") {
		case "refresh_token":
			if form.Get("refresh_token") != "rt-1" || form.Get("client_id") != "gharbor" || basic {
				return 400, `{"error":"invalid_grant"}`
			}
			return 200, strings.Replace(good, "{", `{"refresh_token":"rt-2",`, 1)
		case "client_credentials":
			if !basic || id != "job" || secret != "knot" || form.Get("client_secret") != "" {
				return 401, `{"error":"invalid_client"}`
			}
			return 200, good
		}
		return 400, `{"error":"unsupported_grant_type"}`
	}
	server := s.discovered()
	token, err := server.Refresh(t.Context(), Client{ID: "gharbor", Scopes: []string{"a"}}, secret.NewValue("rt-1"))
	if err != nil || token.Refresh.Disclose() != "rt-2" {
		t.Errorf("%+v %v", token, err)
	}
	if _, err := server.Refresh(t.Context(), Client{ID: "gharbor"}, secret.NewValue("rt-0")); kindOf(err) != "expired" {
		t.Errorf("%v", err)
	}
	job := Client{ID: "job", Secret: secret.NewValue("knot")}
	if token, err = server.ForClient(t.Context(), job); err != nil || token.Refresh.Present() {
		t.Errorf("%+v %v", token, err)
	}
	job.Secret = secret.NewValue("wrong")
	before := len(s.asked)
	if _, err := server.ForClient(t.Context(), job); kindOf(err) != "refused" || len(s.asked) != before+1 {
		t.Errorf("%v, asked %d times", err, len(s.asked)-before)
	}
	s.say["/revoke"] = func(form url.Values, _ *http.Request) (int, string) {
		if form.Get("token") != "rt-2" || form.Get("token_type_hint") != "refresh_token" || form.Get("client_id") != "gharbor" {
			return 400, ""
		}
		return 200, ""
	}
	if !server.Revokes() {
		t.Error("it takes tokens back")
	}
	if err := server.Revoke(t.Context(), Client{ID: "gharbor"}, secret.NewValue("rt-2"), "refresh_token"); err != nil {
		t.Error(err)
	}
	if err := server.Revoke(t.Context(), Client{ID: "gharbor"}, secret.NewValue("x"), "refresh_token"); kindOf(err) != "broken" {
		t.Errorf("%v", err)
	}
	s.answer("/token", 307, "away")
	if _, err := server.ForClient(t.Context(), job); kindOf(err) != "broken" {
		t.Errorf("a redirect: %v", err)
	}
	s.Close()
	if _, err := server.ForClient(t.Context(), job); kindOf(err) != "unreachable" {
		t.Errorf("gone: %v", err)
	}
	if err := server.Revoke(t.Context(), job, secret.NewValue("x"), "access_token"); kindOf(err) != "unreachable" {
		t.Errorf("gone: %v", err)
	}
}
