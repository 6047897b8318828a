package oracle

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/sijms/go-ora/v2/network"

	"gentleharbor/core/engine"
)

// Run runs a statement through the driver, which cancels it at the server when ctx ends.
func (c *conversation) Run(ctx context.Context, s engine.Statement, to engine.Results) error {
	c.raw.SetDeadline(time.Time{})
	start := time.Now()
	return engine.Cancellable(ctx, c.raw, nil, func() error {
		return c.refusedStatement(c.session.guardCall(func() error { return c.run(ctx, s, to, start) }))
	})
}

// run is Run without its end. A transaction is the driver's: the server has no statement that begins one.
func (c *conversation) run(ctx context.Context, s engine.Statement, to engine.Results, start time.Time) error {
	switch s.Text {
	case "BEGIN":
		tx, err := c.session.db.Begin()
		c.transaction = tx
		return err
	case "COMMIT", "ROLLBACK":
		if tx := c.transaction; tx != nil {
			c.transaction = nil
			if s.Text == "COMMIT" {
				return tx.Commit()
			}
			return tx.Rollback()
		}
	}
	var values []driver.NamedValue
	for i, a := range s.Arguments {
		v := sql.NullString{}
		if a != nil {
			v = sql.NullString{String: *a, Valid: true}
		}
		values = append(values, driver.NamedValue{Ordinal: i + 1, Value: v})
	}
	if !asks(s.Text) {
		result, err := c.session.db.ExecContext(ctx, s.Text, values)
		c.took = c.facts.AtServer(start)
		if err != nil {
			return err
		}
		changed, err := result.RowsAffected()
		if err != nil || !changes(s.Text) {
			changed = -1
		}
		return to.End(engine.Outcome{Changed: changed})
	}
	rows, err := c.session.db.QueryContext(ctx, s.Text, values)
	c.took = c.facts.AtServer(start)
	if err != nil {
		return err
	}
	defer rows.Close()
	return give(ctx, rows, to)
}

// give gives the rows of an answer to the receiver.
func give(ctx context.Context, rows driver.Rows, to engine.Results) error {
	names := rows.Columns()
	kinds, _ := rows.(driver.RowsColumnTypeDatabaseTypeName)
	columns := make([]engine.Column, len(names))
	for i, name := range names {
		columns[i].Name = name
		if kinds != nil {
			columns[i].Type = kinds.ColumnTypeDatabaseTypeName(i)
		}
		switch columns[i].Type {
		case "NUMBER", "IBFloat", "IBDouble", "BFloat", "BDouble":
			columns[i].Number = true
		case "RAW", "LongRaw", "OCIBlobLocator":
			columns[i].Binary = true
		}
	}
	if err := to.Begin(columns); err != nil {
		return err
	}
	values, row := make([]driver.Value, len(names)), make([][]byte, len(names))
	var n int64
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		err := rows.Next(values)
		if errors.Is(err, io.EOF) {
			return to.End(engine.Outcome{Rows: n, Changed: -1})
		}
		if err != nil {
			return err
		}
		for i, v := range values {
			row[i] = formatValue(v, columns[i].Type)
		}
		n++
		if err := to.Row(row); err != nil {
			return err
		}
	}
}

// formatValue returns a value as text: numbers as the driver decodes them, digit by digit; bytes as \x…; dates
// without a zone where the type has none. An empty text is NULL on this server.
func formatValue(v driver.Value, kind string) []byte {
	switch v := v.(type) {
	case nil:
		return nil
	case string:
		return []byte(v)
	case []byte:
		if v == nil {
			return nil
		}
		return hex.AppendEncode([]byte(`\x`), v)
	case time.Time:
		switch {
		case strings.Contains(kind, "TZ") || strings.Contains(kind, "Tz"):
			return v.AppendFormat(nil, "2006-01-02 15:04:05.999999999 -07:00")
		default:
			return v.AppendFormat(nil, "2006-01-02 15:04:05.999999999")
		}
	case float64:
		return strconv.AppendFloat(nil, v, 'g', -1, 64)
	case float32:
		return strconv.AppendFloat(nil, float64(v), 'g', -1, 32)
	}
	return fmt.Append(nil, v)
}

// firstWord is the first word of a statement after comments and parentheses, in capital letters.
func firstWord(text string) string {
	for {
		text = strings.TrimLeft(text, " \t\r\n(")
		switch {
		case strings.HasPrefix(text, "--"):
			_, text, _ = strings.Cut(text, "\n")
		case strings.HasPrefix(text, "/*"):
			_, text, _ = strings.Cut(text, "*/")
		default:
			end := strings.IndexFunc(text, func(r rune) bool { return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') })
			if end < 0 {
				end = len(text)
			}
			return strings.ToUpper(text[:end])
		}
	}
}

// asks reports whether a statement returns rows, changes whether it counts changed rows.
func asks(text string) bool {
	word := firstWord(text)
	return word == "SELECT" || word == "WITH"
}

func changes(text string) bool {
	switch firstWord(text) {
	case "INSERT", "UPDATE", "DELETE", "MERGE":
		return true
	}
	return false
}

// refusedStatement turns the driver's error into ours.
func (c *conversation) refusedStatement(err error) error {
	var server *network.OracleError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &server):
		e := &engine.StatementError{Code: fmt.Sprintf("ORA-%05d", server.ErrCode), Message: server.ErrMsg}
		e.Message = strings.TrimSpace(strings.TrimPrefix(e.Message, e.Code+":"))
		if at := server.ErrPos(); at > 0 {
			e.Position = at + 1
		}
		switch server.ErrCode {
		case 28, 1012, 2396, 3113, 3114, 3135: // the session is over
			e.Fatal = true
		}
		return e
	case errors.Is(err, driver.ErrBadConn), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, network.ErrConnReset), errors.Is(err, errDriverPanic), errors.As(err, new(*net.OpError)):
		return &engine.LostError{Err: err}
	}
	return err
}

// InTransaction reports whether a transaction of ours is open: without one the driver commits each statement.
func (c *conversation) InTransaction() bool { return c.transaction != nil }

// Took is the time of the last statement at the server.
func (c *conversation) Took() time.Duration { return c.took }
