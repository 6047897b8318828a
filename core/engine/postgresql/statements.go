package postgresql

import (
	"strconv"
	"strings"

	"gentleharbor/core/engine"
)

// statements are PostgreSQL's (PostgreSQL documentation, "Lexical Structure").
var statements = &engine.Statements{
	Lexis: engine.Lexis{
		EscapeStrings:  true,
		DollarQuotes:   true,
		NestedComments: true,
		Parentheses:    true,
		AtomicBodies:   true,
		CopyData:       true,
	},
	Quote:     func(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` },
	Parameter: func(n int) string { return "$" + strconv.Itoa(n) },
	Known: "ABORT ALTER ANALYZE BEGIN CHECKPOINT CLOSE CLUSTER COMMENT COMMIT COPY CREATE DEALLOCATE " +
		"DECLARE DELETE DISCARD DROP END EXPLAIN FETCH GRANT INSERT LISTEN LOCK MERGE MOVE NOTIFY " +
		"PREPARE REASSIGN REFRESH REINDEX RELEASE RESET REVOKE ROLLBACK SAVEPOINT SECURITY SELECT " +
		"SET SHOW START TABLE TRUNCATE UNLISTEN UPDATE VACUUM VALUES WITH",
	Valued: "CALL CREATE DECLARE DELETE EXECUTE EXPLAIN INSERT MERGE SELECT TABLE UPDATE VALUES " +
		"WITH",
	Secrets:  [][]string{{"PASSWORD", "'"}},
	Commits:  "ABORT BEGIN COMMIT END ROLLBACK START",
	ReadOnly: "SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY",
	Bare:     needsNoQuotes,
	Reserved: "all analyse analyze and any array as asc asymmetric authorization between bigint binary " +
		"bit boolean both case cast char character check coalesce collate collation column " +
		"concurrently constraint create cross current_catalog current_date current_role " +
		"current_schema current_time current_timestamp current_user dec decimal default " +
		"deferrable desc distinct do else end except exists extract false fetch float for foreign " +
		"freeze from full grant greatest group grouping having ilike in initially inner inout int " +
		"integer intersect interval into is isnull join json json_array json_arrayagg json_exists " +
		"json_object json_objectagg json_query json_scalar json_serialize json_table json_value " +
		"lateral leading least left like limit localtime localtimestamp merge_action national " +
		"natural nchar none normalize not notnull null nullif numeric offset on only or order out " +
		"outer overlaps overlay placing position precision primary real references returning " +
		"right row select session_user setof similar smallint some substring symmetric " +
		"system_user table tablesample then time timestamp to trailing treat trim true union " +
		"unique user using values varchar variadic verbose when where window with xmlattributes " +
		"xmlconcat xmlelement xmlexists xmlforest xmlnamespaces xmlparse xmlpi xmlroot " +
		"xmlserialize xmltable",
	Catalogue:   catalogue,
	ClientLines: clientLines,
	Bulk:        bulk,
}

// bulk is COPY (PostgreSQL documentation, "COPY", "Text Format").
func bulk(table string, columns []string) string {
	return "COPY " + table + " (" + strings.Join(columns, ", ") + ") FROM STDIN"
}
