package postgresql

import (
	"sync"

	"gentleharbor/core/engine"
)

// catalogue reads the system catalogs (PostgreSQL documentation, "System Catalogs" and "System Information Functions
// and Operators"), from version 10 on, in a transaction that changes nothing and looks up no name in a schema of the
// role's own.
var catalogue = &engine.Catalogue{
	Statement: func(kind engine.Kind, _ *engine.Facts, one bool) []string {
		return engine.Narrow([]string{listings()[kind]}, one, named[kind]+" = $1")
	},
	Before: []string{
		"BEGIN TRANSACTION READ ONLY",
		"SET LOCAL search_path = pg_catalog, pg_temp",
		"SET LOCAL lock_timeout = '5s'", // sizes wait for whoever rebuilds a table
	},
	After: []string{"COMMIT"},
	Path:  "SELECT pg_catalog.unnest(pg_catalog.current_schemas(true))::text",

	Dependents: "SELECT DISTINCT CASE v.relkind WHEN 'm' THEN 'the materialized view ' ELSE 'the view ' END || " +
		"n.nspname || '.' || v.relname FROM pg_catalog.pg_depend d " +
		"JOIN pg_catalog.pg_rewrite r ON r.oid OPERATOR(pg_catalog.=) d.objid " +
		"JOIN pg_catalog.pg_class v ON v.oid OPERATOR(pg_catalog.=) r.ev_class " +
		"JOIN pg_catalog.pg_namespace n ON n.oid OPERATOR(pg_catalog.=) v.relnamespace " +
		"JOIN pg_catalog.pg_class t ON t.oid OPERATOR(pg_catalog.=) d.refobjid " +
		"WHERE d.classid OPERATOR(pg_catalog.=) 'pg_catalog.pg_rewrite'::pg_catalog.regclass " +
		"AND d.refclassid OPERATOR(pg_catalog.=) 'pg_catalog.pg_class'::pg_catalog.regclass " +
		"AND t.relname::text OPERATOR(pg_catalog.=) $1 AND v.oid OPERATOR(pg_catalog.<>) t.oid " +
		"UNION ALL SELECT 'rows of ' || n.nspname || '.' || c.relname || ' (foreign key ' || k.conname || ')' " +
		"FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class t ON t.oid OPERATOR(pg_catalog.=) k.confrelid " +
		"JOIN pg_catalog.pg_class c ON c.oid OPERATOR(pg_catalog.=) k.conrelid " +
		"JOIN pg_catalog.pg_namespace n ON n.oid OPERATOR(pg_catalog.=) c.relnamespace " +
		"WHERE k.contype::text OPERATOR(pg_catalog.=) 'f' AND t.relname::text OPERATOR(pg_catalog.=) $1 ORDER BY 1",
}

// named are the columns by which a statement chooses one thing.
var named = map[engine.Kind]string{
	engine.KindDatabases: "d.datname",
	engine.KindColumns:   "c.relname",
	engine.KindIndexes:   "c.relname",
}

// needsNoQuotes reports whether a name means the same without quotes, where the server folds it to small letters.
func needsNoQuotes(name string) bool {
	for i := range len(name) {
		c := name[i]
		if !(c >= 'a' && c <= 'z' || c == '_' || i > 0 && (c >= '0' && c <= '9' || c == '$')) {
			return false
		}
	}
	return name != ""
}

// system is the condition that a schema belongs to the system.
const system = "(n.nspname LIKE 'pg\\_%' OR n.nspname = 'information_schema')"

// estimate is how many rows a relation has: what the last analysis found, else what the statistics counted.
const estimate = "CASE WHEN c.relkind NOT IN ('r', 'm', 'p', 'f') THEN NULL " +
	"WHEN c.reltuples > 0 THEN c.reltuples::bigint " +
	"WHEN c.relkind IN ('r', 'm') THEN pg_stat_get_live_tuples(c.oid) END"

// kindOf is the word for a relation's kind.
const kindOf = "CASE c.relkind WHEN 'r' THEN 'table' WHEN 'p' THEN 'partitioned table' WHEN 'v' THEN 'view' " +
	"WHEN 'm' THEN 'materialized view' WHEN 'f' THEN 'foreign table' WHEN 'S' THEN 'sequence' END"

var listings = sync.OnceValue(func() map[engine.Kind]string {
	return map[engine.Kind]string{
		engine.KindDatabases: `
SELECT d.datname, pg_get_userbyid(d.datdba), pg_encoding_to_char(d.encoding), d.datcollate,
       CASE WHEN d.datallowconn AND has_database_privilege(d.oid, 'CONNECT') THEN pg_database_size(d.oid) END,
       d.datallowconn AND has_database_privilege(d.oid, 'CONNECT'),
       shobj_description(d.oid, 'pg_database'),
       d.datistemplate
  FROM pg_database d WHERE {one} ORDER BY 1`,

		engine.KindSchemas: `
SELECT n.nspname, pg_get_userbyid(n.nspowner), t.tables, t.estimated,
       has_schema_privilege(n.oid, 'USAGE'), has_schema_privilege(n.oid, 'CREATE'),
       obj_description(n.oid, 'pg_namespace'),
       ` + system + `
  FROM pg_namespace n,
       LATERAL (SELECT count(*) AS tables, sum(CASE WHEN c.relkind <> 'p' THEN ` + estimate + ` END) AS estimated
                  FROM pg_class c
                 WHERE c.relnamespace = n.oid AND c.relkind IN ('r', 'p', 'v', 'm', 'f')) t
 WHERE n.nspname !~ '^pg_(toast|temp)' ORDER BY 1`,

		engine.KindTables: `
SELECT n.nspname, c.relname, ` + kindOf + `, ` + estimate + `,
       CASE WHEN c.relkind IN ('r', 'm') THEN pg_total_relation_size(c.oid) END,
       pg_get_userbyid(c.relowner), obj_description(c.oid, 'pg_class'),
       ` + system + `
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname !~ '^pg_toast' ORDER BY 1, 2`,

		engine.KindColumns: `
SELECT n.nspname, c.relname, a.attname, format_type(a.atttypid, a.atttypmod),
       NOT a.attnotnull,
       CASE WHEN a.attidentity <> '' THEN 'identity' ELSE pg_get_expr(d.adbin, d.adrelid) END,
       (SELECT string_agg(DISTINCT CASE k.contype WHEN 'p' THEN 'primary' WHEN 'u' THEN 'unique'
                 ELSE 'refers to ' || quote_ident(fn.nspname) || '.' || quote_ident(f.relname) END, ', ')
          FROM pg_constraint k LEFT JOIN pg_class f ON f.oid = k.confrelid
               LEFT JOIN pg_namespace fn ON fn.oid = f.relnamespace
         WHERE k.conrelid = c.oid AND k.contype IN ('p', 'u', 'f') AND a.attnum = ANY (k.conkey)),
       col_description(c.oid, a.attnum),
       ` + system + `
  FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
       LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
 WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'v', 'm', 'f')
   AND n.nspname !~ '^pg_toast' AND {one} ORDER BY n.nspname, c.relname, a.attnum`,

		engine.KindIndexes: `
SELECT n.nspname, c.relname, x.relname,
       (SELECT string_agg(pg_get_indexdef(i.indexrelid, k, true), ', ' ORDER BY k)
          FROM generate_series(1, i.indnatts::int) k),
       i.indisunique, i.indisprimary, m.amname, pg_get_expr(i.indpred, i.indrelid, true),
       CASE WHEN x.relkind = 'i' THEN pg_relation_size(x.oid) END,
       CASE WHEN NOT i.indisvalid THEN 'not valid: the server does not use it' END,
       ` + system + `
  FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid JOIN pg_class c ON c.oid = i.indrelid
       JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_am m ON m.oid = x.relam
 WHERE n.nspname !~ '^pg_toast' AND {one} ORDER BY 1, 2, 3`,

		engine.KindAccounts: `
SELECT r.rolname, r.rolcanlogin, r.rolsuper,
       (SELECT string_agg(quote_ident(g.rolname), ', ' ORDER BY g.rolname)
          FROM pg_auth_members m JOIN pg_roles g ON g.oid = m.roleid WHERE m.member = r.oid),
       CASE WHEN r.rolvaliduntil < 'infinity' THEN to_char(r.rolvaliduntil, 'YYYY-MM-DD HH24:MI:SS TZHTZM') END,
       nullif(concat_ws(', ', CASE WHEN r.rolcreatedb THEN 'makes databases' END,
         CASE WHEN r.rolcreaterole THEN 'makes accounts' END, CASE WHEN r.rolreplication THEN 'replicates' END,
         CASE WHEN r.rolbypassrls THEN 'passes by row security' END,
         CASE WHEN r.rolconnlimit >= 0 THEN 'at most ' || r.rolconnlimit || ' connections' END), ''),
       r.rolname LIKE 'pg\_%'
  FROM pg_roles r ORDER BY 1`,

		engine.KindAccess: `
SELECT 'server', NULL::name, NULL::name,
       coalesce(nullif(concat_ws(', ', CASE WHEN r.rolsuper THEN 'everything' END,
         CASE WHEN r.rolcreatedb THEN 'make databases' END, CASE WHEN r.rolcreaterole THEN 'make accounts' END,
         CASE WHEN r.rolreplication THEN 'replicate' END,
         CASE WHEN r.rolbypassrls THEN 'pass by row security' END), ''), 'log in'),
       'member of ' || (SELECT string_agg(quote_ident(g.rolname), ', ' ORDER BY g.rolname) FROM pg_roles g
         WHERE pg_has_role(current_user, g.oid, 'MEMBER') AND NOT r.rolsuper
           AND g.rolname NOT IN (current_user, 'pg_database_owner')),
       false
  FROM pg_roles r WHERE r.rolname = current_user
UNION ALL
SELECT * FROM (SELECT 'database', NULL::name, d.datname,
       coalesce(nullif(concat_ws(', ', CASE WHEN has_database_privilege(d.oid, 'CONNECT') THEN 'connect' END,
         CASE WHEN has_database_privilege(d.oid, 'CREATE') THEN 'create' END,
         CASE WHEN has_database_privilege(d.oid, 'TEMPORARY') THEN 'temporary' END), ''), 'nothing'),
       CASE WHEN NOT d.datallowconn THEN 'takes no connections'
            WHEN pg_has_role(d.datdba, 'USAGE') THEN 'owner' END,
       d.datistemplate
  FROM pg_database d ORDER BY 3) databases
UNION ALL
SELECT * FROM (SELECT 'schema', n.nspname, n.nspname,
       coalesce(nullif(concat_ws(', ', CASE WHEN has_schema_privilege(n.oid, 'USAGE') THEN 'usage' END,
         CASE WHEN has_schema_privilege(n.oid, 'CREATE') THEN 'create' END), ''), 'nothing'),
       CASE WHEN pg_has_role(n.nspowner, 'USAGE') THEN 'owner' END,
       ` + system + `
  FROM pg_namespace n WHERE n.nspname !~ '^pg_(toast|temp)' ORDER BY 2) schemas
UNION ALL
SELECT * FROM (SELECT ` + kindOf + `, n.nspname, c.relname,
       CASE WHEN c.relkind = 'S' THEN
         coalesce(nullif(concat_ws(', ', CASE WHEN has_sequence_privilege(c.oid, 'SELECT') THEN 'select' END,
           CASE WHEN has_sequence_privilege(c.oid, 'UPDATE') THEN 'update' END,
           CASE WHEN has_sequence_privilege(c.oid, 'USAGE') THEN 'usage' END), ''), 'nothing')
       ELSE
         coalesce(nullif(concat_ws(', ', CASE WHEN has_table_privilege(c.oid, 'SELECT') THEN 'select'
             WHEN has_any_column_privilege(c.oid, 'SELECT') THEN 'select (some columns)' END,
           CASE WHEN has_table_privilege(c.oid, 'INSERT') THEN 'insert'
             WHEN has_any_column_privilege(c.oid, 'INSERT') THEN 'insert (some columns)' END,
           CASE WHEN has_table_privilege(c.oid, 'UPDATE') THEN 'update'
             WHEN has_any_column_privilege(c.oid, 'UPDATE') THEN 'update (some columns)' END,
           CASE WHEN has_table_privilege(c.oid, 'DELETE') THEN 'delete' END,
           CASE WHEN has_table_privilege(c.oid, 'TRUNCATE') THEN 'truncate' END,
           CASE WHEN has_table_privilege(c.oid, 'REFERENCES') THEN 'references' END,
           CASE WHEN has_table_privilege(c.oid, 'TRIGGER') THEN 'trigger' END), ''), 'nothing')
       END,
       nullif(concat_ws('; ', CASE WHEN pg_has_role(c.relowner, 'USAGE') THEN 'owner' END,
         CASE WHEN NOT has_schema_privilege(n.oid, 'USAGE') THEN 'but no usage of its schema' END,
         CASE WHEN c.relkind IN ('r', 'p') AND row_security_active(c.oid)
              THEN 'row security decides which rows' END), ''),
       ` + system + `
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f', 'S') AND n.nspname !~ '^pg_(toast|temp)' ORDER BY 2, 3) relations`,

		engine.KindActivity: `
SELECT a.pid, a.usename, CASE WHEN a.client_addr IS NOT NULL THEN host(a.client_addr) || ':' || a.client_port
         WHEN a.client_port = -1 THEN 'socket' END,
       coalesce(nullif(a.application_name, ''), CASE WHEN a.backend_type <> 'client backend' THEN a.backend_type END),
       a.datname, to_char(a.backend_start, 'YYYY-MM-DD HH24:MI:SS'),
       CASE WHEN a.pid = pg_backend_pid() THEN 'this session' ELSE a.state END,
       CASE WHEN a.state IS NOT NULL THEN round(extract(epoch FROM clock_timestamp()
         - CASE WHEN a.state = 'active' THEN a.query_start ELSE a.state_change END)::numeric, 1) END,
       CASE WHEN a.wait_event_type = 'Lock' THEN 'a lock of ' || array_to_string(pg_blocking_pids(a.pid), ', ')
            WHEN a.state = 'active' THEN a.wait_event_type || ': ' || a.wait_event END,
       CASE WHEN a.pid <> pg_backend_pid() THEN nullif(nullif(a.query, '<insufficient privilege>'), '') END,
       coalesce(a.backend_type NOT IN ('client backend', 'walsender'), a.datname IS NULL)
  FROM pg_stat_activity a ORDER BY a.backend_start, a.pid`,

		engine.KindSettings: `
SELECT s.name, current_setting(s.name, true), s.source,
       CASE s.context WHEN 'internal' THEN 'never' WHEN 'postmaster' THEN 'at a restart'
         WHEN 'sighup' THEN 'at a reload' WHEN 'backend' THEN 'at a login'
         WHEN 'superuser-backend' THEN 'at a login' ELSE 'at once' END,
       s.short_desc, false
  FROM pg_settings s ORDER BY lower(s.name)`,

		engine.KindOthers: `
SELECT CASE p.what WHEN 'p' THEN 'procedure' ELSE 'function' END, n.nspname, p.proname, false
  FROM (SELECT *, (to_jsonb(r) ->> 'prokind') AS what FROM pg_proc r) p JOIN pg_namespace n ON n.oid = p.pronamespace
 WHERE NOT ` + system + `
UNION ALL SELECT 'aggregate', n.nspname, p.proname, false FROM pg_aggregate a JOIN pg_proc p ON p.oid = a.aggfnoid
  JOIN pg_namespace n ON n.oid = p.pronamespace WHERE NOT ` + system + `
UNION ALL SELECT CASE c.relkind WHEN 'S' THEN 'sequence' ELSE 'index' END, n.nspname, c.relname, false
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('S', 'i', 'I') AND NOT ` + system + `
UNION ALL SELECT CASE t.typtype WHEN 'd' THEN 'domain' ELSE 'type' END, n.nspname, t.typname, false
  FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE NOT ` + system + `
UNION ALL SELECT 'trigger', n.nspname, t.tgname, false FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid
  JOIN pg_namespace n ON n.oid = c.relnamespace
UNION ALL SELECT 'policy', n.nspname, p.polname, false FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid
  JOIN pg_namespace n ON n.oid = c.relnamespace
UNION ALL SELECT 'extension', n.nspname, e.extname, false FROM pg_extension e
  JOIN pg_namespace n ON n.oid = e.extnamespace
UNION ALL SELECT unnest(ARRAY['role', 'user']), NULL, r.rolname, false FROM pg_roles r
UNION ALL SELECT 'event trigger', NULL, e.evtname, false FROM pg_event_trigger e
UNION ALL SELECT 'server', NULL, f.srvname, false FROM pg_foreign_server f
UNION ALL SELECT 'publication', NULL, p.pubname, false FROM pg_publication p
UNION ALL SELECT 'language', NULL, l.lanname, false FROM pg_language l`,

		engine.KindSizes: `
SELECT n.nspname, c.relname, ` + estimate + `, pg_table_size(c.oid), pg_indexes_size(c.oid),
       pg_total_relation_size(c.oid), ` + system + `
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('r', 'm') AND n.nspname !~ '^pg_toast' ORDER BY 6 DESC, 1, 2`,
	}
})
