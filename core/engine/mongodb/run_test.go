package mongodb

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentleharbor/core/engine"
	stages "gentleharbor/internal/testkit/talk"
	"gentleharbor/standin/mongodb"
)

// document is a document of Extended JSON.
func document(t *testing.T, text string) (d bson.D) {
	t.Helper()
	if err := bson.UnmarshalExtJSON([]byte(text), false, &d); err != nil {
		t.Fatal(err)
	}
	return d
}

// TestRun: each kind of answer is rows of its own kind.
func TestRun(t *testing.T) {
	t.Parallel()
	c, _ := with(t, notes(), nil)
	for _, one := range [][2]string{
		{`{"find":"note","filter":{"place":"North Creek"}}`, `[document ] {"_id":1,"place":"North Creek","head_count":12} (find 1 -1)`},
		{`{"find":"note","batchSize":1}`, `(find 2 -1)`},
		{`{"count":"note"}`, "[count ] 2 (count 1 -1)"},
		{`{"distinct":"note","key":"place"}`, `[value ] "North Creek" "Shingle Spit" (distinct 2 -1)`},
		{`{"insert":"note","documents":[{"_id":3,"at":{"$date":"2026-11-01T06:00:00Z"}},{"_id":{"$numberLong":"4"}}]}`, " (insert 0 2)"},
		{`{"update":"note","updates":[{"q":{"_id":3},"u":{"$set":{"a":1}}}]}`, " (update 0 1)"},
		{`{"delete":"note","deletes":[{"q":{"_id":3},"limit":0}]}`, " (delete 0 1)"},
		{`{"ping":1}`, `[document ] {"ok":1.0} (ping 1 -1)`},
		{`{"listCollections":1,"$db":"fieldnotes"}`, `{"name":"note","type":"collection"}`},
	} {
		got, err := c.Run(t.Context(), one[0])
		if err != nil || !strings.Contains(got, one[1]) {
			t.Errorf("%s: %q, %v, want %q", one[0], got, err, one[1])
		}
	}
	got, err := c.Run(t.Context(), `{"find":"note","filter":{"place":`+parameter(1)+`}}`, `North Creek`)
	if err != nil || !strings.Contains(got, `"_id":1`) {
		t.Errorf("with a value: %q, %v", got, err)
	}
	got, err = c.Run(t.Context(), `{"find":"note","filter":{"place":`+parameter(1)+`}}`, `x"},"$where":"1`)
	if err != nil || !strings.Contains(got, "(find 0 -1)") {
		t.Errorf("a value becomes a part of the command: %q, %v", got, err)
	}
	var exact stages.ResultLog
	err = c.Conversation.(engine.Runner).Run(t.Context(), engine.Statement{Text: `{"find":"note","filter":{"_id":1}}`, Exact: true}, &exact)
	if err != nil || !strings.Contains(exact.String(), `"head_count":{"$numberInt":"12"}`) {
		t.Errorf("%q, %v", exact.String(), err)
	}
	c.Run(t.Context(), `{"insert":"odd","documents":[{"_id":1,"a":{"$numberLong":"5"},"text":"\u001b[31m\u202e"}]}`)
	if got, err = c.Run(t.Context(), `{"find":"odd"}`); err != nil || !strings.Contains(got, `"a":5`) {
		t.Errorf("%q, %v", got, err)
	}
	var refused *engine.StatementError
	if _, err := c.Run(t.Context(), `{"kiwit":1}`); !errors.As(err, &refused) || refused.Code != "CommandNotFound, code 59" || refused.Near != "kiwit" {
		t.Errorf("%+v", err)
	}
	if _, err := c.Run(t.Context(), `{"insert":"note","documents":[{"_id":9},{"_id":1}]}`); !errors.As(err, &refused) || refused.DataLine != 2 {
		t.Errorf("%+v", err)
	}
	for _, text := range []string{`{"saslStart":1}`, `{"logout":1}`, `{}`, `{"a":}`, `{"find":{"$oid":"x"}}`} {
		if _, err := c.Run(t.Context(), text); !errors.As(err, &refused) || refused.Code != "" {
			t.Errorf("%s is sent: %v", text, err)
		}
	}
}

// TestStops: a Results that fails ends the cursor, and the next command is answered; a connection that ends is lost; a
// cursor without end takes no memory.
func TestStops(t *testing.T) {
	t.Parallel()
	c, server := with(t, notes(), nil)
	told := stages.ResultLog{Fails: errors.New("enough")}
	err := c.Conversation.(engine.Runner).Run(t.Context(), engine.Statement{Text: `{"find":"note","batchSize":1}`}, &told)
	if err == nil || err.Error() != "enough" || told.Rows != 1 {
		t.Errorf("%v after %d rows", err, told.Rows)
	}
	if got, err := c.Run(t.Context(), `{"ping":1}`); err != nil || !strings.Contains(got, "ok") {
		t.Errorf("%q, %v", got, err)
	}
	server.Close()
	var lost *engine.LostError
	if _, err := c.Run(t.Context(), `{"ping":1}`); !errors.As(err, &lost) {
		t.Errorf("%v", err)
	}
	endless := notes()
	c, server = with(t, endless, nil)
	server.Fault = mongodb.EndlessCursor
	ctx, stop := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer stop()
	err = c.Conversation.(engine.Runner).Run(ctx, engine.Statement{Text: `{"find":"note"}`}, &stages.ResultLog{})
	if !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
}

// TestCancel: a command that runs is ended at the server by another login.
func TestCancel(t *testing.T) {
	t.Parallel()
	c, _ := with(t, notes(), nil)
	ctx, stop := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer stop()
	started := time.Now()
	err := c.Conversation.(engine.Runner).Run(ctx, engine.Statement{Text: `{"find":"note","filter":{"$where":"sleep(9000)"}}`}, &stages.ResultLog{})
	if !errors.Is(err, context.DeadlineExceeded) || errors.Is(err, engine.ErrNotCancelled) || time.Since(started) > 4*time.Second {
		t.Errorf("%v after %s", err, time.Since(started))
	}
}

// TestCatalogue: each kind has its columns, and one that tells the system's own.
func TestCatalogue(t *testing.T) {
	t.Parallel()
	c, _ := with(t, notes(), func(to *engine.Target) { to.User = "admin" })
	widths := map[engine.Kind]int{
		engine.KindDatabases: 8, engine.KindTables: 8, engine.KindColumns: 9, engine.KindIndexes: 11, engine.KindSizes: 7,
		engine.KindAccounts: 7, engine.KindAccess: 6, engine.KindActivity: 11, engine.KindSettings: 6,
	}
	for _, kind := range catalogue.Kinds {
		rows, less, err := catalogue.Read(t.Context(), c.Conversation.(engine.Runner), kind, c.Facts(), "")
		if err != nil || less != nil || len(rows) == 0 || len(rows[0]) != widths[kind] {
			t.Errorf("%s: %q, %v, %v", kind, rows, less, err)
		}
	}
	rows, _, err := catalogue.Read(t.Context(), c.Conversation.(engine.Runner), engine.KindColumns, c.Facts(), "note")
	if err != nil || !strings.Contains(fmt.Sprintf("%q", rows), `"by.name" "string" "true"`) {
		t.Errorf("%q, %v", rows, err)
	}
	warden, _ := with(t, notes(), nil)
	rows, less, err := catalogue.Read(t.Context(), warden.Conversation.(engine.Runner), engine.KindAccounts, warden.Facts(), "")
	if err != nil || less == nil || len(rows) != 1 || string(rows[0][0]) != "warden" {
		t.Errorf("%q, %v, %v", rows, less, err)
	}
}

// TestRules: what a command may destroy, whether it has a password and whether it only reads. Words are as the splitter
// gives them.
func TestRules(t *testing.T) {
	t.Parallel()
	for text, want := range map[string][3]bool{ // destroys, has a password, reads
		"FIND NOTE": {false, false, true},
		"AGGREGATE NOTE PIPELINE: [ { $MATCH: { A: 1 } } ]": {false, false, true},
		"AGGREGATE NOTE PIPELINE: [ { $OUT: X } ]":          {true, false, false},
		"AGGREGATE NOTE PIPELINE: [ { $MERGE: X } ]":        {true, false, false},
		"INSERT NOTE DOCUMENTS: [ ]":                        {},
		"DELETE NOTE DELETES: [ { Q: { } LIMIT: 0 } ]":      {true, false, false},
		"DELETE NOTE DELETES: [ { Q: { A: 1 } LIMIT: 0 } ]": {},
		"UPDATE NOTE UPDATES: [ { Q: { } U: { } } ]":        {true, false, false},
		"DROP NOTE":                       {true, false, false},
		"DROPDATABASE 1":                  {true, false, false},
		"CREATEUSER X PWD: Y ROLES: [ ]":  {true, true, false},
		"UPDATEUSER X PWD: Y":             {true, true, false},
		"KIWIT 1":                         {true, false, false},
		"FINDANDMODIFY NOTE REMOVE: TRUE": {true, false, false},
		"FINDANDMODIFY NOTE QUERY: { A: 1 } REMOVE: TRUE": {},
		"FIND " + strings.Repeat("A ", maxJudged):         {true, false, false},
	} {
		w := strings.Fields(text)
		if got := [3]bool{riskOf(w) != "", hasPassword(w), reads(w)}; got != want {
			t.Errorf("%.60s: destroys, secret, reads = %v, want %v", text, got, want)
		}
	}
	if isPlain("a.b") || isPlain("") || !isPlain("note") || quoteJSON(`a"<`) != `"a\"<"` {
		t.Error("names are wrong")
	}
}

// TestDocuments: what load adds is one command, and what is no document is told.
func TestDocuments(t *testing.T) {
	t.Parallel()
	c, server := with(t, notes(), nil)
	text := statements.Documents.Statement("nest", [][]byte{[]byte(`{"a":1}`), []byte(`{"a":{"$numberLong":"2"}}`)})
	if got, err := c.Run(t.Context(), text); err != nil || got != " (insert 0 2)" {
		t.Errorf("%q, %v", got, err)
	}
	if checkDocument([]byte(`{"a":{"$date":"2026-11-01T06:00:00Z"}}`)) != nil || checkDocument([]byte(`[1]`)) == nil || checkDocument([]byte(`{"a":{"$oid":"x"}}`)) == nil {
		t.Error("documents are not judged")
	}
	_ = server
}
