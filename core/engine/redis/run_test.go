package redis

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/secret"
	stages "gentleharbor/internal/testkit/talk"
	"gentleharbor/standin/redis"
)

// TestRun: each kind of answer is rows of its own kind.
func TestRun(t *testing.T) {
	t.Parallel()
	c, _ := with(t, redis.Config{}, nil)
	for _, one := range [][2]string{
		{`SET station:1 "North Creek"`, " (SET 0 -1)"},
		{"GET station:1", "[value ] North Creek (GET 1 -1)"},
		{"GET nothing", "[value ] NULL (GET 1 -1)"},
		{"HSET bird english knot latin 'Calidris canutus'", "[value ] 2 (HSET 1 -1)"},
		{"HGETALL bird", "[name ][value ] english knot latin Calidris canutus (HGETALL 2 -1)"},
		{"RPUSH counts 1 2", "[value ] 2 (RPUSH 1 -1)"},
		{"LRANGE counts 0 -1", "[value ] 1 2 (LRANGE 2 -1)"},
		{`SET bytes "\xff\x00"`, " (SET 0 -1)"},
		{"GET bytes", `[value ] \xff00 (GET 1 -1)`},
		{`SET odd "\\x41"`, " (SET 0 -1)"},
		{"GET odd", `[value ] \x5c783431 (GET 1 -1)`},
		{"SLOWLOG GET", `[value ] [1,1795000000,12500,["KEYS","station:*"]] (SLOWLOG 1 -1)`},
		{"PING", "[value ] PONG (PING 1 -1)"},
	} {
		got, err := c.Run(t.Context(), one[0])
		if err != nil || got != one[1] {
			t.Errorf("%s: %q, %v, want %q", one[0], got, err, one[1])
		}
	}
	if got, err := c.Run(t.Context(), "GET "+parameter(1), "station:1"); err != nil || !strings.Contains(got, "North Creek") {
		t.Errorf("with a value: %q, %v", got, err)
	}
	var refused *engine.StatementError
	if _, err := c.Run(t.Context(), "KIWIT"); !errors.As(err, &refused) || refused.Code != "ERR" {
		t.Errorf("%v", err)
	}
	for _, text := range []string{"SUBSCRIBE x", "auth x", "MONITOR", "CLIENT REPLY OFF", `GET "x`, ""} {
		if _, err := c.Run(t.Context(), text); !errors.As(err, &refused) || refused.Code != "" {
			t.Errorf("%s is sent: %v", text, err)
		}
	}
}

// TestTransaction: what is queued is told, and whether it can still be carried out.
func TestTransaction(t *testing.T) {
	t.Parallel()
	c, _ := with(t, redis.Config{}, nil)
	r := c.Conversation.(engine.Runner)
	c.Run(t.Context(), "MULTI")
	if got, _ := c.Run(t.Context(), "SET a x"); got != " (SET queued 0 -1)" || !r.InTransaction() {
		t.Errorf("%q, open: %v", got, r.InTransaction())
	}
	c.Run(t.Context(), "INCR a")
	got, err := c.Run(t.Context(), "EXEC")
	var refused *engine.StatementError
	if !errors.As(err, &refused) || !strings.Contains(refused.Hint, "others") && refused.Hint == "" || r.InTransaction() {
		t.Errorf("%q, %v", got, err)
	}
	c.Run(t.Context(), "MULTI")
	c.Run(t.Context(), "DISCARD")
	if r.InTransaction() || r.(engine.AbortReporter).TransactionFailed() {
		t.Error("a transaction that was discarded is open")
	}
}

// TestMoved: a key at another server of a cluster is asked for there only where the profile lists the server.
func TestMoved(t *testing.T) {
	t.Parallel()
	_, other := with(t, redis.Config{Password: stages.Password}, nil)
	address := fmt.Sprint("127.0.0.1:", other.Port())
	for _, listed := range []bool{false, true} {
		before := other.Connections()
		c, _ := with(t, redis.Config{Fault: redis.Moved, MovedTo: address, Password: stages.Password}, func(to *engine.Target) {
			to.Follow = func(ctx context.Context, host string, port int) (net.Conn, string, bool, error) {
				if !listed {
					return nil, "", false, nil
				}
				conn, err := net.Dial("tcp", net.JoinHostPort(host, strconv.Itoa(port)))
				return conn, address, true, err
			}
		})
		got, err := c.Run(t.Context(), "SET station:1 x")
		var refused *engine.StatementError
		switch {
		case listed && (err != nil || other.Connections() == before):
			t.Errorf("%q, %v", got, err)
		case !listed && (!errors.As(err, &refused) || !strings.Contains(refused.Hint, "not among")):
			t.Errorf("%q, %v", got, err)
		case !listed && other.Connections() != before:
			t.Error("a server that is not listed was connected to")
		}
	}
}

// TestStops: a Results that fails ends the giving, and the next command is answered; a connection that ends is lost.
func TestStops(t *testing.T) {
	t.Parallel()
	c, server := with(t, redis.Config{}, nil)
	c.Run(t.Context(), "RPUSH counts 1 2 3")
	told := stages.ResultLog{Fails: errors.New("enough")}
	err := c.Conversation.(engine.Runner).Run(t.Context(), engine.Statement{Text: "LRANGE counts 0 -1"}, &told)
	if err == nil || err.Error() != "enough" || told.Rows != 1 {
		t.Errorf("%v after %d rows", err, told.Rows)
	}
	if got, err := c.Run(t.Context(), "PING"); err != nil || !strings.Contains(got, "PONG") {
		t.Errorf("%q, %v", got, err)
	}
	server.Close()
	var lost *engine.LostError
	if _, err := c.Run(t.Context(), "PING"); !errors.As(err, &lost) {
		t.Errorf("%v", err)
	}
}

// TestCatalogue: each kind has its columns, and one that tells the system's own.
func TestCatalogue(t *testing.T) {
	t.Parallel()
	c, _ := with(t, users(), nil)
	for _, text := range []string{"SET station:1 x", "SET station:2 xyz EX 500", "HSET bird a b", "RPUSH counts 1"} {
		c.Run(t.Context(), text)
	}
	widths := map[engine.Kind]int{
		engine.KindDatabases: 8, engine.KindKeys: 6, engine.KindAccounts: 7, engine.KindAccess: 6, engine.KindActivity: 11,
		engine.KindSlow: 6, engine.KindSettings: 6,
	}
	for _, kind := range catalogue.Kinds {
		rows, less, err := catalogue.Read(t.Context(), c.Conversation.(engine.Runner), kind, c.Facts(), "")
		if err != nil || less != nil || len(rows) == 0 || len(rows[0]) != widths[kind] {
			t.Errorf("%s: %q, %v, %v", kind, rows, less, err)
		}
		if strings.Contains(fmt.Sprintf("%q", rows), stages.Password) {
			t.Errorf("%s has the password: %q", kind, rows)
		}
	}
	rows, _, err := catalogue.Read(t.Context(), c.Conversation.(engine.Runner), engine.KindKeys, c.Facts(), "station:*")
	if err != nil || len(rows) != 2 || string(rows[0][1]) != "string" || rows[1][4] == nil && rows[0][4] == nil {
		t.Errorf("%q, %v", rows, err)
	}
}

// TestRules: what a command may destroy, whether it has a password and whether it only reads.
func TestRules(t *testing.T) {
	t.Parallel()
	words := func(text string) (all []string) {
		args, err := splitLine([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range args {
			all = append(all, strings.ToUpper(string(a.Value)))
		}
		return all
	}
	for text, want := range map[string][3]bool{ // destroys, has a password, reads
		"GET a": {false, false, true}, "set a b": {}, "DEL a": {true, false, false}, "FLUSHALL": {true, false, false},
		"CONFIG GET save": {false, false, true}, "CONFIG SET requirepass x": {true, true, false}, "CONFIG SET save ''": {true, false, false},
		"AUTH x": {true, true, false}, "ACL SETUSER a >b": {true, true, false}, "ACL WHOAMI": {false, false, true}, "KIWIT": {true, false, false},
		"HELLO 3 AUTH a b": {true, true, false}, "SHUTDOWN": {true, false, false}, "EVAL 'x' 0": {true, false, false},
		"MIGRATE h 1 k 0 5 AUTH2 a b": {true, true, false}, "ACL LOG RESET": {true, false, false}, "SORT a STORE b": {},
	} {
		w := words(text)
		if got := [3]bool{riskOf(w) != "", hasPassword(w), reads(w)}; got != want {
			t.Errorf("%s: destroys, secret, reads = %v, want %v", text, got, want)
		}
	}
	if selectedDatabase(words("select 3")) != "3" || selectedDatabase(words("GET 3")) != "" {
		t.Error("where a session goes on is wrong")
	}
}

// TestLine: arguments are read as servers read them, and written so that they are read again.
func TestLine(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		`GET a`: "GET|a", `  GET   "a b" 'c\'d' `: "GET|a b|c'd", `ECHO "\x41\n\"\\"`: "ECHO|A\n\"\\", `ECHO ""`: "ECHO|",
		`SET a b"c"`: "SET|a|bc", "": "", `ECHO '\x41'`: `ECHO|\x41`,
	} {
		args, err := splitLine([]byte(line))
		var all []string
		for _, a := range args {
			all = append(all, string(a.Value))
		}
		if got := strings.Join(all, "|"); err != nil || got != want {
			t.Errorf("%s: %q, %v", line, got, err)
		}
	}
	for line, at := range map[string]int{`GET "a`: 4, `GET "a"b`: 7, "GET \x00": 4} {
		var wrong *engine.ArgumentError
		if _, err := splitLine([]byte(line)); !errors.As(err, &wrong) || wrong.At != at {
			t.Errorf("%q: %v", line, err)
		}
	}
}

func FuzzLine(f *testing.F) {
	f.Add("GET a")
	f.Add(`"\xff" 'a' b`)
	f.Fuzz(func(t *testing.T, text string) {
		for _, write := range []func(string) string{quoteArgument, formatArgument} {
			args, err := splitLine([]byte("x " + write(text)))
			if err != nil || len(args) != 2 || string(args[1].Value) != text {
				t.Errorf("%q is written %s, and read as %v, %v", text, write(text), args, err)
			}
		}
		splitLine([]byte(text))
	})
}

// TestProvision: what is missing is planned, without the password, and nothing where all is there.
func TestProvision(t *testing.T) {
	t.Parallel()
	c, _ := with(t, users(), nil)
	ask := func(ctx context.Context, question string, values ...string) ([][]string, error) {
		var rows asked
		err := c.Conversation.(engine.Runner).Run(ctx, engine.Statement{Text: question}, &rows)
		return rows, err
	}
	password := secret.NewValue("curlew")
	for _, one := range []struct {
		plan engine.Planner
		user string
		want string
	}{
		{planAccount, "new", "ACL SETUSER new reset on #[hidden]"},
		{planAccount, "warden", "ACL SETUSER warden resetpass #[hidden]"},
		{planUnlock, "off", "ACL SETUSER off on"},
		{planUnlock, "warden", ""},
		{planUnlock, "nobody", "missing"},
		{planDropAccount, "warden", "ACL DELUSER warden"},
		{planDropAccount, "nobody", "missing"},
		{planPassword, "", "ACL SETUSER default resetpass #[hidden]"},
		{planDropOld, "warden", ""},
		{planRevoke, "warden", "ACL SETUSER warden resetkeys resetchannels nocommands"},
		{planRights, "new", "ACL SETUSER new &* +@read +@write +@connection +@transaction +@pubsub +@scripting -@dangerous +info ~*"},
	} {
		p, err := one.plan(t.Context(), ask, &engine.DesiredState{User: one.user, Password: password, Facts: c.Facts(), Access: engine.AccessWrite})
		if err != nil {
			t.Errorf("%s: %v", one.want, err)
			continue
		}
		got := ""
		for _, change := range p.Changes {
			got = change.Shown
			if strings.Contains(change.Text+change.Shown, "curlew") || strings.Contains(change.Shown, hashOf(password)) {
				t.Errorf("%s shows the password", change.Shown)
			}
		}
		if len(p.Missing) > 0 {
			got = "missing"
		}
		if got != one.want {
			t.Errorf("%q, want %q", got, one.want)
		}
	}
	if _, err := planDropAccount(t.Context(), ask, &engine.DesiredState{}); err == nil {
		t.Error("the default user is dropped")
	}
}

// asked keeps the rows of an answer.
type asked [][]string

func (a *asked) Begin([]engine.Column) error { return nil }
func (a *asked) End(engine.Outcome) error    { return nil }
func (a *asked) Notice(engine.Notice)        {}
func (a *asked) Row(values [][]byte) error {
	var row []string
	for _, v := range values {
		row = append(row, string(v))
	}
	*a = append(*a, row)
	return nil
}

// TestCancel: a command that waits is ended at the server by another login.
func TestCancel(t *testing.T) {
	t.Parallel()
	c, _ := with(t, redis.Config{}, nil)
	ctx, stop := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer stop()
	err := c.Conversation.(engine.Runner).Run(ctx, engine.Statement{Text: "BLPOP nothing 0"}, &stages.ResultLog{})
	if !errors.Is(err, context.DeadlineExceeded) || errors.Is(err, engine.ErrNotCancelled) {
		t.Errorf("%v", err)
	}
}
