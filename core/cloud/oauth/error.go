package oauth

import (
	"context"
	"errors"
	"fmt"

	"golang.org/x/oauth2"

	"gentleharbor/core/cloud/https"
)

// Kind says why a request got no token.
type Kind int

// The kinds of error.
const (
	Unreachable Kind = iota // no answer, or one that says to come again
	Broken                  // an answer that is not as the standards have it
	Denied                  // a person, or the server for them, said no
	Expired                 // the code, or the sign-in that a token is from, has ended
	Refused                 // the server does not accept this client, or what it asks for
	TooMany                 // too many requests
)

// Error says why there is no token. It repeats no text of the server's, which may have a token or a code in it.
type Error struct {
	Kind Kind
	Text string

	err error
}

func (e *Error) Error() string { return e.Text }

// Unwrap is the error below it, nil for none.
func (e *Error) Unwrap() error { return e.err }

func brokenAnswer(text string, args ...any) error {
	return &Error{Kind: Broken, Text: fmt.Sprintf(text, args...)}
}

// said has the meaning of the error codes of RFC 6749, section 5.2 and RFC 8628, section 3.5.
var said = map[string]Error{
	"access_denied":           {Kind: Denied, Text: "the sign-in was refused on its page"},
	"expired_token":           {Kind: Expired, Text: "nobody confirmed the code in time"},
	"invalid_grant":           {Kind: Expired, Text: "it does not accept the sign-in any more"},
	"invalid_client":          {Kind: Refused, Text: "it does not know this client, or the client's secret is wrong"},
	"unauthorized_client":     {Kind: Refused, Text: "this client may not sign in in this way"},
	"unsupported_grant_type":  {Kind: Refused, Text: "it does not know this way to sign in"},
	"invalid_scope":           {Kind: Refused, Text: "it does not know one of the scopes, or does not grant it"},
	"invalid_request":         {Kind: Refused, Text: "it does not accept the request (invalid_request)"},
	"slow_down":               {Kind: TooMany, Text: "it wants fewer requests"},
	"temporarily_unavailable": {Kind: Unreachable, Text: "it is not available for the moment"},
}

// explainError makes an Error of the library's.
func explainError(ctx context.Context, err error) error {
	var answer *oauth2.RetrieveError
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if errors.Is(err, https.ErrElsewhere) {
		return &Error{Kind: Broken, Text: https.ErrElsewhere.Error(), err: err}
	}
	if !errors.As(err, &answer) {
		if isRead(err) {
			return &Error{Kind: Broken, Text: "its answer is not as RFC 6749 has it"}
		}
		return &Error{Kind: Unreachable, Text: https.Reason(err), err: err}
	}
	if known, ok := said[answer.ErrorCode]; ok {
		return &known
	}
	switch status := answer.Response.StatusCode; {
	case status == 429:
		return &Error{Kind: TooMany, Text: "it answers 429"}
	case status >= 500:
		return &Error{Kind: Unreachable, Text: fmt.Sprintf("it answers %d", status)}
	case status >= 300 && status < 400:
		return &Error{Kind: Broken, Text: fmt.Sprintf("it answers %d, and redirects are not followed", status)}
	default:
		return &Error{Kind: Broken, Text: fmt.Sprintf("it answers %d, without an error that OAuth 2.0 knows", status)}
	}
}

// isRead reports whether an error is about an answer that came and can't be read: the library has no type for it.
func isRead(err error) bool {
	var network interface{ Timeout() bool }
	return !errors.As(err, &network) && !https.Certificate(err)
}
