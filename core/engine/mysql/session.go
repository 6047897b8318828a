package mysql

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
)

// maxRows bounds an answer, whatever LIMIT its statement has.
const maxRows = 10_000

// The variables that the facts are made of. SELECT is ten times as quick as
// SHOW, which looks through all of them, and fails where a server does not know
// one; then SHOW lists what there is.
var (
	ownVariables = map[bool][]string{ // of MariaDB, and of MySQL
		true:  {"server_uid", "tx_read_only"},
		false: {"server_uuid", "super_read_only", "transaction_read_only"},
	}
	commonVariables = []string{"version", "hostname", "port", "character_set_database", "collation_database", "sql_mode",
		"time_zone", "system_time_zone",
		"read_only", "innodb_read_only"}
)

// sessionRow reads the clock, the database and the variables in one statement.
func (c *conversation) sessionRow(ctx context.Context) (map[string]string, error) {
	names := slices.Concat(ownVariables[c.hello.mariadb], commonVariables)
	statement := "SELECT UNIX_TIMESTAMP(NOW(6)) AS clock, DATABASE() AS opened"
	for _, name := range names {
		statement += ", @@" + name + " AS " + name
	}
	row, err := c.timeRow(ctx, statement)
	if r := refusalOf(err); r == nil || r.ends() {
		return row, err
	}
	if row, err = c.timeRow(ctx, "SELECT UNIX_TIMESTAMP(NOW(6)) AS clock, DATABASE() AS opened"); err != nil {
		return nil, err
	}
	names = append(names, ownVariables[!c.hello.mariadb]...) // names have moved from one to the other before
	set, err := c.pairs(ctx, "SHOW VARIABLES WHERE Variable_name IN ('"+strings.Join(names, "', '")+"')")
	for name, value := range set {
		row[name] = value
	}
	if r := refusalOf(err); r != nil && !r.ends() { // a fact that can't be read is left out
		err = nil
	}
	return row, err
}

// Session reads the facts and measures the round trip.
func (c *conversation) Session(ctx context.Context) finding.Result {
	before := time.Now()
	set, err := c.sessionRow(ctx)
	took := time.Since(before)
	if err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	f := &c.facts
	f.Database = clean.Line(set["opened"], 100)
	if v := set["version"]; v != "" {
		f.Version = clean.Line(strings.TrimPrefix(v, "5.5.5-"), 80)
	}
	f.Encoding, f.Collation = clean.Line(set["character_set_database"], 40), clean.Line(set["collation_database"], 60)
	f.SQLMode = clean.Line(set["sql_mode"], 400)
	f.TimeZone = clean.Line(set["time_zone"], 60)
	if strings.EqualFold(f.TimeZone, "SYSTEM") && set["system_time_zone"] != "" {
		f.TimeZone = clean.Line("SYSTEM ("+set["system_time_zone"]+")", 80)
	}
	f.Lineage = clean.Line(set["server_uuid"]+set["server_uid"], 60)
	f.ServerHost = clean.Line(set["hostname"], 100)
	if set["port"] != "" && set["port"] != "0" {
		f.ServerHost += ":" + clean.Line(set["port"], 5)
	}
	if clock, err := strconv.ParseFloat(set["clock"], 64); err == nil {
		here := float64(before.Add(took/2).UnixNano()) / 1e9
		f.ClockDifference = engine.Milliseconds(time.Duration((clock - here) * float64(time.Second)))
		if up, ok := c.upTime(ctx); ok {
			at := time.Unix(int64(clock)-up, 0).UTC()
			f.ServerStarted = &at
		}
	}
	f.ServerID = serverID(f)
	if err := c.rights(ctx, set); err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	if err := c.measure(ctx); err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	return c.describe()
}

// upTime is the server's, in seconds. COM_STATISTICS, for which the driver has no call, is ten times as quick as SHOW
// STATUS, which adds up the counters of all connections.
func (c *conversation) upTime(ctx context.Context) (seconds int64, ok bool) {
	defer probe.Guard(ctx, c.conn)()
	before := time.Now()
	text, err := c.replay.statistics()
	if err != nil {
		return 0, false
	}
	c.trips = append(c.trips, time.Since(before))
	rest, found := strings.CutPrefix(text, "Uptime: ")
	number, _, _ := strings.Cut(rest, " ")
	seconds, err = strconv.ParseInt(number, 10, 64)
	return seconds, found && err == nil
}

func serverID(f *engine.Facts) string {
	parts := []string{f.Lineage}
	if f.ServerStarted != nil {
		parts = append(parts, "started "+f.ServerStarted.Format("2006-01-02T15:04:05Z"))
	}
	return strings.TrimSpace(strings.Join(parts, " "))
}

// rights finds out whether this session may write, and administer.
func (c *conversation) rights(ctx context.Context, set map[string]string) error {
	before := time.Now()
	grants, err := c.column(ctx, "SHOW GRANTS")
	if r := refusalOf(err); r != nil && !r.ends() {
		c.facts.SourceUnseen = c.to.Thorough
		return nil // not known, so left out
	}
	if err != nil {
		return err
	}
	c.trips = append(c.trips, time.Since(before))
	global := globalRights(grants)
	all := global["ALL PRIVILEGES"] || global["ALL"]
	super := all || global["SUPER"]
	c.facts.Superuser = &super
	on := func(name string) bool { return strings.EqualFold(set[name], "ON") || set[name] == "1" }
	exempt := all || global["READ_ONLY ADMIN"] || global["READ ONLY ADMIN"] || global["CONNECTION_ADMIN"] ||
		global["SUPER"] && !c.superIsNotExempt()
	writable, why := true, ""
	switch {
	case on("innodb_read_only"):
		writable, why = false, "innodb_read_only is on: the server writes no tables"
	case on("super_read_only"):
		writable, why = false, "super_read_only is on: the server is a replica, or was set read-only"
	case on("read_only") && !exempt:
		writable, why = false, "read_only is on: the server is a replica, or was set read-only"
	case on("transaction_read_only") || on("tx_read_only"):
		writable, why = false, "the session's transactions are read-only"
	}
	c.facts.Writable, c.facts.ReadOnlyBy = &writable, why
	if c.to.Thorough && (super || global["REPLICATION CLIENT"] || global["SLAVE MONITOR"] || global["REPLICA MONITOR"] ||
		global["REPLICATION SLAVE ADMIN"]) {
		c.source(ctx)
	} else {
		c.facts.SourceUnseen = c.to.Thorough
	}
	return nil
}

// source finds out which server this one replicates: by server_uuid on MySQL, by address on MariaDB. It is "" where
// the server does not say.
func (c *conversation) source(ctx context.Context) {
	statement := "SHOW REPLICA STATUS"
	if c.hello.mariadb {
		statement = "SHOW ALL SLAVES STATUS"
	}
	row, err := c.row(ctx, statement)
	if err != nil { // or it replicates nothing, which is no row
		c.facts.SourceUnseen = refusalOf(err) != nil
		return
	}
	c.facts.ReplicaOf = clean.Line(row["Source_UUID"], 60)
	if host := row["Master_Host"]; c.hello.mariadb && host != "" {
		c.facts.ReplicaOf = clean.Line(net.JoinHostPort(host, row["Master_Port"]), 120)
	}
}

// superIsNotExempt says that SUPER does not reach past read_only: on MariaDB
// from 10.11 on (MariaDB documentation, "READ_ONLY ADMIN").
func (c *conversation) superIsNotExempt() bool {
	if !c.hello.mariadb {
		return false
	}
	major, rest, _ := strings.Cut(c.hello.number(), ".")
	minor, _, _ := strings.Cut(rest, ".")
	a, _ := strconv.Atoi(major)
	b, _ := strconv.Atoi(minor)
	return a > 10 || a == 10 && b >= 11
}

// globalRights are the rights on everything in the lines of SHOW GRANTS.
func globalRights(grants []string) map[string]bool {
	rights := make(map[string]bool)
	for _, line := range grants {
		rest, ok := strings.CutPrefix(line, "GRANT ")
		list, _, on := strings.Cut(rest, " ON *.* TO ")
		if !ok || !on {
			continue
		}
		for one := range strings.SplitSeq(list, ",") {
			rights[strings.ToUpper(strings.TrimSpace(one))] = true
		}
	}
	return rights
}

// measure takes the median round trip: of the short statements that ran anyway, and of pings where those were too
// few.
func (c *conversation) measure(ctx context.Context) error {
	pinger, ok := c.db.(driver.Pinger)
	if !ok {
		return errors.New("a defect: the driver can't ping")
	}
	return c.facts.MeasureTrips(c.trips, func() error {
		return c.guardCall(func() error { return pinger.Ping(ctx) })
	})
}

// describe puts the facts into words.
func (c *conversation) describe() finding.Result {
	f := &c.facts
	f.Product = c.hello.brand()
	f.Rights = engine.Either(f.Superuser, "administrator", "no administrator")
	f.Settings = []string{f.Encoding, f.Collation, "time zone " + f.TimeZone, modes(f.SQLMode)}
	return finding.Good("%s", f.Server())
}

// modes says in a word what the SQL mode does with wrong data.
func modes(mode string) string {
	if mode == "" {
		return "SQL mode empty"
	}
	if strings.Contains(mode, "STRICT_") {
		return "SQL mode strict"
	}
	return "SQL mode not strict"
}

// explainLoss returns the finding for a session that ended, or failed at a simple query.
func (c *conversation) explainLoss(err error) *finding.Finding {
	if errors.Is(err, errLocalFile) {
		return c.askedForFile(err)
	}
	r := refusalOf(err)
	switch {
	case r == nil:
		return c.to.SessionLost(err, plain(err))
	case r.Number == shutdownInProgress:
		return c.stopping(r)
	case r.Number == resourceUsedUp:
		return c.serverFull(r)
	case r.Number == initFailed:
		return finding.New(finding.SessionInitFailed,
			"the login worked, but the statements that the server runs for each new session fail (init_connect)").
			Saw("%s", r.text()).
			AsAdmin(c.to.Admin, "SELECT @@init_connect").
			AsAdmin(c.to.Admin, "SET GLOBAL init_connect = ''")
	case slices.Contains([]uint16{1142, 1143, 1227, noRightToDatabase, 1370}, r.Number):
		return c.to.NoRight(r.text())
	case slices.Contains([]uint16{1969, 3024, 1907}, r.Number):
		return finding.New(finding.SessionTimeLimit, "a time limit of the server ended the statement").Saw("%s", r.text()).
			AsAdmin(c.to.Admin, "SELECT @@max_statement_time, @@max_execution_time")
	}
	return c.to.SessionLost(nil, r.text())
}

// Missing returns the tables that do not exist for this login, in the database
// that is open unless a name has another before a dot, and the plugins that
// are not active: extensions are called plugins here.
func (c *conversation) Missing(ctx context.Context, what key.Name, names []string) (missing []string, err error) {
	for _, name := range names {
		schema, table, qualified := strings.Cut(name, ".")
		sql, args := "SELECT 1 FROM information_schema.tables WHERE table_schema = ? AND table_name = ? LIMIT 1",
			[]any{schema, table}
		switch {
		case what != key.ExpectTables:
			sql = "SELECT 1 FROM information_schema.plugins WHERE plugin_name = ? AND plugin_status = 'ACTIVE' LIMIT 1"
			args = []any{name}
		case !qualified:
			sql = "SELECT 1 FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = ? LIMIT 1"
			args = []any{name}
		}
		found, err := c.column(ctx, sql, args...)
		if err != nil {
			return nil, err
		}
		if len(found) == 0 {
			missing = append(missing, name)
		}
	}
	return missing, nil
}

// errUnreadable says that a server sent something that is no answer.
var errUnreadable = errors.New("the server's answer breaks the protocol")

// guardCall runs a call of the driver. Its error is that of the connection where that has one: the driver only says
// that the connection is not valid. The driver trusts lengths that a server sends: its panics do not end the program.
func (c *conversation) guardCall(call func() error) (err error) {
	defer func() {
		if defect := recover(); defect != nil {
			err = fmt.Errorf("%w: %v", errUnreadable, defect)
		}
		if err != nil && c.replay != nil && c.replay.cause() != nil {
			err = c.replay.cause()
		}
	}()
	return call()
}

func (c *conversation) exec(ctx context.Context, sql string) error {
	return c.guardCall(func() error {
		_, err := c.db.(driver.ExecerContext).ExecContext(ctx, sql, nil)
		return err
	})
}

// query runs a statement and returns the names of its columns and its rows.
func (c *conversation) query(ctx context.Context, sql string,
	args ...any) (columns []string, rows [][]string, err error) {
	var named []driver.NamedValue
	for i, arg := range args {
		named = append(named, driver.NamedValue{Ordinal: i + 1, Value: arg})
	}
	err = c.guardCall(func() error {
		result, err := c.db.(driver.QueryerContext).QueryContext(ctx, sql, named)
		if err != nil {
			return err
		}
		columns = result.Columns()
		rows, err = engine.Rows(result, maxRows)
		return err
	})
	return columns, rows, err
}

// row is the one row of a statement, by column name.
func (c *conversation) row(ctx context.Context, sql string, args ...any) (map[string]string, error) {
	columns, rows, err := c.query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, errors.New("the server answered without a row")
	}
	row := make(map[string]string)
	for i, name := range columns {
		row[name] = rows[0][i]
	}
	return row, nil
}

// timeRow is row for a short statement, whose time counts as a round trip.
func (c *conversation) timeRow(ctx context.Context, sql string) (map[string]string, error) {
	before := time.Now()
	row, err := c.row(ctx, sql)
	c.trips = append(c.trips, time.Since(before))
	return row, err
}

// pairs is a statement of two columns, names and values.
func (c *conversation) pairs(ctx context.Context, sql string) (map[string]string, error) {
	_, rows, err := c.query(ctx, sql)
	if err != nil {
		return nil, err
	}
	set := make(map[string]string)
	for _, row := range rows {
		if len(row) == 2 {
			set[row[0]] = row[1]
		}
	}
	return set, nil
}

// column is a statement's first column.
func (c *conversation) column(ctx context.Context, sql string, args ...any) ([]string, error) {
	_, rows, err := c.query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	var values []string
	for _, row := range rows {
		if len(row) > 0 {
			values = append(values, row[0])
		}
	}
	return values, nil
}

// value is the first column of the first row.
func (c *conversation) value(ctx context.Context, sql string, args ...any) (string, error) {
	values, err := c.column(ctx, sql, args...)
	if err == nil && len(values) == 0 {
		err = errors.New("the server answered without a row")
	}
	return strings.Join(values[:min(len(values), 1)], ""), err
}
