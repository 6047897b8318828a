package cloud

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"gentleharbor/core/cloud/wire"
	"gentleharbor/standin/authority"
)

// noted is the server of an instance, which greets, and notes who may log in.
type noted struct {
	net.Listener
	mu    sync.Mutex
	users map[string]bool
}

func startNoted(*tls.Config) (Server, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			io.WriteString(conn, "hello\n")
			conn.Close()
		}
	}()
	return &noted{Listener: l, users: make(map[string]bool)}, nil
}

func (n *noted) Address() string { return n.Addr().String() }
func (n *noted) Close()          { n.Listener.Close() }
func (n *noted) Allow(user, _, _ string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.users[user] = true
}

func (n *noted) Forbid(user string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	delete(n.users, user)
}

func (n *noted) count() int {
	n.mu.Lock()
	defer n.mu.Unlock()
	return len(n.users)
}

// TestNetwork: a network drops what comes until a rule is in force, and again once the rule is gone; what waits meanwhile
// is let in.
func TestNetwork(t *testing.T) {
	t.Parallel()
	root, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	place := &Place{Access: true, Login: wire.ByPassword, Start: startNoted}
	p, err := Start(Config{Authority: root, RuleAfter: 300 * time.Millisecond, LoginFor: 300 * time.Millisecond,
		Instances: []*Instance{{Name: "estuary", Engine: "mysql", Place: *place}}})
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	at := p.Instances[0].gate.address.String()
	shut := func(when string) {
		t.Helper()
		conn, err := net.DialTimeout("tcp", at, 200*time.Millisecond)
		if err == nil {
			conn.Close()
		}
		var timeout net.Error
		if runtime.GOOS == "linux" && !(errors.As(err, &timeout) && timeout.Timeout()) {
			t.Errorf("%s a connection ends with %v", when, err)
		}
	}
	token := p.Grant()
	ask := func(method, path, body string) map[string]any {
		t.Helper()
		r, _ := http.NewRequest(method, fmt.Sprintf("https://127.0.0.1:%d/v1%s", p.Port(), path), strings.NewReader(body))
		r.Header.Set("Authorization", "Bearer "+token)
		r.Header.Set("Idempotency-Key", method+path+time.Now().String())
		pool := x509.NewCertPool()
		pool.AddCert(root.Cert)
		answer, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}).Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		var got map[string]any
		json.NewDecoder(answer.Body).Decode(&got)
		return got
	}
	shut("before")
	rule := ask("POST", "/instances/estuary/rules", `{"seconds":60}`)
	shut("while the rule is pending")
	conn, err := net.DialTimeout("tcp", at, 10*time.Second)
	if err != nil {
		t.Fatalf("with a rule: %v", err)
	}
	if text, _ := io.ReadAll(conn); string(text) != "hello\n" {
		t.Errorf("%q", text)
	}
	var group sync.WaitGroup
	for range 50 {
		group.Go(func() {
			conn, err := net.DialTimeout("tcp", at, 5*time.Second)
			if err != nil {
				t.Error(err)
				return
			}
			defer conn.Close()
			if text, _ := io.ReadAll(conn); string(text) != "hello\n" {
				t.Errorf("%q", text)
			}
		})
	}
	group.Wait()
	ask("POST", "/instances/estuary/logins", `{}`)
	server := p.Instances[0].server.(*noted)
	if server.count() != 1 {
		t.Errorf("%d logins", server.count())
	}
	time.Sleep(500 * time.Millisecond)
	if server.count() != 0 {
		t.Error("a login does not end")
	}
	ask("DELETE", fmt.Sprintf("/instances/estuary/rules/%s", rule["id"]), "")
	shut("after")
	if len(p.Requests()) < 3 {
		t.Errorf("%q", p.Requests())
	}
}
