package oauth

import (
	"context"
	"errors"
	"time"

	"golang.org/x/oauth2"

	"gentleharbor/core/clean"
	"gentleharbor/core/cloud/https"
)

// The bounds of a sign-in.
const (
	longestSignIn = 30 * time.Minute // a code that is older is nobody's any more
	longestPause  = time.Minute      // between two questions whether the code was confirmed
	longestCode   = 40               // characters that a person compares and types
)

// Device is a sign-in that waits for a person, who opens a page and confirms the code there.
type Device struct {
	Code     string // to compare, or to type
	Page     string // https URL of the page
	Complete string // the same with the code in it, "" where the server gives none
	Until    time.Time

	server   *Server
	client   Client
	answer   *oauth2.DeviceAuthResponse
	verifier string
}

// Begin asks for a code (RFC 8628, section 3.1).
func (s *Server) Begin(ctx context.Context, c Client) (*Device, error) {
	if s.device == "" {
		return nil, brokenAnswer("it has no device sign-in (RFC 8628)")
	}
	d := &Device{server: s, client: c}
	var options []oauth2.AuthCodeOption
	if s.PKCE {
		d.verifier = oauth2.GenerateVerifier()
		options = append(options, oauth2.S256ChallengeOption(d.verifier))
	}
	var err error
	if d.answer, err = s.config(c).DeviceAuth(s.clientContext(ctx), options...); err != nil {
		return nil, explainError(ctx, err)
	}
	a := d.answer
	d.Code, d.Page, d.Complete = a.UserCode, a.VerificationURI, a.VerificationURIComplete
	switch {
	case a.DeviceCode == "" || len(a.DeviceCode) > maxToken:
		return nil, brokenAnswer("it gave no usable device code")
	case d.Code == "" || len(d.Code) > longestCode || !visible(d.Code):
		return nil, brokenAnswer("it gave no code that a person can compare")
	case !page(d.Page):
		return nil, brokenAnswer("the page of its sign-in is no https URL")
	case d.Complete != "" && !page(d.Complete):
		return nil, brokenAnswer("the page of its sign-in is no https URL")
	case a.Expiry.IsZero():
		return nil, brokenAnswer("it does not say how long its code is valid")
	}
	if most := time.Now().Add(longestSignIn); a.Expiry.After(most) {
		a.Expiry = most
	}
	a.Interval = min(a.Interval, int64(longestPause/time.Second))
	d.Until = a.Expiry
	return d, nil
}

// page reports whether a URL may be shown for a person to open: https, and nothing in it that a terminal or a shell
// acts on.
func page(text string) bool {
	_, err := https.Origin(text)
	return err == nil && len(text) <= 2000 && visible(text) && clean.Line(text, 0) == text
}

// visible reports whether a text has visible characters of ASCII alone.
func visible(s string) bool {
	for _, r := range s {
		if r < ' ' || r > '~' {
			return false
		}
	}
	return true
}

// Wait asks whether the code was confirmed, at the interval that the server sets (RFC 8628, sections 3.4 and 3.5),
// until there is an answer. It asks less often after slow_down and after a failed connection.
func (d *Device) Wait(ctx context.Context) (*Token, error) {
	var options []oauth2.AuthCodeOption
	if d.verifier != "" {
		options = append(options, oauth2.VerifierOption(d.verifier))
	}
	config := d.server.config(d.client)
	config.Scopes = nil // those of the code count
	for {
		got, err := config.DeviceAccessToken(d.server.clientContext(ctx), d.answer, options...)
		if err == nil {
			return tokenOf(got)
		}
		var said *oauth2.RetrieveError
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case !time.Now().Before(d.Until):
			return nil, &Error{Kind: Expired, Text: "nobody confirmed the code in time"}
		case errors.As(err, &said) && said.Response.StatusCode < 500 && said.ErrorCode != "temporarily_unavailable":
			return nil, explainError(ctx, err)
		case https.Certificate(err) || errors.Is(err, https.ErrElsewhere):
			return nil, explainError(ctx, err)
		}
		d.answer.Interval = min(max(2*d.answer.Interval, 1), int64(longestPause/time.Second))
	}
}
