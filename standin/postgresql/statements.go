package postgresql

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/jackc/pgx/v5/pgproto3"

	"gentleharbor/standin/store"
)

// Statements answers statements from a store, and browse's queries of the catalogue. It is a Config's Answer.
func Statements(s *store.Store, config *Config) func(*pgproto3.Backend, string, [][]byte) bool {
	if config.cluster == nil {
		config.cluster = newCluster(config)
	}
	a := &storeAnswerer{store: s, config: config, sessions: make(map[*pgproto3.Backend]*state)}
	return a.answer
}

// storeAnswerer is a store behind the protocol.
type storeAnswerer struct {
	store    *store.Store
	config   *Config
	mu       sync.Mutex
	sessions map[*pgproto3.Backend]*state
}

// state is that of one session.
type state struct {
	status   byte // of the transaction: 'I', 'T'
	readOnly bool
}

func (a *storeAnswerer) stateOf(to *pgproto3.Backend) *state {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.sessions[to] == nil {
		a.sessions[to] = &state{status: 'I'}
	}
	return a.sessions[to]
}

// answer answers one statement.
func (a *storeAnswerer) answer(to *pgproto3.Backend, text string, values [][]byte) bool {
	trimmed := strings.TrimSpace(text)
	upper := strings.ToUpper(trimmed)
	session := a.stateOf(to)
	ready := func() bool {
		to.Send(&pgproto3.ReadyForQuery{TxStatus: session.status})
		to.Flush()
		return true
	}
	if columns, rows, ok := a.catalogue(trimmed, values); ok {
		a.rows(to, columns, rows)
		return ready()
	}
	switch {
	case strings.HasPrefix(upper, "SET LOCAL"):
	case trimmed == "", strings.Contains(text, "pg_"), strings.Contains(text, "to_regclass"),
		strings.Contains(text, `AS "`):
		return false // what a test of a profile asks
	case strings.HasPrefix(upper, "BEGIN"), strings.HasPrefix(upper, "START TRANSACTION"):
		session.status = 'T'
	case strings.HasPrefix(upper, "COMMIT"), strings.HasPrefix(upper, "ROLLBACK"):
		session.status = 'I'
	case strings.HasPrefix(upper, "SET SESSION CHARACTERISTICS"):
		session.readOnly = true
	case session.readOnly && !strings.HasPrefix(upper, "SELECT") && !strings.HasPrefix(upper, "SET"):
		word, _, _ := strings.Cut(upper, " ")
		a.refuse(to, &store.Error{Code: "25006", Message: "cannot execute " + word + " in a read-only transaction"})
		return ready()
	}
	var parameters []*string
	for _, v := range values {
		var p *string
		if v != nil {
			text := string(v)
			p = &text
		}
		parameters = append(parameters, p)
	}
	answer, err := a.store.Run(text, parameters)
	switch {
	case err != nil:
		a.refuse(to, err)
	case answer.Takes != nil:
		if !a.take(to, answer) {
			return true
		}
	default:
		a.give(to, answer)
	}
	return ready()
}

// give sends what a statement gives.
func (a *storeAnswerer) give(to *pgproto3.Backend, answer *store.Answer) {
	if answer.Notice != "" {
		to.Send(&pgproto3.NoticeResponse{
			Severity:            "NOTICE",
			SeverityUnlocalized: "NOTICE",
			Code:                "00000",
			Message:             answer.Notice,
		})
	}
	if answer.Columns == nil {
		to.Send(&pgproto3.CommandComplete{CommandTag: []byte(answer.Tag)})
		return
	}
	d := &pgproto3.RowDescription{}
	for _, c := range answer.Columns {
		d.Fields = append(d.Fields, pgproto3.FieldDescription{
			Name: []byte(c.Name), DataTypeOID: oid(c.Type), DataTypeSize: -1, TypeModifier: -1,
		})
	}
	to.Send(d)
	for _, row := range answer.Rows {
		values := make([][]byte, len(row))
		for i, v := range row {
			if v != nil {
				values[i] = []byte(*v)
			}
		}
		to.Send(&pgproto3.DataRow{Values: values})
	}
	to.Send(&pgproto3.CommandComplete{CommandTag: []byte(answer.Tag)})
}

// oid is the number of a type.
func oid(name string) uint32 {
	switch name {
	case "integer":
		return 23
	case "bigint":
		return 20
	case "numeric":
		return 1700
	case "date":
		return 1082
	case "timestamp":
		return 1114
	}
	return 25
}

// rows sends rows of texts; "-" is NULL.
func (a *storeAnswerer) rows(to *pgproto3.Backend, columns int, rows [][]string) {
	names := make([]string, columns)
	for i := range names {
		names[i] = fmt.Sprint("c", i+1)
	}
	to.Send(description(names))
	for _, row := range rows {
		values := make([][]byte, columns)
		for i, v := range row {
			if v != "-" {
				values[i] = []byte(v)
			}
		}
		to.Send(&pgproto3.DataRow{Values: values})
	}
	to.Send(&pgproto3.CommandComplete{CommandTag: []byte(fmt.Sprintf("SELECT %d", len(rows)))})
}

func (a *storeAnswerer) refuse(to *pgproto3.Backend, err error) {
	e := &pgproto3.ErrorResponse{Severity: "ERROR", SeverityUnlocalized: "ERROR", Code: "XX000", Message: err.Error()}
	var said *store.Error
	if errors.As(err, &said) {
		e.Code, e.Position, e.Where = said.Code, int32(said.Position), said.Detail
	}
	to.Send(e)
}

// take reads the data of COPY, up to a row that does not fit. It is false where the client has disconnected.
func (a *storeAnswerer) take(to *pgproto3.Backend, answer *store.Answer) bool {
	formats := make([]uint16, len(answer.Into))
	to.Send(&pgproto3.CopyInResponse{ColumnFormatCodes: formats})
	to.Flush()
	var rest string
	var failed error
	line, taken := 0, 0
	row := func(text string) {
		line++
		if failed == nil {
			if failed = a.store.Take(answer.Takes, answer.Into, store.Fields(text)); failed != nil {
				failed = withLine(failed, answer.Takes.Name, line)
			} else {
				taken++
			}
		}
	}
	for {
		message, err := to.Receive()
		if err != nil {
			return false
		}
		switch m := message.(type) {
		case *pgproto3.CopyData:
			lines := strings.Split(rest+string(m.Data), "\n")
			rest = lines[len(lines)-1]
			for _, text := range lines[:len(lines)-1] {
				row(text)
			}
		case *pgproto3.CopyDone:
			if rest != "" {
				row(rest)
			}
			if failed != nil {
				a.store.Undo(answer.Takes, taken)
				a.refuse(to, failed)
			} else {
				to.Send(&pgproto3.CommandComplete{CommandTag: []byte(fmt.Sprintf("COPY %d", line))})
			}
			return true
		case *pgproto3.CopyFail:
			a.store.Undo(answer.Takes, taken)
			a.refuse(to, &store.Error{Code: "57014", Message: "COPY from stdin failed: " + m.Message})
			return true
		}
	}
}

// withLine is an error with the line of the data.
func withLine(err error, table string, line int) error {
	var said *store.Error
	if !errors.As(err, &said) {
		return err
	}
	copied := *said
	copied.Detail = fmt.Sprintf("COPY %s, line %d", table, line)
	return &copied
}

// catalogue answers the queries of browse and load, with the number of columns and the rows.
func (a *storeAnswerer) catalogue(text string, values [][]byte) (columns int, rows [][]string, ok bool) {
	tables, counts := a.store.Tables()
	size := func(n int) string { return fmt.Sprint(8192 * (2 + n/80)) }
	wanted := func(name string) bool { return len(values) == 0 || string(values[0]) == name }
	each := func(row func(t store.Table, n int) []string) {
		for i, t := range tables {
			rows = append(rows, row(t, counts[i]))
		}
	}
	switch {
	case strings.Contains(text, "shobj_description(d.oid"):
		for _, d := range a.config.cluster.names() {
			if wanted(d) {
				rows = append(rows, []string{d, "warden", "UTF8", "C.UTF-8", fmt.Sprint(7 << 20), "t", "-", "f"})
			}
		}
		return 8, rows, true
	case strings.Contains(text, "LATERAL (SELECT count(*) AS tables"):
		total := 0
		for _, n := range counts {
			total += n
		}
		return 8, [][]string{{"public", "warden", fmt.Sprint(len(tables)), fmt.Sprint(total), "t", "t", "-", "f"}}, true
	case strings.Contains(text, "pg_table_size(c.oid), pg_indexes_size"):
		each(func(t store.Table, n int) []string {
			return []string{"public", t.Name, fmt.Sprint(n), size(n), "16384", size(n), "f"}
		})
		slices.SortStableFunc(rows, func(x, y []string) int { // the largest first
			return cmp.Or(cmp.Compare(len(y[5]), len(x[5])), strings.Compare(y[5], x[5]))
		})
		return 7, rows, true
	case strings.Contains(text, "format_type(a.atttypid"):
		for _, t := range tables {
			for _, c := range t.Columns {
				if wanted(t.Name) {
					rows = append(rows, []string{"public", t.Name, c.Name, c.Type, yesNo(!c.NotNull), "-", orNull(c.Key), "-", "f"})
				}
			}
		}
		return 9, rows, true
	case strings.Contains(text, "pg_get_indexdef("):
		for _, t := range tables {
			for _, c := range t.Columns {
				if wanted(t.Name) && c.Key == "primary" {
					rows = append(rows,
						[]string{"public", t.Name, t.Name + "_pkey", c.Name, "t", "t", "btree", "-", "16384", "-", "f"})
				}
			}
		}
		return 11, rows, true
	case strings.Contains(text, "r.rolcanlogin"):
		for name, r := range a.config.cluster.all() {
			rows = append(rows, []string{name, yesNo(!r.NoLogin), yesNo(r.Superuser), "-", "-", "-", "f"})
		}
		slices.SortFunc(rows, slices.Compare)
		return 7, rows, true
	case strings.Contains(text, "SELECT 'server', NULL::name"):
		rows = [][]string{
			{"server", "-", "-", "log in", "-", "f"},
			{"database", "-", "sightings", "connect, create, temporary", "owner", "f"},
			{"schema", "public", "public", "usage, create", "owner", "f"},
		}
		each(func(t store.Table, _ int) []string {
			const all = "select, insert, update, delete, truncate, references, trigger"
			return []string{"table", "public", t.Name, all, "owner", "f"}
		})
		return 6, rows, true
	case strings.Contains(text, "FROM pg_stat_activity a"):
		return 11, [][]string{{"4711", "warden", "127.0.0.1:50000", "gharbor", "sightings", "2026-11-02 08:00:00",
			"this session", "0.0", "-", "-", "f"}}, true
	case strings.Contains(text, "FROM pg_settings s"):
		return 6, [][]string{
			{"max_connections", "100", "default", "at a restart", "Sets the maximum number of concurrent connections.", "f"},
			{"work_mem", "4MB", "default", "at once", "Sets the maximum memory to be used for query workspaces.", "f"},
		}, true
	case strings.Contains(text, "FROM pg_aggregate"):
		return 4, nil, true
	case strings.Contains(text, "current_schemas(true)"):
		return 1, [][]string{{"pg_catalog"}, {"public"}}, true
	case strings.HasPrefix(text, "SELECT n.nspname, c.relname, CASE c.relkind"):
		each(func(t store.Table, n int) []string {
			return []string{"public", t.Name, "table", fmt.Sprint(n), size(n), "warden", orNull(t.Comment), "f"}
		})
		return 8, rows, true
	}
	return 0, nil, false
}

func yesNo(yes bool) string { return map[bool]string{true: "t", false: "f"}[yes] }

func orNull(text string) string {
	if text == "" {
		return "-"
	}
	return text
}
