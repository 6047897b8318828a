package https

import (
	"context"
	"encoding/pem"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// serve starts a server over TLS, and makes a client that may ask it.
func serve(t *testing.T, handler http.HandlerFunc) (*httptest.Server, *Client) {
	t.Helper()
	s := httptest.NewTLSServer(handler)
	t.Cleanup(s.Close)
	root := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw})
	c, err := New((&net.Dialer{}).DialContext, root, s.URL)
	if err != nil {
		t.Fatal(err)
	}
	return s, c
}

func get(t *testing.T, url string) *http.Request {
	t.Helper()
	r, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer knot")
	return r
}

// TestAsk: a host that is written is asked; a redirect is an answer, and no other host is dialled.
func TestAsk(t *testing.T) {
	other := 0
	elsewhere := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { other++ }))
	defer elsewhere.Close()
	s, c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/away" {
			http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
			return
		}
		w.Header().Set("X-Tide", "low")
		w.Write([]byte(r.Header.Get("Authorization") + " " + r.Header.Get("User-Agent")))
	})
	answer, err := c.Do(t.Context(), get(t, s.URL+"/x"))
	if err != nil || answer.Status != 200 || string(answer.Body) != "Bearer knot gharbor" || answer.Header.Get("X-Tide") != "low" {
		t.Errorf("%+v %v", answer, err)
	}
	if answer, err = c.Do(t.Context(), get(t, s.URL+"/away")); err != nil || answer.Status != 307 {
		t.Errorf("a redirect: %+v %v", answer, err)
	}
	for _, url := range []string{elsewhere.URL, strings.Replace(s.URL, "https:", "http:", 1), "https://127.0.0.2:" + s.URL[strings.LastIndex(s.URL, ":")+1:]} {
		if _, err := c.Do(t.Context(), get(t, url)); err == nil {
			t.Errorf("%s was asked", url)
		}
		if _, err := c.For(t.Context()).Get(url); err == nil {
			t.Errorf("%s was asked by a library", url)
		}
	}
	if _, err := c.Do(t.Context(), get(t, elsewhere.URL)); !errors.Is(err, ErrElsewhere) || other > 0 {
		t.Errorf("%v, asked %d times", err, other)
	}
	if response, err := c.For(t.Context()).Get(s.URL + "/away"); err != nil || response.StatusCode != 307 {
		t.Errorf("a library follows a redirect: %v", err)
	}
}

// TestBounds: an answer has an end in size and in time, also for a library that asks without a context.
func TestBounds(t *testing.T) {
	stop := make(chan struct{})
	s, c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/huge" {
			for range 3000 {
				w.Write(make([]byte, 1000))
			}
			return
		}
		w.Write([]byte("a"))
		http.NewResponseController(w).Flush()
		select {
		case <-stop:
		case <-r.Context().Done():
		}
	})
	defer close(stop)
	if answer, err := c.Do(t.Context(), get(t, s.URL+"/huge")); err != nil || len(answer.Body) != maxAnswer {
		t.Errorf("%v, %d bytes", err, len(answer.Body))
	}
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	start := time.Now()
	if _, err := c.Do(ctx, get(t, s.URL+"/slow")); err == nil || Reason(err) != "it did not answer in time" {
		t.Errorf("%v", err)
	}
	ctx, cancel = context.WithCancel(t.Context())
	time.AfterFunc(100*time.Millisecond, cancel)
	response, err := c.For(ctx).Get(s.URL + "/slow")
	if err == nil {
		_, err = response.Body.Read(make([]byte, 10))
		for err == nil {
			_, err = response.Body.Read(make([]byte, 10))
		}
		response.Body.Close()
	}
	if took := time.Since(start); took > 5*time.Second {
		t.Errorf("it took %s (%v)", took, err)
	}
}

// TestReasons: why there is no answer, in words without the URL.
func TestReasons(t *testing.T) {
	s, _ := serve(t, func(http.ResponseWriter, *http.Request) {})
	plain, err := New((&net.Dialer{}).DialContext, nil, s.URL, "https://127.0.0.1:1", "https://no-such-host.invalid")
	if err != nil {
		t.Fatal(err)
	}
	for url, want := range map[string]string{s.URL: "not signed by a trusted authority", "https://127.0.0.1:1": "refused",
		"https://no-such-host.invalid": "not known here"} {
		_, err := plain.Do(t.Context(), get(t, url))
		if err == nil || !strings.Contains(Reason(err), want) || strings.Contains(Reason(err), "https:") {
			t.Errorf("%s: %v", url, err)
		}
		if Certificate(err) != strings.Contains(want, "authority") {
			t.Errorf("%s: whether it is the certificate is wrong", url)
		}
	}
	if _, err := New(nil, []byte("knot")); err == nil {
		t.Error("no certificate is an authority")
	}
	for text, want := range map[string]string{"https://a.example/x": "a.example:443", "https://[::1]:8": "[::1]:8", "http://a": "", "https://u:p@a": "", "https:": "", "\x7f": ""} {
		if at, err := Origin(text); at != want || (err == nil) != (want != "") {
			t.Errorf("%s: %s %v", text, at, err)
		}
	}
}
