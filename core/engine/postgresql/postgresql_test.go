package postgresql

import (
	"bytes"
	"errors"
	"io"
	"net"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// login is what a server sends during a login with SCRAM, and a row after it.
func login(t testing.TB) []byte {
	t.Helper()
	var all []byte
	for _, m := range []pgproto3.BackendMessage{
		&pgproto3.AuthenticationSASL{AuthMechanisms: []string{"SCRAM-SHA-256"}}, &pgproto3.AuthenticationSASLContinue{Data: []byte("r=x,s=y,i=1")},
		&pgproto3.AuthenticationSASLFinal{Data: []byte("v=z")}, &pgproto3.AuthenticationOk{},
		&pgproto3.ParameterStatus{Name: "server_version", Value: "15"}, &pgproto3.ReadyForQuery{TxStatus: 'I'}, &pgproto3.DataRow{Values: [][]byte{[]byte("R\x00\x00\x00\x08")}},
	} {
		var err error
		if all, err = m.Encode(all); err != nil {
			t.Fatal(err)
		}
	}
	return all
}

// TestObserver reads the same login in pieces of every kind: it sees the same
// messages, and hands on the same bytes.
func TestObserver(t *testing.T) {
	all := login(t)
	for name, r := range map[string]io.Reader{"whole": bytes.NewReader(all), "bytes": iotest.OneByteReader(bytes.NewReader(all)), "halves": iotest.HalfReader(bytes.NewReader(all)), "with the end": iotest.DataErrReader(bytes.NewReader(all))} {
		var codes []uint32
		o := &observer{Reader: r, onAuth: func(code uint32, _ []byte) error { codes = append(codes, code); return nil }}
		got, err := io.ReadAll(iotest.HalfReader(o))
		if err != nil || !bytes.Equal(got, all) {
			t.Errorf("%s: %d of %d bytes, %v", name, len(got), len(all), err)
		}
		if len(codes) != 4 || codes[0] != pgproto3.AuthTypeSASL || codes[3] != pgproto3.AuthTypeOk {
			t.Errorf("%s: saw %v", name, codes)
		}
	}
}

// TestObserverHoldsBack: the driver does not see a request that is refused.
func TestObserverHoldsBack(t *testing.T) {
	request, _ := (&pgproto3.AuthenticationCleartextPassword{}).Encode(nil)
	o := &observer{Reader: bytes.NewReader(request), onAuth: func(uint32, []byte) error { return errCleartext }}
	if n, err := o.Read(make([]byte, 64)); n != 0 || !errors.Is(err, errCleartext) {
		t.Errorf("%d bytes, %v", n, err)
	}
	o = &observer{Reader: strings.NewReader("R\x7f\xff\xff\xff...."), onAuth: func(uint32, []byte) error { return nil }}
	if n, err := o.Read(make([]byte, 64)); n != 0 || err == nil {
		t.Errorf("a message of two gigabytes: %d bytes, %v", n, err)
	}
}

func FuzzObserver(f *testing.F) {
	f.Add(login(f))
	f.Fuzz(func(t *testing.T, data []byte) {
		o := &observer{Reader: iotest.HalfReader(bytes.NewReader(data)), onAuth: func(uint32, []byte) error { return nil }}
		got, _ := io.ReadAll(o) // an end in the middle is one
		if !bytes.HasPrefix(data, got) {
			t.Errorf("%q became %q", data, got)
		}
	})
}

// TestChosen: the method told is the one that the driver answered with.
func TestChosen(t *testing.T) {
	response, _ := (&pgproto3.SASLInitialResponse{AuthMechanism: "SCRAM-SHA-256-PLUS", Data: []byte("p=tls-server-end-point,,n=,r=x")}).Encode(nil)
	var out bytes.Buffer
	a := &attempt{method: methodSCRAM, choosing: true}
	w := &mechanismReader{&out, a}
	w.Write([]byte("X"))
	w.Write(response)
	w.Write([]byte("p\x00\x00\x00\x09more\x00"))
	if a.method != "SCRAM-SHA-256-PLUS" || out.Len() != 1+len(response)+10 {
		t.Errorf("%q, %d bytes", a.method, out.Len())
	}
}

// TestResumed: the driver's own startup message is taken off, and only that.
func TestResumed(t *testing.T) {
	c := &conversation{to: engine.Target{User: "warden", Database: "sightings"}}
	ours, theirs := net.Pipe()
	defer ours.Close()
	go func() {
		defer theirs.Close()
		io.Copy(theirs, theirs)
	}()
	r := &resumedConn{Conn: ours, read: []byte("early")}
	if n, err := r.Write(c.startup()); err != nil || n != len(c.startup()) {
		t.Fatal(err)
	}
	got := make([]byte, 3)
	for _, want := range []string{"ear", "ly"} {
		if n, err := r.Read(got); err != nil || string(got[:n]) != want {
			t.Errorf("%q %v", got[:n], err)
		}
	}
	go r.Write([]byte("abc"))
	if n, err := io.ReadFull(r, got); err != nil || string(got[:n]) != "abc" {
		t.Errorf("%q %v", got[:n], err)
	}
	if _, err := (&resumedConn{Conn: ours}).Write([]byte("no startup message")); err == nil {
		t.Error("something else was taken off")
	}
}

func TestNotReady(t *testing.T) {
	c := &conversation{}
	for text, want := range map[string]string{
		"the database system is starting up": "speak.starting", "the database system is shutting down": "speak.stopping",
		"the database system is in recovery mode": "speak.recovering", "the database system is not yet accepting connections": "speak.recovering",
		"das Datenbanksystem startet": "speak.starting",
	} {
		if got := c.notReady(&pgconn.PgError{Code: "57P03", Message: text}); string(got.Code) != want {
			t.Errorf("%s: %s", text, got.Code)
		}
	}
}

func TestQuoting(t *testing.T) {
	for name, want := range map[string]string{"warden": "warden", "Warden": `"Warden"`, `a"b`: `"a""b"`, "summer-help": `"summer-help"`, "1st": `"1st"`, "": `""`} {
		if got := identifier(name); got != want {
			t.Errorf("%q: %s", name, got)
		}
	}
	if got := array([]string{"a", `b"c\d`, "", "e,f"}); got != `{"a","b\"c\\d","","e,f"}` {
		t.Error(got)
	}
}

func FuzzParseError(f *testing.F) {
	m, _ := (&pgproto3.ErrorResponse{Severity: "FATAL", Code: "57P03", Message: "no"}).Encode(nil)
	f.Add(m)
	f.Fuzz(func(t *testing.T, data []byte) {
		if e := (&conversation{}).parseError(data); e != nil && strings.ContainsAny(serverText(e), "\n\x1b") {
			t.Errorf("%q", serverText(e))
		}
	})
}

func TestExplain(t *testing.T) {
	past, future, yes, no := time.Now().Add(-time.Hour), time.Now().Add(time.Hour), true, false
	for _, c := range []struct {
		account account
		want    string
	}{
		{account{near: []string{"warden"}}, "login.no-such-role"},
		{account{exists: true}, "login.no-login-right"},
		{account{exists: true, mayLogIn: true, validUntil: &past}, "login.expired"},
		{account{exists: true, mayLogIn: true, validUntil: &future, password: &no}, "login.no-password-set"},
		{account{exists: true, mayLogIn: true, validUntil: &future, password: &yes}, "login.password"},
		{account{exists: true, mayLogIn: true, password: &yes, stored: "MD5"}, "login.other-hash"},
		{account{exists: true, mayLogIn: true, password: &yes, stored: "SCRAM-SHA-256"}, "login.password"},
		{account{exists: true, mayLogIn: true}, "login.password"},
	} {
		found := finding.New("login.password", "one of many causes")
		c.account.explain(engine.Refusal{Profile: "tides", User: `ward"en`, Method: "SCRAM-SHA-256", By: "looked up: ", Finding: found})
		if string(found.Code) != c.want || !strings.Contains(strings.Join(found.Seen, ""), "looked up: ") {
			t.Errorf("%+v: %+v", c.account, found)
		}
		for _, try := range found.Try {
			if strings.Contains(try, "ROLE") && !strings.Contains(try, `ROLE "ward""en" `) {
				t.Errorf("the role's name is not quoted for SQL: %s", try)
			}
		}
	}
}
