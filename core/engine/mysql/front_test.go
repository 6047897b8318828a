package mysql

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"strings"
	"testing"

	driver "github.com/go-sql-driver/mysql"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// login is a program's first packet.
func login(caps uint32, collation byte, rest string) []byte {
	body := binary.LittleEndian.AppendUint32(nil, caps)
	body = binary.LittleEndian.AppendUint32(body, 1<<24)
	body = append(append(body, collation), make([]byte, 23)...)
	return frame(1, append(body, rest...))
}

// TestParseLogin: what a program wants, and what is no login.
func TestParseLogin(t *testing.T) {
	const now = capProtocol41 | capSecureConnection
	for name, c := range map[string]struct {
		packet        []byte
		user, problem string
		database      string
	}{
		"short":           {login(now, 45, "bander\x00\x00"), "bander", "", ""},
		"a database":      {login(now|capWithDatabase, 45, "bander\x00\x03abcmoult\x00more"), "bander", "", "moult"},
		"no end":          {login(now|capWithDatabase, 45, "bander\x00\x00moult"), "bander", "", "moult"},
		"old password":    {login(capProtocol41|capWithDatabase, 45, "bander\x00abc\x00moult\x00"), "bander", "", "moult"},
		"no user":         {login(now, 45, "bander"), "", "cut off", ""},
		"no password":     {login(now, 45, "bander\x00"), "", "cut off", ""},
		"a long password": {login(now, 45, "bander\x00\x09abc"), "", "cut off", ""},
		"a long length":   {login(now, 45, "bander\x00\xfcabc"), "", "cut off", ""},
		"cut":             {frame(1, []byte{1, 2, 3}), "", "cut off", ""},
		"old":             {login(0, 45, "bander\x00\x00"), "", "before MySQL 4.1", ""},
		"TLS":             {login(now|capTLS, 45, ""), "", "TLS", ""},
	} {
		p, o, err := parseLogin(c.packet)
		switch {
		case c.problem != "" && (err == nil || !strings.Contains(err.Error(), c.problem)):
			t.Errorf("%s: %v", name, err)
		case c.problem == "" && (err != nil || o.User != c.user || o.Database != c.database || p.sequence != 2 || p.collation != 45):
			t.Errorf("%s: %+v %+v %v", name, p, o, err)
		}
	}
	p, _, err := parseLogin(login(now|capMultiStatements|capLocalFiles|capDeprecateEOF, 45, "a\x00\x00"))
	if err != nil || p.caps != capMultiStatements|capDeprecateEOF|capLocalFiles {
		t.Errorf("%#x %v", p.caps, err)
	}
}

// TestForProgram: the greeting has the server's version, number and salt, and nothing that this end does not do.
func TestForProgram(t *testing.T) {
	far := &hello{version: "11.4.2-MariaDB", id: 77, caps: 0xffffffff, salt: []byte("abcdefghijklmnopqrst"), collation: 45}
	near, refused, err := parseFirst(far.forProgram(far.caps & sessionCaps))
	if err != nil || refused != nil || near.version != far.version || near.id != 77 || near.plugin != methodNative ||
		!bytes.Equal(near.salt, far.salt) || near.collation != 45 {
		t.Fatalf("%+v %v %v", near, refused, err)
	}
	const not = capTLS | capLocalFiles | 1<<5 | 1<<26 // compression, by either method
	if near.caps&not != 0 || near.caps&(sessionCaps|openingCaps) != sessionCaps|openingCaps {
		t.Errorf("capabilities %#x", near.caps)
	}
}

// TestSessionCaps: the login at the far end is for what the program wants, as far as the server has it.
func TestSessionCaps(t *testing.T) {
	h := &hello{caps: driverCaps | capMultiStatements | capTLS, program: &programRequest{caps: capMultiStatements | capSessionTrack, collation: 8}}
	if caps := h.loginCaps(true); caps&sessionCaps != capMultiStatements || caps&capTLS == 0 || caps&capLocalFiles != 0 {
		t.Errorf("%#x", caps)
	}
	if h.sessionCollation() != 8 || h.tlsRequest()[12] != 8 || (&hello{}).sessionCollation() != utf8mb4 {
		t.Error("the collation is not the program's")
	}
}

// TestGreet: the program hears what both ends can do, files of this machine only where that is allowed.
func TestGreet(t *testing.T) {
	const now = capProtocol41 | capSecureConnection | capLocalFiles | capMultiStatements
	for _, files := range []bool{false, true} {
		program, address := net.Pipe()
		c := &conversation{hello: &hello{version: "8.4.0", caps: 0xffffffff, salt: []byte("abcdefghijklmnopqrst")}}
		c.to.Database = "moult"
		greeted := make(chan uint32, 1)
		go func() {
			packet, _ := readPacket(program)
			near, _, _ := parseFirst(packet)
			greeted <- near.caps
			program.Write(login(now|capWithDatabase, 45, "bander\x00\x00sea\x00"))
		}()
		o, err := c.Greet(address, files)
		if err != nil || o.User != "bander" || o.Database != "sea" || c.to.Database != "sea" {
			t.Fatalf("%+v %v", o, err)
		}
		offered, taken := <-greeted&capLocalFiles != 0, c.hello.loginCaps(true)&capLocalFiles != 0
		if offered != files || taken != files || c.hello.program.caps&capMultiStatements == 0 {
			t.Errorf("files %v: offered %v, taken %v", files, offered, taken)
		}
	}
}

// TestProve: a program's password is compared by both methods, and by the older one where it has a third.
func TestProve(t *testing.T) {
	salt := []byte("abcdefghijklmnopqrst")
	native, caching := scrambledNative("ebb", salt), scrambledCaching("ebb", salt)
	for name, c := range map[string]struct {
		method   string
		answer   []byte
		asked    []byte // what the program is asked next
		then     []byte // what it answers
		want     error
		sequence byte
	}{
		"native":           {methodNative, native, nil, nil, nil, 2},
		"no method":        {"", native, nil, nil, nil, 2},
		"caching":          {methodCaching, caching, []byte{1, cachingFast}, nil, nil, 3},
		"another":          {methodEd25519, []byte("x"), append(append([]byte{0xfe}, methodNative+"\x00"...), append(salt[:20:20], 0)...), native, nil, 4},
		"another, wrong":   {methodEd25519, []byte("x"), append(append([]byte{0xfe}, methodNative+"\x00"...), append(salt[:20:20], 0)...), caching, engine.ErrNotProved, 4},
		"none":             {methodNative, nil, nil, nil, engine.ErrNotProved, 2},
		"wrong":            {methodNative, scrambledNative("flow", salt), nil, nil, engine.ErrNotProved, 2},
		"caching, wrong":   {methodCaching, scrambledCaching("flow", salt), nil, nil, engine.ErrNotProved, 2},
		"by the other one": {methodCaching, native, nil, nil, engine.ErrNotProved, 2},
	} {
		near, address := net.Pipe()
		heard := make(chan []byte, 1)
		go func() {
			packet, err := readPacket(near)
			if err == nil && c.then != nil {
				near.Write(frame(packet[3]+1, c.then))
			}
			heard <- packet
		}()
		p := &programRequest{method: c.method, answer: c.answer, salt: salt, sequence: 2}
		err := p.prove(address, "ebb")
		address.Close()
		got := <-heard
		if !errors.Is(err, c.want) || p.sequence != c.sequence || c.asked != nil && !bytes.Equal(got[4:], c.asked) {
			t.Errorf("%s: %v, %q, next %d", name, err, got, p.sequence)
		}
	}
}

// TestScrambled: both methods by examples that a server's own library made.
func TestScrambled(t *testing.T) {
	salt := []byte("abcdefghijklmnopqrst")
	config := driver.NewConfig()
	config.User, config.Passwd = "bander", "ebb"
	for method, want := range map[string][]byte{methodNative: scrambledNative("ebb", salt), methodCaching: scrambledCaching("ebb", salt)} {
		server, client := net.Pipe()
		c := *config
		c.DialFunc = func(context.Context, string, string) (net.Conn, error) { return client, nil }
		connector, err := driver.NewConnector(&c)
		if err != nil {
			t.Fatal(err)
		}
		go connector.Connect(t.Context())
		body := (&hello{version: "8.4.0", caps: 0xffffffff &^ capTLS, salt: salt}).forProgram(0)
		server.Write(framedAs(body, method))
		packet, err := readPacket(server)
		server.Close()
		p, _, err2 := parseLogin(packet)
		if err != nil || err2 != nil || p.method != method || !bytes.Equal(p.answer, want) {
			t.Errorf("%s: %+v, want %x", method, p, want)
		}
	}
}

// framedAs is a greeting with another method.
func framedAs(greeting []byte, method string) []byte {
	body := bytes.Replace(greeting[4:], []byte(methodNative), []byte(method), 1)
	return frame(0, body)
}

// TestRefuse: a finding becomes the protocol's own error, with the number that comes next.
func TestRefuse(t *testing.T) {
	for sequence, o := range map[byte]*engine.SessionRequest{0: nil, 2: {Sequence: 2}} {
		program, address := net.Pipe()
		go func() {
			refuse(address, o, finding.New(finding.LoginOtherUser, "nobody else").Saw("%s", strings.Repeat("x", 1000)))
			address.Close()
		}()
		got, err := io.ReadAll(program)
		if err != nil || len(got) != 504 || got[3] != sequence {
			t.Fatalf("%q %v", got, err)
		}
		r, err := parseError(got[4:])
		if err != nil || r.State != "08004" || !strings.HasPrefix(r.Message, "nobody else (login.other-user); x") {
			t.Errorf("%+v %v", r, err)
		}
	}
}

// FuzzParseLogin: no packet makes it fail but by an error.
func FuzzParseLogin(f *testing.F) {
	f.Add(login(capProtocol41|capSecureConnection|capWithDatabase, 45, "a\x00\x00b\x00"))
	f.Fuzz(func(t *testing.T, sent []byte) {
		packet, err := readPacket(&said{in: bytes.NewReader(sent)})
		if err != nil {
			return
		}
		if p, o, err := parseLogin(packet); (p == nil || o == nil) == (err == nil) {
			t.Errorf("%v %v %v", p, o, err)
		}
	})
}

// said is a connection that says what is written.
type said struct {
	net.Conn
	in io.Reader
}

func (s *said) Read(p []byte) (int, error) { return s.in.Read(p) }

// TestReadOnly: a program's session is made read-only before it is handed over.
func TestReadOnly(t *testing.T) {
	t.Parallel()
	for _, readOnly := range []bool{false, true} {
		c := with(t, rings(), Word, func(to *engine.Target) { to.ReadOnly = readOnly })
		if writable := c.Facts().Writable; c.Result.Outcome == finding.Fail || writable == nil || *writable == readOnly {
			t.Errorf("read-only %v: at %s, writable %v, %+v", readOnly, c.Stage, writable, c.Result.Finding)
		}
	}
}
