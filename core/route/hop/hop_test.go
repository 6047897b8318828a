package hop

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"net"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"golang.org/x/crypto/ssh"

	"gentleharbor/core/profile/schema"
	"gentleharbor/core/route/hostkey"
	"gentleharbor/core/secret"
)

// half is a connection with the half-close that a channel has.
type half struct{ net.Conn }

func (h half) CloseWrite() error { return h.Close() }

// TestStreamDeadlines: a read that its deadline ends loses nothing, and the next goes
// on where it stopped.
func TestStreamDeadlines(t *testing.T) {
	t.Parallel()
	near, far := net.Pipe()
	s := newStream(half{near})
	defer s.Close()
	buffer := make([]byte, 3)
	s.SetReadDeadline(time.Now().Add(30 * time.Millisecond))
	if _, err := s.Read(buffer); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Fatalf("%v", err)
	}
	go far.Write([]byte("dunlin"))
	s.SetDeadline(time.Time{})
	got := ""
	for len(got) < 6 {
		n, err := s.Read(buffer)
		if err != nil {
			t.Fatal(err)
		}
		got += string(buffer[:n])
	}
	if got != "dunlin" {
		t.Errorf("%q", got)
	}
	s.SetDeadline(time.Unix(1, 0)) // as drivers interrupt
	if _, err := s.Read(buffer); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("%v", err)
	}
	if _, err := s.Write(buffer); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("%v", err)
	}
	s.SetDeadline(time.Time{})
	waiting := make(chan error)
	go func() {
		_, err := s.Read(buffer)
		waiting <- err
	}()
	time.Sleep(20 * time.Millisecond)
	s.SetReadDeadline(time.Now()) // ends a read that waits already
	if err := <-waiting; !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("%v", err)
	}
	s.SetDeadline(time.Time{})
	far.Close()
	if _, err := s.Read(buffer); err != io.EOF {
		t.Errorf("the end: %v", err)
	}
	near, _ = net.Pipe()
	blocked := newStream(half{near})
	blocked.SetWriteDeadline(time.Now().Add(30 * time.Millisecond))
	if _, err := blocked.Write(make([]byte, 10)); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("a write that nobody reads: %v", err)
	}
	blocked.Close()
	if _, err := blocked.Read(buffer); err == nil {
		t.Error("a closed stream reads")
	}
}

// TestStreamReadsAhead: what comes is all there and in order, what waits is counted, and a stream that is closed with
// both buffers full leaves nothing behind.
func TestStreamReadsAhead(t *testing.T) {
	t.Parallel()
	near, far := net.Pipe()
	s := newStream(half{near}).(*stream)
	sent := make([]byte, 7*chunkSize+11)
	for i := range sent {
		sent[i] = byte(i % 251)
	}
	go func() {
		far.Write(sent)
		far.Close()
	}()
	for range 500 {
		if s.Buffered() == 2*chunkSize {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if s.Buffered() != 2*chunkSize {
		t.Errorf("%d bytes wait", s.Buffered())
	}
	got, err := io.ReadAll(iotest.OneByteReader(s))
	if err != nil || !bytes.Equal(got, sent) || s.Buffered() != 0 {
		t.Errorf("%d of %d bytes, %d wait: %v", len(got), len(sent), s.Buffered(), err)
	}
	near, far = net.Pipe()
	s = newStream(half{near}).(*stream)
	go far.Write(sent)
	for s.Buffered() < 2*chunkSize {
		time.Sleep(time.Millisecond)
	}
	s.Close()
	for range 3 { // its reader has ended once its channel is closed
		select {
		case <-s.chunks:
		case <-time.After(10 * time.Second):
			t.Fatal("the reader goes on")
		}
	}
}

// TestStreamInterrupted: a deadline that passes ends a write that waits already.
func TestStreamInterrupted(t *testing.T) {
	t.Parallel()
	near, _ := net.Pipe()
	s := newStream(half{near})
	ended := make(chan error)
	go func() {
		_, err := s.Write(make([]byte, 10))
		ended <- err
	}()
	time.Sleep(20 * time.Millisecond)
	s.SetDeadline(time.Unix(1, 0))
	select {
	case err := <-ended:
		if !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%v", err)
		}
	case <-time.After(10 * time.Second):
		t.Error("the write waits on")
	}
}

// TestOlderAlgorithms: a profile can name every older algorithm that the library has,
// and nothing that is of today.
func TestOlderAlgorithms(t *testing.T) {
	t.Parallel()
	old, now := ssh.InsecureAlgorithms(), ssh.SupportedAlgorithms()
	able := slices.Concat(old.KeyExchanges, old.Ciphers, old.MACs, old.HostKeys, []string{ssh.HMACSHA1})
	for _, name := range schema.OlderAlgorithms {
		if !slices.Contains(able, name) {
			t.Errorf("%s can be named and is not there", name)
		}
	}
	config := (&attempt{h: &Hop{From: "config:1"}, d: &Dialer{}})
	config.store = storeOf(t)
	c := config.config(t.Context())
	for _, name := range slices.Concat(c.KeyExchanges, c.Ciphers, c.MACs, c.HostKeyAlgorithms) {
		if slices.Contains(old.KeyExchanges, name) || slices.Contains(old.Ciphers, name) || slices.Contains(old.HostKeys, name) || strings.HasSuffix(name, "sha1") {
			t.Errorf("%s is used without being named", name)
		}
	}
	if len(c.KeyExchanges) < len(now.KeyExchanges)-1 || len(c.Ciphers) != len(now.Ciphers) {
		t.Errorf("%v %v", c.KeyExchanges, c.Ciphers)
	}
}

// TestSocks: requests are written as RFC 1928 has them.
func TestSocks(t *testing.T) {
	t.Parallel()
	for address, want := range map[string]string{
		"tide-db:5432": "\x05\x01\x00\x03\x07tide-db\x15\x38", "192.0.2.1:80": "\x05\x01\x00\x01\xc0\x00\x02\x01\x00\x50",
		"[2001:db8::1]:1": "\x05\x01\x00\x04\x20\x01\x0d\xb8\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x01",
	} {
		if got, err := socksRequest(address); string(got) != want || err != nil {
			t.Errorf("%s: %q %v", address, got, err)
		}
	}
	if _, err := socksRequest(strings.Repeat("a", 256) + ":1"); err == nil {
		t.Error("a name of 256 bytes")
	}
	r := strings.NewReader("\x05\x00\x00\x03\x04gate\x00\x16rest")
	if err := socksReply(r); err != nil || r.Len() != 4 {
		t.Errorf("%v, %d bytes left", err, r.Len())
	}
}

func FuzzSocksReply(f *testing.F) {
	f.Add([]byte("\x05\x00\x00\x01\x7f\x00\x00\x01\x00\x16"))
	f.Add([]byte("\x05\x05\x00\x01"))
	f.Fuzz(func(_ *testing.T, data []byte) { socksReply(bytes.NewReader(data)) })
}

func FuzzConnectReply(f *testing.F) {
	f.Add([]byte("HTTP/1.1 200 OK\r\nVia: x\r\n\r\n"))
	f.Add([]byte("HTTP/1.1 407 \x1b[2J\r\n\r\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		err := connectReply(bufio.NewReader(&limitedReader{bytes.NewReader(data), maxAnswer}))
		if err != nil && strings.ContainsAny(err.Error(), "\x1b\x00") {
			t.Errorf("%q", err)
		}
	})
}

// TestKept: what a tunnel keeps is by what it is for.
func TestKept(t *testing.T) {
	t.Parallel()
	k := &SecretCache{}
	q := secret.Query{Kind: secret.OfHop, Address: "keeper@gate:22"}
	k.keep(q, secret.NewValue("knot"))
	if v, ok := k.value(q); !ok || !v.Same(secret.NewValue("knot")) {
		t.Error("not kept")
	}
	if _, ok := k.value(secret.Query{Kind: secret.OfKey, Address: q.Address}); ok {
		t.Error("kept for another kind")
	}
	k.forget(q)
	if _, ok := k.value(q); ok {
		t.Error("not forgotten")
	}
	var none *SecretCache
	none.keep(q, secret.NewValue("knot"))
	if _, ok := none.value(q); ok {
		t.Error("nothing keeps something")
	}
}

func storeOf(t *testing.T) *hostkey.Store { t.Helper(); return hostkey.Read() }
