package oracle

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/oracle/tns"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
	"gentleharbor/standin/oracle"
)

// talk begins a conversation with a simulated server.
func talk(t *testing.T, config oracle.Config, change func(*engine.Target)) (engine.Conversation, context.Context) {
	t.Helper()
	config.Services = map[string]oracle.State{"SKEIN": oracle.Up}
	config.Accounts = []oracle.Account{{User: "CURATOR", Password: "avocet"}}
	config.Tables = []string{"CURATOR.SPECIES"}
	server, err := oracle.Start(config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	t.Cleanup(cancel)
	address := fmt.Sprint("127.0.0.1:", server.Port())
	dial := func(ctx context.Context) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "tcp", address)
	}
	conn, err := dial(ctx)
	if err != nil {
		t.Fatal(err)
	}
	plan, found := tlsrule.Load(t.Context(), tlsrule.Settings{Profile: "x", Rule: tlsrule.Off})
	if found != nil {
		t.Fatal(found)
	}
	to := engine.Target{Profile: "x", User: "curator", Service: "SKEIN", Network: "tcp", Address: address, TLS: plan, Redial: dial,
		TakeSecret: func(context.Context) (secret.Value, error) { return secret.NewValue("avocet"), nil }}
	if change != nil {
		change(&to)
	}
	c := Begin(conn, to)
	t.Cleanup(c.Close)
	return c, ctx
}

func TestConversation(t *testing.T) {
	c, ctx := talk(t, oracle.Config{Resend: true}, nil)
	encrypt := func(ctx context.Context) finding.Result {
		_, result := c.Encrypt(ctx)
		return result
	}
	for i, step := range []func(context.Context) finding.Result{c.Speak, encrypt, c.Login, c.Database, c.Session} {
		if result := step(ctx); result.Outcome != finding.OK {
			t.Fatalf("step %d: %+v %+v", i, result, result.Finding)
		}
	}
	tables, err := c.Missing(ctx, key.ExpectTables, []string{"species", "curator.species", "ring", "curator.ring"})
	if err != nil || strings.Join(tables, " ") != "ring curator.ring" {
		t.Errorf("%v %v", tables, err)
	}
	if extensions, err := c.Missing(ctx, key.ExpectExtensions, []string{"postgis"}); err != nil || len(extensions) != 1 {
		t.Errorf("%v %v", extensions, err)
	}
	f := c.Facts()
	if f.Version != "19.0.0.0.0" || f.User != "CURATOR" || f.RoundTrip == nil || f.ClockDifference == nil || f.Writable != nil {
		t.Errorf("%+v", f)
	}
}

// TestPlainListener: a rule that wants TLS ends soon at a listener without it, which
// would wait for the rest of what it takes for a long packet.
func TestPlainListener(t *testing.T) {
	start := time.Now()
	c, ctx := talk(t, oracle.Config{}, func(to *engine.Target) {
		to.TLS, _ = tlsrule.Load(t.Context(), tlsrule.Settings{Profile: "x", Rule: tlsrule.Required})
	})
	if result := c.Speak(ctx); result.Outcome != finding.OK {
		t.Fatalf("%+v", result.Finding)
	}
	if _, result := c.Encrypt(ctx); result.Finding == nil || result.Finding.Code != "tls.not-offered" || time.Since(start) > 4*time.Second {
		t.Errorf("after %s: %+v", time.Since(start), result.Finding)
	}
}

// TestReplay: the driver gets the acceptance and no second connection, and no packet that
// would make it take memory without end.
func TestReplay(t *testing.T) {
	here, there := net.Pipe()
	defer there.Close()
	s := &replayConn{Conn: here, replay: []byte("accepted"), judge: func([]byte) error { return nil }}
	if conn, err := s.DialContext(t.Context(), "tcp", "x"); err != nil || conn != net.Conn(s) {
		t.Fatal(err)
	}
	if n, err := s.Write([]byte("what the listener was told already")); err != nil || n == 0 {
		t.Fatal(n, err)
	}
	p := make([]byte, 8)
	if _, err := io.ReadFull(s, p); err != nil || string(p) != "accepted" {
		t.Fatalf("%q %v", p, err)
	}
	if _, err := s.DialContext(t.Context(), "tcp", "y"); err == nil {
		t.Error("the driver got a second connection")
	}
	go there.Write([]byte{0, 12, 0, 0, byte(tns.Data), 0, 0, 0, 0, 0, 'o', 'k'})
	if _, err := io.ReadFull(s, make([]byte, 12)); err != nil {
		t.Error(err)
	}
	for _, c := range []struct {
		long bool
		head []byte
	}{{false, []byte{0, 7, 0, 0, 6, 0, 0, 0}}, {true, []byte{0, 0, 0, 3, 6, 0, 0, 0}}, {true, []byte{0x7f, 0xff, 0xff, 0xff, 6, 0, 0, 0}}, {true, binary.BigEndian.AppendUint32(nil, maxPacket+1)}} {
		s := &replayConn{Conn: &heard{Reader: bytes.NewReader(append(c.head, 6, 0, 0, 0))}, opened: true, long: c.long}
		if _, err := s.Read(p); !errors.Is(err, errTooLong) {
			t.Errorf("%x: %v", c.head, err)
		}
	}
	flood := &replayConn{Conn: &heard{Reader: endless{}}, opened: true, long: true}
	n, err := io.Copy(io.Discard, flood)
	if !errors.Is(err, errTooLong) || n > maxTotal {
		t.Errorf("%d bytes, %v", n, err)
	}
}

// heard is a connection that only speaks.
type heard struct {
	net.Conn
	io.Reader
}

func (h *heard) Read(p []byte) (int, error) { return h.Reader.Read(p) }

// endless speaks packets of 1 MiB for ever.
type endless struct{}

func (endless) Read(p []byte) (int, error) {
	if len(p) == 8 {
		return copy(p, []byte{0, 0x10, 0, 0, byte(tns.Data), 0, 0, 0}), nil
	}
	return len(p), nil
}

func TestVerifier(t *testing.T) {
	body := "\x08\x01\x05\x01\x0d\x0dAUTH_VFR_DATA\x01\x04\x04abcd\x02\x48\x15"
	if kind, ok := verifier([]byte(body)); !ok || kind != verifier12 {
		t.Errorf("%d %v", kind, ok)
	}
	if kind, ok := verifier([]byte("\x0dAUTH_VFR_DATA\x00\x02\x09\x39")); !ok || kind != verifier10 {
		t.Errorf("without a value: %d %v", kind, ok)
	}
	for _, cut := range []string{"", "AUTH_VFR_DATA", body[:len(body)-1], body[:22], "AUTH_VFR_DATA\x01\x40\xff"} {
		if kind, ok := verifier([]byte(cut)); ok {
			t.Errorf("%q: %d", cut, kind)
		}
	}
}

// FuzzVerifier: a server's challenge is looked through without harm.
func FuzzVerifier(f *testing.F) {
	f.Add([]byte("AUTH_VFR_DATA\x01\x04\x04abcd\x02\x48\x15"))
	f.Fuzz(func(t *testing.T, body []byte) {
		if kind, ok := verifier(body); ok && kind < 0 {
			t.Errorf("%x: %d", body, kind)
		}
	})
}
