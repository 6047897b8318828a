package oracle

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
)

// sessionQuery reads what every account may see (Oracle documentation, "SYS_CONTEXT").
const sessionQuery = "SELECT SYS_CONTEXT('USERENV','SESSION_USER'), SYS_CONTEXT('USERENV','DB_NAME'), " +
	"SYS_CONTEXT('USERENV','CON_NAME'), " +
	"SYS_CONTEXT('USERENV','DB_UNIQUE_NAME'), SYS_CONTEXT('USERENV','DATABASE_ROLE'), " +
	"SYS_CONTEXT('USERENV','SERVER_HOST'), " +
	"SYS_CONTEXT('USERENV','INSTANCE_NAME'), SYS_CONTEXT('USERENV','ISDBA'), SESSIONTIMEZONE, " +
	"TO_CHAR(SYS_EXTRACT_UTC(SYSTIMESTAMP), 'YYYY-MM-DD\"T\"HH24:MI:SS.FF3'), " +
	"(SELECT value FROM nls_database_parameters WHERE parameter = 'NLS_CHARACTERSET') FROM dual"

// openQuery asks whether the database takes writes; few accounts may ask.
const openQuery = "SELECT open_mode, TO_CHAR(dbid), TO_CHAR(resetlogs_change#) FROM v$database"

// Session reads the facts and measures the round trip.
func (c *conversation) Session(ctx context.Context) finding.Result {
	before := time.Now()
	rows, err := c.query(ctx, sessionQuery)
	took := time.Since(before)
	if err == nil && (len(rows) != 1 || len(rows[0]) != 11) {
		err = errors.New("the server's answer has an unknown form")
	}
	if err != nil {
		return finding.FailWith(c.to.SessionLost(err, plain(err)))
	}
	row, f := rows[0], &c.facts
	for i := range row {
		row[i] = clean.Line(row[i], 120)
	}
	f.User = firstOf(row[0], f.User)
	f.Database = firstOf(row[2], row[1], f.Database)
	f.ServerHost = firstOf(row[5], f.ServerHost)
	f.TimeZone, f.Encoding = row[8], row[10]
	f.ServerID = strings.Trim(row[3]+"/"+row[6], "/")
	if row[7] != "" {
		dba := strings.EqualFold(row[7], "TRUE")
		f.Superuser = &dba
	}
	if clock, err := time.Parse("2006-01-02T15:04:05.000", row[9]); err == nil {
		f.ClockDifference = engine.Milliseconds(clock.Sub(before.Add(took / 2)))
	}
	c.mayWrite(ctx, row[4])
	if err := f.MeasureTrips(nil, func() error { _, err := c.ping(ctx); return err }); err != nil {
		return finding.FailWith(c.to.SessionLost(err, plain(err)))
	}
	f.Role = strings.ToLower(row[4])
	f.Rights = engine.Either(f.Superuser, "administrator", "no administrator")
	f.Settings = []string{f.Encoding, f.TimeZone}
	if f.TimeZone != "" {
		f.Settings[1] = "time zone " + f.TimeZone
	}
	return finding.Good("%s", f.Server())
}

// mayWrite finds out whether the database takes writes: a standby takes none, and of others an account with the right
// to ask can tell. Otherwise it is not known.
func (c *conversation) mayWrite(ctx context.Context, role string) {
	f := &c.facts
	standby := strings.Contains(role, "STANDBY")
	if role != "" {
		f.InRecovery = &standby
	}
	rows, err := c.query(ctx, openQuery)
	if err == nil && len(rows) == 1 && len(rows[0]) == 3 {
		writes := strings.HasPrefix(rows[0][0], "READ WRITE")
		f.Writable = &writes
		f.Lineage = clean.Line(rows[0][1]+"/"+rows[0][2], 60)
		if !writes {
			f.ReadOnlyBy = "the database is open as " + clean.Quote(rows[0][0])
		}
		return
	}
	if standby && role != "SNAPSHOT STANDBY" {
		no := false
		f.Writable, f.ReadOnlyBy = &no, "the database is a "+clean.Line(strings.ToLower(role), 40)
	}
}

// identifier is a name in a statement's form.
func identifier(name string) string {
	if name != "" && strings.Trim(name, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_$#") == "" {
		return strings.ToUpper(name)
	}
	return `"` + strings.ReplaceAll(name, `"`, "") + `"`
}

// literal is a text in a statement.
func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// foldName returns a name in the server's form: in capital letters, unless it is quoted.
func foldName(name string) string {
	if own, ok := strings.CutPrefix(name, `"`); ok {
		return strings.TrimSuffix(own, `"`)
	}
	return strings.ToUpper(name)
}

// Missing returns the tables and views that this login does not see. There are no
// extensions with this server.
func (c *conversation) Missing(ctx context.Context, what key.Name, names []string) (missing []string, err error) {
	if what != key.ExpectTables {
		return names, nil
	}
	for _, table := range names {
		owner, name, ok := strings.Cut(table, ".")
		whose := "owner = " + literal(foldName(owner))
		if !ok {
			name, whose = table, "owner IN (SYS_CONTEXT('USERENV','CURRENT_SCHEMA'), 'PUBLIC')"
		}
		rows, err := c.query(ctx,
			fmt.Sprintf("SELECT TO_CHAR(COUNT(*)) FROM all_objects WHERE object_name = %s AND %s AND object_type "+
				"IN ('TABLE', "+
				"'VIEW', 'MATERIALIZED VIEW', 'SYNONYM')",
				literal(foldName(name)), whose))
		if err != nil {
			return nil, errors.New(plain(err))
		}
		if len(rows) == 0 || len(rows[0]) == 0 || rows[0][0] == "0" {
			missing = append(missing, table)
		}
	}
	return missing, nil
}

// LookUp finds out in the catalogue why the server refused an account.
func (c *conversation) LookUp(ctx context.Context, r engine.Refusal) error {
	rows, err := c.query(ctx, "SELECT account_status FROM dba_users WHERE username = "+literal(foldName(r.User)))
	if err != nil {
		return errors.New(plain(err))
	}
	if len(rows) == 0 || len(rows[0]) == 0 {
		found := r.Finding
		found.Code, found.Cause = finding.LoginNoSuchRole, fmt.Sprintf("there is no account %s on this server",
			clean.Quote(r.User))
		found.Try, found.Do = []string{}, []string{}
		found.Saw("%sno such account", r.By).SuggestValues(r.Profile, "user", nil)
		return nil
	}
	status := clean.Line(rows[0][0], 60)
	switch {
	case strings.Contains(status, "LOCKED"):
		refine(r, finding.LoginLocked, fmt.Sprintf("the account %s is locked", clean.Quote(r.User)), status).
			ByAdmin(r.Admin, "provision unlock "+r.Profile, "ALTER USER %s ACCOUNT UNLOCK", identifier(r.User))
		return nil
	case strings.HasPrefix(status, "EXPIRED") && !strings.Contains(status, "GRACE"):
		refine(r, finding.LoginExpired, fmt.Sprintf("the password of %s has expired", clean.Quote(r.User)), status).
			AdviseUnseen(`ALTER USER %s IDENTIFIED BY "NEW-PASSWORD"`,
				identifier(r.User))
		return nil
	}
	r.Finding.Saw("%sthe account is there, and its status is %s: what is left is the password",
		r.By, clean.Quote(status))
	return nil
}

// refine replaces the general finding by the exact one.
func refine(r engine.Refusal, code finding.Code, cause, status string) *finding.Finding {
	found := r.Finding
	found.Code, found.Cause, found.Try, found.Do = code, cause, []string{}, []string{}
	return found.Saw("%sits status is %s", r.By, clean.Quote(status))
}
