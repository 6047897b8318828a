package mysql

import (
	"bytes"
	"context"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"gentleharbor/core/deadline"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// mariadb is the greeting of a real MariaDB 10.11, mysql8 of a MySQL 8.0.
const (
	mariadb = "\x5a\x00\x00\x00\x0a5.5.5-10.11.6-MariaDB\x00\x25\x00\x00\x00saltsalt\x00\xfe\xf7\x2d\x02\x00\xff\x81\x15\x00\x00\x00\x00\x00\x00\x1d\x00\x00\x00saltsaltsalt\x00mysql_native_password\x00"
	mysql8  = "\x4a\x00\x00\x00\x0a8.0.36\x00\x08\x00\x00\x00saltsalt\x00\xff\xff\xff\x02\x00\xff\xdf\x15\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00saltsaltsalt\x00caching_sha2_password\x00"
)

// sized gives a packet its real length.
func sized(packet string) []byte {
	p := []byte(packet)
	p[0], p[1], p[2] = byte(len(p)-4), byte((len(p)-4)>>8), 0
	return p
}

func TestParseFirst(t *testing.T) {
	h, r, err := parseFirst(sized(mariadb))
	if err != nil || r != nil || !h.mariadb || h.number() != "10.11.6" || h.id != 37 || h.plugin != "mysql_native_password" || h.caps&capTLS != 0 {
		t.Errorf("%+v %v %v", h, r, err)
	}
	if p := h.forDriver(); bytes.Equal(p, h.packet) || len(p) != len(h.packet) {
		t.Error("MariaDB's own capabilities reach the driver")
	}
	h, _, err = parseFirst(sized(mysql8))
	if err != nil || h.mariadb || h.version != "8.0.36" || h.plugin != "caching_sha2_password" || h.caps&capTLS == 0 || !bytes.Equal(h.forDriver(), h.packet) {
		t.Errorf("%+v %v", h, err)
	}
	if request := h.tlsRequest(); len(request) != 36 || request[3] != 1 || request[4]&capLocalFiles != 0 || request[5]&(capTLS>>8) == 0 {
		t.Errorf("the request for TLS: %x", request)
	}
	_, r, err = parseFirst(sized("\x00\x00\x00\x00\xff\x10\x04#08004Too many connections"))
	if err != nil || r.Number != 1040 || r.State != "08004" || r.Message != "Too many connections" {
		t.Errorf("%+v %v", r, err)
	}
	_, r, err = parseFirst(sized("\x00\x00\x00\x00\xff\x69\x04Host 'x' is blocked"))
	if err != nil || r.Number != hostBlocked || quotedWord(r.Message) != "x" {
		t.Errorf("%+v %v", r, err)
	}
	for _, bad := range []string{"\x00\x00\x00\x00\x0a", "\x00\x00\x00\x00\x0a8.0.36", "\x00\x00\x00\x00\x0aabc\x00", "\x00\x00\x00\x01" + mysql8[4:], mysql8[:40], "\x00\x00\x00\x00\x09old\x00", "\x00\x00\x00\x00\xff"} {
		if h, r, err := parseFirst(sized(bad)); err == nil {
			t.Errorf("%q: %+v %+v", bad, h, r)
		}
	}
}

// TestFailedWrite: time that is over before a statement is sent is time that is over, and no lost session.
func TestFailedWrite(t *testing.T) {
	t.Parallel()
	here, there := net.Pipe()
	defer here.Close()
	defer there.Close()
	here.SetWriteDeadline(time.Now().Add(-time.Second))
	c := &conversation{replay: &replayConn{Conn: here, done: true}}
	err := c.guardCall(func() error {
		if _, err := c.replay.Write([]byte{1, 0, 0, 0, 3}); err == nil {
			t.Error("written after the deadline")
		}
		return driver.ErrInvalidConn
	})
	if !deadline.Passed(err) {
		t.Errorf("%v", err)
	}
}

func FuzzParseFirst(f *testing.F) {
	f.Add(sized(mariadb))
	f.Add(sized(mysql8))
	f.Add(sized("\x00\x00\x00\x00\xff\x10\x04#08004Too many connections"))
	f.Fuzz(func(t *testing.T, p []byte) {
		h, r, err := parseFirst(p)
		if (h != nil) == (r != nil) && err == nil {
			t.Errorf("%x: %+v %+v", p, h, r)
		}
		if h != nil {
			h.forDriver()
			h.tlsRequest()
			h.number()
		}
		if r != nil && strings.ContainsAny(r.text(), "\x1b\n\x00") {
			t.Errorf("%q", r.text())
		}
	})
}

func TestHostFits(t *testing.T) {
	for _, c := range []struct {
		pattern, seen string
		want          bool
	}{
		{"%", "127.0.0.1", true}, {"localhost", "localhost", true}, {"LOCALHOST", "localhost", true}, {"localhost", "127.0.0.1", false},
		{"10.%", "10.1.2.3", true}, {"10.%", "110.1.2.3", false}, {"10._.2.3", "10.1.2.3", true}, {"10._.2.3", "10.11.2.3", false},
		{"10.0.0.0/255.0.0.0", "10.9.8.7", true}, {"10.0.0.0/255.0.0.0", "11.9.8.7", false}, {"10.0.0.0/8", "10.9.8.7", true}, {"10.0.0.0/8", "gate.saltmarsh.example", false},
		{"%.saltmarsh.example", "gate.saltmarsh.example", true}, {"2001:db8::/32", "2001:db8::1", true}, {"10.0.0.0/x", "10.0.0.1", false},
	} {
		if got := hostFits(c.pattern, c.seen); got != c.want {
			t.Errorf("%s for %s: %v", c.pattern, c.seen, got)
		}
	}
	order := []account{{"bander", "127.0.0.1"}, {"bander", "10.0.0.0/8"}, {"", "10.1.%"}, {"bander", "10.%"}, {"bander", "%"}, {"", "%"}}
	for i := range len(order) - 1 {
		if before(order[i], order[i+1]) >= 0 {
			t.Errorf("%v does not come before %v", order[i], order[i+1])
		}
	}
}

func TestGlobalRights(t *testing.T) {
	r := globalRights([]string{"GRANT SELECT, SUPER, READ_ONLY ADMIN ON *.* TO `a`@`%` IDENTIFIED BY PASSWORD 'x'", "GRANT ALL PRIVILEGES ON `moult`.* TO `a`@`%`"})
	if !r["SUPER"] || !r["READ_ONLY ADMIN"] || r["ALL PRIVILEGES"] {
		t.Errorf("%v", r)
	}
	if !expiredNow("… PASSWORD EXPIRE ACCOUNT LOCK") || expiredNow("… PASSWORD EXPIRE NEVER") || expiredNow("… PASSWORD EXPIRE INTERVAL 3 DAY") {
		t.Error("expiry is misread")
	}
	if got := literal(`it's \ "so"`); got != `'it''s \\ "so"'` {
		t.Error(got)
	}
}

// TestReplay: the driver's numbers are those of a connection without TLS, and a
// wish for a file ends it.
func TestReplay(t *testing.T) {
	ours, theirs := net.Pipe()
	defer ours.Close()
	defer theirs.Close()
	h, _, err := parseFirst(sized(mysql8))
	if err != nil {
		t.Fatal(err)
	}
	var seen [][]byte
	s := &replayConn{Conn: ours, ready: h.forDriver(), shift: 1, caps: h.loginCaps(true), driver: h.caps & driverCaps, collation: utf8mb4, answer: func(b []byte) error { seen = append(seen, b); return nil }}
	buffer := make([]byte, 4096)
	if n, err := io.ReadFull(s, buffer[:len(h.packet)]); err != nil || !bytes.Equal(buffer[:n], h.packet) {
		t.Fatalf("%x %v", buffer[:n], err)
	}
	exchange := func(write, want string, reply string, reads string) {
		t.Helper()
		got := make(chan string, 1)
		go func() {
			p := make([]byte, len(want))
			io.ReadFull(theirs, p)
			got <- string(p)
			io.WriteString(theirs, reply)
		}()
		if n, err := s.Write([]byte(write)); err != nil || n != len(write) {
			t.Fatalf("%d %v", n, err)
		}
		if p := <-got; p != want {
			t.Errorf("the server got %q, want %q", p, want)
		}
		if n, err := io.ReadFull(s, buffer[:len(reads)]); err != nil || string(buffer[:n]) != reads {
			t.Errorf("the driver got %q (%v), want %q", buffer[:n], err, reads)
		}
	}
	login := append([]byte{36, 0, 0, 1}, make([]byte, 36)...)
	caps := h.caps & driverCaps
	login[4], login[5], login[6], login[7] = byte(caps), byte(caps>>8), byte(caps>>16), byte(caps>>24)
	wire := bytes.Clone(login)
	wire[3], wire[4], wire[5], wire[12] = 2, wire[4]&^capLocalFiles, wire[5]|capTLS>>8, utf8mb4
	exchange(string(login), string(wire), "\x02\x00\x00\x03\x01\x04", "\x02\x00\x00\x02\x01\x04")
	exchange("\x01\x00\x00\x03x", "\x01\x00\x00\x04x", "\x01\x00\x00\x05\x00", "\x01\x00\x00\x04\x00")
	exchange("\x01\x00\x00\x00\x0e", "\x01\x00\x00\x00\x0e", "\x01\x00\x00\x01\x00", "\x01\x00\x00\x01\x00")
	if len(seen) != 2 {
		t.Errorf("%d packets of the login were looked at", len(seen))
	}
	go io.WriteString(theirs, "\x05\x00\x00\x01\xfb/etc")
	theirs.SetDeadline(time.Now().Add(time.Second))
	if _, err := s.Read(buffer); err == nil || err.Error() != errLocalFile.Error() {
		t.Errorf("%v", err)
	}
}

// TestWholeNonce: a nonce that ends with a zero reaches the driver whole.
func TestWholeNonce(t *testing.T) {
	for _, nonce := range []string{strings.Repeat("n", 32), strings.Repeat("n", 31) + "\x00"} {
		packet := sized("\x00\x00\x00\x02\xfeclient_ed25519\x00" + nonce)
		if got := wholeNonce(bytes.Clone(packet)); string(got[4:]) != string(packet[4:])+"\x00" || packetSize(got) != len(got) {
			t.Errorf("%q became %q", packet, got)
		}
	}
	for _, other := range []string{"\x00\x00\x00\x02\xfemysql_native_password\x00" + strings.Repeat("n", 20) + "\x00", "\x00\x00\x00\x02\x00", "\x00\x00\x00\x02\xfeclient_ed25519\x00short"} {
		if packet := sized(other); !bytes.Equal(wholeNonce(bytes.Clone(packet)), packet) {
			t.Errorf("%q was changed", packet)
		}
	}
	// The whole way: what the driver signs is 32 bytes, so it goes on to send.
	ask := sized("\x00\x00\x00\x02\xfeclient_ed25519\x00" + strings.Repeat("n", 31) + "\x00")
	if code, seen := talk(sized(mariadb), append(ask, "\x09\x00\x00\x04\xff\x15\x04#28000"...)); code != "login.password" {
		t.Errorf("%s, seen %s", code, seen)
	}
}

// talk runs a whole login and session against a server that greets, and then
// sends reply whatever is asked.
func talk(greeting, reply []byte) (login, session string) {
	ours, theirs := net.Pipe()
	defer theirs.Close()
	go func() {
		theirs.Write(greeting)
		buffer := make([]byte, 4096)
		for len(reply) > 0 {
			if _, err := theirs.Read(buffer); err != nil {
				return
			}
			// A packet, or what is left where there is no whole one.
			size := len(reply)
			if size >= 4 {
				size = min(size, packetSize(reply))
			}
			if _, err := theirs.Write(reply[:size]); err != nil {
				return
			}
			reply = reply[size:]
		}
		theirs.Close()
	}()
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	c := Begin("mysql")(ours, engine.Target{Profile: "moult", User: "bander", Database: "moult", Network: "tcp", Address: "127.0.0.1:3306", TLS: &tlsrule.Plan{Settings: tlsrule.Settings{Rule: tlsrule.Off}},
		TakeSecret: func(context.Context) (secret.Value, error) { return secret.NewValue("knot"), nil }})
	defer c.Close()
	for _, stage := range []func(context.Context) finding.Result{c.Speak, c.Login, c.Database, c.Session} {
		if r := stage(ctx); r.Outcome == finding.Fail {
			return string(r.Finding.Code), strings.Join(r.Finding.Seen, "|")
		}
	}
	return "", ""
}

// TestHostileAnswers: lengths that can't be, in places where the driver trusts
// them.
func TestHostileAnswers(t *testing.T) {
	ok := "\x07\x00\x00\x02\x00\x00\x00\x02\x00\x00\x00"
	for name, c := range map[string]struct{ reply, code, seen string }{
		"columns without end": {ok + "\x09\x00\x00\x01\xfe\xff\xff\xff\xff\xff\xff\xff\x7f", "session.lost", "more than 4096 columns"},
		"many columns":        {ok + "\x03\x00\x00\x01\xfc\xff\xff", "session.lost", "more than 4096 columns"},
		"an empty packet":     {ok + "\x00\x00\x00\x01", "session.lost", ""},
		"half a length":       {ok + "\x01\x00\x00\x01\x01\x02\x00\x00\x02\xfe\xff\x02\x00\x00\x03\xfe\xff", "session.lost", ""},
		"a negative length":   {ok + "\x01\x00\x00\x01\x01\x0a\x00\x00\x02\xfe\xff\xff\xff\xff\xff\xff\xff\xff\x00", "session.lost", ""},
		"an error of a byte":  {"\x01\x00\x00\x02\xff", "login.broken-off", ""},
		"a switch to nothing": {"\x02\x00\x00\x02\xfe\x00", "login.unsupported-method", ""},
		"a file":              {ok + "\x02\x00\x00\x01\xfbx", "session.asks-for-file", "\"x\""},
		"a large packet":      {ok + "\xff\xff\x7f\x01", "session.lost", "are allowed"},
	} {
		code, seen := talk(sized(mariadb), []byte(c.reply))
		if code != c.code || !strings.Contains(seen, c.seen) {
			t.Errorf("%s: %s, seen %s", name, code, seen)
		}
	}
}

// FuzzAnswers: whatever a server sends ends in a finding or a session.
func FuzzAnswers(f *testing.F) {
	f.Add([]byte("\x07\x00\x00\x02\x00\x00\x00\x02\x00\x00\x00\x01\x00\x00\x01\x01"))
	f.Add([]byte("\x2c\x00\x00\x02\xfecaching_sha2_password\x00saltsaltsaltsaltsalt\x00"))
	f.Add([]byte("\x02\x00\x00\x02\x01\x04"))
	f.Fuzz(func(t *testing.T, reply []byte) { talk(sized(mysql8), reply) })
}

// TestProxyHeaderRefused: a refused PROXY header is named wherever its refusal is read, whatever its number.
func TestProxyHeaderRefused(t *testing.T) {
	for _, number := range []uint16{hostNotAllowed, 1156} {
		r := &refusal{Number: number, Message: "Proxy header is not accepted from 127.0.0.1"}
		if found := (&conversation{}).refusedFirst(r); found.Code != finding.SpeakProxyHeader {
			t.Errorf("error %d is %s", number, found.Code)
		}
	}
}

// TestSSLSwitches: what an option file's switches ask for becomes a TLS rule.
func TestSSLSwitches(t *testing.T) {
	for text, want := range map[string]string{
		"skip-ssl": "DISABLED", "ssl": "REQUIRED", "ssl=0": "DISABLED", "disable-ssl": "DISABLED", "ssl\nssl-verify-server-cert": "VERIFY_IDENTITY",
		"ssl-verify-server-cert\nssl": "VERIFY_IDENTITY", "loose-ssl-mode=VERIFY_CA": "VERIFY_CA", "ssl\nskip-ssl": "DISABLED", "skip_ssl\nssl": "REQUIRED",
		"ssl\nssl-verify-server-cert\nskip-ssl-verify-server-cert": "REQUIRED", "compress": "", "ssl-mode=DISABLED": "DISABLED",
	} {
		path := filepath.Join(t.TempDir(), "my.cnf")
		os.WriteFile(path, []byte("[client]\nuser=u\n"+text+"\n"), 0o600)
		sections, err := readOptions(path)
		if err != nil || len(sections) != 1 {
			t.Fatalf("%q: %v %v", text, sections, err)
		}
		got := ""
		for _, pair := range sections[0].Pairs {
			if pair[0] == "ssl-mode" {
				got = pair[1]
			}
		}
		if got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}
