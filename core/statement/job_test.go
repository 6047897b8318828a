package statement

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/engines"
)

// scripted is a server that answers by a statement's text.
type scripted struct {
	sent []string
	open bool
	ends string // of it the transaction ends without a word
}

func (s *scripted) InTransaction() bool { return s.open }
func (s *scripted) Took() time.Duration { return 0 }
func (s *scripted) Run(ctx context.Context, text engine.Statement, to engine.Results) error {
	s.sent = append(s.sent, text.Text)
	switch word := text.Text; {
	case word == "BEGIN":
		s.open = true
	case word == "COMMIT", word == "ROLLBACK", s.ends != "" && word == s.ends:
		s.open = false
	case word == "bad":
		return &engine.StatementError{Message: "bad", Position: 2}
	case word == "fatal":
		return &engine.StatementError{Message: "fatal", Fatal: true}
	case word == "lost":
		s.open = false
		return &engine.LostError{Err: errors.New("reset")}
	case word == "slow":
		<-ctx.Done()
		return errors.Join(context.Cause(ctx), &engine.StatementError{Message: "cancelled"})
	case word == "late":
		<-ctx.Done()
		return &engine.LostError{Err: errors.New("reset by the cancellation")}
	case word == "stuck":
		<-ctx.Done()
		return errors.Join(context.Cause(ctx), engine.ErrNotCancelled)
	}
	return to.End(engine.Outcome{Changed: -1})
}

// TestJob: what is sent, and how it ends, of scripts that go well and not.
func TestJob(t *testing.T) {
	by := engines.All().ByWord("postgresql").Statements
	for name, c := range map[string]struct {
		script string
		job    Job
		sent   string
		n      int
		ends   string // the error; "" for none
		failed string // the places of refused statements
	}{
		"well":            {"one; two", Job{}, "one two", 2, "", ""},
		"stops":           {"one;\n bad; two", Job{}, "one bad", 1, "a statement failed", "2:3"},
		"goes on":         {"bad; two", Job{KeepGoing: true}, "bad two", 1, "a statement failed", "1:2"},
		"fatal":           {"fatal; two", Job{KeepGoing: true}, "fatal", 0, "a statement failed", "1:0"},
		"atomic":          {"one; two", Job{Atomic: true}, "BEGIN one two COMMIT", 2, "", ""},
		"atomic, refused": {"one; bad; two", Job{Atomic: true}, "BEGIN one bad ROLLBACK", 1, "a statement failed", "1:7"},
		"atomic, ended":   {"one; quietly; two", Job{Atomic: true, Runner: &scripted{ends: "quietly"}}, "BEGIN one quietly", 1, "ended the transaction", ""},
		"left open":       {"BEGIN; one", Job{}, "BEGIN one ROLLBACK", 2, "which was rolled back", ""},
		"lost":            {"one; lost; two", Job{Atomic: true, KeepGoing: true}, "BEGIN one lost", 1, "is not known", ""},
		"too slow":        {"slow; two", Job{Timeout: time.Millisecond}, "slow", 0, "cancelled at the server after 1ms", ""},
		"too slow, lost":  {"late; two", Job{Timeout: time.Millisecond}, "late", 0, "cancelled at the server after 1ms", ""},
		"stuck":           {"BEGIN; stuck", Job{Timeout: time.Millisecond}, "BEGIN stuck ROLLBACK", 1, "may still be running at the server", ""},
		"broken":          {"BEGIN; 'x", Job{}, "BEGIN ROLLBACK", 1, "quotes are not closed", ""},
	} {
		t.Run(name, func(t *testing.T) {
			job := c.job
			if job.Runner == nil {
				job.Runner = &scripted{}
			}
			job.By, job.To = by, discard{}
			var failed []string
			job.Failed = func(f *Failure) { failed = append(failed, strings.Join([]string{itoa(f.Line), itoa(f.Column)}, ":")) }
			n, err := job.Run(context.Background(), NewSplitter(strings.NewReader(c.script), by.Lexis))
			if (err == nil) != (c.ends == "") || err != nil && !strings.Contains(err.Error(), c.ends) {
				t.Errorf("ends with %v", err)
			}
			if sent := strings.Join(job.Runner.(*scripted).sent, " "); sent != c.sent || n != c.n || strings.Join(failed, " ") != c.failed {
				t.Errorf("sent %q, %d went well, refused %q", sent, n, failed)
			}
		})
	}
}

func itoa(n int) string { return string(rune('0' + n)) }

// TestJobIsInterrupted: the end of a context is told from that of a statement's time.
func TestJobIsInterrupted(t *testing.T) {
	by := engines.All().ByWord("mysql").Statements
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Millisecond)
	defer stop()
	job := Job{Runner: &scripted{}, By: by, To: discard{}, Timeout: time.Hour}
	_, err := job.Run(ctx, NewSplitter(strings.NewReader("slow; two"), by.Lexis))
	var stopped *StopError
	if !errors.As(err, &stopped) || stopped.What != "the statement was cancelled at the server" || !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
}

// TestPrepare: a session is made read-only by its engine's statement.
func TestPrepare(t *testing.T) {
	server := &scripted{}
	job := Job{Runner: server, By: engines.All().ByWord("mysql").Statements}
	if err := job.Prepare(context.Background(), false); err != nil || len(server.sent) != 0 {
		t.Errorf("%v %q", err, server.sent)
	}
	if err := job.Prepare(context.Background(), true); err != nil || server.sent[0] != "SET SESSION TRANSACTION READ ONLY" {
		t.Errorf("%v %q", err, server.sent)
	}
	server = &scripted{}
	job = Job{Runner: server, By: engines.All().ByWord("oracle").Statements, To: discard{}}
	if err := job.Prepare(context.Background(), true); err != nil || len(server.sent) != 0 {
		t.Errorf("%v %q", err, server.sent)
	}
	script := NewSplitter(strings.NewReader("select 1 from dual; insert into a values (1);"), job.By.Lexis)
	_, err := job.Run(context.Background(), script)
	var stopped *StopError
	if !errors.As(err, &stopped) || !strings.Contains(stopped.What, "only SELECT, WITH are run") || len(server.sent) != 1 {
		t.Errorf("%v %q", err, server.sent)
	}
}
