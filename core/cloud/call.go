package cloud

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/cloud/https"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/program"
	"gentleharbor/core/secret"
)

// reply is the answer to one request, from a service or a program.
type reply struct {
	status int
	body   []byte
	next   string        // the path and query of the next page, below the service's URL; "" for none
	after  time.Duration // when to ask again, 0 where the service does not say
}

// unreachedError is a request that got no answer.
type unreachedError struct {
	what string // "the service", "the program"
	why  string
	err  error
}

func (e *unreachedError) Error() string { return e.what + ": " + e.why }
func (e *unreachedError) Unwrap() error { return e.err }

// brokenAnswer is an answer that does not follow the interface.
type brokenAnswer struct{ why string }

func (e *brokenAnswer) Error() string { return e.why }

// transport sends requests to the service of an account.
type transport interface {
	ask(ctx context.Context, token secret.Value, r wire.Request) (*reply, error)
}

// httpsTransport asks a service by its URL.
type httpsTransport struct {
	base   string
	client *https.Client
}

func (w *httpsTransport) ask(ctx context.Context, token secret.Value, r wire.Request) (*reply, error) {
	var body []byte
	var err error
	if r.Body != nil {
		if body, err = json.Marshal(r.Body); err != nil {
			return nil, err
		}
	}
	request, err := http.NewRequest(r.Method, strings.TrimSuffix(w.base, "/")+r.Path+query(r.Query), bytes.NewReader(body))
	if err != nil {
		return nil, &brokenAnswer{"its URL can't be asked"}
	}
	request.Header.Set("Accept", "application/json, application/problem+json")
	if r.Body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	if r.Key != "" {
		request.Header.Set("Idempotency-Key", r.Key)
	}
	if token.Present() {
		request.Header.Set("Authorization", "Bearer "+token.Disclose()) // RFC 6750, section 2.1
	}
	answer, err := w.client.Do(ctx, request)
	if err != nil {
		if ctx.Err() != nil && errors.Is(context.Cause(ctx), context.Canceled) {
			return nil, context.Canceled
		}
		return nil, &unreachedError{"the service", https.Reason(err), err}
	}
	next, err := w.next(answer.Header.Values("Link"))
	if err != nil {
		return nil, err
	}
	return &reply{
		status: answer.Status,
		body:   answer.Body,
		next:   next,
		after:  retryAfter(answer.Header.Get("Retry-After"), time.Now()),
	}, nil
}

// query is a URL's query.
func query(pairs [][2]string) string {
	if len(pairs) == 0 {
		return ""
	}
	var words []string
	for _, pair := range pairs {
		words = append(words, url.QueryEscape(pair[0])+"="+url.QueryEscape(pair[1]))
	}
	return "?" + strings.Join(words, "&")
}

// next is the page that a Link header names as the next (RFC 8288). It must be below the service's URL, as the token
// is sent there.
func (w *httpsTransport) next(links []string) (string, error) {
	for _, link := range links {
		for one := range strings.SplitSeq(link, ",") {
			target, parameters, _ := strings.Cut(strings.TrimSpace(one), ">")
			if !strings.HasPrefix(target, "<") || !isNext(parameters) {
				continue
			}
			base, err := url.Parse(strings.TrimSuffix(w.base, "/") + "/")
			if err != nil {
				return "", err
			}
			to, err := base.Parse(target[1:])
			if err != nil || to.Scheme != base.Scheme || to.Host != base.Host || to.User != nil ||
				!strings.HasPrefix(to.EscapedPath(), base.EscapedPath()) || strings.Contains(to.EscapedPath(), "..") {
				return "", &brokenAnswer{"it names a next page that is not below its own URL"}
			}
			return "/" + strings.TrimPrefix(to.EscapedPath(), base.EscapedPath()) + query(pairsOf(to.RawQuery)), nil
		}
	}
	return "", nil
}

// isNext reports whether the parameters of a link say that it is the next page.
func isNext(parameters string) bool {
	for parameter := range strings.SplitSeq(parameters, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(parameter), "=")
		if strings.EqualFold(name, "rel") && strings.Trim(value, `"`) == "next" {
			return true
		}
	}
	return false
}

func pairsOf(raw string) (pairs [][2]string) {
	for part := range strings.SplitSeq(raw, "&") {
		name, value, _ := strings.Cut(part, "=")
		n, nameErr := url.QueryUnescape(name)
		v, valueErr := url.QueryUnescape(value)
		if part != "" && nameErr == nil && valueErr == nil {
			pairs = append(pairs, [2]string{n, v})
		}
	}
	return pairs
}

// retryAfter reads the header of that name: seconds, or a date (RFC 9110, section 10.2.3).
func retryAfter(text string, now time.Time) time.Duration {
	if seconds, err := strconv.Atoi(text); err == nil && seconds > 0 {
		return time.Duration(min(seconds, 3600)) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil && at.After(now) {
		return min(at.Sub(now), time.Hour)
	}
	return 0
}

// programTransport asks a program: a request is a line on its standard input, the answer a line on its standard output.
type programTransport struct{ account *Account }

// requestLine is a request as a program reads it.
type requestLine struct {
	Format int    `json:"format"`
	Token  string `json:"token,omitempty"` // where the account signs in at an issuer
	wire.Request
}

// replyLine is an answer as a program writes it.
type replyLine struct {
	Status     int             `json:"status"`
	Body       json.RawMessage `json:"body"`
	Next       string          `json:"next"`        // the path of the next page, with its query
	RetryAfter int             `json:"retry_after"` // seconds
}

func (w *programTransport) ask(ctx context.Context, token secret.Value, r wire.Request) (*reply, error) {
	const what = "the program"
	words := w.account.Command
	path, err := program.Find(words[0])
	if err != nil {
		return nil, &unreachedError{what, program.Reason(err), err}
	}
	line, err := json.Marshal(requestLine{wire.Format, token.Disclose(), r})
	if err != nil {
		return nil, err
	}
	one := program.Program{Words: words, Input: append(line, '\n'), Most: wire.MaxBody + 4<<10}
	if w.account.project {
		one.Dir = filepath.Dir(w.account.File)
	}
	out := one.Run(ctx, path)
	said := ""
	if out.Said != "" { // it may repeat the token
		said = strings.ReplaceAll(out.Said, textOf(token), secret.Hidden)
		said = "; it said " + clean.Quote(clean.Line(said, 300))
	}
	switch {
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case out.Late:
		return nil, &unreachedError{what, fmt.Sprintf("it did not end within %s%s", program.Limit, said), nil}
	case out.Code != 0:
		return nil, &unreachedError{what, fmt.Sprintf("it ended with exit code %d%s", out.Code, said), nil}
	case out.Err != nil:
		return nil, &unreachedError{what, program.Reason(out.Err), out.Err}
	case out.Over:
		return nil, &brokenAnswer{fmt.Sprintf("its answer is larger than %d MiB", wire.MaxBody>>20)}
	}
	first, _, _ := bytes.Cut(out.Data, []byte("\n"))
	var answer replyLine
	if json.Unmarshal(first, &answer) != nil || answer.Status < 100 || answer.Status > 599 {
		return nil, &brokenAnswer{"the first line that it printed is no answer (a JSON object with a status)" + said}
	}
	if answer.Next != "" && (!strings.HasPrefix(answer.Next, "/") || strings.Contains(answer.Next, "..")) {
		return nil, &brokenAnswer{"its next page is no path"}
	}
	return &reply{
		status: answer.Status,
		body:   answer.Body,
		next:   answer.Next,
		after:  time.Duration(min(max(answer.RetryAfter, 0), 3600)) * time.Second,
	}, nil
}

// textOf is a secret's text to search for; for no secret, one that no answer can contain.
func textOf(v secret.Value) string {
	if v.Present() && !v.Empty() {
		return v.Disclose()
	}
	return "\x00"
}

// splitPath takes a path and its query apart.
func splitPath(text string) (path string, pairs [][2]string) {
	path, raw, _ := strings.Cut(text, "?")
	return path, pairsOf(raw)
}
