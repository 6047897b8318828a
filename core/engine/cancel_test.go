package engine

import (
	"context"
	"errors"
	"net"
	"testing"
	"time"

	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
)

// stages is a conversation whose stages end as they are told to. passed are those that it came through.
type stages struct {
	Conversation // what LogIn does not use

	ends   map[string]finding.Code
	passed []string
	close  func()
}

func (s *stages) Close() { s.close() }

func (s *stages) stage(name string) finding.Result {
	if code := s.ends[name]; code != "" {
		return finding.FailWith(finding.New(code, "it ends here"))
	}
	s.passed = append(s.passed, name)
	return finding.Good("")
}

func (s *stages) Speak(context.Context) finding.Result { return s.stage("speak") }
func (s *stages) Login(context.Context) finding.Result { return s.stage("login") }
func (s *stages) Encrypt(context.Context) (*tlsrule.Facts, finding.Result) {
	return nil, s.stage("tls")
}

func TestLogIn(t *testing.T) {
	for _, c := range []struct {
		stage  string
		code   finding.Code
		passed int
		ends   bool
	}{
		{"", "", 3, false},
		{"speak", finding.SpeakBusy, 2, false}, // who is to end the script gets in
		{"speak", finding.SpeakSilent, 0, true},
		{"tls", finding.TLSNotOffered, 1, true},
		{"login", finding.LoginPassword, 2, true},
	} {
		s := &stages{ends: map[string]finding.Code{c.stage: c.code}}
		found := LogIn(t.Context(), s)
		if len(s.passed) != c.passed || c.ends != (found != nil) || c.ends && found.Code != c.code {
			t.Errorf("%+v: %v, after %q", c, found, s.passed)
		}
	}
}

// TestCancellable: the server is told when the context ends; where that can't be, nothing is waited for.
func TestCancellable(t *testing.T) {
	for _, refused := range []error{nil, errors.New("no second connection")} {
		ctx, stop := context.WithCancelCause(t.Context())
		ours, theirs := net.Pipe()
		defer theirs.Close()
		why, told := errors.New("Ctrl-C"), make(chan bool, 1)
		err := Cancellable(ctx, ours, func() error { told <- true; return refused }, func() error {
			stop(why)
			<-told
			if refused == nil {
				theirs.Close() // the server ends what ran
			}
			_, err := ours.Read(make([]byte, 1))
			return err
		})
		if !errors.Is(err, why) || errors.Is(err, ErrNotCancelled) != (refused != nil) {
			t.Errorf("refused by %v: %v", refused, err)
		}
	}
	ended, stop := context.WithCancel(t.Context())
	stop()
	if err := Cancellable(ended, nil, nil, func() error { t.Error("it runs"); return nil }); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}

// TestAtServer: the time of the way is not the server's.
func TestAtServer(t *testing.T) {
	way := 50.0
	sent := time.Now().Add(-80 * time.Millisecond)
	if with, without := (&Facts{RoundTrip: &way}).AtServer(sent), (&Facts{}).AtServer(sent); without-with < 40*time.Millisecond {
		t.Errorf("%s with the way, %s without it", without, with)
	}
}

// TestSecond: without a way to dial again there is no second connection.
func TestSecond(t *testing.T) {
	if _, err := (&Target{}).Second(t.Context()); err == nil {
		t.Error("a connection from nowhere")
	}
}

// TestLogInAgain: a login that fails leaves no connection behind.
func TestLogInAgain(t *testing.T) {
	for _, code := range []finding.Code{"", finding.LoginPassword} {
		ours, theirs := net.Pipe()
		target := &Target{Redial: func(context.Context) (net.Conn, error) { return ours, nil }}
		closed := false
		begin := func(conn net.Conn, _ Target) *stages {
			return &stages{ends: map[string]finding.Code{"login": code}, close: func() { closed = conn.Close() == nil }}
		}
		again, err := LogInAgain(t.Context(), target, begin)
		if refused := code != ""; refused != (err != nil) || refused != closed || refused != (again == nil) {
			t.Errorf("%q: %v, closed %v", code, err, closed)
		}
		theirs.Close()
	}
}

// TestMeasureTrips: trips that were made are not made again; a failure measures nothing.
func TestMeasureTrips(t *testing.T) {
	for have, want := range []int{3, 2, 1, 0, 0} {
		var f Facts
		asked := 0
		err := f.MeasureTrips(make([]time.Duration, have), func() error { asked++; return nil })
		if err != nil || asked != want || f.RoundTrip == nil {
			t.Errorf("with %d trips: %d asked, %v", have, asked, err)
		}
	}
	var f Facts
	if err := f.MeasureTrips(nil, func() error { return net.ErrClosed }); !errors.Is(err, net.ErrClosed) || f.RoundTrip != nil {
		t.Error(err)
	}
}
