package oracle

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	stages "gentleharbor/internal/testkit/talk"
	"gentleharbor/standin/oracle"
)

// answers are those of the stand-in.
func answers(q oracle.Question) *oracle.Answer {
	switch {
	case strings.Contains(q.SQL, "killed"):
		return &oracle.Answer{Code: 28, Message: "ORA-00028: your session has been killed"}
	case strings.Contains(q.SQL, "birds"):
		return &oracle.Answer{Columns: []string{"SPECIES", "NOTE"}, Rows: [][]string{{"dunlin", "x"}, {"knot", ""}}}
	case strings.Contains(q.SQL, "values"):
		return &oracle.Answer{Columns: []string{"A"}, Rows: [][]string{{strings.Join(q.Values, "|")}}}
	case strings.HasPrefix(q.SQL, "update"):
		return &oracle.Answer{Changed: 3}
	case strings.HasPrefix(q.SQL, "begin"), strings.HasPrefix(q.SQL, "create"):
		return &oracle.Answer{}
	case strings.Contains(q.SQL, "nowhere"):
		return &oracle.Answer{Code: 942, Message: "ORA-00942: table or view does not exist"}
	case strings.Contains(q.SQL, "slow"):
		return &oracle.Answer{Wait: time.Minute}
	}
	return nil
}

// runner logs in.
func runner(t *testing.T) engine.Runner {
	t.Helper()
	config := archive()
	config.Answer = answers
	talk := with(t, config, func(to *engine.Target) { to.ForStatements = true })
	if talk.Stage != "" && talk.Result.Finding != nil {
		t.Fatalf("%s: %+v", talk.Stage, talk.Result.Finding)
	}
	return talk.Conversation.(engine.Runner)
}

func texts(values ...string) (all []*string) {
	for _, v := range values {
		all = append(all, &v)
	}
	return all
}

func TestRun(t *testing.T) {
	t.Parallel()
	r := runner(t)
	for _, c := range []struct {
		text   string
		values []*string
		want   string
	}{
		{"select * from birds", nil, "[SPECIES NCHAR][NOTE NCHAR] dunlin x knot NULL (2 -1)"},
		{"/* a */ -- b\n (select * from birds)", nil, "[SPECIES NCHAR][NOTE NCHAR] dunlin x knot NULL (2 -1)"},
		{"select values(:1, :2) from dual", texts("x'; drop table a --", "ü"), "[A NCHAR] x'; drop table a --|ü (1 -1)"},
		{"update a set b = 1", nil, " (0 3)"}, {"begin null; end;", nil, " (0 -1)"}, {"create table a(b number)", nil, " (0 -1)"},
	} {
		to := &stages.ResultLog{}
		if err := r.Run(t.Context(), engine.Statement{Text: c.text, Arguments: c.values}, to); err != nil || to.String() != c.want {
			t.Errorf("%s: %v %q, not %q", c.text, err, to.String(), c.want)
		}
	}
	var said *engine.StatementError
	err := r.Run(t.Context(), engine.Statement{Text: "select * from nowhere"}, &stages.ResultLog{})
	if !errors.As(err, &said) || said.Code != "ORA-00942" || said.Message != "table or view does not exist" || said.Fatal {
		t.Errorf("%#v", err)
	}
	if err := r.Run(t.Context(), engine.Statement{Text: "update killed set a = 1"}, &stages.ResultLog{}); !errors.As(err, &said) || !said.Fatal {
		t.Errorf("%#v", err)
	}
}

// TestTransaction: what is between BEGIN and its end is the driver's transaction.
func TestTransaction(t *testing.T) {
	t.Parallel()
	r := runner(t)
	for _, end := range []string{"COMMIT", "ROLLBACK"} {
		for i, text := range []string{"BEGIN", "update a set b = 1", end} {
			if err := r.Run(t.Context(), engine.Statement{Text: text}, &stages.ResultLog{}); err != nil {
				t.Fatal(err)
			}
			if open := i < 2; r.InTransaction() != open {
				t.Errorf("after %s a transaction is open: %v", text, !open)
			}
		}
	}
}

// TestCancel: a statement is broken off at the server, and the session goes on.
func TestCancel(t *testing.T) {
	t.Parallel()
	r := runner(t)
	ctx, stop := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer stop()
	start := time.Now()
	err := r.Run(ctx, engine.Statement{Text: "select slow from dual"}, &stages.ResultLog{})
	if !errors.Is(err, context.DeadlineExceeded) || time.Since(start) > 4*time.Second {
		t.Errorf("%v after %s", err, time.Since(start))
	}
	to := &stages.ResultLog{}
	if err := r.Run(t.Context(), engine.Statement{Text: "select * from birds"}, to); err != nil || !strings.Contains(to.String(), "dunlin") {
		t.Errorf("after it: %v %q", err, to.String())
	}
	if err := r.Run(ctx, engine.Statement{Text: "select * from birds"}, &stages.ResultLog{}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
}

// TestWritten: values as text.
func TestWritten(t *testing.T) {
	at := time.Date(2026, 2, 28, 23, 59, 59, 120000000, time.FixedZone("", 5*3600+45*60))
	for _, c := range []struct {
		value any
		kind  string
		want  string
	}{
		{"12345678901234567890.123456789", "NUMBER", "12345678901234567890.123456789"}, {[]byte{0, 255}, "RAW", `\x00ff`}, {at, "DATE", "2026-02-28 23:59:59.12"},
		{at, "TimeStampTZ_DTY", "2026-02-28 23:59:59.12 +05:45"}, {1e-300, "IBDouble", "1e-300"}, {float32(0.1), "IBFloat", "0.1"}, {int64(7), "", "7"},
	} {
		if got := string(formatValue(c.value, c.kind)); got != c.want {
			t.Errorf("%v is %q, not %q", c.value, got, c.want)
		}
	}
	if formatValue(nil, "") != nil || formatValue([]byte(nil), "RAW") != nil {
		t.Error("NULL is a value")
	}
}

// TestProvision plans against the simulated server's dictionary: a locked account, one without the right to log in, and
// rights on a table.
func TestProvision(t *testing.T) {
	dictionary := func(status, session string, rights ...string) engine.Ask {
		return func(_ context.Context, question string, _ ...string) ([][]string, error) {
			switch {
			case strings.Contains(question, "dba_users") && status == "":
				return nil, nil
			case strings.Contains(question, "dba_users"):
				return [][]string{{status}}, nil
			case strings.Contains(question, "dba_sys_privs"):
				return [][]string{{session}}, nil
			case strings.Contains(question, "all_objects"):
				return [][]string{{strconv.Itoa(strings.Count(question, "'SPECIES'"))}}, nil
			}
			var rows [][]string
			for _, r := range rights {
				rows = append(rows, []string{r})
			}
			return rows, nil
		}
	}
	for _, c := range []struct {
		plan engine.Planner
		ask  engine.Ask
		wish engine.DesiredState
		want string
	}{
		{planUnlock, dictionary("LOCKED(TIMED)", "1"), engine.DesiredState{User: "curator"}, "ALTER USER CURATOR ACCOUNT UNLOCK"},
		{planUnlock, dictionary("OPEN", "0"), engine.DesiredState{User: "Odd Name"}, `GRANT CREATE SESSION TO "Odd Name"`},
		{planUnlock, dictionary("OPEN", "1"), engine.DesiredState{User: "curator"}, ""},
		{planUnlock, dictionary("", ""), engine.DesiredState{User: "curator"}, "the account curator"},
		{planRights, dictionary("OPEN", "1"), engine.DesiredState{User: "curator", Access: engine.AccessRead}, "-on OWNER.TABLE"},
		{planRights, dictionary("OPEN", "1"), engine.DesiredState{User: "curator", Access: engine.AccessRead, Tables: []string{"species"}}, "needs its owner"},
		{planRights, dictionary("OPEN", "1"), engine.DesiredState{User: "curator", Access: engine.AccessRead, Tables: []string{"ringer.moults"}}, "no table ringer.moults"},
		{planRights, dictionary("OPEN", "1", "SELECT"), engine.DesiredState{User: "curator", Access: engine.AccessWrite, Tables: []string{"ringer.species"}}, "GRANT INSERT, UPDATE, DELETE ON RINGER.SPECIES TO CURATOR"},
		{planRights, dictionary("OPEN", "1", "SELECT"), engine.DesiredState{User: "curator", Access: engine.AccessRead, Tables: []string{"ringer.species"}}, ""},
	} {
		p, err := c.plan(t.Context(), c.ask, &c.wish)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			got = strings.Join(p.Missing, "")
			for _, one := range p.Changes {
				got += one.Text
			}
		}
		if c.want == "" && got != "" || !strings.Contains(got, c.want) {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
}
