package tns

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"testing"
)

// answer makes a packet of a listener.
func answer(kind Type, flags byte, body string) []byte {
	p := append(make([]byte, 8), body...)
	binary.BigEndian.PutUint16(p, uint16(len(p)))
	p[4], p[5] = byte(kind), flags
	return p
}

func refuse(text string) []byte {
	return answer(Refuse, 0, string(binary.BigEndian.AppendUint16([]byte{34, 0}, uint16(len(text))))+text)
}

func redirect(text string) []byte {
	return answer(Redirect, 0, string(binary.BigEndian.AppendUint16(nil, uint16(len(text))))+text)
}

// accept is an accept packet with a version, data behind its head, and flags.
func accept(version uint16, flags byte, behind string) []byte {
	p := answer(Accept, flags, strings.Repeat("\x00", 24)+behind)
	binary.BigEndian.PutUint16(p[8:], version)
	binary.BigEndian.PutUint16(p[20:], 32)
	return p
}

func TestConnectPacket(t *testing.T) {
	for _, c := range []struct {
		target Target
		want   string
		data   bool // the descriptor comes in a packet of its own
	}{
		{Target{}, "(CONNECT_DATA=(COMMAND=ping))", false},
		{Target{Host: "archive-a.saltmarsh.example", Port: 1521, Service: "SKEIN", Program: "gharbor"},
			"(DESCRIPTION=(ADDRESS=(PROTOCOL=tcp)(HOST=archive-a.saltmarsh.example)(PORT=1521))(CONNECT_DATA=(SERVICE_NAME=SKEIN)(CID=(PROGRAM=gharbor)(HOST=)(USER=))))", false},
		{Target{Host: "a", Port: 2484, Instance: "SKEIN1", Secure: true}, "(PROTOCOL=tcps)(HOST=a)(PORT=2484))(CONNECT_DATA=(SID=SKEIN1)", false},
		{Target{Host: "a)(HOST=evil", Port: 1, Service: "S)(X='\n"}, "(HOST=aHOSTevil)(PORT=1))(CONNECT_DATA=(SERVICE_NAME=SX)", false},
		{Target{Host: strings.Repeat("h", 200), Port: 1, Service: "SKEIN"}, strings.Repeat("h", 200), true},
	} {
		p := ConnectPacket(c.target)
		first, err := Read(bytes.NewReader(p))
		if err != nil || first.Type != Connect || c.data != (len(first.Raw) < len(p)) {
			t.Fatalf("%+v: %v, %d of %d bytes", c.target, err, len(first.Raw), len(p))
		}
		size := int(binary.BigEndian.Uint16(p[24:]))
		if text := string(p[len(p)-size:]); !strings.Contains(text, c.want) {
			t.Errorf("%q, want %q", text, c.want)
		}
	}
}

func TestRead(t *testing.T) {
	for _, c := range []struct {
		bytes string
		want  error
	}{
		{"", io.EOF}, {"\x00\x08\x00", io.ErrUnexpectedEOF}, {"\x00\x07\x00\x00\x04\x00\x00\x00", ErrNotTNS}, {"\x00\x08\x01\x00\x04\x00\x00\x00", ErrNotTNS},
		{"\x00\x08\x00\x00\x00\x00\x00\x00", ErrNotTNS}, {"HTTP/1.1 400", ErrNotTNS}, {"\x15\x03\x01\x00\x02\x02\x46\x00", ErrNotTNS},
		{"\x00\x10\x00\x00\x04\x00\x00\x00abc", io.ErrUnexpectedEOF}, {"\x00\x08\x00\x00\x0b\x08\x00\x00", nil},
	} {
		p, err := Read(strings.NewReader(c.bytes))
		if !errors.Is(err, c.want) && err != c.want {
			t.Errorf("%q: %v", c.bytes, err)
		}
		if err == nil && !p.Renegotiates() {
			t.Errorf("%q: the flag is lost", c.bytes)
		}
	}
}

func TestRefuse(t *testing.T) {
	for _, c := range []struct {
		text    string
		code    int
		version string
		numbers bool
	}{
		{"(DESCRIPTION=(TMP=)(VSNNUM=318767104)(ERR=12514)(ERROR_STACK=(ERROR=(CODE=12514)(EMFI=4))))", 12514, "19.0.0.0.0", true},
		{"(DESCRIPTION=(TMP=)(VSNNUM=186647552)(ERR=0)(ALIAS=LISTENER))", 0, "11.2.0.4.0", true},
		{"(DESCRIPTION=(ERROR_STACK=(ERROR=( CODE = 12516 ))))", 12516, "", true},
		{"(VSNNUM=99999999999)(ERR=99999999)", 0, "", false},
		{"", 0, "", false},
	} {
		p, err := Read(bytes.NewReader(refuse(c.text)))
		r, err2 := ParseRefuse(p)
		if err != nil || err2 != nil || r.Code != c.code || r.Listen != c.version || r.Numbers != c.numbers || r.Text != c.text {
			t.Errorf("%q: %+v, %v %v", c.text, r, err, err2)
		}
	}
	if _, err := ParseRefuse(Packet{Type: Refuse, Raw: make([]byte, 11)}); !errors.Is(err, ErrNotTNS) {
		t.Errorf("a short one: %v", err)
	}
}

func TestAccept(t *testing.T) {
	for _, c := range []struct {
		name    string
		packet  []byte
		replay  int // its length, 0 for a refused one
		version uint16
	}{
		{"old", accept(314, 0, ""), 32, 314},
		{"new", accept(317, 0, strings.Repeat("\x00", 9)), 40, 317},
		{"with a session's number behind", accept(314, 1, strings.Repeat("s", 16)), 32, 314},
		{"too short for its version", accept(317, 0, ""), 0, 0},
		{"ancient", accept(200, 0, ""), 0, 0},
		{"from the future", accept(900, 0, strings.Repeat("\x00", 9)), 0, 0},
	} {
		a, err := ParseAccept(Packet{Type: Accept, Raw: c.packet})
		if (err == nil) != (c.replay > 0) || a.Version != c.version || len(a.Replay) != c.replay {
			t.Errorf("%s: %+v, %v", c.name, a, err)
		}
		if c.replay > 0 && (a.Replay[5]&1 != 0 || int(binary.BigEndian.Uint16(a.Replay)) != len(a.Replay)) {
			t.Errorf("%s: %x", c.name, a.Replay)
		}
	}
	far := accept(314, 0, "")
	far[20], far[21] = 0xff, 0xff
	if _, err := ParseAccept(Packet{Type: Accept, Raw: far}); !errors.Is(err, ErrNotTNS) {
		t.Errorf("data far behind the end: %v", err)
	}
}

func TestRedirect(t *testing.T) {
	const to = "(DESCRIPTION=(ADDRESS=(PROTOCOL=tcp)(HOST=archive-b.saltmarsh.example)(PORT=1522)))"
	for _, c := range []struct {
		packet []byte
		want   Place
		more   int
		ok     bool
	}{
		{redirect(to), Place{Host: "archive-b.saltmarsh.example", Port: 1522, Text: to}, 0, true},
		{answer(Redirect, 2, "\x00\x5a"+to+"\x00(SERVICE)"), Place{Host: "archive-b.saltmarsh.example", Port: 1522, Text: to, Data: "(SERVI"}, 0, true},
		{answer(Redirect, 0, "\x00\x40"), Place{}, 64, true},
		{redirect("(HOST=a)(PORT=0)"), Place{}, 0, false}, {redirect("(HOST=a)(PORT=99999)"), Place{}, 0, false}, {redirect("(PORT=1)"), Place{}, 0, false},
		{answer(Redirect, 0, "\xff\xffabc"), Place{}, 0, false},
	} {
		place, more, err := ParseRedirect(Packet{Type: Redirect, Flags: c.packet[5], Raw: c.packet})
		if (err == nil) != c.ok || more != c.more || c.ok && place != c.want {
			t.Errorf("%q: %+v %d %v", c.packet, place, more, err)
		}
	}
}

// talk is a connection to a listener that has its answers ready.
type talk struct {
	io.Reader
	asked bytes.Buffer
}

func (c *talk) Write(p []byte) (int, error) { return c.asked.Write(p) }

func TestAsk(t *testing.T) {
	again := answer(Resend, 0, "")
	for _, c := range []struct {
		name  string
		said  []byte
		kind  Type
		asked int
		ok    bool
	}{
		{"accepts", accept(314, 0, ""), Accept, 1, true},
		{"asks again", append(bytes.Clone(again), refuse("(ERR=12514)")...), Refuse, 2, true},
		{"asks for ever", bytes.Repeat(again, 9), 0, 3, false},
		{"redirects", redirect("(HOST=a)(PORT=1)"), Redirect, 1, true},
		{"another kind", answer(Data, 0, "xx"), Data, 1, false},
		{"nothing", nil, 0, 1, false},
	} {
		conn := &talk{Reader: bytes.NewReader(c.said)}
		a, err := Ask(conn, Target{Service: "SKEIN"})
		if (err == nil) != c.ok || a.Type != c.kind || strings.Count(conn.asked.String(), "(SERVICE_NAME=SKEIN)") != c.asked {
			t.Errorf("%s: %+v, %v, asked %d times", c.name, a, err, strings.Count(conn.asked.String(), "SERVICE_NAME"))
		}
	}
}

// FuzzAnswers: whatever a listener answers is taken apart without harm, and what is
// accepted can be replayed.
func FuzzAnswers(f *testing.F) {
	f.Add(refuse("(DESCRIPTION=(VSNNUM=318767104)(ERR=12514))"))
	f.Add(redirect("(HOST=a)(PORT=1)"))
	f.Add(accept(317, 1, strings.Repeat("\x00", 24)))
	f.Add(answer(Resend, 8, ""))
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := Read(bytes.NewReader(b))
		if err != nil {
			if len(p.Raw) > len(b) && len(p.Raw) > 8 {
				t.Errorf("%d bytes out of %d", len(p.Raw), len(b))
			}
			return
		}
		if a, err := ParseAccept(p); err == nil && (len(a.Replay) < 32 || len(a.Replay) > len(p.Raw) || a.Version >= LongLengths && len(a.Replay) < 40) {
			t.Errorf("%x: replays %x", p.Raw, a.Replay)
		}
		if r, err := ParseRefuse(p); err == nil && r.Code < 0 {
			t.Errorf("%x: %+v", p.Raw, r)
		}
		if place, more, err := ParseRedirect(p); err == nil && more == 0 && (place.Port < 1 || place.Port > 65535 || place.Host == "") {
			t.Errorf("%x: %+v", p.Raw, place)
		}
	})
}
