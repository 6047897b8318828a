package probe

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
	"gentleharbor/internal/testkit/talk"
)

// greetings are those of the engine, whose servers speak first, and of one that answers a word.
var greetings = greeting.Set{
	{
		Engine: "mysql",
		Recognise: func(p []byte) (greeting.Service, bool) {
			return greeting.Service{Engine: "mysql", What: "a MySQL server"}, len(p) > 4 && p[4] == 10
		},
	},
	{
		Engine:   "redis",
		Protocol: "Redis'",
		Opening:  func() []byte { return []byte("PING\r\n\r\n") },
		Recognise: func(p []byte) (greeting.Service, bool) {
			return greeting.Service{Engine: "redis", What: "a Redis server"}, strings.HasPrefix(string(p), "+PONG")
		},
	},
}

// at is an opening on one end of a pipe, and the other end; other connections
// get answer.
func at(answer string) (*Probe, net.Conn) {
	ours, theirs := net.Pipe()
	redial := func(context.Context) (net.Conn, error) {
		here, there := net.Pipe()
		go func() {
			buffer := make([]byte, 64)
			if n, _ := there.Read(buffer); n > 0 && answer != "" {
				io.WriteString(there, answer)
			}
			there.Close()
		}()
		return here, nil
	}
	return &Probe{To: engine.Target{Profile: "moult", Address: "127.0.0.1:3306", Network: "tcp", Redial: redial, Greetings: greetings}, Conn: ours, Word: "mysql", Name: "MySQL",
		Ours: []string{"mysql", "mariadb"}, Protocol: "MySQL's"}, theirs
}

func TestListen(t *testing.T) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	o, theirs := at("+PONG\r\n")
	read := func() ([]byte, error) {
		buffer := make([]byte, 16)
		n, err := o.Conn.Read(buffer)
		return buffer[:n], err
	}
	go io.WriteString(theirs, "at once")
	if reply, other, err := o.Listen(ctx, read); string(reply) != "at once" || other != nil || err != nil {
		t.Errorf("%q %v %v", reply, other, err)
	}
	// Silence, until it is asked in another protocol.
	if reply, other, _ := o.Listen(ctx, read); len(reply) != 0 || other == nil || other.Engine != "redis" {
		t.Errorf("%q %v", reply, other)
	}
	// The engine's own server, only slow, is not taken for another.
	slow, behind := at("\x4a\x00\x00\x00\x0a8.0.36\x00zz")
	go func() { time.Sleep(600 * time.Millisecond); io.WriteString(behind, "late") }()
	late, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	if reply, other, _ := slow.Listen(late, func() ([]byte, error) {
		buffer := make([]byte, 16)
		n, err := slow.Conn.Read(buffer)
		return buffer[:n], err
	}); string(reply) != "late" || other != nil {
		t.Errorf("%q %v", reply, other)
	}
}

func TestWhatItIs(t *testing.T) {
	ctx := context.Background()
	for name, c := range map[string]struct {
		answer string
		result func(*Probe) string
		want   string
	}{
		"by its bytes":      {"", func(o *Probe) string { return string(o.ExplainAnswer(ctx, []byte("SSH-2.0-x\r\n")).Finding.Code) }, "speak.other-engine"},
		"when asked":        {"+PONG\r\n", func(o *Probe) string { return string(o.ExplainAnswer(ctx, []byte("??")).Finding.Code) }, "speak.other-engine"},
		"nothing known":     {"", func(o *Probe) string { return string(o.ExplainAnswer(ctx, []byte("??")).Finding.Code) }, "speak.garbage"},
		"TLS at once":       {"", func(o *Probe) string { return string(o.ExplainAnswer(ctx, []byte{21, 3, 1, 0, 2, 2, 70}).Finding.Code) }, "speak.tls-only"},
		"closed":            {"", func(o *Probe) string { return string(o.Nothing(ctx, io.EOF).Finding.Code) }, "speak.closed"},
		"closed, and Redis": {"+PONG\r\n", func(o *Probe) string { return string(o.Nothing(ctx, io.EOF).Finding.Code) }, "speak.other-engine"},
		"silent":            {"", func(o *Probe) string { return string(o.Nothing(ctx, os.ErrDeadlineExceeded).Finding.Code) }, "speak.silent"},
	} {
		o, theirs := at(c.answer)
		theirs.Close()
		if got := c.result(o); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
	o, _ := at("")
	o.To.Redial = nil
	if _, ok := o.Identify(ctx); ok {
		t.Error("something was identified without a connection")
	}
}

func TestLastError(t *testing.T) {
	inner := errors.New("remote error: tls: bad certificate")
	for _, err := range []error{fmt.Errorf("a: %w", fmt.Errorf("b: %w", inner)), errors.Join(errors.New("x"), inner)} {
		if LastError(err) != inner.Error() || !strings.Contains(ClientCertificateAlert(err), "bad certificate") {
			t.Errorf("%v: %s", err, LastError(err))
		}
	}
	if ClientCertificateAlert(io.EOF) != "" {
		t.Error("an end is no alert")
	}
}

// TestFirstTLS: a port that speaks TLS from the first byte is not asked without a strict rule; one that does not is told
// by another connection.
func TestFirstTLS(t *testing.T) {
	for rule, strict := range map[tlsrule.Rule]bool{tlsrule.Off: false, tlsrule.Offered: false, tlsrule.Required: true, tlsrule.Verified: true} {
		o, theirs := at("+PONG\r\n")
		o.To.TLS = &tlsrule.Plan{Settings: tlsrule.Settings{Rule: rule}}
		o.To.TLS.Now = time.Now
		if o.Strict() != strict {
			t.Errorf("%s is strict: %v", rule, o.Strict())
		}
		go func() { // it waits for the rest of what it takes for a command
			io.Copy(io.Discard, theirs)
		}()
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		plain := func(_ context.Context, conn net.Conn) bool {
			io.WriteString(conn, "PING\r\n\r\n")
			n, _ := conn.Read(make([]byte, 16))
			return n > 0
		}
		words := FirstTLS{Plain: plain, Question: "PING", Server: "x", Versions: "y"}
		words.Behind = func(context.Context, net.Conn) finding.Result {
			t.Error("it is encrypted")
			return finding.Good("")
		}
		facts, result := o.Encrypt(ctx, &engine.Facts{}, words)
		cancel()
		switch {
		case facts != nil:
			t.Error("it is encrypted")
		case !strict && result.Outcome != finding.OK, strict && (result.Finding == nil || result.Finding.Code != finding.TLSNotOffered):
			t.Errorf("%s: %+v", rule, result)
		}
	}
}

// TestFirstTLSTrust: a server whose certificate is not trusted is asked nothing behind the handshake; another one is,
// and its answer counts.
func TestFirstTLSTrust(t *testing.T) {
	served, _, _ := talk.ServerTLS(t)
	silent := finding.FailWith(finding.New(finding.SpeakSilent, "it says nothing"))
	for _, c := range []struct {
		rule   tlsrule.Rule
		spoken finding.Result
		asked  bool
		want   finding.Outcome
	}{
		{tlsrule.Verified, finding.Good(""), false, finding.Fail}, // by an authority that nobody knows
		{tlsrule.Required, finding.Good(""), true, finding.OK},
		{tlsrule.Required, silent, true, finding.Fail},
	} {
		o, theirs := at("")
		o.To.TLS = &tlsrule.Plan{Settings: tlsrule.Settings{Rule: c.rule, Name: "127.0.0.1"}}
		o.To.TLS.Now = time.Now
		go tls.Server(theirs, served).Handshake()
		asked, facts := false, engine.Facts{}
		_, result := o.Encrypt(t.Context(), &facts, FirstTLS{
			Plain: func(context.Context, net.Conn) bool { return false },
			Behind: func(_ context.Context, secure net.Conn) finding.Result {
				asked = secure != nil
				return c.spoken
			},
		})
		if asked != c.asked || result.Outcome != c.want && !(c.want == finding.OK && result.Outcome == finding.Warn) {
			t.Errorf("%s: asked %v, %+v", c.rule, asked, result)
		}
		if facts.TLS == "" {
			t.Errorf("%s: the handshake is not noted: %+v", c.rule, facts)
		}
	}
}

// TestHead: the first bytes are kept until it is done.
func TestHead(t *testing.T) {
	h := &Head{Reader: strings.NewReader("+PONG\r\nmore")}
	io.ReadFull(h, make([]byte, 7))
	h.Done = true
	io.ReadAll(h)
	if string(h.Bytes) != "+PONG\r\n" {
		t.Errorf("%q", h.Bytes)
	}
}

// TestEndedAtLogin: an alert about the client's certificate, the end of the time, and an end without a reason.
func TestEndedAtLogin(t *testing.T) {
	o, _ := at("")
	ended, stop := context.WithCancel(t.Context())
	stop()
	for _, c := range []struct {
		ctx  context.Context
		err  error
		want finding.Code
	}{
		{t.Context(), errors.New("remote error: tls: bad certificate"), finding.TLSClientCertificate},
		{t.Context(), os.ErrDeadlineExceeded, finding.LoginTimeout},
		{ended, io.EOF, finding.LoginTimeout},
		{t.Context(), io.EOF, finding.LoginBrokenOff},
	} {
		o.To.TLS = &tlsrule.Plan{}
		if found := o.EndedAtLogin(c.ctx, &engine.Facts{}, "password", c.err); found.Code != c.want {
			t.Errorf("%v: %s, want %s", c.err, found.Code, c.want)
		}
	}
}
