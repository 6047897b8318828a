package oracle

import (
	"strconv"
	"strings"

	"gentleharbor/core/engine"
)

// statements are Oracle's (Oracle Database SQL Language Reference, "Basic Elements").
var statements = &engine.Statements{
	Lexis:     engine.Lexis{OtherQuotes: true, Blocks: true},
	Quote:     func(name string) string { return `"` + strings.ReplaceAll(name, `"`, "") + `"` },
	Parameter: func(n int) string { return ":" + strconv.Itoa(n) },
	Known: strings.Fields("ALTER ANALYZE AUDIT COMMENT COMMIT CREATE DELETE DROP EXPLAIN FLASHBACK GRANT INSERT " +
		"LOCK MERGE NOAUDIT PURGE RENAME REVOKE ROLLBACK SAVEPOINT SELECT SET TRUNCATE UPDATE " +
		"WITH"),
	Valued: strings.Fields("BEGIN CALL DECLARE DELETE EXPLAIN INSERT MERGE SELECT UPDATE WITH"),
	Commits: strings.Fields("ALTER ANALYZE AUDIT COMMENT COMMIT CREATE DROP FLASHBACK GRANT NOAUDIT PURGE RENAME REVOKE " +
		"ROLLBACK TRUNCATE"),
	Secrets: [][]string{{"IDENTIFIED", "BY"}},
}
