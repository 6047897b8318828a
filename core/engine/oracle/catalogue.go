package oracle

import (
	"sync"

	"gentleharbor/core/engine"
)

// catalogue reads the static data dictionary views (Oracle Database Reference, "Static Data Dictionary Views"). A
// schema is an account there. Where only an administrator may read a view, there is a second statement for other
// accounts.
var catalogue = &engine.Catalogue{
	Statement: func(kind engine.Kind, _ *engine.Facts, one bool) []string {
		return engine.Narrow(listings()[kind], one, named[kind]+" = :1")
	},
	Granted: true,
	Path:    "SELECT SYS_CONTEXT('USERENV','CURRENT_SCHEMA') FROM dual",

	Dependents: "SELECT DISTINCT 'the ' || LOWER(type) || ' ' || owner || '.' || name FROM all_dependencies " +
		"WHERE referenced_name = :1 AND referenced_type IN ('TABLE', 'VIEW')",
}

// named are the columns by which a statement chooses one thing.
var named = map[engine.Kind]string{
	engine.KindDatabases: "SYS_CONTEXT('USERENV','CON_NAME')",
	engine.KindColumns:   "c.table_name",
	engine.KindIndexes:   "i.table_name",
}

// needsNoQuotes reports whether a name means the same without quotes, where the server folds it to capital letters
// (Oracle Database SQL Language Reference, "Database Object Names and Qualifiers").
func needsNoQuotes(name string) bool {
	for i := range len(name) {
		c := name[i]
		if !(c >= 'A' && c <= 'Z' || i > 0 && (c >= '0' && c <= '9' || c == '_' || c == '$' || c == '#')) {
			return false
		}
	}
	return name != ""
}

// systemAccount reports whether an account came with the server, for a column.
func systemAccount(column string) string {
	return "CASE WHEN " + column + " IN (SELECT username FROM all_users WHERE oracle_maintained = 'Y') THEN 1 ELSE 0 END"
}

var listings = sync.OnceValue(func() map[engine.Kind][]string {
	return map[engine.Kind][]string{
		engine.KindDatabases: {
			"SELECT name, NULL AS owner, SYS_CONTEXT('USERENV','LANGUAGE') AS encoding, NULL AS collation, " +
				"(SELECT SUM(bytes) FROM dba_data_files) AS bytes, 1 AS may, open_mode AS note, 0 AS " +
				"system FROM v$database WHERE {one}",
			"SELECT SYS_CONTEXT('USERENV','CON_NAME') AS name, NULL AS owner, NULL AS encoding, NULL AS collation, " +
				"NULL AS bytes, 1 AS may, NULL AS note, 0 AS system FROM dual WHERE {one}",
		},
		engine.KindSchemas: {
			"SELECT u.username, u.username, (SELECT COUNT(*) FROM all_tables t WHERE t.owner = u.username), " +
				"(SELECT SUM(t.num_rows) FROM all_tables t WHERE t.owner = u.username), NULL, " +
				"CASE WHEN u.username = SYS_CONTEXT('USERENV','SESSION_USER') THEN 1 END, NULL, " +
				"CASE WHEN u.oracle_maintained = 'Y' THEN 1 ELSE 0 END FROM all_users u ORDER BY 1",
		},
		engine.KindTables: {
			"SELECT o.owner, o.object_name, LOWER(o.object_type), t.num_rows, NULL, o.owner, c.comments, " +
				systemAccount("o.owner") + " FROM all_objects o " +
				"LEFT JOIN all_tables t ON t.owner = o.owner AND t.table_name = o.object_name " +
				"LEFT JOIN all_tab_comments c ON c.owner = o.owner AND c.table_name = o.object_name " +
				"WHERE o.object_type IN ('TABLE', 'VIEW', 'MATERIALIZED VIEW') ORDER BY 1, 2",
		},
		engine.KindColumns: {
			"SELECT c.owner, c.table_name, c.column_name, c.data_type || CASE WHEN " +
				"c.data_precision IS NOT NULL THEN '(' || " +
				"c.data_precision || ',' || c.data_scale || ')' WHEN c.char_used IS NOT NULL THEN '(' " +
				"|| c.char_length || ')' END " +
				"AS type, CASE c.nullable WHEN 'Y' THEN 1 ELSE 0 END AS may_be_null, " +
				"CASE c.identity_column WHEN 'YES' THEN 'identity' END AS filled, " +
				"(SELECT LISTAGG(DECODE(k.constraint_type, 'P', 'primary', 'U', 'unique', 'R', " +
				"'refers to another table'), ', ') " +
				"WITHIN GROUP (ORDER BY k.constraint_type) FROM all_cons_columns l JOIN all_constraints k " +
				"ON k.owner = l.owner AND k.constraint_name = l.constraint_name WHERE l.owner = c.owner " +
				"AND l.table_name = c.table_name AND l.column_name = c.column_name AND " +
				"k.constraint_type IN ('P', 'U', 'R')) AS in_key, " +
				"m.comments, " + systemAccount("c.owner") + " AS system FROM all_tab_columns c LEFT JOIN " +
				"all_col_comments m " +
				"ON m.owner = c.owner AND m.table_name = c.table_name AND m.column_name = c.column_name " +
				"WHERE {one} ORDER BY c.owner, c.table_name, c.column_id",
		},
		engine.KindIndexes: {
			"SELECT i.table_owner, i.table_name, i.index_name, (SELECT LISTAGG(c.column_name, ', ') WITHIN GROUP " +
				"(ORDER BY c.column_position) FROM all_ind_columns c WHERE c.index_owner = i.owner " +
				"AND c.index_name = i.index_name) " +
				"AS columns_of, CASE i.uniqueness WHEN 'UNIQUE' THEN 1 ELSE 0 END AS is_unique, " +
				"CASE WHEN EXISTS (SELECT 1 FROM all_constraints k WHERE k.index_owner = i.owner AND " +
				"k.index_name = i.index_name " +
				"AND k.constraint_type = 'P') THEN 1 ELSE 0 END AS is_primary, LOWER(i.index_type) AS " +
				"method, NULL AS condition, " +
				"NULL AS bytes, CASE WHEN i.status = 'UNUSABLE' THEN 'not valid: the server does not " +
				"use it' END AS note, " +
				systemAccount("i.table_owner") + " AS system FROM all_indexes i WHERE {one} ORDER BY 1, 2, 3",
		},
		engine.KindAccounts: {
			"SELECT u.username, CASE WHEN u.account_status LIKE '%LOCKED%' THEN 0 ELSE 1 END, " +
				"CASE WHEN EXISTS (SELECT 1 FROM " +
				"dba_role_privs r WHERE r.grantee = u.username AND r.granted_role = 'DBA') THEN 1 ELSE 0 END, " +
				"(SELECT LISTAGG(r.granted_role, ', ') WITHIN GROUP (ORDER BY r.granted_role) FROM dba_role_privs r " +
				"WHERE r.grantee = u.username), TO_CHAR(u.expiry_date, 'YYYY-MM-DD HH24:MI:SS'), " +
				"LOWER(u.account_status), " +
				"CASE WHEN u.oracle_maintained = 'Y' THEN 1 ELSE 0 END FROM dba_users u ORDER BY 1",
			"SELECT username, NULL, NULL, NULL, NULL, NULL, CASE WHEN oracle_maintained = 'Y' THEN 1 ELSE 0 END " +
				"FROM all_users ORDER BY 1",
		},
		engine.KindAccess: {
			"SELECT 'server', NULL, NULL, LOWER(privilege), NULL, 0 FROM session_privs UNION ALL " +
				"SELECT 'server', NULL, NULL, 'use the role ' || role, NULL, 0 FROM session_roles UNION ALL " +
				"SELECT LOWER(type), table_schema, table_name, LOWER(LISTAGG(privilege, ', ') WITHIN " +
				"GROUP (ORDER BY privilege)), " +
				"'to ' || grantee, " + systemAccount("table_schema") +
				" FROM all_tab_privs GROUP BY type, table_schema, table_name, grantee UNION ALL " +
				"SELECT 'table', SYS_CONTEXT('USERENV','SESSION_USER'), table_name, 'everything', " +
				"'owner', 0 FROM user_tables",
		},
		engine.KindActivity: {
			"SELECT s.sid, s.username, s.machine, s.program, s.service_name, " +
				"TO_CHAR(s.logon_time, 'YYYY-MM-DD HH24:MI:SS'), " +
				"CASE WHEN s.audsid = SYS_CONTEXT('USERENV','SESSIONID') THEN 'this session' WHEN " +
				"s.status = 'INACTIVE' THEN 'idle' " +
				"ELSE LOWER(s.status) END, s.last_call_et, CASE WHEN s.blocking_session IS NOT NULL " +
				"THEN 'a lock of ' || " +
				"s.blocking_session WHEN s.status = 'ACTIVE' THEN s.event END, q.sql_text, " +
				"CASE s.type WHEN 'BACKGROUND' THEN 1 ELSE 0 END FROM v$session s LEFT JOIN v$sqlarea " +
				"q ON q.sql_id = s.sql_id " +
				"ORDER BY s.logon_time, s.sid",
		},
		engine.KindSettings: {
			"SELECT name, display_value, CASE isdefault WHEN 'TRUE' THEN 'default' ELSE 'set' END, " +
				"CASE WHEN issys_modifiable = 'FALSE' THEN 'at a restart' ELSE 'at once' END, " +
				"description, 0 FROM v$parameter ORDER BY name",
		},
		engine.KindOthers: {
			"SELECT LOWER(object_type), owner, object_name, 0 FROM all_objects WHERE object_type IN ('FUNCTION', 'INDEX', " +
				"'PACKAGE', 'PROCEDURE', 'SEQUENCE', 'SYNONYM', 'TRIGGER', 'TYPE')",
		},
		engine.KindSizes: {
			"SELECT s.owner, s.segment_name, t.num_rows, SUM(s.bytes), NULL, SUM(s.bytes), " + systemAccount("s.owner") +
				" FROM dba_segments s LEFT JOIN all_tables t ON t.owner = s.owner AND t.table_name = s.segment_name " +
				"WHERE s.segment_type LIKE 'TABLE%' GROUP BY s.owner, s.segment_name, t.num_rows ORDER BY 6 DESC",
			"SELECT SYS_CONTEXT('USERENV','SESSION_USER'), s.segment_name, t.num_rows, " +
				"SUM(s.bytes), NULL, SUM(s.bytes), 0 " +
				"FROM user_segments s LEFT JOIN user_tables t ON t.table_name = s.segment_name " +
				"WHERE s.segment_type LIKE 'TABLE%' GROUP BY s.segment_name, t.num_rows ORDER BY 6 DESC",
		},
	}
})
