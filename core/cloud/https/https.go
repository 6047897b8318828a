// Package https is how an account's issuer and instance service are asked: over TLS alone, at the host that is written
// alone, within bounds of size and time. It follows no redirect, uses no proxy, keeps no cookie. It stands beneath
// oauth and cloud. Start with New.
package https

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"time"

	"gentleharbor/core/clean"
)

// The bounds of one request and its answer.
const (
	Limit      = 10 * time.Second // of the whole: a service that takes longer does not answer a person in time
	maxHeaders = 64 << 10
	maxAnswer  = 1<<20 + 1 // one more than package wire takes, so that it can say that an answer is too large
)

// Client asks one account's issuer and service. It may be used by several goroutines.
type Client struct {
	http  *http.Client
	allow map[string]bool // "host:port" that may be asked
}

// New makes a client. dial connects to host:port; pem are the authorities to trust, nil for the system's; urls are
// those that are written in the account: no other host is asked.
func New(dial func(ctx context.Context, network, address string) (net.Conn, error), pem []byte,
	urls ...string) (*Client, error) {
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if pem != nil {
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(pem) {
			return nil, errors.New("there is no PEM certificate in it")
		}
	}
	c := &Client{allow: make(map[string]bool)}
	for _, one := range urls {
		if at, err := Origin(one); err == nil {
			c.allow[at] = true
		}
	}
	transport := &http.Transport{
		DialContext:            dial,
		TLSClientConfig:        config,
		TLSHandshakeTimeout:    Limit,
		ForceAttemptHTTP2:      true,
		MaxResponseHeaderBytes: maxHeaders,
		DisableCompression:     true, // a small answer that unpacks to a huge one is not taken
		IdleConnTimeout:        30 * time.Second,
	}
	c.http = &http.Client{
		Transport:     transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return c, nil
}

// Origin is the host and port of an https URL.
func Origin(text string) (string, error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "https" || u.Hostname() == "" || u.User != nil {
		return "", errors.New("it is no https URL")
	}
	port := u.Port()
	if port == "" {
		port = "443"
	}
	return net.JoinHostPort(u.Hostname(), port), nil
}

// Answer is what came back.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// ErrElsewhere is a URL whose host is not one that is written in the account.
var ErrElsewhere = errors.New("it is at another host than the account has written, so it is not asked")

// Do sends a request and reads the whole answer.
func (c *Client) Do(ctx context.Context, request *http.Request) (*Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, Limit)
	defer cancel()
	response, err := c.boundClient(ctx).Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil {
		return nil, err
	}
	return &Answer{Status: response.StatusCode, Header: response.Header, Body: body}, nil
}

// For is the client for a library that makes requests by itself: each of them ends with ctx, and after Limit.
func (c *Client) For(ctx context.Context) *http.Client {
	client := c.boundClient(ctx)
	client.Timeout = Limit
	return client
}

// boundClient is the client with every request held to ctx, to the hosts that are written, and to a size.
func (c *Client) boundClient(ctx context.Context) *http.Client {
	one := *c.http
	one.Transport = boundTransport{ctx, c}
	return &one
}

// boundTransport sends requests within the bounds.
type boundTransport struct {
	ctx    context.Context
	client *Client
}

func (h boundTransport) RoundTrip(request *http.Request) (*http.Response, error) {
	at, err := Origin(request.URL.String())
	if err != nil {
		return nil, err
	}
	if !h.client.allow[at] {
		return nil, ErrElsewhere
	}
	ctx, cancel := context.WithCancelCause(request.Context())
	stop := context.AfterFunc(h.ctx, func() { cancel(context.Cause(h.ctx)) })
	request = request.Clone(ctx)
	request.Header.Set("User-Agent", "gharbor")
	response, err := h.client.http.Transport.RoundTrip(request)
	if err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		stop()
		cancel(nil)
		return nil, err
	}
	response.Body = &body{
		ctx:    ctx,
		in:     io.LimitReader(response.Body, maxAnswer),
		closer: response.Body,
		end:    func() { stop(); cancel(nil) },
	}
	return response, nil
}

// body is a bounded answer, whose request ends when it is closed.
type body struct {
	ctx    context.Context
	in     io.Reader
	closer io.Closer
	end    func()
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.in.Read(p)
	if err != nil && b.ctx.Err() != nil { // an end too: the library may take a cut answer for a whole one
		err = context.Cause(b.ctx)
	}
	return n, err
}

func (b *body) Close() error {
	defer b.end()
	return b.closer.Close()
}

// Reason is why a request got no answer, in a few words, without the URL that the library repeats.
func Reason(err error) string {
	var in *url.Error
	if errors.As(err, &in) {
		err = in.Err
	}
	var unknown x509.UnknownAuthorityError
	var wrong x509.HostnameError
	var invalid x509.CertificateInvalidError
	var dns *net.DNSError
	var operation *net.OpError
	var timeout interface{ Timeout() bool }
	switch {
	case errors.As(err, &unknown):
		return "its certificate is not signed by a trusted authority"
	case errors.As(err, &wrong):
		return fmt.Sprintf("its certificate is not for %s", clean.Quote(wrong.Host))
	case errors.As(err, &invalid):
		return clean.Line("its certificate is not valid: "+invalid.Error(), 200)
	case errors.As(err, &dns):
		return clean.Line(fmt.Sprintf("its name is not known here (%s)", dns.Err), 200)
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return "it did not answer in time"
	case errors.As(err, &operation) && operation.Err != nil:
		return clean.Line(operation.Err.Error(), 200)
	}
	return clean.Line(err.Error(), 200)
}

// Certificate reports whether an error is about the certificate of who answered.
func Certificate(err error) bool {
	var unknown x509.UnknownAuthorityError
	var wrong x509.HostnameError
	var invalid x509.CertificateInvalidError
	return errors.As(err, &unknown) || errors.As(err, &wrong) || errors.As(err, &invalid)
}
