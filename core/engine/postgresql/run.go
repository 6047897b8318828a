package postgresql

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"regexp"
	"strconv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"gentleharbor/core/engine"
)

// Run runs a statement, without values by the simple query protocol, and with values by the extended one
// (PostgreSQL documentation, "Message Flow").
func (c *conversation) Run(ctx context.Context, s engine.Statement, to engine.Results) error {
	return c.runCancellable(ctx, to, func(start time.Time) error { return c.run(s, to, start) })
}

// Take runs COPY … FROM STDIN (PostgreSQL documentation, "COPY Operations").
func (c *conversation) Take(ctx context.Context, text string, data io.Reader, to engine.Results) error {
	return c.runCancellable(ctx, to, func(start time.Time) error {
		tag, err := c.pg.CopyFrom(context.Background(), data, text)
		c.took = c.facts.AtServer(start)
		if err != nil {
			return c.translateError(err)
		}
		return to.End(engine.Outcome{Command: command(tag.String()), Changed: tag.RowsAffected()})
	})
}

// runCancellable runs something and cancels it at the server when ctx ends.
func (c *conversation) runCancellable(ctx context.Context, to engine.Results, run func(start time.Time) error) error {
	c.results = to
	defer func() { c.results = nil }()
	return engine.Cancellable(ctx, c.raw, c.cancel, func() error { return run(time.Now()) })
}

// run is Run without its end.
func (c *conversation) run(s engine.Statement, to engine.Results, start time.Time) error {
	ctx := context.Background() // what ends it early is Run's business
	c.took = 0
	if s.Arguments != nil {
		values := make([][]byte, len(s.Arguments))
		for i, a := range s.Arguments {
			if a != nil {
				values[i] = []byte(*a)
			}
		}
		return c.read(c.pg.ExecParams(ctx, s.Text, values, nil, nil, nil), to, start)
	}
	all := c.pg.Exec(ctx, s.Text)
	for all.NextResult() {
		if err := c.read(all.ResultReader(), to, start); err != nil {
			all.Close()
			return err
		}
	}
	return c.translateError(all.Close())
}

// read gives one result to the receiver. Where that fails, it reads the rest and drops it.
func (c *conversation) read(reader *pgconn.ResultReader, to engine.Results, start time.Time) error {
	var failed error
	begun := false
	begin := func() {
		if fields := reader.FieldDescriptions(); !begun && fields != nil {
			failed = to.Begin(describeColumns(fields))
		}
		begun = true
	}
	for reader.NextRow() {
		if c.took == 0 {
			c.took = c.facts.AtServer(start)
		}
		begin()
		if failed == nil {
			failed = to.Row(reader.Values())
		}
		if failed != nil {
			c.cancel()
			break
		}
	}
	tag, err := reader.Close()
	if c.took == 0 {
		c.took = c.facts.AtServer(start)
	}
	if failed != nil {
		return failed
	}
	if err != nil {
		return c.translateError(err)
	}
	if begin(); failed != nil {
		return failed
	}
	done := engine.Outcome{Command: command(tag.String()), Changed: -1}
	if reader.FieldDescriptions() != nil {
		done.Rows = tag.RowsAffected()
	}
	if tag.Insert() || tag.Update() || tag.Delete() || done.Command == "MERGE" || done.Command == "COPY" {
		done.Changed = tag.RowsAffected()
	}
	return to.End(done)
}

// command is a tag without its counts: "INSERT 0 5" is INSERT.
func command(tag string) string {
	end := len(tag)
	for end > 0 && (tag[end-1] == ' ' || tag[end-1] >= '0' && tag[end-1] <= '9') {
		end--
	}
	return tag[:end]
}

// translateError turns the driver's error into ours.
func (c *conversation) translateError(err error) error {
	var said *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &said):
		e := &engine.StatementError{
			Severity: said.Severity,
			Code:     "SQLSTATE " + said.Code,
			Message:  said.Message,
			Detail:   said.Detail,
			Hint:     said.Hint,
			Where:    said.Where,
			Position: int(said.Position),
			Fatal:    c.pg.IsClosed(),
		}
		e.DataLine, e.Column = dataPlace(said.Where)
		return e
	}
	return &engine.LostError{Err: err}
}

// dataPlace is the line and the column of the data that a server's message names; 0 and "" for none.
func dataPlace(where string) (line int, column string) {
	if m := copyPlace().FindStringSubmatch(where); m != nil {
		line, _ = strconv.Atoi(m[1])
		column = m[2]
	}
	return line, column
}

// copyPlace finds the line and the column in a message of any language.
var copyPlace = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^COPY [^\n]*?, \S+ (\d+)(?:, \S+ ([^:\n]+))?`)
})

// handOnNotice passes a server's notice to the receiver.
func (c *conversation) handOnNotice(_ *pgconn.PgConn, n *pgconn.Notice) {
	if c.results != nil {
		c.results.Notice(engine.Notice{
			Severity: n.Severity,
			Code:     n.Code,
			Message:  n.Message,
			Detail:   n.Detail,
			Hint:     n.Hint,
		})
	}
}

// InTransaction reports whether a transaction is open.
func (c *conversation) InTransaction() bool { return c.pg.TxStatus() != 'I' }

// TransactionFailed reports whether the transaction that is open can only be rolled back.
func (c *conversation) TransactionFailed() bool { return c.pg.TxStatus() == 'E' }

// Took is the time of the last statement at the server.
func (c *conversation) Took() time.Duration { return c.took }

// cancel asks the server to end the statement that runs: on a connection of its own, encrypted as this one is
// (PostgreSQL documentation, "Canceling Requests in Progress").
func (c *conversation) cancel() error {
	ctx, stop := context.WithTimeout(context.Background(), engine.CancelWait)
	defer stop()
	conn, err := c.to.Second(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(engine.CancelWait))
	if c.facts.TLS != "none" {
		answer := make([]byte, 1)
		if _, err := conn.Write(sslRequest()); err != nil {
			return err
		}
		if _, err := io.ReadFull(conn, answer); err != nil || answer[0] != 'S' {
			return errors.New("the server offers no TLS for it")
		}
		secure, _, _, err := c.to.TLS.Handshake(ctx, conn)
		if err != nil {
			return err
		}
		conn = secure
	}
	message := binary.BigEndian.AppendUint32(nil, uint32(12+len(c.pg.SecretKey())))
	message = binary.BigEndian.AppendUint32(message, codeCancel)
	message = binary.BigEndian.AppendUint32(message, c.pg.PID())
	if _, err := conn.Write(append(message, c.pg.SecretKey()...)); err != nil {
		return err
	}
	_, err = conn.Read(make([]byte, 1)) // the server closes once it has done so
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return err
}

// kinds are the types whose values are more than texts, by their number (pg_type.dat).
var kinds = map[uint32]engine.Column{
	16:   {Type: "boolean", Truth: true},
	17:   {Type: "bytea", Binary: true},
	20:   {Type: "bigint", Number: true},
	21:   {Type: "smallint", Number: true},
	23:   {Type: "integer", Number: true},
	25:   {Type: "text"},
	26:   {Type: "oid", Number: true},
	114:  {Type: "json", JSON: true},
	700:  {Type: "real", Number: true},
	701:  {Type: "double precision", Number: true},
	1043: {Type: "character varying"},
	1082: {Type: "date"},
	1083: {Type: "time"},
	1114: {Type: "timestamp"},
	1184: {Type: "timestamp with time zone"},
	1186: {Type: "interval"},
	1700: {Type: "numeric", Number: true},
	2950: {Type: "uuid"},
	3802: {Type: "jsonb", JSON: true},
}

// describeColumns returns a result's columns.
func describeColumns(fields []pgconn.FieldDescription) []engine.Column {
	all := make([]engine.Column, len(fields))
	for i, f := range fields {
		all[i] = kinds[f.DataTypeOID]
		all[i].Name = f.Name
	}
	return all
}
