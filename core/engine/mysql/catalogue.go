package mysql

import (
	"sync"

	"gentleharbor/core/engine"
)

// catalogue reads the information schema (MySQL reference manual, "INFORMATION_SCHEMA Tables"; MariaDB documentation,
// "Information Schema Tables"). A database is a schema there.
var catalogue = &engine.Catalogue{
	Statement: func(kind engine.Kind, facts *engine.Facts, one bool) []string {
		texts := listings()[kind]
		if facts.Engine == "mariadb" {
			if own := ofMariaDB()[kind]; own != nil {
				texts = own
			}
		} else if own := ofMySQL()[kind]; own != nil {
			texts = own
		}
		return engine.Narrow(texts, one, named[kind]+" = ?")
	},
	Turn:    map[engine.Kind]func([][]byte) [][][]byte{engine.KindAccess: parseGrants},
	Account: accountName,
	Granted: true,
	Path:    "SELECT DATABASE()",

	Dependents: "SELECT DISTINCT CONCAT('the view ', v.table_schema, '.', v.table_name) FROM (SELECT ? AS name) w " +
		"JOIN information_schema.views v ON v.view_definition LIKE CONCAT('%`', w.name, '`%')",
}

// named are the columns by which a statement chooses one thing.
var named = map[engine.Kind]string{
	engine.KindDatabases: "s.schema_name",
	engine.KindColumns:   "c.table_name",
	engine.KindIndexes:   "i.table_name",
}

// needsNoQuotes reports whether a name's characters need no quotes (MySQL reference manual, "Schema Object Names").
func needsNoQuotes(name string) bool {
	digits := true
	for i := range len(name) {
		c := name[i]
		switch {
		case c >= '0' && c <= '9':
			if i == 0 { // 1e5 is a number
				return false
			}
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c == '_', c == '$':
			digits = false
		default:
			return false
		}
	}
	return name != "" && !digits
}

// systemSchema is the condition that the schema in a column belongs to the system.
func systemSchema(column string) string {
	return column + " IN ('mysql', 'information_schema', 'performance_schema', 'sys')"
}

const kindOf = "CASE t.table_type WHEN 'BASE TABLE' THEN 'table' WHEN 'SYSTEM VIEW' THEN 'view' " +
	"WHEN 'SYSTEM VERSIONED' THEN 'table' ELSE LOWER(t.table_type) END"

var listings = sync.OnceValue(func() map[engine.Kind][]string {
	return map[engine.Kind][]string{
		engine.KindDatabases: {`
SELECT s.schema_name, NULL AS owner, s.default_character_set_name, s.default_collation_name,
       (SELECT SUM(t.data_length + t.index_length) FROM information_schema.tables t
         WHERE t.table_schema = s.schema_name) AS size,
       1 AS may, NULL AS comment, ` + systemSchema("s.schema_name") + `
  FROM information_schema.schemata s WHERE {one} ORDER BY 1`},

		engine.KindSchemas: {`
SELECT s.schema_name, NULL, COUNT(t.table_name), SUM(t.table_rows), 1, NULL, NULL, ` + systemSchema("s.schema_name") + `
  FROM information_schema.schemata s LEFT JOIN information_schema.tables t ON t.table_schema = s.schema_name
 GROUP BY s.schema_name ORDER BY 1`},

		engine.KindTables: {`
SELECT t.table_schema, t.table_name, ` + kindOf + `, t.table_rows, t.data_length + t.index_length, NULL,
       CASE WHEN t.table_type = 'BASE TABLE' THEN NULLIF(t.table_comment, '') END,
       ` + systemSchema("t.table_schema") + `
  FROM information_schema.tables t ORDER BY 1, 2`},

		engine.KindColumns: {`
SELECT c.table_schema, c.table_name, c.column_name, c.column_type, c.is_nullable AS may_be_null,
       CASE WHEN c.extra LIKE '%auto_increment%' THEN 'identity' ELSE
         COALESCE(NULLIF(c.column_default, 'NULL'), NULLIF(c.generation_expression, '')) END AS filled,
       NULLIF(CONCAT_WS(', ', CASE c.column_key WHEN 'PRI' THEN 'primary' WHEN 'UNI' THEN 'unique' END, k.leads), '')
         AS in_key,
       NULLIF(c.column_comment, '') AS comment, ` + systemSchema("c.table_schema") + ` AS system_own
  FROM information_schema.columns c
       LEFT JOIN (SELECT u.table_schema, u.table_name, u.column_name,
                         GROUP_CONCAT(DISTINCT 'refers to ', u.referenced_table_schema, '.', u.referenced_table_name
                           SEPARATOR ', ') AS leads
                    FROM information_schema.key_column_usage u WHERE u.referenced_table_name IS NOT NULL
                   GROUP BY 1, 2, 3) k
         ON k.table_schema = c.table_schema AND k.table_name = c.table_name AND k.column_name = c.column_name
 WHERE {one} ORDER BY c.table_schema, c.table_name, c.ordinal_position`},

		engine.KindIndexes: {`
SELECT i.table_schema, i.table_name, i.index_name,
       GROUP_CONCAT(i.column_name ORDER BY i.seq_in_index SEPARATOR ', ') AS columns_of, MIN(i.non_unique) = 0 AS uniq,
       i.index_name = 'PRIMARY' AS prim, LOWER(MIN(i.index_type)) AS method, NULL AS filter, NULL AS size, NULL AS note,
       ` + systemSchema("i.table_schema") + ` AS system_own
  FROM information_schema.statistics i WHERE {one}
 GROUP BY i.table_schema, i.table_name, i.index_name ORDER BY 1, 2, 3`},

		engine.KindAccess: {"SHOW GRANTS"},

		engine.KindOthers: {`
SELECT LOWER(r.routine_type), r.routine_schema, r.routine_name, 0 FROM information_schema.routines r
UNION ALL SELECT 'trigger', t.trigger_schema, t.trigger_name, 0 FROM information_schema.triggers t
UNION ALL SELECT 'event', e.event_schema, e.event_name, 0 FROM information_schema.events e
UNION ALL SELECT 'index', s.table_schema, s.index_name, 0 FROM information_schema.statistics s`},

		engine.KindSizes: {`
SELECT t.table_schema, t.table_name, t.table_rows, t.data_length, t.index_length, t.data_length + t.index_length,
       ` + systemSchema("t.table_schema") + `
  FROM information_schema.tables t WHERE t.table_type = 'BASE TABLE' ORDER BY 6 DESC, 1, 2`},
	}
})

// activity are two statements for the activity: one with the sessions that a session waits for, one without, for a
// login that may not see those. tables joins the waiting (r) with the blocking (b) sessions; id is a session's number
// in them.
func activity(id, tables, seconds string) []string {
	const state = "NULLIF(p.state, '')"
	return []string{
		sessions("COALESCE((SELECT CONCAT('a lock of ', GROUP_CONCAT(DISTINCT b."+id+" SEPARATOR ', '))"+tables+
			" WHERE r."+id+" = p.id), "+state+")", seconds),
		sessions(state, seconds),
	}
}

// sessions is the statement for the activity: what a session waits for, and for how many seconds.
func sessions(waits, seconds string) string {
	return `
SELECT p.id, p.user, p.host, NULL, p.db, NULL,
       CASE WHEN p.id = CONNECTION_ID() THEN 'this session' WHEN p.command = 'Sleep' THEN 'idle'
         WHEN p.command IN ('Query', 'Execute') THEN 'active' ELSE LOWER(p.command) END,
       ` + seconds + `,
       CASE WHEN p.id <> CONNECTION_ID() AND p.command <> 'Sleep' THEN ` + waits + ` END,
       CASE WHEN p.id <> CONNECTION_ID() THEN p.info END,
       p.command IN ('Daemon', 'Binlog Dump', 'Slave_IO', 'Slave_SQL')
  FROM information_schema.processlist p ORDER BY p.id`
}

// alone is for a login that may not read the accounts: it sees its own.
const alone = "SELECT CURRENT_USER(), 1, NULL, NULL, NULL, NULL, 0"

// ofMariaDB are the statements that read tables which only MariaDB has.
var ofMariaDB = sync.OnceValue(func() map[engine.Kind][]string {
	return map[engine.Kind][]string{
		engine.KindAccounts: {`
SELECT CASE u.is_role WHEN 'Y' THEN u.user ELSE CONCAT(u.user, '@', u.host) END,
       u.is_role <> 'Y' AND COALESCE(JSON_VALUE(g.priv, '$.account_locked'), '0') NOT IN ('true', '1'),
       u.super_priv = 'Y',
       (SELECT GROUP_CONCAT(m.role ORDER BY m.role SEPARATOR ', ') FROM mysql.roles_mapping m
         WHERE m.user = u.user AND m.host = u.host),
       CASE WHEN u.password_expired = 'Y' THEN 'expired' END,
       NULLIF(CONCAT_WS(', ', CASE WHEN u.is_role = 'Y' THEN 'role'
           WHEN u.plugin <> '' THEN CONCAT('logs in by ', u.plugin) END,
         CASE WHEN u.max_user_connections > 0 THEN CONCAT('at most ', u.max_user_connections, ' connections') END), ''),
       u.user = 'mariadb.sys'
  FROM mysql.user u LEFT JOIN mysql.global_priv g ON g.user = u.user AND g.host = u.host
 ORDER BY u.user, u.host`, `
SELECT CURRENT_USER(), 1, NULL, (SELECT GROUP_CONCAT(r.role_name ORDER BY r.role_name SEPARATOR ', ')
         FROM information_schema.applicable_roles r), NULL, NULL, 0`},

		engine.KindActivity: activity("trx_mysql_thread_id", `
             FROM information_schema.innodb_trx r
             JOIN information_schema.innodb_lock_waits w ON w.requesting_trx_id = r.trx_id
             JOIN information_schema.innodb_trx b ON b.trx_id = w.blocking_trx_id`, "ROUND(p.time_ms / 1000, 1)"),

		engine.KindSettings: {`
SELECT LOWER(v.variable_name), COALESCE(v.session_value, v.global_value), LOWER(v.global_value_origin),
       CASE v.read_only WHEN 'YES' THEN 'at a restart' ELSE 'at once' END, v.variable_comment, 0
  FROM information_schema.system_variables v ORDER BY 1`},
	}
})

// ofMySQL are the statements that read tables which only MySQL has.
var ofMySQL = sync.OnceValue(func() map[engine.Kind][]string {
	return map[engine.Kind][]string{
		engine.KindAccounts: {`
SELECT CONCAT(u.user, '@', u.host), u.account_locked <> 'Y', u.super_priv = 'Y',
       (SELECT GROUP_CONCAT(m.from_user, '@', m.from_host ORDER BY m.from_user SEPARATOR ', ') FROM mysql.role_edges m
         WHERE m.to_user = u.user AND m.to_host = u.host),
       CASE WHEN u.password_expired = 'Y' THEN 'expired' END,
       NULLIF(CONCAT_WS(', ', CONCAT('logs in by ', u.plugin),
         CASE WHEN u.max_user_connections > 0 THEN CONCAT('at most ', u.max_user_connections, ' connections') END), ''),
       u.user LIKE 'mysql.%'
  FROM mysql.user u ORDER BY u.user, u.host`, alone},

		engine.KindActivity: activity("processlist_id", `
             FROM performance_schema.threads r
             JOIN performance_schema.data_lock_waits w ON w.requesting_thread_id = r.thread_id
             JOIN performance_schema.threads b ON b.thread_id = w.blocking_thread_id`, "p.time"),

		engine.KindSettings: {`
SELECT LOWER(v.variable_name), v.variable_value, LOWER(i.variable_source), NULL, NULL, 0
  FROM performance_schema.session_variables v
       LEFT JOIN performance_schema.variables_info i ON i.variable_name = v.variable_name ORDER BY 1`},
	}
})
