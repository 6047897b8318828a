package postgresql

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
	"gentleharbor/internal/testkit/talk"
	"gentleharbor/standin/postgresql"
)

// answered is a server that answers statements by a script. A slow one waits for its cancellation.
func answered(cancelled chan []byte) postgresql.Config {
	c := birds()
	c.Cancelled = func(key []byte) { cancelled <- key }
	c.Answer = func(to *pgproto3.Backend, statement string, values [][]byte) bool {
		ready := &pgproto3.ReadyForQuery{TxStatus: 'I'}
		number := pgproto3.FieldDescription{Name: []byte("n"), DataTypeOID: 23, DataTypeSize: 4, TypeModifier: -1}
		word := pgproto3.FieldDescription{Name: []byte("w"), DataTypeOID: 25, DataTypeSize: -1, TypeModifier: -1}
		head := &pgproto3.RowDescription{Fields: []pgproto3.FieldDescription{number, word}}
		row := &pgproto3.DataRow{Values: [][]byte{[]byte("7"), nil}}
		switch statement {
		case "rows":
			to.Send(&pgproto3.NoticeResponse{Severity: "NOTICE", Code: "00000", Message: "low tide"})
			to.Send(head)
			to.Send(row)
			to.Send(row)
			to.Send(&pgproto3.CommandComplete{CommandTag: []byte("SELECT 2")})
		case "two":
			for range 2 {
				to.Send(head)
				to.Send(&pgproto3.CommandComplete{CommandTag: []byte("SELECT 0")})
			}
		case "values":
			to.Send(head)
			to.Send(&pgproto3.DataRow{Values: values})
			to.Send(&pgproto3.CommandComplete{CommandTag: []byte("SELECT 1")})
		case "insert":
			to.Send(&pgproto3.CommandComplete{CommandTag: []byte("INSERT 0 12")})
			ready.TxStatus = 'T'
		case "copy", "copy bad":
			to.Send(&pgproto3.CopyInResponse{ColumnFormatCodes: []uint16{0}})
			to.Flush()
			var data []byte
			for {
				message, err := to.Receive()
				if err != nil {
					return true
				}
				if part, ok := message.(*pgproto3.CopyData); ok {
					data = append(data, part.Data...)
					continue
				}
				break
			}
			if statement == "copy" {
				to.Send(&pgproto3.NoticeResponse{Severity: "NOTICE", Code: "00000", Message: string(data)})
				to.Send(&pgproto3.CommandComplete{CommandTag: []byte("COPY 2")})
			} else {
				to.Send(&pgproto3.ErrorResponse{Severity: "ERROR", Code: "22P02", Message: "no", Where: "COPY hide, line 2, column id: \"x\""})
			}
		case "create":
			to.Send(&pgproto3.CommandComplete{CommandTag: []byte("CREATE TABLE")})
		case "bad":
			to.Send(&pgproto3.ErrorResponse{Severity: "ERROR", Code: "42703", Message: "no column", Detail: "d", Hint: "h", Position: 3})
			ready.TxStatus = 'E'
		case "slow":
			to.Send(head)
			to.Send(row)
			to.Flush()
			select {
			case <-cancelled:
			case <-time.After(3 * time.Second):
				return true
			}
			to.Send(&pgproto3.ErrorResponse{Severity: "ERROR", Code: "57014", Message: "cancelled"})
		case "ends":
			to.Send(&pgproto3.ErrorResponse{Severity: "FATAL", Code: "57P01", Message: "the tide is out"})
			to.Flush()
			return true
		default:
			return false
		}
		to.Send(ready)
		to.Flush()
		return true
	}
	return c
}

// opened is a session for statements.
func opened(t *testing.T, c postgresql.Config, change func(*engine.Target)) engine.Runner {
	t.Helper()
	conversation := with(t, c, func(to *engine.Target) {
		to.ForStatements = true
		if change != nil {
			change(to)
		}
	})
	if conversation.Stage != "session" || conversation.Result.Outcome == finding.Fail {
		t.Fatalf("it ended at %s: %+v", conversation.Stage, conversation.Result.Finding)
	}
	return conversation.Conversation.(engine.Runner)
}

// TestRun: results, values, counts, notices, transactions and refusals are told as the server has them.
func TestRun(t *testing.T) {
	t.Parallel()
	r := opened(t, answered(make(chan []byte, 1)), nil)
	dunlin := "dunlin"
	for _, c := range []struct {
		text   string
		values []*string
		told   string
		open   bool
		ends   string
	}{
		{"rows", nil, "<NOTICE 00000 low tide>[n integer][w text] 7 NULL 7 NULL (SELECT 2 -1)", false, ""},
		{"two", nil, "[n integer][w text] (SELECT 0 -1)[n integer][w text] (SELECT 0 -1)", false, ""},
		{"values", []*string{&dunlin, nil}, "[n integer][w text] dunlin NULL (SELECT 1 -1)", false, ""},
		{"insert", nil, " (INSERT 0 12)", true, ""},
		{"create", nil, " (CREATE TABLE 0 -1)", false, ""},
		{"bad", nil, "", true, "no column (SQLSTATE 42703)"},
		{"ends", nil, "", true, "the tide is out (SQLSTATE 57P01)"},
		{"rows", nil, "", true, "the connection was lost"},
	} {
		to := &talk.ResultLog{}
		err := r.Run(t.Context(), engine.Statement{Text: c.text, Arguments: c.values}, to)
		if (err == nil) != (c.ends == "") || err != nil && !strings.Contains(err.Error(), c.ends) {
			t.Errorf("%s ends with %v", c.text, err)
		}
		var said *engine.StatementError
		if errors.As(err, &said) && (c.text == "bad") != (said.Position == 3 && said.Hint == "h" && said.Detail == "d" && !said.Fatal) {
			t.Errorf("%s: %+v", c.text, said)
		}
		if to.String() != c.told || err == nil && r.InTransaction() != c.open || err == nil && r.Took() <= 0 {
			t.Errorf("%s tells %q; in a transaction: %v; took %s", c.text, to, r.InTransaction(), r.Took())
		}
	}
}

// TestRunIsCancelled: the end of a context cancels the statement at the server, encrypted as the session is, and
// the session goes on.
func TestRunIsCancelled(t *testing.T) {
	t.Parallel()
	for _, rule := range []tlsrule.Rule{tlsrule.Off, tlsrule.Offered} {
		cancelled := make(chan []byte, 1)
		config := answered(cancelled)
		if rule != tlsrule.Off {
			config.TLS, _, _ = talk.ServerTLS(t)
		}
		r := opened(t, config, func(to *engine.Target) { to.TLS = talk.Plan(t, tlsrule.Settings{Rule: rule}) })
		ctx, stop := context.WithTimeoutCause(t.Context(), 50*time.Millisecond, errors.New("the tide turned"))
		err := r.Run(ctx, engine.Statement{Text: "slow"}, &talk.ResultLog{})
		stop()
		if err == nil || !strings.Contains(err.Error(), "the tide turned") || errors.Is(err, engine.ErrNotCancelled) {
			t.Errorf("%s: %v", rule, err)
		}
		if err := r.Run(t.Context(), engine.Statement{Text: "rows"}, &talk.ResultLog{}); err != nil {
			t.Errorf("%s: after a cancel: %v", rule, err)
		}
		if err := r.Run(ctx, engine.Statement{Text: "rows"}, &talk.ResultLog{}); err == nil {
			t.Error("a statement is sent after its time")
		}
		full := errors.New("the disk is full")
		to := &talk.ResultLog{Fails: full}
		if err := r.Run(t.Context(), engine.Statement{Text: "slow"}, to); !errors.Is(err, full) || to.Rows != 1 {
			t.Errorf("%s: %v after %d rows", rule, err, to.Rows)
		}
	}
	r := opened(t, answered(make(chan []byte, 1)), func(to *engine.Target) { to.Redial = nil })
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer stop()
	if err := r.Run(ctx, engine.Statement{Text: "slow"}, &talk.ResultLog{}); !errors.Is(err, engine.ErrNotCancelled) {
		t.Errorf("without a second connection: %v", err)
	}
}

// TestTake: data goes to the server as it is, and what it refuses has its place in the data.
func TestTake(t *testing.T) {
	t.Parallel()
	r := opened(t, answered(make(chan []byte, 1)), nil).(engine.DataReceiver)
	to := &talk.ResultLog{}
	if err := r.Take(t.Context(), "copy", strings.NewReader("1 ebb;2 flood"), to); err != nil || to.String() != "<NOTICE 00000 1 ebb;2 flood> (COPY 0 2)" {
		t.Errorf("%v %q", err, to.String())
	}
	var said *engine.StatementError
	if err := r.Take(t.Context(), "copy bad", strings.NewReader("1\nx\n"), to); !errors.As(err, &said) || said.DataLine != 2 || said.Column != "id" {
		t.Errorf("%#v", err)
	}
}
