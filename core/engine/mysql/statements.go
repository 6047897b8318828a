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
	Quote:     func(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" },
	Parameter: func(int) string { return "?" },
	Known: strings.Fields("ALTER ANALYZE BEGIN CACHE CHANGE CHECK CHECKSUM COMMIT CREATE DEALLOCATE DELETE DESC " +
		"DESCRIBE DROP EXPLAIN FLUSH GET GRANT HANDLER HELP INSERT KILL LOCK OPTIMIZE PREPARE " +
		"PURGE RELEASE RENAME REPAIR REPLACE RESET REVOKE ROLLBACK SAVEPOINT SELECT SET SHOW " +
		"SIGNAL START STOP TABLE TRUNCATE UNLOCK UPDATE USE VALUES WITH XA"),
	Valued: strings.Fields("ANALYZE CALL CREATE DELETE DESC DESCRIBE DO EXPLAIN INSERT KILL REPLACE SELECT SET SHOW " +
		"TABLE UPDATE VALUES WITH"),
	Secrets: [][]string{
		{"PASSWORD", "'"}, {"IDENTIFIED", "BY"}, {"IDENTIFIED", "WITH", "*", "AS"}, {"IDENTIFIED", "WITH", "*", "BY"},
		{"IDENTIFIED", "VIA", "*", "USING"}, {"MASTER_PASSWORD"}, {"SOURCE_PASSWORD"},
	},
	Commits: strings.Fields("ALTER ANALYZE BEGIN CHECK COMMIT CREATE DROP FLUSH GRANT LOCK OPTIMIZE RENAME REPAIR " +
		"RESET REVOKE ROLLBACK START TRUNCATE UNLOCK"),
	ReadOnly: "SET SESSION TRANSACTION READ ONLY",
}
