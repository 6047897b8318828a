package postgresql

import (
	"cmp"
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
)

// sessionQuery reads who and where one is, in one round trip.
const sessionQuery = `SELECT current_user::text AS "user", current_database()::text AS "database",
 current_setting('server_version') AS "version", current_setting('server_encoding') AS "encoding",
 (SELECT datcollate FROM pg_database WHERE datname = current_database()) AS "collation",
 current_setting('TimeZone') AS "time_zone", current_setting('transaction_read_only') AS "read_only",
 pg_is_in_recovery()::text AS "in_recovery", current_setting('is_superuser') AS "superuser",
 extract(epoch FROM clock_timestamp())::text AS "clock",
	extract(epoch FROM pg_postmaster_start_time())::text AS "started"`

// lineageQuery reads the number that initdb gave the cluster. Standbys and
// clones share it. Some hosts take the right to it away.
const lineageQuery = `SELECT system_identifier::text AS "system_identifier" FROM pg_control_system()`

// roundTrips is how many are measured; the median of three forgives a hiccup.
const roundTrips = 3

// Session reads the facts and measures the round trip.
func (c *conversation) Session(ctx context.Context) finding.Result {
	before := time.Now()
	rows, err := c.rows(ctx, sessionQuery+"; "+lineageQuery) // of which the second may be forbidden
	took := time.Since(before)
	if len(rows) == 0 {
		return finding.Failed(c.lost(cmp.Or(err, errNoRow)))
	}
	f, row := &c.facts, rows[0]
	if len(rows) > 1 {
		f.Lineage = clean.Line(rows[1]["system_identifier"], 40)
	}
	f.User, f.Database, f.Version = clean.Line(row["user"], 0), clean.Line(row["database"],
		0), clean.Line(row["version"], 80)
	f.Collation = clean.Line(row["collation"], 60)
	f.Encoding, f.TimeZone = clean.Line(row["encoding"], 40), clean.Line(row["time_zone"], 80)
	f.Writable, f.InRecovery = truth(row["read_only"], "off"), truth(row["in_recovery"], "true")
	f.Superuser = truth(row["superuser"], "on")
	if f.Writable != nil && !*f.Writable {
		f.ReadOnlyBy = "transaction_read_only is on, for the role or the database"
		if f.InRecovery != nil && *f.InRecovery {
			f.ReadOnlyBy = "the server is a standby, or in recovery"
		}
	}
	if clock, err := strconv.ParseFloat(row["clock"], 64); err == nil {
		here := float64(before.Add(took/2).UnixNano()) / 1e9
		f.ClockDifference = engine.Milliseconds(time.Duration((clock - here) * float64(time.Second)))
	}
	if seconds, err := strconv.ParseFloat(row["started"], 64); err == nil {
		started := time.UnixMicro(int64(seconds * 1e6)).UTC()
		f.ServerStarted = &started
	}
	f.ServerID = serverID(f)
	if err := c.measure(ctx); err != nil {
		return finding.Failed(c.lost(err))
	}
	return c.describe()
}

// serverID is the cluster's number and the server's start time, or as much of it as may be read.
func serverID(f *engine.Facts) string {
	if f.ServerStarted == nil {
		return f.Lineage
	}
	started := f.ServerStarted.Format("2006-01-02T15:04:05.000000Z")
	return strings.TrimSpace(f.Lineage + " started " + started)
}

// measure takes the median time of an empty statement there and back.
func (c *conversation) measure(ctx context.Context) error {
	var times []time.Duration
	for range roundTrips {
		start := time.Now()
		if _, err := c.pg.Exec(ctx, "").ReadAll(); err != nil {
			return err
		}
		times = append(times, time.Since(start))
	}
	c.facts.RoundTrip = engine.Milliseconds(engine.Median(times))
	return nil
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

// errNoRow is an answer without what was asked for.
var errNoRow = errors.New("the server answered without a row")

// rows runs statements, with ; between them, and returns the first row of each that has one, by column name. After
// the first that fails there are no more.
func (c *conversation) rows(ctx context.Context, sql string) (all []map[string]string, err error) {
	results, err := c.pg.Exec(ctx, sql).ReadAll()
	for _, result := range results {
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

// lost is for a session that ended, or refused a plain question.
func (c *conversation) lost(err error) *finding.Finding {
	var server *pgconn.PgError
	if errors.As(err, &server) {
		return c.to.SessionLost(said(server))
	}
	return c.to.SessionLost(probe.LastError(err))
}

// Missing returns the tables and extensions that do not exist for this login.
// A table is looked up as a statement would, by the search path.
func (c *conversation) Missing(ctx context.Context,
	tables, extensions []string) (noTables, noExtensions []string, err error) {
	if len(tables) > 0 {
		if noTables, err = c.column(ctx, "SELECT n FROM unnest($1::text[]) AS n WHERE to_regclass(n) IS NULL",
			tables); err != nil {
			return nil, nil, err
		}
	}
	if len(extensions) > 0 {
		noExtensions, err = c.column(ctx,
			"SELECT n FROM unnest($1::text[]) AS n WHERE n NOT IN (SELECT extname::text FROM pg_extension)", extensions)
	}
	return noTables, noExtensions, err
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
