package oracle

import (
	"slices"
	"strings"
)

// order is a statement of an administrator that the server runs.
type order struct {
	user   string
	unlock bool
	rights []string // of a GRANT
	table  string   // "" for a right of the system
}

// orderOf reads one; nil for another statement.
func orderOf(sql string) *order {
	bare := func(name string) string { return strings.Trim(name, `"`) }
	if rest, ok := strings.CutPrefix(sql, "ALTER USER "); ok {
		if user, ok := strings.CutSuffix(rest, " ACCOUNT UNLOCK"); ok {
			return &order{user: bare(user), unlock: true}
		}
	}
	rest, ok := strings.CutPrefix(sql, "GRANT ")
	what, user, to := strings.Cut(rest, " TO ")
	if !ok || !to {
		return nil
	}
	rights, table, on := strings.Cut(what, " ON ")
	if !on && rights != "CREATE SESSION" {
		return nil
	}
	return &order{user: bare(user), rights: strings.Split(rights, ", "), table: table}
}

// rights answers queries and statements about the rights of accounts; nil for another statement.
func (s *session) rights(sql string) *Answer {
	change := orderOf(sql)
	asked := strings.Contains(sql, "FROM dba_sys_privs") || strings.Contains(sql, "FROM dba_tab_privs")
	switch {
	case change == nil && !asked:
		return nil
	case !s.account.DBA && change != nil:
		return &Answer{Code: 1031, Message: "ORA-01031: insufficient privileges"}
	case !s.account.DBA:
		return &Answer{Code: 942, Message: "ORA-00942: table or view does not exist"}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	of := func(user string) *Account {
		i := slices.IndexFunc(s.Accounts, func(a Account) bool { return strings.EqualFold(a.User, user) })
		if i < 0 {
			return &Account{}
		}
		return &s.Accounts[i]
	}
	switch {
	case strings.Contains(sql, "FROM dba_sys_privs"):
		n := "1"
		if of(quotedText(sql, "START WITH grantee = ")).NoSession {
			n = "0"
		}
		return &Answer{Columns: []string{"N"}, Rows: [][]string{{n}}}
	case strings.Contains(sql, "FROM dba_tab_privs"):
		a := &Answer{Columns: []string{"PRIVILEGE"}}
		table := quotedText(sql, "owner = ") + "." + quotedText(sql, "table_name = ")
		for _, right := range s.given[quotedText(sql, "grantee = ")+" "+table] {
			a.Rows = append(a.Rows, []string{right})
		}
		return a
	}
	switch {
	case change.unlock:
		of(change.user).Locked = false
	case change.table == "":
		of(change.user).NoSession = false
	default:
		if s.given == nil {
			s.given = make(map[string][]string)
		}
		key := change.user + " " + change.table
		s.given[key] = append(s.given[key], change.rights...)
	}
	return &Answer{}
}
