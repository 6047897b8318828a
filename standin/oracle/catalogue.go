package oracle

import (
	"fmt"
	"slices"
	"strings"
)

// catalogue answers queries of the data dictionary: tables and accounts, each table with one column and its index;
// nil for another query.
func (s *session) catalogue(sql string) *Answer {
	refused := &Answer{Code: 942, Message: "ORA-00942: table or view does not exist"}
	me := s.account.User
	var rows [][]string
	answer := func(n int, rows [][]string) *Answer {
		names := make([]string, n)
		for i := range names {
			names[i] = fmt.Sprintf("C%d", i+1)
		}
		return &Answer{Columns: names, Rows: rows}
	}
	for _, table := range s.Tables {
		owner, name, _ := strings.Cut(table, ".")
		switch {
		case strings.HasPrefix(sql, "SELECT o.owner, o.object_name"):
			rows = append(rows, []string{owner, name, "table", "12000", "", owner, "", "0"})
		case strings.HasPrefix(sql, "SELECT c.owner, c.table_name, c.column_name"):
			rows = append(rows, []string{owner, name, "ID", "NUMBER(10,0)", "0", "identity", "primary", "", "0"})
		case strings.HasPrefix(sql, "SELECT i.table_owner"):
			rows = append(rows, []string{owner, name, name + "_PK", "ID", "1", "1", "normal", "", "", "", "0"})
		case strings.HasPrefix(sql, "SELECT 'server', NULL, NULL"):
			if owner == me || s.account.DBA {
				rows = append(rows, []string{"table", owner, name, "everything", "owner", "0"})
			}
		}
	}
	switch {
	case strings.HasPrefix(sql, "SELECT o.owner, o.object_name"):
		return answer(8, rows)
	case strings.HasPrefix(sql, "SELECT c.owner, c.table_name, c.column_name"):
		return answer(9, rows)
	case strings.HasPrefix(sql, "SELECT i.table_owner"):
		return answer(11, rows)
	case strings.HasPrefix(sql, "SELECT 'server', NULL, NULL"):
		return answer(6, append([][]string{{"server", "", "", "create session", "", "0"}}, rows...))
	case strings.HasPrefix(sql, "SELECT name, NULL AS owner"):
		if !s.account.DBA {
			return refused
		}
		return answer(8, [][]string{{"SKEIN", "", "AMERICAN_AMERICA.AL32UTF8", "", "734003200", "1", "READ WRITE", "0"}})
	case strings.HasPrefix(sql, "SELECT SYS_CONTEXT('USERENV','CON_NAME') AS name"):
		return answer(8, [][]string{{"SKEINPDB1", "", "", "", "", "1", "", "0"}})
	case strings.HasPrefix(sql, "SELECT SYS_CONTEXT('USERENV','CURRENT_SCHEMA')"):
		return answer(1, [][]string{{me}})
	case strings.HasPrefix(sql, "SELECT u.username, u.username"):
		return answer(8, s.schemas())
	case strings.HasPrefix(sql, "SELECT u.username, CASE"), strings.HasPrefix(sql, "SELECT username, NULL"):
		return s.accounts(sql, answer, refused)
	case strings.HasPrefix(sql, "SELECT s.sid"):
		if !s.account.DBA {
			return refused
		}
		return answer(11, [][]string{
			{"42", me, "hide", "gharbor", "SKEIN", "2026-11-02 08:00:00", "this session", "0", "", "", "0"},
		})
	case strings.HasPrefix(sql, "SELECT name, display_value"):
		return answer(6, [][]string{
			{"open_cursors", "300", "default", "at once", "how many cursors a session may open", "0"},
		})
	case strings.HasPrefix(sql, "SELECT s.owner, s.segment_name"):
		return refused
	case strings.HasPrefix(sql, "SELECT SYS_CONTEXT('USERENV','SESSION_USER'), s.segment_name"):
		return answer(7, [][]string{{me, "SPECIES", "12000", "1048576", "", "1048576", "0"}})
	case strings.HasPrefix(sql, "SELECT LOWER(object_type)"):
		return answer(4, nil)
	}
	return nil
}

// schemas are the accounts, with how many tables each has.
func (s *session) schemas() (rows [][]string) {
	for _, a := range s.Accounts {
		n := 0
		for _, table := range s.Tables {
			if owner, _, _ := strings.Cut(table, "."); owner == a.User {
				n++
			}
		}
		rows = append(rows, []string{a.User, a.User, fmt.Sprint(n), fmt.Sprint(12000 * n), "", "", "", "0"})
	}
	return rows
}

// accounts are those that an account may see, with the columns that it may see.
func (s *session) accounts(sql string, answer func(int, [][]string) *Answer, refused *Answer) *Answer {
	all := strings.Contains(sql, "dba_users")
	if all && !s.account.DBA {
		return refused
	}
	var rows [][]string
	for _, a := range s.Accounts {
		row := []string{a.User, "", "", "", "", "", "0"}
		if all {
			row[1], row[2] = map[bool]string{true: "0", false: "1"}[a.Locked], map[bool]string{true: "1", false: "0"}[a.DBA]
		}
		rows = append(rows, row)
	}
	slices.SortFunc(rows, func(a, b []string) int { return strings.Compare(a[0], b[0]) })
	return answer(7, rows)
}
