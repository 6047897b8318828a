package postgresql

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// first is a first message of a program: a length, a code, and the rest.
func first(code uint32, rest string) string {
	p := binary.BigEndian.AppendUint32(nil, uint32(8+len(rest)))
	return string(binary.BigEndian.AppendUint32(p, code)) + rest
}

// received is what is read of an opening, and what a program gets meanwhile.
func received(t *testing.T, sent string) (o *engine.SessionRequest, got string, err error) {
	t.Helper()
	program, address := net.Pipe()
	deadline := time.Now().Add(10 * time.Second)
	program.SetDeadline(deadline)
	address.SetDeadline(deadline)
	answer := make(chan string)
	go func() {
		go io.WriteString(program, sent)
		p, _ := io.ReadAll(program)
		answer <- string(p)
	}()
	o, err = receive(address)
	address.Close()
	return o, <-answer, err
}

// TestReceive: what a program may open with, and what is none.
func TestReceive(t *testing.T) {
	const v3 = 3 << 16
	ssl, gss := first(codeSSL, ""), first(codeGSS, "")
	start := first(v3, "user\x00warden\x00database\x00tides\x00search_path\x00a\x00\x00")
	for name, c := range map[string]struct{ sent, got, problem string }{
		"at once":             {start, "", ""},
		"after TLS":           {ssl + start, "N", ""},
		"after both":          {gss + ssl + start, "NN", ""},
		"again and again":     {ssl + gss + ssl + start, "NNN", "again and again"},
		"an old version":      {first(2<<16, "\x00"), "", "version 2.0"},
		"TLS at once":         {"\x16\x03\x01\x02\x00\x01", "", "says that it has"},
		"too short":           {"\x00\x00\x00\x04", "", "has 4 bytes"},
		"too long":            {"\x00\x01\x00\x00", "", "has 65536 bytes"},
		"half a pair":         {first(v3, "user\x00warden"), "", "middle of a parameter"},
		"no end":              {first(v3, "user\x00warden\x00"), "", "end with a zero"},
		"bytes behind":        {first(v3, "user\x00warden\x00\x00x"), "", "end with a zero"},
		"a cancel of 3 bytes": {first(codeCancel, "abc"), "", "a request to cancel"},
	} {
		o, got, err := received(t, c.sent)
		switch {
		case got != c.got:
			t.Errorf("%s: the program got %q", name, got)
		case c.problem != "" && (err == nil || !strings.Contains(err.Error(), c.problem)):
			t.Errorf("%s: %v", name, err)
		case c.problem == "" && (err != nil || o.User != "warden" || o.Database != "tides" || o.Parameters["search_path"] != "a"):
			t.Errorf("%s: %+v %v", name, o, err)
		}
	}
	o, _, err := received(t, first(codeCancel, "\x00\x00\x00\x07\x00\x00\x00\x09"))
	if err != nil || *o.Cancel != (engine.CancelKey{Session: 7, Secret: 9}) {
		t.Errorf("%+v %v", o, err)
	}
	if o, _, err := received(t, first(v3, "user\x00a\x00database\x00a\x00replication\x00database\x00\x00")); err != nil || o.Database != "" || !o.Replication {
		t.Errorf("%+v %v", o, err)
	}
	if _, got, err := received(t, first(v3+2, "user\x00a\x00_pq_.x\x001\x00\x00")); err != nil || !strings.HasPrefix(got, "v") || !strings.Contains(got, "_pq_.x") {
		t.Errorf("%q %v", got, err)
	}
}

// TestProve: a program sends the password of the address, and else gets nothing.
func TestProve(t *testing.T) {
	for sent, want := range map[string]error{
		"p\x00\x00\x00\x08ebb\x00":        nil,
		"p\x00\x00\x00\x09flow\x00":       engine.ErrNotProved,
		"p\x00\x00\x00\x05\x00":           engine.ErrNotProved,
		"p\x00\x00\x00\x07ebb":            engine.ErrNotProved,
		"p\x00\x00\x00\x0cebb\x00ebb\x00": engine.ErrNotProved,
	} {
		program, address := net.Pipe()
		question := make([]byte, 9)
		go func() {
			io.ReadFull(program, question)
			io.WriteString(program, sent)
		}()
		if err := prove(address, "ebb"); err != want || string(question) != "R\x00\x00\x00\x08\x00\x00\x00\x03" {
			t.Errorf("%q: %v after %q", sent, err, question)
		}
	}
	for _, sent := range []string{"Q\x00\x00\x00\x08ebb\x00", "p\xff\xff\xff\xff", "p\x00\x00\x00\x04", "p\x00"} {
		program, address := net.Pipe()
		go func() {
			io.ReadFull(program, make([]byte, 9))
			io.WriteString(program, sent)
			program.Close()
		}()
		if err := prove(address, "ebb"); err == nil || err == engine.ErrNotProved {
			t.Errorf("%q: %v", sent, err)
		}
	}
}

// TestForProgram: what an address adds to a program's session wins, however the program writes it.
func TestForProgram(t *testing.T) {
	wanted := func() map[string]string {
		return map[string]string{"Default_Transaction_READ_only": "off", "application_name": "tidebook"}
	}
	plain := (&conversation{}).forProgram(wanted())
	c := &conversation{to: engine.Target{ReadOnly: true}}
	got := c.forProgram(wanted())
	if len(plain) != 2 || len(got) != 2 || got["default_transaction_read_only"] != "on" || got["application_name"] != "tidebook" {
		t.Errorf("%v %v", plain, got)
	}
}

// TestRefuse: a finding becomes the protocol's own error.
func TestRefuse(t *testing.T) {
	program, address := net.Pipe()
	go func() {
		refuse(address, nil, finding.New(finding.LoginOtherUser, "nobody else").Saw("it asks for knot").Suggest("gharbor show tides"))
		address.Close()
	}()
	got, err := io.ReadAll(program)
	for _, want := range []string{"SFATAL\x00", "C08004\x00", "Mnobody else (login.other-user)\x00", "Dit asks for knot\x00", "Hgharbor show tides\x00"} {
		if err != nil || len(got) < 5 || got[0] != 'E' || !bytes.Contains(got, []byte(want)) {
			t.Errorf("%q without %q: %v", got, want, err)
		}
	}
}

// FuzzReceive: no opening makes it fail but by an error.
func FuzzReceive(f *testing.F) {
	f.Add([]byte(first(3<<16, "user\x00a\x00\x00")))
	f.Add([]byte(first(codeSSL, "")))
	f.Fuzz(func(t *testing.T, sent []byte) {
		o, err := receive(&scripted{in: bytes.NewReader(sent)})
		if (o == nil) == (err == nil) {
			t.Errorf("%v %v", o, err)
		}
	})
}

// scripted is a connection that says what is written, and hears nothing.
type scripted struct {
	net.Conn
	in io.Reader
}

func (s *scripted) Read(p []byte) (int, error)  { return s.in.Read(p) }
func (s *scripted) Write(p []byte) (int, error) { return len(p), nil }

// TestHandOver: the program gets all that comes after the login, though the driver has begun to read on by itself.
func TestHandOver(t *testing.T) {
	near, far := net.Pipe()
	failed := make(chan error, 1)
	say := func(messages ...pgproto3.BackendMessage) {
		var out []byte
		for _, m := range messages {
			out, _ = m.Encode(out)
		}
		far.Write(out)
	}
	go func() {
		backend := pgproto3.NewBackend(far, far)
		time.Sleep(100 * time.Millisecond) // the driver's write takes long, so it reads meanwhile
		say(&pgproto3.AuthenticationOk{}, &pgproto3.ParameterStatus{Name: "server_version", Value: "16.2"},
			&pgproto3.BackendKeyData{ProcessID: 1, SecretKey: []byte{1, 2, 3, 4}}, &pgproto3.ReadyForQuery{TxStatus: 'I'})
		if _, err := backend.ReceiveStartupMessage(); err != nil {
			failed <- err
			return
		}
		// What ends the driver's reading. On a busy machine it may have been too late to begin any.
		far.SetReadDeadline(time.Now().Add(3 * time.Second))
		if _, err := backend.Receive(); err == nil {
			say(&pgproto3.EmptyQueryResponse{}, &pgproto3.ReadyForQuery{TxStatus: 'I'})
			time.Sleep(50 * time.Millisecond)
		} else if !errors.Is(err, os.ErrDeadlineExceeded) {
			failed <- err
			return
		}
		_, err := io.WriteString(far, "rows")
		failed <- err
	}()
	config, err := pgconn.ParseConfig("host=127.0.0.1 user=warden sslmode=disable")
	if err != nil {
		t.Fatal(err)
	}
	config.DialFunc = func(context.Context, string, string) (net.Conn, error) { return near, nil }
	pg, err := pgconn.ConnectConfig(t.Context(), config)
	if err != nil {
		t.Fatal(err)
	}
	program, address := net.Pipe()
	told := make(chan []byte, 1)
	go func() {
		buffer := make([]byte, 4096)
		n, _ := program.Read(buffer)
		told <- buffer[:n]
	}()
	c := &conversation{pg: pg, watch: &observer{}}
	server, err := c.HandOver(address, engine.CancelKey{Session: 7, Secret: 11})
	if err != nil {
		t.Fatal(err)
	}
	want, _ := (&pgproto3.BackendKeyData{ProcessID: 7, SecretKey: []byte{0, 0, 0, 11}}).Encode(nil)
	if got := <-told; !bytes.Contains(got, want) || !bytes.Contains(got, []byte("server_version\x0016.2")) || got[0] != 'R' || got[len(got)-6] != 'Z' {
		t.Errorf("the program is told %q", got)
	}
	server.SetDeadline(time.Now().Add(10 * time.Second))
	rows := make([]byte, 4)
	if _, err := io.ReadFull(server, rows); err != nil || string(rows) != "rows" {
		t.Errorf("%q %v", rows, err)
	}
	if err := <-failed; err != nil {
		t.Error(err)
	}
}
