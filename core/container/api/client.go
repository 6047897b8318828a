package api

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	"gentleharbor/core/clean"
)

// The versions of the interface that this client speaks. 1.24 is that of 2016; the calls that we use have not changed
// since.
const (
	oldest = 24
	newest = 51
)

// Bounds of answers and waits. A container's description has some 10 KiB, a list of a thousand containers 2 MiB.
const (
	maxAnswer = 32 << 20
	maxLog    = 8 << 20          // the last lines of a log: 400 of the 16 KiB that engines split at
	patience  = 3 * time.Second  // for a question
	doing     = 60 * time.Second // for a start or a stop, which takes ten by itself
)

// Client asks one container engine.
type Client struct {
	Endpoint Endpoint
	Engine   string // as the engine calls itself: "Docker Engine 20.10.24"
	Version  string // of the interface, as agreed: "1.41"

	http *http.Client
	base string
}

// Kind is why a call failed.
type Kind int

// The kinds of failure.
const (
	Refused     Kind = iota // the engine answered with an error, see Status and Message
	NoEngine                // nothing listens there
	Denied                  // this user may not use the socket
	Slow                    // no answer in time
	Broken                  // the answer is none of a container engine's
	Old                     // no version of the interface in common
	Insecure                // no TLS where there has to be, or TLS that failed
	BadEndpoint             // what names the engine is no endpoint
)

// Error is a failed call.
type Error struct {
	Kind     Kind
	Endpoint Endpoint
	Status   int    // of the answer, for Refused
	Message  string // the engine's own, cleaned
	Err      error
}

func (e *Error) Error() string {
	switch {
	case e.Message != "":
		return e.Message
	case e.Err != nil:
		return clean.Line(e.Err.Error(), 300)
	}
	return fmt.Sprintf("status %d", e.Status)
}

func (e *Error) Unwrap() error { return e.Err }

// Gone reports that the engine has no such thing.
func Gone(err error) bool {
	var answered *Error
	return errors.As(err, &answered) && answered.Kind == Refused && answered.Status == http.StatusNotFound
}

// Dialer makes the connections of a client.
type Dialer func(ctx context.Context, network, address string) (net.Conn, error)

// Connect asks an engine for its version, and agrees on one of the interface.
func Connect(ctx context.Context, e Endpoint, lookup func(string) (string, bool), home string,
	dial Dialer) (*Client, error) {
	transport := &http.Transport{
		Proxy:                  nil,
		DisableCompression:     true,
		MaxConnsPerHost:        8,
		MaxIdleConnsPerHost:    8,
		MaxResponseHeaderBytes: 64 << 10,
	}
	c := &Client{Endpoint: e, base: "http://engine", http: &http.Client{Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return errors.New("it answers with a redirect") }}}
	if socket := e.Socket(); socket != "" {
		transport.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx, "unix", socket) }
	} else {
		config, err := e.encryption(lookup, home)
		if err != nil {
			return nil, err
		}
		u, err := url.Parse(e.Address)
		if err != nil {
			return nil, &Error{Kind: BadEndpoint, Endpoint: e, Err: err}
		}
		c.base = "http://" + u.Host
		transport.DialContext = func(ctx context.Context, network, _ string) (net.Conn, error) {
			return dial(ctx, network,
				u.Host)
		}
		if config != nil {
			c.base, transport.TLSClientConfig = "https://"+u.Host, config
		}
	}
	return c, c.agree(ctx)
}

// CLIName is the name of the engine's own command line program.
func (c *Client) CLIName() string {
	if strings.HasPrefix(strings.ToLower(c.Engine), "podman") {
		return "podman"
	}
	return "docker"
}

// Close ends idle connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// agree finds the newest version of the interface that both speak.
func (c *Client) agree(ctx context.Context) error {
	var v struct {
		Version, ApiVersion, MinAPIVersion string
		Platform                           struct{ Name string }
		Components                         []struct{ Name, Version string }
	}
	if err := c.call(ctx, http.MethodGet, "/version", nil, nil, &v); err != nil {
		var answered *Error
		if errors.As(err, &answered) && answered.Status == http.StatusNotFound { // which every engine answers
			answered.Kind = Broken
		}
		return err
	}
	c.Engine = "container engine"
	if len(v.Components) > 0 && v.Components[0].Name != "" {
		c.Engine = clean.Line(v.Components[0].Name, 40)
		if c.Engine == "Engine" {
			c.Engine = "Docker Engine"
		}
	}
	c.Engine += " " + clean.Line(v.Version, 40)
	high, ok := minor(v.ApiVersion)
	if !ok {
		return &Error{
			Kind:     Broken,
			Endpoint: c.Endpoint,
			Err:      errors.New("its answer has no version of the interface"),
		}
	}
	low, ok := minor(v.MinAPIVersion)
	if !ok {
		low = min(high, oldest)
	}
	if high < oldest || low > newest {
		return &Error{
			Kind:     Old,
			Endpoint: c.Endpoint,
			Message: fmt.Sprintf("it speaks versions 1.%d to 1.%d of the interface; gharbor speaks 1.%d to 1.%d",
				low, high,
				oldest, newest),
		}
	}
	c.Version = fmt.Sprintf("1.%d", min(high, newest))
	c.base += "/v" + c.Version
	return nil
}

// minor is the number behind "1.".
func minor(version string) (int, bool) {
	rest, ok := strings.CutPrefix(version, "1.")
	n, err := strconv.Atoi(rest)
	return n, ok && err == nil && n >= 0 && n < 1000
}

// call sends one request and reads its answer into a value; nil for none.
func (c *Client) call(ctx context.Context, method, path string, query url.Values, body, into any) error {
	limit := patience
	if method != http.MethodGet {
		limit = doing
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	answer, err := c.send(ctx, method, path, query, body)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, maxAnswer+1))
	switch {
	case err != nil:
		return c.explainError(ctx, err)
	case len(data) > maxAnswer:
		return &Error{Kind: Broken, Endpoint: c.Endpoint, Err: fmt.Errorf(
			"its answer is larger than %d MiB", maxAnswer>>20)}
	case into == nil:
		return nil
	}
	if err := json.Unmarshal(data, into); err != nil {
		return &Error{
			Kind:     Broken,
			Endpoint: c.Endpoint,
			Err:      errors.New("its answer is not the expected JSON"),
		}
	}
	return nil
}

// send sends one request; an answer that is an error becomes one.
func (c *Client) send(ctx context.Context, method, path string, query url.Values, body any) (*http.Response, error) {
	if body == nil {
		return c.sendBytes(ctx, method, path, query, "", nil)
	}
	data, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	return c.sendBytes(ctx, method, path, query, "application/json", bytes.NewReader(data))
}

// sendBytes is send for a body with a content type.
func (c *Client) sendBytes(ctx context.Context, method, path string, query url.Values, kind string,
	body io.Reader) (*http.Response, error) {
	target := c.base + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, method, target, body)
	if err != nil {
		return nil, &Error{Kind: BadEndpoint, Endpoint: c.Endpoint, Err: err}
	}
	if kind != "" {
		request.Header.Set("Content-Type", kind)
	}
	answer, err := c.http.Do(request)
	if err != nil {
		return nil, c.explainError(ctx, err)
	}
	if answer.StatusCode < 300 || answer.StatusCode == http.StatusNotModified {
		return answer, nil
	}
	defer answer.Body.Close()
	data, _ := io.ReadAll(io.LimitReader(answer.Body, 64<<10))
	var said struct{ Message string }
	if json.Unmarshal(data, &said) != nil || said.Message == "" {
		if answer.StatusCode == http.StatusBadRequest && strings.Contains(string(data), "HTTPS server") {
			return nil, &Error{
				Kind:     Insecure,
				Endpoint: c.Endpoint,
				Err: errors.New("it wants TLS: set DOCKER_TLS_VERIFY=1, and DOCKER_CERT_PATH to the folder of " +
					"ca.pem, " +
					"cert.pem and key.pem"),
			}
		}
		said.Message = http.StatusText(answer.StatusCode)
	}
	return nil, &Error{
		Kind:     Refused,
		Endpoint: c.Endpoint,
		Status:   answer.StatusCode,
		Message:  clean.Line(said.Message, 300),
	}
}

// explainError says why no answer came.
func (c *Client) explainError(ctx context.Context, err error) error {
	one := &Error{Kind: Broken, Endpoint: c.Endpoint, Err: err}
	var timeout interface{ Timeout() bool }
	var request *url.Error
	var verification *tls.CertificateVerificationError
	var alert tls.AlertError
	if errors.As(err, &request) {
		one.Err = request.Err
	}
	switch {
	case errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, fs.ErrNotExist):
		one.Kind = NoEngine
	case errors.Is(err, fs.ErrPermission):
		one.Kind = Denied
	case errors.Is(err, context.Canceled):
		return context.Canceled
	case errors.Is(err, context.DeadlineExceeded), ctx.Err() != nil, errors.As(err, &timeout) && timeout.Timeout():
		one.Kind = Slow
	case errors.As(err, &verification), errors.As(err, &alert), strings.Contains(err.Error(), "tls: "):
		one.Kind = Insecure
	default:
		var dial *net.OpError
		if errors.As(err, &dial) && dial.Op == "dial" {
			one.Kind = NoEngine
		}
	}
	return one
}
