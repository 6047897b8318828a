package postgresql

import (
	"cmp"
	"context"
	"errors"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
)

// ownPath makes a transaction look names up in the system's schema only. A role's search_path may put other people's
// tables, functions and operators before those.
const ownPath = "SELECT pg_catalog.set_config('search_path', 'pg_catalog, pg_temp', true)"

// sessionFacts are the facts about the session, each with the expression that reads it.
var sessionFacts = [][2]string{
	{"user", "current_user::text"},
	{"database", "current_database()::text"},
	{"version", "current_setting('server_version')"},
	{"encoding", "current_setting('server_encoding')"},
	{"collation", "(SELECT datcollate FROM pg_database WHERE datname = current_database())"},
	{"time_zone", "current_setting('TimeZone')"},
	{"read_only", "current_setting('transaction_read_only')"},
	{"in_recovery", "pg_is_in_recovery()::text"},
	{"superuser", "current_setting('is_superuser')"},
	{"clock", "extract(epoch FROM clock_timestamp())::text"},
	{"started", "extract(epoch FROM pg_postmaster_start_time())::text"},
}

// selectOf is one statement that asks for all the facts.
func selectOf(facts [][2]string) string {
	var columns []string
	for _, fact := range facts {
		columns = append(columns, fact[1]+` AS "`+fact[0]+`"`)
	}
	return "SELECT " + strings.Join(columns, ", ")
}

// lineageQuery reads the number that initdb gave the cluster. Standbys and
// clones share it. Some hosts take the right to it away.
const lineageQuery = `SELECT system_identifier::text AS "system_identifier" FROM pg_control_system()`

// readOnlySource says what made the session's transactions read-only (PostgreSQL documentation, "pg_settings").
const readOnlySource = `SELECT source AS "source" FROM pg_settings WHERE name = 'default_transaction_read_only'`

// Session reads the facts and measures the round trip.
func (c *conversation) Session(ctx context.Context) finding.Result {
	before := time.Now()
	row, lineage, err := c.readFacts(ctx)
	took := time.Since(before)
	if err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	f := &c.facts
	f.Lineage = clean.Line(lineage, 40)
	f.User, f.Database, f.Version = clean.Line(row["user"], 0), clean.Line(row["database"],
		0), clean.Line(row["version"], 80)
	f.Collation = clean.Line(row["collation"], 60)
	f.Encoding, f.TimeZone = clean.Line(row["encoding"], 40), clean.Line(row["time_zone"], 80)
	f.Writable, f.InRecovery = truth(row["read_only"], "off"), truth(row["in_recovery"], "true")
	f.Superuser = truth(row["superuser"], "on")
	if f.Writable != nil && !*f.Writable {
		f.ReadOnlyBy = c.readOnlyBy(ctx)
	}
	if clock, err := strconv.ParseFloat(row["clock"], 64); err == nil {
		here := float64(before.Add(took/2).UnixNano()) / 1e9
		f.ClockDifference = engine.Milliseconds(time.Duration((clock - here) * float64(time.Second)))
	}
	if seconds, err := strconv.ParseFloat(row["started"], 64); err == nil {
		started := time.UnixMicro(int64(math.Round(seconds * 1e6))).UTC()
		f.ServerStarted = &started
	}
	f.ServerID = serverID(f)
	if err := f.MeasureTrips(nil, func() error { _, err := c.pg.Exec(ctx, "").ReadAll(); return err }); err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	return c.describe()
}

// readFacts reads the facts and the cluster's number in one round trip. Where the server refuses or lacks one of
// them, it reads each alone and leaves out what fails.
func (c *conversation) readFacts(ctx context.Context) (row map[string]string, lineage string, err error) {
	rows, err := c.rows(ctx, selectOf(sessionFacts), lineageQuery)
	if len(rows) > 1 {
		lineage = rows[1]["system_identifier"]
	}
	if len(rows) > 0 {
		return rows[0], lineage, nil
	}
	var server *pgconn.PgError
	if !errors.As(err, &server) || (refusal{PgError: server}).means() == meansTimeLimit {
		return nil, "", cmp.Or(err, errNoRow)
	}
	row = make(map[string]string)
	for _, fact := range sessionFacts {
		one, oneErr := c.rows(ctx, selectOf([][2]string{fact}))
		if len(one) > 0 {
			row[fact[0]] = one[0][fact[0]]
		}
		if c.pg.IsClosed() {
			return nil, "", oneErr
		}
	}
	if len(row) == 0 {
		return nil, "", err
	}
	return row, "", nil
}

// readOnlyBy says why the session can't write.
func (c *conversation) readOnlyBy(ctx context.Context) string {
	if c.facts.InRecovery != nil && *c.facts.InRecovery {
		return "the server is a standby, or in recovery"
	}
	by := map[string]string{
		"user":          "the role is set to read-only transactions",
		"database":      "the database is set to read-only transactions",
		"database user": "the role is set to read-only transactions in this database",
		"session":       "the session's transactions are read-only",
		"client":        "the session's transactions are read-only",
	}
	rows, err := c.rows(ctx, readOnlySource)
	if err != nil || len(rows) == 0 {
		return "the session's transactions are read-only (transaction_read_only is on)"
	}
	if why := by[rows[0]["source"]]; why != "" {
		return why + " (default_transaction_read_only)"
	}
	return "the server is set to read-only transactions (default_transaction_read_only)"
}

// serverID is the cluster's number and the server's start time, as far as the login may read them.
func serverID(f *engine.Facts) string {
	if f.ServerStarted == nil {
		return f.Lineage
	}
	started := f.ServerStarted.Format("2006-01-02T15:04:05.000000Z")
	return strings.TrimSpace(f.Lineage + " started " + started)
}

// describe puts the facts into words.
func (c *conversation) describe() finding.Result {
	f := &c.facts
	f.Product = "PostgreSQL"
	f.Role = engine.Either(f.InRecovery, "in recovery", "")
	f.Rights = engine.Either(f.Superuser, "superuser", "no superuser")
	f.Settings = []string{f.Encoding, "time zone " + f.TimeZone}
	return finding.Good("%s", f.Server())
}

func truth(value, yes string) *bool {
	if value == "" {
		return nil
	}
	is := value == yes
	return &is
}

// errNoRow says that an answer has no row.
var errNoRow = errors.New("the server answered without a row")

// rows runs statements in one round trip, with names looked up in the system's schema, and returns the first row of
// each that has one, by column name. After the first failure the others are not run.
func (c *conversation) rows(ctx context.Context, statements ...string) (all []map[string]string, err error) {
	results, err := c.pg.Exec(ctx, ownPath+"; "+strings.Join(statements, "; ")).ReadAll()
	for _, result := range results[min(1, len(results)):] {
		if result.Err != nil || len(result.Rows) == 0 {
			break
		}
		row := make(map[string]string)
		for i, field := range result.FieldDescriptions {
			row[field.Name] = string(result.Rows[0][i])
		}
		all = append(all, row)
	}
	return all, err
}

// ask runs one statement with values for $1 and so on, with names looked up in the system's schema.
func ask(ctx context.Context, pg *pgconn.PgConn, sql string, values ...string) *pgconn.Result {
	var batch pgconn.Batch
	var sent [][]byte
	for _, value := range values {
		sent = append(sent, []byte(value))
	}
	batch.ExecParams(ownPath, nil, nil, nil, nil)
	batch.ExecParams(sql, sent, nil, nil, nil)
	results, err := pg.ExecBatch(ctx, &batch).ReadAll()
	if len(results) < 2 {
		return &pgconn.Result{Err: cmp.Or(err, errNoRow)}
	}
	return results[1]
}

// explainLoss returns the finding for a session that ended, or failed at a simple query.
func (c *conversation) explainLoss(err error) *finding.Finding {
	var server *pgconn.PgError
	if !errors.As(err, &server) {
		return c.to.SessionLost(err, probe.LastError(err))
	}
	if found := c.notReady(server); found != nil {
		return found
	}
	switch what := (refusal{PgError: server, let: true}).means(); what {
	case meansTimeLimit:
		return c.timeLimit(server)
	case meansNoRight:
		return c.to.NoRight(serverText(server))
	case meansFull, meansPoolFull:
		return (&attempt{conversation: c}).serverFull(server, what)
	case meansPoolerLogin, meansPoolerMissing, meansPoolerCut:
		return (&attempt{conversation: c}).behindPooler(server, what)
	}
	return c.to.SessionLost(nil, serverText(server))
}

// timeLimit is for a statement or a session that a time limit of the server or of a pooler ended.
func (c *conversation) timeLimit(e *pgconn.PgError) *finding.Finding {
	role := identifier(c.to.User)
	found := finding.New(finding.SessionTimeLimit, "a time limit of the server ended the statement "+
		"(statement_timeout)").
		Saw("%s", serverText(e))
	switch {
	case byPooler(e):
		found.Cause = "a time limit of the pooler ended the connection"
		return found.Advise("on the pooler: raise the limit that it names")
	case e.Code != "57014":
		found.Cause = "a time limit of the server ended the idle session"
		return found.AsAdmin(c.to.Admin, "ALTER ROLE %s RESET idle_session_timeout", role)
	}
	return found.AsAdmin(c.to.Admin, "ALTER ROLE %s SET statement_timeout = '30s'", role)
}

// Missing returns the tables and extensions that do not exist for this login.
// A table is looked up as a statement would, by the search path.
func (c *conversation) Missing(ctx context.Context, what key.Name, names []string) ([]string, error) {
	if what == key.ExpectTables {
		return c.column(ctx, "SELECT n FROM pg_catalog.unnest($1::pg_catalog.text[]) AS n "+
			"WHERE pg_catalog.to_regclass(n) IS NULL", names)
	}
	result := ask(ctx, c.pg, "SELECT n FROM unnest($1::text[]) AS n WHERE n NOT IN (SELECT extname::text FROM "+
		"pg_extension)", array(names))
	return firstColumn(result), result.Err
}

// column runs a statement with one array of texts and returns its first column.
func (c *conversation) column(ctx context.Context, sql string, words []string) ([]string, error) {
	result := c.pg.ExecParams(ctx, sql, [][]byte{[]byte(array(words))}, nil, nil, nil).Read()
	return firstColumn(result), result.Err
}

// firstColumn is a result's first column.
func firstColumn(result *pgconn.Result) []string {
	var values []string
	for _, row := range result.Rows {
		values = append(values, string(row[0]))
	}
	return values
}

// array writes an array's text form (PostgreSQL documentation, "Array Input
// and Output Syntax").
func array(words []string) string {
	text := []byte{'{'}
	for i, word := range words {
		if i > 0 {
			text = append(text, ',')
		}
		text = append(text, '"')
		for j := 0; j < len(word); j++ {
			if word[j] == '"' || word[j] == '\\' {
				text = append(text, '\\')
			}
			text = append(text, word[j])
		}
		text = append(text, '"')
	}
	return string(append(text, '}'))
}
