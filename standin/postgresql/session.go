package postgresql

import (
	"fmt"
	"io"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"
)

// session is one connection from its startup message on.
type session struct {
	*Server
	backend   *pgproto3.Backend
	encrypted bool
	conn      net.Conn // below backend, for what no protocol would send
	user      string
	database  string
	query     string   // of the last Parse
	arguments [][]byte // of the last Bind
	answered  bool     // by Answer, up to ReadyForQuery
	failed    bool     // nothing is run up to Sync
}

// refuse sends an error that ends the connection.
func (s *session) refuse(code, routine, message string) error {
	s.backend.Send(&pgproto3.ErrorResponse{
		Severity:            "FATAL",
		SeverityUnlocalized: "FATAL",
		Code:                code,
		Message:             message,
		Routine:             routine,
		File:                "auth.c", // what a server says; a pooler says neither
	})
	s.backend.Flush()
	return errEnded
}

// login goes from the startup message to ReadyForQuery.
func (s *session) login() error {
	message, err := s.backend.ReceiveStartupMessage()
	if err != nil {
		return err
	}
	startup, ok := message.(*pgproto3.StartupMessage)
	if !ok {
		return errEnded
	}
	s.wait()
	s.user, s.database = startup.Parameters["user"], startup.Parameters["database"]
	if s.database == "" {
		s.database = s.user
	}
	if err := s.faultAtStartup(); err != nil {
		return err
	}
	if s.OnlyTLS && !s.encrypted {
		return s.refuse("28000", "ClientAuthentication",
			fmt.Sprintf("no pg_hba.conf entry for host \"127.0.0.1\", user \"%s\", database \"%s\", no encryption", s.user,
				s.database))
	}
	role, known := s.cluster.role(s.user)
	if err := s.authenticate(role, known); err != nil {
		return err
	}
	s.backend.Send(&pgproto3.AuthenticationOk{})
	if role.NoLogin {
		return s.refuse("28000", "InitializeSessionUserId", fmt.Sprintf("role \"%s\" is not permitted to log in", s.user))
	}
	if !s.cluster.has(s.database) {
		return s.refuse("3D000", "InitPostgres", fmt.Sprintf("database \"%s\" does not exist", s.database))
	}
	for name, value := range map[string]string{
		"server_version":  s.Version,
		"server_encoding": "UTF8",
		"client_encoding": "UTF8",
		"TimeZone":        "Etc/UTC",
		"is_superuser":    onOff(role.Superuser),
	} {
		s.backend.Send(&pgproto3.ParameterStatus{Name: name, Value: value})
	}
	s.backend.Send(&pgproto3.BackendKeyData{ProcessID: 4711, SecretKey: []byte{1, 2, 3, 4}})
	s.backend.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
	return s.backend.Flush()
}

// faultAtStartup does the faults that answer a startup message.
func (s *session) faultAtStartup() error {
	switch s.Fault {
	case Starting:
		return s.refuse("57P03", "ProcessStartupPacket", "the database system is starting up")
	case Stopping:
		return s.refuse("57P03", "ProcessStartupPacket", "the database system is shutting down")
	case Recovering:
		return s.refuse("57P03", "ProcessStartupPacket", "the database system is in recovery mode")
	case Full:
		return s.refuse("53300", "InitProcess", "sorry, too many clients already")
	case FullReserved:
		return s.refuse("53300", "InitPostgres",
			"remaining connection slots are reserved for non-replication superuser connections")
	case EscapeMessage:
		return s.refuse("28000", "", "\x1b[2J\x1b]0;owned\x07go\u202eaway\nnow")
	case HugeLength:
		s.backend.Flush()
		s.conn.Write([]byte{'R', 0x3f, 0xff, 0xff, 0xff, 0, 0, 0, 0})
		return errEnded
	}
	return nil
}

func onOff(on bool) string {
	if on {
		return "on"
	}
	return "off"
}

// refuseStatement does the faults that answer every statement, after all of it has come.
func (s *session) refuseStatement(message pgproto3.FrontendMessage) error {
	refusal := &pgproto3.ErrorResponse{Severity: "ERROR", Code: "42501", Routine: "aclcheck_error", File: "aclchk.c",
		Message: "permission denied for function set_config"}
	if s.Fault == OutOfTime {
		refusal = &pgproto3.ErrorResponse{Severity: "ERROR", Code: "57014", Routine: "ProcessInterrupts", File: "postgres.c",
			Message: "canceling statement due to statement timeout"}
	}
	switch message.(type) {
	case *pgproto3.Terminate:
		return errEnded
	case *pgproto3.Query, *pgproto3.Sync:
		s.backend.Send(refusal)
		s.backend.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
		return s.backend.Flush()
	}
	return nil
}

// answer answers statements until the client disconnects.
func (s *session) answer() {
	for {
		message, err := s.backend.Receive()
		if err != nil {
			return
		}
		s.wait()
		switch s.Fault {
		case LoseSession:
			return
		case HangSession:
			io.Copy(io.Discard, s.conn)
			return
		}
		if s.Fault == NoRight || s.Fault == OutOfTime {
			if err := s.refuseStatement(message); err != nil {
				return
			}
			continue
		}
		switch m := message.(type) {
		case *pgproto3.Query:
			s.arguments = nil
			if isComment(m.String) {
				s.backend.Send(&pgproto3.EmptyQueryResponse{})
				s.backend.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
			} else if _, _, ok := s.question(m.String); ok {
				s.simple(m.String)
			} else if !s.changed(m.String) && (s.Answer == nil || !s.Answer(s.backend, m.String, nil)) {
				s.simple(m.String)
			}
		case *pgproto3.Parse:
			s.query = m.Query
			s.backend.Send(&pgproto3.ParseComplete{})
		case *pgproto3.Bind:
			s.arguments = nil
			for _, p := range m.Parameters {
				s.arguments = append(s.arguments, slices.Clone(p))
			}
			s.backend.Send(&pgproto3.BindComplete{})
		case *pgproto3.Describe:
			if s.Answer != nil && s.Answer(s.backend, s.query, s.arguments) {
				s.answered = true
				continue
			}
			if columns, _ := s.rows(s.query); !s.failed {
				s.backend.Send(description(columns))
			}
		case *pgproto3.Execute:
			if s.answered || s.failed {
				continue
			}
			if s.Fault == NoCatalogue {
				s.failed = true
				s.backend.Send(&pgproto3.ErrorResponse{
					Severity: "ERROR",
					Code:     "42501",
					Message:  "permission denied for schema pg_catalog",
				})
				continue
			}
			_, rows := s.rows(s.query)
			s.data(rows)
		case *pgproto3.Sync:
			s.failed = false
			if s.answered {
				s.answered = false
				break
			}
			s.backend.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
		case *pgproto3.Terminate:
			return
		}
		if s.backend.Flush() != nil {
			return
		}
	}
}

// changed runs an administrator's change; false for another statement.
func (s *session) changed(query string) bool {
	role, _ := s.cluster.role(s.user)
	w := words(strings.TrimSpace(query))
	own := len(w) > 3 && w[0] == "ALTER" && w[2] == s.user && w[3] == "PASSWORD"
	if !role.Superuser && !own && !strings.HasPrefix(query, "SET search_path") {
		return false
	}
	tag, err := s.cluster.run(strings.TrimSpace(query), s.database)
	switch {
	case err != nil:
		s.backend.Send(&pgproto3.ErrorResponse{Severity: "ERROR", Code: "42710", Message: err.Error()})
	case tag == "":
		return false
	default:
		s.backend.Send(&pgproto3.CommandComplete{CommandTag: []byte(tag)})
	}
	s.backend.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
	return true
}

// isComment reports whether a statement is only a comment: drivers send one to check that the server answers.
func isComment(statement string) bool {
	return strings.HasPrefix(statement, "--") && !strings.Contains(statement, "\n")
}

// simple answers statements with ; between them, up to one that fails.
func (s *session) simple(query string) {
	for statement := range strings.SplitSeq(query, "; ") {
		if strings.TrimSpace(statement) == "" {
			s.backend.Send(&pgproto3.EmptyQueryResponse{})
			continue
		}
		columns, rows := s.rows(statement)
		if len(columns) == 0 {
			s.backend.Send(&pgproto3.ErrorResponse{
				Severity: "ERROR",
				Code:     "0A000",
				Message:  "the simulated server does not know this statement",
			})
			break
		}
		s.backend.Send(description(columns))
		s.data(rows)
	}
	s.backend.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
}

func description(columns []string) *pgproto3.RowDescription {
	d := &pgproto3.RowDescription{}
	for _, name := range columns {
		d.Fields = append(d.Fields, pgproto3.FieldDescription{
			Name:         []byte(name),
			DataTypeOID:  25,
			DataTypeSize: -1,
			TypeModifier: -1,
		})
	}
	return d
}

func (s *session) data(rows [][][]byte) {
	for _, row := range rows {
		s.backend.Send(&pgproto3.DataRow{Values: row})
	}
	s.backend.Send(&pgproto3.CommandComplete{CommandTag: []byte(fmt.Sprintf("SELECT %d", len(rows)))})
}

var columnName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`AS "([a-z_]+)"`) })

// rows answers a query of the catalogue. One that names its columns gets the simulated value of each.
func (s *session) rows(query string) (columns []string, rows [][][]byte) {
	if columns, rows, ok := s.question(query); ok {
		return columns, rows
	}
	switch {
	case strings.Contains(query, "set_config("):
		return []string{"set_config"}, [][][]byte{{[]byte("pg_catalog, pg_temp")}}
	case strings.Contains(query, "FROM pg_database WHERE NOT"):
		for _, name := range s.cluster.names() {
			rows = append(rows, [][]byte{[]byte(name)})
		}
		return []string{"datname"}, rows
	case strings.Contains(query, "to_regclass"):
		return []string{"n"}, s.absent(s.Tables)
	case strings.Contains(query, "pg_extension"):
		return []string{"n"}, s.absent([]string{"plpgsql"})
	case strings.Contains(query, "FROM pg_roles WHERE rolname"):
		return s.role()
	case strings.Contains(query, "FROM pg_roles WHERE rolcanlogin"):
		for name, role := range s.cluster.all() {
			if !role.NoLogin {
				rows = append(rows, [][]byte{[]byte(name)})
			}
		}
		return []string{"rolname"}, rows
	case strings.Contains(query, "FROM pg_authid"):
		if role, ok := s.cluster.role(s.argument()); ok {
			rows = [][][]byte{{[]byte(strconv.FormatBool(role.Password+role.Verifier != "")), []byte("SCR")}}
		}
		return []string{"set", "stored"}, rows
	}
	var row [][]byte
	for _, match := range columnName().FindAllStringSubmatch(query, -1) {
		columns = append(columns, match[1])
		row = append(row, []byte(s.value(match[1])))
	}
	return columns, [][][]byte{row}
}

// value is a fact of the simulated server.
func (s *session) value(name string) string {
	switch name {
	case "user":
		return s.user
	case "database":
		return s.database
	case "version":
		return s.Version
	case "encoding":
		return "UTF8"
	case "collation":
		return "C.UTF-8"
	case "time_zone":
		return "Etc/UTC"
	case "read_only":
		return onOff(s.ReadOnly)
	case "in_recovery":
		return strconv.FormatBool(s.ReadOnly)
	case "superuser":
		role, _ := s.cluster.role(s.user)
		return onOff(role.Superuser)
	case "clock":
		return epoch(time.Now())
	case "started":
		return epoch(s.Started)
	case "system_identifier":
		return s.Lineage
	}
	return ""
}

func epoch(t time.Time) string { return fmt.Sprintf("%.6f", float64(t.UnixMicro())/1e6) }

func (s *session) argument() string {
	if len(s.arguments) == 0 {
		return ""
	}
	return string(s.arguments[0])
}

// absent returns the words of the array argument that are not among the given ones.
func (s *session) absent(present []string) (rows [][][]byte) {
	for word := range strings.SplitSeq(strings.Trim(s.argument(), "{}"), ",") {
		word = strings.Trim(word, `"`)
		if !slices.Contains(present, word) {
			rows = append(rows, [][]byte{[]byte(word)})
		}
	}
	return rows
}

// expiredFor is how long ago an expired password ended.
const expiredFor = 48 * time.Hour

func (s *session) role() (columns []string, rows [][][]byte) {
	columns = []string{"rolcanlogin", "until"}
	role, ok := s.cluster.role(s.argument())
	if !ok {
		return columns, nil
	}
	var until []byte
	if role.Expired {
		until = []byte(epoch(time.Now().Add(-expiredFor)))
	}
	return columns, [][][]byte{{[]byte(strconv.FormatBool(!role.NoLogin)), until}}
}
