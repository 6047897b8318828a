package mysql

import (
	"strings"

	"gentleharbor/core/engine"
)

// statements are those of MySQL and MariaDB (MySQL reference manual, "Language Structure").
var statements = &engine.Statements{
	Lexis: engine.Lexis{
		Backslashes:  true,
		DoubleQuoted: true,
		Backticks:    true,
		HashComments: true,
		DashSpace:    true,
		VersionHints: true,
		Delimiter:    true,
	},
	Quote:     quoteName,
	Parameter: func(int) string { return "?" },
	Known: "ALTER ANALYZE BEGIN CACHE CHANGE CHECK CHECKSUM COMMIT CREATE DEALLOCATE DELETE DESC " +
		"DESCRIBE DROP EXPLAIN FLUSH GET GRANT HANDLER HELP INSERT KILL LOCK OPTIMIZE PREPARE " +
		"PURGE RELEASE RENAME REPAIR REPLACE RESET REVOKE ROLLBACK SAVEPOINT SELECT SET SHOW " +
		"SIGNAL START STOP TABLE TRUNCATE UNLOCK UPDATE USE VALUES WITH XA",
	Valued: "ANALYZE CALL CREATE DELETE DESC DESCRIBE DO EXPLAIN INSERT KILL REPLACE SELECT SET SHOW " +
		"TABLE UPDATE VALUES WITH",
	Secrets: [][]string{
		{"PASSWORD", "'"}, {"SET", "PASSWORD"},
		{"IDENTIFIED", "BY"}, {"IDENTIFIED", "WITH", "*", "AS"}, {"IDENTIFIED", "WITH", "*", "BY"},
		{"IDENTIFIED", "VIA", "*", "USING"}, {"MASTER_PASSWORD"}, {"SOURCE_PASSWORD"},
	},
	Commits: "ALTER ANALYZE BEGIN CHECK COMMIT CREATE DROP FLUSH GRANT LOCK OPTIMIZE RENAME REPAIR " +
		"RESET REVOKE ROLLBACK START TRUNCATE UNLOCK",
	Bytes:    isBytes,
	ReadOnly: "SET SESSION TRANSACTION READ ONLY",
	Bare:     needsNoQuotes,
	Reserved: "accessible add all alter analyze and as asc asensitive before between bigint binary blob " +
		"both by call cascade case change char character check collate column condition " +
		"constraint continue convert create cross cube cume_dist current_date current_role " +
		"current_time current_timestamp current_user cursor databases day_hour day_microsecond " +
		"day_minute day_second dec decimal declare default delayed delete delete_domain_id " +
		"dense_rank desc describe deterministic distinct distinctrow div do_domain_ids double " +
		"drop dual each else elseif empty enclosed escaped except exists exit explain false fetch " +
		"first_value float float4 float8 for force foreign from fulltext function generated get " +
		"grant group grouping groups having high_priority hour_microsecond hour_minute " +
		"hour_second if ignore ignore_domain_ids in index infile inner inout insensitive insert " +
		"int int1 int2 int3 int4 int8 integer intersect interval into io_after_gtids " +
		"io_before_gtids is iterate join json_table key keys kill lag last_value lateral lead " +
		"leading leave left like limit linear lines load localtime localtimestamp lock long " +
		"longblob longtext loop low_priority manual master_bind master_demote_to_replica " +
		"master_demote_to_slave master_ssl_verify_server_cert match maxvalue mediumblob mediumint " +
		"mediumtext middleint minute_microsecond minute_second mod modifies natural " +
		"no_write_to_binlog not nth_value ntile null numeric of offset on optimize " +
		"optimizer_costs optionally or order out outer outfile over page_checksum parallel " +
		"parse_gcol_expr parse_vcol_expr partition percent_rank portion precision primary " +
		"procedure purge qualify range rank read read_write reads real recursive ref_system_id " +
		"references regexp release rename repeat replace require resignal restrict return " +
		"returning revoke right rlike row_number rows schemas second_microsecond select sensitive " +
		"separator set show signal smallint spatial specific sql sql_big_result " +
		"sql_calc_found_rows sql_small_result sqlexception sqlstate sqlwarning ssl starting " +
		"stats_auto_recalc stats_persistent stats_sample_pages stored straight_join system table " +
		"tablesample terminated then tinyblob tinyint tinytext to trailing trigger true undo " +
		"union unique unlock unsigned update usage use using utc_date utc_time utc_timestamp " +
		"values varbinary varchar varcharacter varying virtual when where while window with write " +
		"xor year_month zerofill",
	Catalogue:   catalogue,
	ClientLines: clientLines,
}

func quoteName(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// isBytes reports whether a type of the information schema holds bytes: query writes such values as \x….
func isBytes(kind string) bool {
	kind, _, _ = strings.Cut(strings.ToLower(kind), "(")
	switch strings.TrimPrefix(kind, "multi") {
	case "bit", "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "vector",
		"geometry", "geometrycollection", "point", "linestring", "polygon":
		return true
	}
	return false
}
