package mysql

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"strings"
	"testing"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// login is a program's first packet.
func login(caps uint32, collation byte, rest string) []byte {
	body := binary.LittleEndian.AppendUint32(nil, caps)
	body = binary.LittleEndian.AppendUint32(body, 1<<24)
	body = append(append(body, collation), make([]byte, 23)...)
	return framed(1, append(body, rest...))
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
		"cut":             {framed(1, []byte{1, 2, 3}), "", "cut off", ""},
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
	if err != nil || p.caps != capMultiStatements|capDeprecateEOF {
		t.Errorf("%#x %v", p.caps, err)
	}
}

// TestForProgram: the greeting has the server's version, number and salt, and nothing that this end does not do.
func TestForProgram(t *testing.T) {
	far := &hello{version: "11.4.2-MariaDB", id: 77, caps: 0xffffffff, salt: []byte("abcdefghijklmnopqrst"), collation: 45}
	near, refused, err := parseFirst(far.forProgram())
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
	h := &hello{caps: driverCaps | capMultiStatements | capTLS, program: &program{caps: capMultiStatements | capSessionTrack, collation: 8}}
	if caps := h.loginCaps(true); caps&sessionCaps != capMultiStatements || caps&capTLS == 0 || caps&capLocalFiles != 0 {
		t.Errorf("%#x", caps)
	}
	if h.sessionCollation() != 8 || h.tlsRequest()[12] != 8 || (&hello{}).sessionCollation() != utf8mb4 {
		t.Error("the collation is not the program's")
	}
}

// TestRefuse: a finding becomes the protocol's own error, with the number that comes next.
func TestRefuse(t *testing.T) {
	for sequence, o := range map[byte]*engine.Opening{0: nil, 2: {Sequence: 2}} {
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
