package mysql

import (
	"context"
	"errors"
	"net"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	stages "gentleharbor/internal/testkit/talk"
	"gentleharbor/standin/mysql"
)

// part is a length-encoded text.
func part(text string) string { return string(appendNumber(nil, uint64(len(text)))) + text }

// head describes a column.
func head(name string, kind byte, charset, flags, decimals byte) string {
	return part("def") + part("") + part("") + part("") + part(name) + part(name) +
		string([]byte{12, charset, 0, 255, 0, 0, 0, kind, flags, 0, decimals, 0, 0})
}

const (
	done     = "\xfe\x00\x00\x02\x00\x00\x00" // the end of rows
	doneMore = "\xfe\x00\x00\x0a\x00\x00\x00" // with another result behind it
	okTwelve = "\x00\x0c\x00\x03\x00\x00\x00" // 12 rows changed, in a transaction
	okWarns  = "\x00\x00\x00\x02\x00\x01\x00" // with a warning
)

// packets are the answers to statements, by their text.
var packets = map[string][]string{
	"rows":   {"\x02", head("n", kindLong, 63, 0, 0), head("b", kindBlob, 63, 0, 0), part("7") + "\xfb", part("-8") + part("\x00\xff"), done},
	"two":    {"\x01", head("w", kindVarString, 45, 0, 0), part("a"), doneMore, "\x01", head("w", kindVarString, 45, 0, 0), done},
	"change": {okTwelve},
	"warns":  {okWarns},
	"SHOW WARNINGS LIMIT 100": {"\x03", head("Level", kindVarString, 45, 0, 0), head("Code", kindLong, 63, 0, 0), head("Message", kindVarString, 45, 0, 0),
		part("Note") + part("1051") + part("Unknown table"), done},
	"bad":    {"\xff\x1e\x04#42S22Unknown column 'sightings.nope' in 'SELECT'"},
	"file":   {"\xfb/etc/passwd", "\xff\x01\x04#HY000no"},
	"broken": {"\x01", "\x02"},
	"long":   {"\x01", head("w", kindVarString, 45, 0, 0), part(strings.Repeat("tide", 100_000)), done},
}

// answered is a server that answers by packets. A slow statement waits for KILL QUERY.
func answered() mysql.Config {
	c := rings()
	killed := make(chan string, 1)
	c.Answer = func(write func([]byte) error, command byte, body string) bool {
		all, ok := packets[body]
		switch {
		case command == comQuery && strings.HasPrefix(body, "KILL QUERY "):
			killed <- body
			all = []string{"\x00\x00\x00\x02\x00\x00\x00"}
		case command == comQuery && body == "slow":
			for _, p := range packets["rows"][:4] {
				write([]byte(p))
			}
			select {
			case <-killed:
			case <-time.After(3 * time.Second):
			}
			all = []string{"\xff\x25\x05#70100Query execution was interrupted"}
		case command == comPrepare:
			all = []string{"\x00\x01\x00\x00\x00\x02\x00\x02\x00\x00\x00\x00", head("?", kindVarString, 45, 0, 0), head("?", kindVarString, 45, 0, 0),
				head("a", kindVarString, 45, 0, 0), head("b", kindVarString, 45, 0, 0)}
			if strings.HasPrefix(body, "refused") {
				all = packets["bad"]
			}
		case command == comExecute: // the values come back: no NULL here
			const before = 4 + 5 + 1 + 1 + 4
			all = []string{"\x02", head("a", kindVarString, 45, 0, 0), head("b", kindVarString, 45, 0, 0), "\x00\x00" + body[before:], done}
		case command == comClose:
			return true
		case command != comQuery || !ok:
			return false
		}
		for _, p := range all {
			write([]byte(p))
		}
		return true
	}
	return c
}

// opened is a session for statements.
func opened(t *testing.T, change func(*engine.Target)) engine.Runner {
	t.Helper()
	c := with(t, answered(), Word, change)
	if c.Stage != "session" || c.Result.Outcome == finding.Fail {
		t.Fatalf("it ended at %s: %+v", c.Stage, c.Result.Finding)
	}
	return c.Conversation.(engine.Runner)
}

// TestRun: results, values, counts, warnings, transactions and refusals are told as the server has them.
func TestRun(t *testing.T) {
	t.Parallel()
	r := opened(t, nil)
	dunlin, empty := strings.Repeat("dunlin", 60), ""
	for _, c := range []struct {
		text   string
		values []*string
		told   string
		open   bool
		ends   string
	}{
		{"rows", nil, `[n int][b blob] 7 NULL -8 \x00ff (2 -1)`, false, ""},
		{"two", nil, "[w varchar] a (1 -1)[w varchar] (0 -1)", false, ""},
		{"change", nil, " (0 12)", true, ""},
		{"warns", nil, " (0 0 1 warned)<NOTE 1051 Unknown table>", false, ""},
		{"long", nil, "[w varchar] " + strings.Repeat("tide", 100_000) + " (1 -1)", false, ""},
		{"values", []*string{&dunlin, &empty}, "[a varchar][b varchar] " + dunlin + "  (1 -1)", false, ""},
		{"one value", []*string{&dunlin}, "", false, "the server expects 2 parameters; there are 1 values"},
		{"refused", []*string{&dunlin}, "", false, "Unknown column"},
		{"bad", nil, "", false, "Unknown column 'sightings.nope' in 'SELECT' (1054, SQLSTATE 42S22)"},
		{"rows", nil, `[n int][b blob] 7 NULL -8 \x00ff (2 -1)`, false, ""},
		{"broken", nil, "", false, "the connection was lost"},
	} {
		to := &stages.ResultLog{}
		err := r.Run(t.Context(), engine.Statement{Text: c.text, Arguments: c.values}, to)
		if (err == nil) != (c.ends == "") || err != nil && !strings.Contains(err.Error(), c.ends) {
			t.Errorf("%s ends with %v", c.text, err)
		}
		var said *engine.StatementError
		if errors.As(err, &said) && c.text == "bad" && said.Near != "nope" {
			t.Errorf("%s: %+v", c.text, said)
		}
		if to.String() != c.told || err == nil && r.InTransaction() != c.open || err == nil && r.Took() <= 0 {
			t.Errorf("%s tells %.200q; in a transaction: %v; took %s", c.text, to, r.InTransaction(), r.Took())
		}
	}
}

// TestRunSendsNoFile: a server that asks for a file in the middle of a statement gets none.
func TestRunSendsNoFile(t *testing.T) {
	t.Parallel()
	if err := opened(t, nil).Run(t.Context(), engine.Statement{Text: "file"}, &stages.ResultLog{}); err != errFileRefused {
		t.Errorf("%v", err)
	}
}

// TestRunIsCancelled: the end of a context has another login end the statement, and the session goes on.
func TestRunIsCancelled(t *testing.T) {
	t.Parallel()
	r := opened(t, nil)
	ctx, stop := context.WithTimeoutCause(t.Context(), 50*time.Millisecond, errors.New("the tide turned"))
	defer stop()
	err := r.Run(ctx, engine.Statement{Text: "slow"}, &stages.ResultLog{})
	if err == nil || !strings.Contains(err.Error(), "the tide turned") || errors.Is(err, engine.ErrNotCancelled) {
		t.Errorf("%v", err)
	}
	if err := r.Run(t.Context(), engine.Statement{Text: "rows"}, &stages.ResultLog{}); err != nil {
		t.Errorf("after a cancel: %v", err)
	}
	if err := r.Run(ctx, engine.Statement{Text: "rows"}, &stages.ResultLog{}); err == nil {
		t.Error("a statement is sent after its time")
	}
	full := errors.New("the disk is full")
	to := &stages.ResultLog{Fails: full}
	if err := r.Run(t.Context(), engine.Statement{Text: "slow"}, to); err == nil || to.Rows != 1 {
		t.Errorf("%v after %d rows", err, to.Rows)
	}
}

// TestRunCannotCancel: a statement that no second login could end is said to be one.
func TestRunCannotCancel(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(*engine.Target){
		"a second connection is not possible": func(to *engine.Target) { to.Redial = nil },
		"no second login": func(to *engine.Target) {
			redial := to.Redial
			to.Redial = func(ctx context.Context) (conn net.Conn, err error) {
				if conn, err = redial(ctx); err == nil {
					conn.Close()
				}
				return conn, err
			}
		},
	} {
		r := opened(t, change)
		ctx, stop := context.WithTimeout(t.Context(), 20*time.Millisecond)
		if err := r.Run(ctx, engine.Statement{Text: "slow"}, &stages.ResultLog{}); !errors.Is(err, engine.ErrNotCancelled) {
			t.Errorf("%s: %v", name, err)
		}
		stop()
	}
}

// TestBinaryValues: values in the binary form are the texts that the server would write.
func TestBinaryValues(t *testing.T) {
	for _, c := range []struct {
		column   column
		packet   string
		expected string
	}{
		{column{kind: kindTiny}, "\xff", "-1"},
		{column{kind: kindTiny, unsigned: true}, "\xff", "255"},
		{column{kind: kindShort}, "\x00\x80", "-32768"},
		{column{kind: kindInt24}, "\xff\xff\xff\xff", "-1"},
		{column{kind: kindLongLong, unsigned: true}, "\xff\xff\xff\xff\xff\xff\xff\xff", "18446744073709551615"},
		{column{kind: kindYear}, "\xea\x07", "2026"},
		{column{kind: kindFloat}, "\xcd\xcc\xcc\x3d", "0.1"},
		{column{kind: kindDouble}, "\x00\x00\x00\x00\x00\x00\xf0\x3f", "1"},
		{column{kind: kindDate}, "\x00", "0000-00-00"},
		{column{kind: kindDate}, "\x04\xea\x07\x02\x1c", "2026-02-28"},
		{column{kind: kindDateTime, decimals: 3}, "\x0b\xea\x07\x02\x1c\x17\x3b\x3a\x40\xe2\x01\x00", "2026-02-28 23:59:58.123"},
		{column{kind: kindTimestamp}, "\x07\xea\x07\x02\x1c\x17\x3b\x3a", "2026-02-28 23:59:58"},
		{column{kind: kindTime}, "\x08\x01\x22\x00\x00\x00\x16\x3b\x3a", "-838:59:58"},
		{column{kind: kindTime, decimals: 6}, "\x00", "00:00:00.000000"},
	} {
		r := packetReader{rest: []byte(c.packet)}
		if got := string(c.column.appendBinary(nil, &r)); got != c.expected || r.err != nil || len(r.rest) > 0 {
			t.Errorf("kind %d of %x is %q, %v, not %q", c.column.kind, c.packet, got, r.err, c.expected)
		}
	}
}

// FuzzResults: no packet of a server makes the reader panic.
func FuzzResults(f *testing.F) {
	for _, all := range packets {
		for _, p := range all {
			f.Add([]byte(p))
		}
	}
	f.Fuzz(func(_ *testing.T, p []byte) {
		if len(p) == 0 {
			return // the wire refuses it
		}
		readColumn(p)
		readEnd(p, true)
		readEnd(p, false)
		if p[0] == isErr {
			readError(p)
		}
		for _, kind := range []byte{kindLong, kindDateTime, kindTime, kindVarString, kindBlob} {
			a := &answerReader{conversation: &conversation{}, columns: make([]column, 3), row: make([][]byte, 3)}
			for i := range a.columns {
				a.columns[i].kind, a.columns[i].Binary = kind, kind == kindBlob
			}
			a.values(p)
			a.binary = true
			a.values(p)
		}
	})
}
