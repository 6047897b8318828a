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
	Secrets: [][]string{{"IDENTIFIED", "BY"}},
}
