// Package oauth signs in at an OAuth 2.0 server: it reads the server's metadata (RFC 8414), asks for a code that a
// person confirms in a browser (RFC 8628), refreshes tokens, gets one for a client of its own (RFC 6749, section 4.4)
// and takes tokens back (RFC 7009). The exchanges themselves are golang.org/x/oauth2's; what a server may say, and
// where it may be asked, is judged here. Package cloud keeps what it gives. Start with Discover.
package oauth

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"gentleharbor/core/clean"
	"gentleharbor/core/cloud/https"
	"gentleharbor/core/secret"
)

// maxToken bounds a token, in bytes: those that carry their claims have some 2 KiB, and a header of 16 KiB is what most
// servers take.
const maxToken = 16 << 10

// Server is an OAuth 2.0 server as its metadata describes it.
type Server struct {
	Issuer string
	PKCE   bool // it knows code challenges by S256 (RFC 7636)

	token, device, revocation string // URLs; "" for what it does not have
	methods                   []string
	client                    *https.Client
}

// metadata is what is read of RFC 8414, section 2.
type metadata struct {
	Issuer     string   `json:"issuer"`
	Token      string   `json:"token_endpoint"`
	Device     string   `json:"device_authorization_endpoint"` // RFC 8628, section 4
	Revocation string   `json:"revocation_endpoint"`
	Challenges []string `json:"code_challenge_methods_supported"`
	Methods    []string `json:"token_endpoint_auth_methods_supported"`
}

// Discover reads the metadata of an issuer. They are refused unless they name this issuer (RFC 8414, section 3.3) and
// endpoints at the issuer's own host: no token goes to a host that is not written in the account.
func Discover(ctx context.Context, client *https.Client, issuer string) (*Server, error) {
	var m metadata
	var err error
	for _, at := range metadataURLs(issuer) {
		if m, err = readMetadata(ctx, client, at); !errors.Is(err, errNone) {
			break
		}
	}
	if err != nil {
		return nil, err
	}
	if m.Issuer != issuer {
		return nil, brokenAnswer("its metadata are those of another issuer: %s", clean.Quote(clean.Line(m.Issuer, 200)))
	}
	own, err := https.Origin(issuer)
	if err != nil {
		return nil, brokenAnswer("the issuer is no https URL")
	}
	for what, endpoint := range map[string]string{"token": m.Token, "device authorisation": m.Device,
		"revocation": m.Revocation} {
		if endpoint == "" {
			continue
		}
		if at, err := https.Origin(endpoint); err != nil || at != own {
			return nil, brokenAnswer("its %s endpoint is not at the issuer's own host: %s", what,
				clean.Quote(clean.Line(endpoint, 200)))
		}
	}
	if m.Token == "" {
		return nil, brokenAnswer("its metadata name no token endpoint")
	}
	return &Server{
		Issuer:     issuer,
		PKCE:       slices.Contains(m.Challenges, "S256"),
		token:      m.Token,
		device:     m.Device,
		revocation: m.Revocation,
		methods:    m.Methods,
		client:     client,
	}, nil
}

// metadataURLs are where an issuer's metadata may be: as RFC 8414, section 3.1 has it, then where a server of OpenID
// Connect has them (section 5).
func metadataURLs(issuer string) []string {
	u, err := url.Parse(issuer)
	if err != nil {
		return nil
	}
	path := strings.TrimSuffix(u.EscapedPath(), "/")
	at := u.Scheme + "://" + u.Host
	return []string{
		at + "/.well-known/oauth-authorization-server" + path,
		at + path + "/.well-known/openid-configuration",
	}
}

// errNone says that a URL has no metadata.
var errNone = errors.New("no metadata")

func readMetadata(ctx context.Context, client *https.Client, at string) (m metadata, err error) {
	request, err := http.NewRequest(http.MethodGet, at, nil)
	if err != nil {
		return m, brokenAnswer("its URL can't be asked")
	}
	request.Header.Set("Accept", "application/json")
	answer, err := client.Do(ctx, request)
	switch {
	case err != nil:
		return m, &Error{Kind: Unreachable, Text: https.Reason(err), err: err}
	case answer.Status == http.StatusNotFound:
		return m, fmt.Errorf("%w", &Error{Kind: Broken, Text: "it has no metadata (RFC 8414)", err: errNone})
	case answer.Status == http.StatusTooManyRequests:
		return m, &Error{Kind: TooMany, Text: "it answers 429"}
	case answer.Status >= 500:
		return m, &Error{Kind: Unreachable, Text: fmt.Sprintf("it answers %d", answer.Status)}
	case answer.Status != http.StatusOK:
		return m, brokenAnswer("its metadata can't be read: it answers %d", answer.Status)
	case json.Unmarshal(answer.Body, &m) != nil:
		return m, brokenAnswer("its metadata are no JSON object")
	}
	return m, nil
}

// Client is the client that signs in, as the account names it.
type Client struct {
	ID     string
	Secret secret.Value // none for a program on people's machines
	Scopes []string
}

// config is the client in the library's form.
func (s *Server) config(c Client) *oauth2.Config {
	return &oauth2.Config{
		ClientID:     c.ID,
		ClientSecret: c.Secret.Disclose(),
		Scopes:       c.Scopes,
		Endpoint:     oauth2.Endpoint{TokenURL: s.token, DeviceAuthURL: s.device, AuthStyle: s.style(c)},
	}
}

// style is how the client sends its secret: by client_secret_basic where the server names that or no method (RFC
// 8414), else in the body. No second method is tried, so a secret is sent in one way only.
func (s *Server) style(c Client) oauth2.AuthStyle {
	basic := len(s.methods) == 0 || slices.Contains(s.methods, "client_secret_basic")
	if c.Secret.Present() && basic {
		return oauth2.AuthStyleInHeader
	}
	return oauth2.AuthStyleInParams
}

// clientContext is a context that makes the library use our HTTP client.
func (s *Server) clientContext(ctx context.Context) context.Context {
	return context.WithValue(ctx, oauth2.HTTPClient, s.client.For(ctx))
}

// Token is what a sign-in gives.
type Token struct {
	Access  secret.Value
	Refresh secret.Value // none where the server gives none
	Until   time.Time    // of Access; zero where the server did not say
	Scopes  []string     // granted, where the server says others than were asked for
}

// tokenOf checks a token that a server gave.
func tokenOf(t *oauth2.Token) (*Token, error) {
	if !strings.EqualFold(t.Type(), "Bearer") {
		return nil, brokenAnswer("it gives tokens of another kind than Bearer")
	}
	for _, text := range []string{t.AccessToken, t.RefreshToken} {
		if len(text) > maxToken || strings.IndexFunc(text, func(r rune) bool { return r <= ' ' || r > '~' }) >= 0 {
			return nil, brokenAnswer("it gave a token that is too long, or has characters that no token has (RFC 6750)")
		}
	}
	token := &Token{Access: secret.NewValue(t.AccessToken), Until: t.Expiry}
	if t.RefreshToken != "" {
		token.Refresh = secret.NewValue(t.RefreshToken)
	}
	if scope, ok := t.Extra("scope").(string); ok {
		token.Scopes = strings.Fields(clean.Line(scope, 1000))
	}
	return token, nil
}

// Refresh gets a new token for a refresh token.
func (s *Server) Refresh(ctx context.Context, c Client, refresh secret.Value) (*Token, error) {
	c.Scopes = nil // those of the sign-in stay (RFC 6749, section 6)
	got, err := s.config(c).TokenSource(s.clientContext(ctx), &oauth2.Token{RefreshToken: refresh.Disclose()}).Token()
	if err != nil {
		return nil, explainError(ctx, err)
	}
	return tokenOf(got)
}

// ForClient gets a token for a client that has a secret and acts for itself, as a job does.
func (s *Server) ForClient(ctx context.Context, c Client) (*Token, error) {
	config := clientcredentials.Config{
		ClientID:     c.ID,
		ClientSecret: c.Secret.Disclose(),
		TokenURL:     s.token,
		Scopes:       c.Scopes,
		AuthStyle:    s.style(c),
	}
	got, err := config.TokenSource(s.clientContext(ctx)).Token()
	if err != nil {
		return nil, explainError(ctx, err)
	}
	return tokenOf(got)
}

// Revokes reports whether the server takes tokens back.
func (s *Server) Revokes() bool { return s.revocation != "" }

// Revoke takes a token back. hint is "access_token" or "refresh_token".
func (s *Server) Revoke(ctx context.Context, c Client, token secret.Value, hint string) error {
	form := url.Values{"token": {token.Disclose()}, "token_type_hint": {hint}}
	style := s.style(c)
	if style == oauth2.AuthStyleInParams {
		form.Set("client_id", c.ID)
		if c.Secret.Present() {
			form.Set("client_secret", c.Secret.Disclose())
		}
	}
	request, err := http.NewRequest(http.MethodPost, s.revocation, strings.NewReader(form.Encode()))
	if err != nil {
		return brokenAnswer("its URL can't be asked")
	}
	request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if style == oauth2.AuthStyleInHeader {
		request.SetBasicAuth(url.QueryEscape(c.ID), url.QueryEscape(c.Secret.Disclose()))
	}
	answer, err := s.client.Do(ctx, request)
	switch {
	case err != nil:
		return &Error{Kind: Unreachable, Text: https.Reason(err), err: err}
	case answer.Status != http.StatusOK: // also for a token that is not valid (RFC 7009, section 2.2)
		return &Error{Kind: Broken, Text: fmt.Sprintf("it answers %d", answer.Status)}
	}
	return nil
}
