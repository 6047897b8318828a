package mysql

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
)

// maxBody bounds a packet from a client, in bytes.
const maxBody = 1 << 16

// wire reads and writes packets: three bytes of length, least first, a number
// that counts on within one exchange, and the body.
type wire struct {
	conn   net.Conn
	number byte
}

func (w *wire) read() ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(w.conn, head); err != nil {
		return nil, err
	}
	size := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
	if size > maxBody {
		return nil, errEnded
	}
	body := make([]byte, size)
	_, err := io.ReadFull(w.conn, body)
	w.number = head[3] + 1
	return body, err
}

func (w *wire) write(body []byte) error {
	packet := append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), w.number}, body...)
	w.number++
	_, err := w.conn.Write(packet)
	return err
}

func (w *wire) fail(code uint16, state, message string) error {
	return w.write(append([]byte{0xff, byte(code), byte(code >> 8), '#'}, state+message...))
}

// text appends a length-encoded string; the simulated server's are shorter than 64 KiB.
func text(b []byte, s string) []byte {
	if len(s) < 251 {
		b = append(b, byte(len(s)))
	} else {
		b = append(b, 0xfc, byte(len(s)), byte(len(s)>>8))
	}
	return append(b, s...)
}

// rows sends a result set (MySQL documentation, "Text Resultset").
func (s *session) rows(columns []string, rows [][]string) error {
	if err := s.wire.write([]byte{byte(len(columns))}); err != nil {
		return err
	}
	for _, name := range columns {
		var b []byte
		for _, part := range []string{"def", "", "", "", name, name} {
			b = text(b, part)
		}
		b = append(b, 12, 45, 0, 255, 0, 0, 0, 253, 0, 0, 0, 0, 0)
		if err := s.wire.write(b); err != nil {
			return err
		}
	}
	end := []byte{0xfe, 0, 0, 2, 0}
	if s.caps&capDeprecateEOF == 0 {
		if err := s.wire.write(end); err != nil {
			return err
		}
	} else {
		end = []byte{0xfe, 0, 0, 2, 0, 0, 0}
	}
	for _, row := range rows {
		var b []byte
		for _, value := range row {
			b = text(b, value)
		}
		if err := s.wire.write(b); err != nil {
			return err
		}
	}
	return s.wire.write(end)
}

// answer answers statements until the client disconnects.
func (s *session) answer() {
	const quit, query, statistics, ping = 1, 3, 9, 14
	for {
		body, err := s.wire.read()
		if err != nil || len(body) == 0 || body[0] == quit {
			return
		}
		s.wait()
		if s.Answer != nil && s.Answer(s.wire.write, body[0], string(body[1:])) {
			continue
		}
		switch {
		case s.Fault == LoseSession:
			return
		case s.Fault == HangSession:
			io.Copy(io.Discard, s.wire.conn)
			return
		case s.Fault == AsksForFile && body[0] == query && !s.begun:
			s.begun = true
			s.wire.write(append([]byte{0xfb}, "/home/warden/.ssh/id_ed25519"...))
			s.takeFile()
			return
		case body[0] == statistics:
			err = s.wire.write([]byte(fmt.Sprintf("Uptime: %d  Threads: 1  Questions: 7", int(time.Since(s.Started).Seconds()))))
		case body[0] == ping:
			err = s.acceptLogin()
		case body[0] == query:
			err = s.statement(string(body[1:]))
		default:
			err = s.wire.fail(1047, "08S01", "Unknown command")
		}
		if err != nil {
			return
		}
	}
}

// takeFile notes a client's answer to a request for a file.
func (s *session) takeFile() {
	s.wire.conn.SetReadDeadline(time.Now().Add(500 * time.Millisecond))
	data, _ := io.ReadAll(io.LimitReader(s.wire.conn, maxBody))
	s.mu.Lock()
	s.files = append(s.files, data...)
	s.mu.Unlock()
}

var literal = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`'([^']*)'`) })

// literals are the texts within a statement.
func literals(sql string) []string {
	var all []string
	for _, m := range literal().FindAllStringSubmatch(sql, -1) {
		all = append(all, m[1])
	}
	return all
}

// statement answers one of a test's statements.
func (s *session) statement(sql string) error {
	if s.account.Expired {
		return s.wire.fail(1820, "HY000", "You must SET PASSWORD before executing this statement")
	}
	if done, err := s.provision(sql); done {
		return err
	}
	has := func(part string) bool { return strings.Contains(sql, part) }
	switch {
	case strings.HasPrefix(sql, "USE "):
		return s.use(strings.Trim(strings.TrimPrefix(sql, "USE "), "`"))
	case strings.HasPrefix(sql, "SET SESSION TRANSACTION READ "):
		s.readOnly = strings.HasSuffix(sql, " ONLY")
		return s.acceptLogin()
	case has("CURRENT_USER() AS account"):
		return s.rows([]string{"account", "seen"},
			[][]string{{s.account.User + "@" + s.account.Host, s.user + "@" + s.clientHost()}})
	case has("SHOW CREATE USER"):
		return s.rows([]string{"CREATE USER"}, [][]string{{s.definition(sql)}})
	case has("UNIX_TIMESTAMP"):
		return s.session(sql)
	case has("SHOW VARIABLES"), has("SHOW GLOBAL VARIABLES"):
		return s.rows([]string{"Variable_name", "Value"}, s.variables(literals(sql)))
	case has("SHOW GRANTS"):
		return s.rows([]string{"Grants"}, s.grants())
	case has("information_schema.schemata"):
		return s.schemata()
	case s.Fault == NoCatalogue:
		return s.wire.fail(1142, "42000", "SELECT command denied to user")
	case has("information_schema.tables"):
		words := literals(sql)
		return s.rows([]string{"1"}, present(s.Tables, words[len(words)-1]))
	case has("information_schema.plugins"):
		return s.rows([]string{"1"}, present([]string{"InnoDB"}, literals(sql)[0]))
	case has("FROM mysql.user"):
		return s.users(sql)
	}
	return s.wire.fail(1064, "42000", "the simulated server does not know this statement")
}

func present(names []string, name string) [][]string {
	if slices.ContainsFunc(names, func(have string) bool { return strings.EqualFold(have, name) }) {
		return [][]string{{"1"}}
	}
	return nil
}

func (s *session) use(name string) error {
	switch {
	case s.account.Admin && !slices.Contains(s.databases(), name):
		return s.wire.fail(1049, "42000", fmt.Sprintf("Unknown database '%s'", name))
	case !s.account.Admin && !slices.Contains(s.account.Databases, name):
		return s.wire.fail(1044, "42000",
			fmt.Sprintf("Access denied for user '%s'@'%s' to database '%s'", s.account.User, s.account.Host, name))
	}
	s.database = name
	return s.acceptLogin()
}

func (s *session) schemata() error {
	names := s.account.Databases
	if s.account.Admin {
		names = s.databases()
	}
	rows := [][]string{{"information_schema"}}
	for _, name := range names {
		rows = append(rows, []string{name})
	}
	if s.Fault == FloodRows {
		for i := range 400_000 {
			rows = append(rows, []string{fmt.Sprintf("mudflat_%d_%s", i, strings.Repeat("x", 60))})
		}
	}
	return s.rows([]string{"schema_name"}, rows)
}

var variableName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`@@([a-z_]+)`) })

// session answers with the clock, the database and the requested variables.
func (s *session) session(sql string) error {
	columns := []string{"clock", "opened"}
	row := []string{fmt.Sprintf("%.6f", float64(time.Now().UnixMicro())/1e6), s.database}
	for _, m := range variableName().FindAllStringSubmatch(sql, -1) {
		value := s.variables([]string{m[1]})
		if len(value) == 0 || s.Fault == OldVariables {
			return s.wire.fail(1193, "HY000", fmt.Sprintf("Unknown system variable '%s'", m[1]))
		}
		columns, row = append(columns, m[1]), append(row, value[0][1])
	}
	return s.rows(columns, [][]string{row})
}

func (s *session) variables(names []string) [][]string {
	onOff := map[bool]string{true: "ON", false: "OFF"}
	set := map[string]string{
		"version":                  s.Version,
		"server_uuid":              s.UUID,
		"hostname":                 "saltmarsh",
		"port":                     strconv.Itoa(s.Port()),
		"character_set_database":   "utf8mb4",
		"collation_database":       "utf8mb4_0900_ai_ci",
		"sql_mode":                 "ONLY_FULL_GROUP_BY,STRICT_TRANS_TABLES",
		"time_zone":                "SYSTEM",
		"system_time_zone":         "UTC",
		"read_only":                onOff[s.ReadOnly],
		"super_read_only":          "OFF",
		"transaction_read_only":    onOff[s.readOnly],
		"tx_read_only":             onOff[s.readOnly],
		"innodb_read_only":         "OFF",
		"require_secure_transport": "OFF",
	}
	if isMariaDB(s.Version) {
		set["server_uid"], set["collation_database"] = s.UUID, "utf8mb4_general_ci"
		delete(set, "server_uuid")
	}
	var rows [][]string
	for _, name := range names {
		if value, ok := set[name]; ok {
			rows = append(rows, []string{name, value})
		}
	}
	return rows
}

func (s *session) grants() [][]string { return grantsOf(s.account) }

func grantsOf(a Account) [][]string {
	to := fmt.Sprintf("`%s`@`%s`", a.User, a.Host)
	if a.Admin {
		return [][]string{{"GRANT ALL PRIVILEGES ON *.* TO " + to + " WITH GRANT OPTION"}}
	}
	rows := [][]string{{"GRANT USAGE ON *.* TO " + to}}
	for _, name := range a.Databases {
		rows = append(rows, []string{fmt.Sprintf("GRANT ALL PRIVILEGES ON `%s`.* TO %s", name, to)})
	}
	return rows
}

// users answers an administrator's look-up of accounts.
func (s *session) users(sql string) error {
	if !s.account.Admin {
		return s.wire.fail(1142, "42000",
			fmt.Sprintf("SELECT command denied to user '%s'@'%s' for table 'user'", s.account.User, s.account.Host))
	}
	var rows [][]string
	if strings.Contains(sql, "DISTINCT") {
		for _, a := range s.accounts() {
			rows = append(rows, []string{a.User})
		}
		return s.rows([]string{"User"}, rows)
	}
	name := literals(sql)[0]
	for _, a := range s.accounts() {
		if a.User == name || a.User == "" {
			rows = append(rows, []string{a.User, a.Host})
		}
	}
	return s.rows([]string{"User", "Host"}, rows)
}

// definition is the SHOW CREATE USER of an account.
func (s *session) definition(sql string) string {
	a := s.account
	if words := literals(sql); len(words) == 2 {
		for _, other := range s.accounts() {
			if other.User == words[0] && other.Host == words[1] {
				a = other
			}
		}
	}
	text := fmt.Sprintf("CREATE USER `%s`@`%s`", a.User, a.Host)
	if a.Password+a.Stored != "" {
		text += " IDENTIFIED WITH 'caching_sha2_password' AS '...'"
	}
	if a.NeedsTLS {
		text += " REQUIRE SSL"
	}
	if a.Expired {
		text += " PASSWORD EXPIRE"
	}
	if a.Lifetime != "" {
		text += " PASSWORD " + a.Lifetime
	}
	if a.Locked {
		text += " ACCOUNT LOCK"
	}
	return text
}
