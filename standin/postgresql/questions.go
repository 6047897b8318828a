package postgresql

import (
	"slices"
	"strings"
	"time"
)

// rightWords are the names of rights in queries.
var rightWords = []string{
	"SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER", "USAGE", "EXECUTE",
}

// question answers an administrator's queries before a change; ok is false for another query.
func (s *session) question(query string) (columns []string, rows [][][]byte, ok bool) {
	table, ok := s.answerProvision(query)
	if !ok {
		return nil, nil, false
	}
	n := 1
	for _, row := range table {
		values := make([][]byte, len(row))
		for i, v := range row {
			values[i] = []byte(v)
		}
		n = len(row)
		rows = append(rows, values)
	}
	for range n {
		columns = append(columns, "c")
	}
	return columns, rows, true
}

func (s *session) answerProvision(query string) (rows [][]string, ok bool) {
	c := s.cluster
	c.mu.Lock()
	defer c.mu.Unlock()
	me, it := c.roles[s.user], ""
	if len(s.arguments) > 0 {
		it = string(s.arguments[0])
	}
	role, known := c.roles[it]
	has := func(part string) bool { return strings.Contains(query, part) }
	one := func(values ...string) ([][]string, bool) { return [][]string{values}, true }
	switch {
	case has("rolcreaterole, rolcreatedb"):
		super := truth(me.Superuser)
		return one(s.user, super, super, super)
	case has("SELECT rolcanlogin, rolsuper, coalesce("):
		if !known {
			return nil, true
		}
		until := ""
		if role.Expired {
			until = time.Now().Add(-expiredFor).UTC().Format("2006-01-02 15:04:05+00")
		}
		return one(truth(!role.NoLogin), truth(role.Superuser), truth(role.Expired), truth(!role.Expired), until, "-1")
	case has("coalesce(rolpassword, '')"):
		return one(role.verifier(), "scram-sha-256")
	case has("SELECT pg_get_userbyid(datdba), datallowconn"):
		if !slices.Contains(c.databases, it) {
			return nil, true
		}
		return one(c.owners[it], "t")
	case has("pg_has_role(oid, $2::name"):
		return one(truth(known && (role.Superuser || it == string(s.arguments[1]))))
	case has("SELECT has_database_privilege("), has("server_version_num')::int >="):
		return one("t")
	case has("SELECT n.nspname FROM pg_namespace n WHERE") && has("has_schema_privilege("):
		return nil, true
	case has("SELECT DISTINCT n.nspname FROM pg_"):
		return c.lacking(query, it, s.database), true
	case has("pg_has_role(current_user, r.oid, 'MEMBER')"):
		for _, maker := range []string{s.user, c.owners[s.database]} {
			if maker != it && !slices.ContainsFunc(rows, func(r []string) bool { return r[0] == maker }) {
				rows = append(rows, []string{maker, "t"})
			}
		}
		return rows, true
	case has("d.defaclobjtype::text"):
		for _, p := range c.promised[it+" "+s.database] {
			rows = append(rows, []string{p})
		}
		return rows, true
	case has("SELECT DISTINCT r.rolname, d.defaclobjtype"):
		for _, p := range c.promised[it+" "+s.database] {
			row := strings.Fields(p)[:2]
			if !slices.ContainsFunc(rows, func(o []string) bool { return slices.Equal(o, row) }) {
				rows = append(rows, row)
			}
		}
		return rows, true
	case has("SELECT DISTINCT k, n FROM"):
		for _, kind := range []string{"TABLES", "SEQUENCES", "FUNCTIONS"} {
			if len(c.granted[it+" "+s.database+" "+kind]) > 0 {
				rows = append(rows, []string{kind, "public"})
			}
		}
		return rows, true
	case has("pg_size_pretty("):
		return one("7551 kB")
	case strings.HasPrefix(query, "SELECT count(*) FILTER (WHERE s.deptype"):
		return one("0", "0")
	case has("SELECT count(*) FROM pg_stat_activity WHERE usename"):
		return one("0")
	case has("FROM pg_shdepend s"), has("coalesce(usename::text"), has("SELECT 'the database ' || datname"):
		return nil, true
	}
	return nil, false
}

// lacking are the schemas in which a role lacks one of the rights in a query.
func (c *cluster) lacking(query, role, database string) [][]string {
	if !strings.Contains(query, "has_table_privilege") || c.owners[database] == role || c.empty[database] {
		return nil // there are tables alone, and none in a database that was made just now
	}
	for _, right := range rightWords {
		if strings.Contains(query, "c.oid, '"+right+"')") && !slices.Contains(c.granted[role+" "+database+" TABLES"], right) {
			return [][]string{{"public"}}
		}
	}
	return nil
}

func truth(b bool) string {
	if b {
		return "t"
	}
	return "f"
}
