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
	Known: strings.Fields("ABORT ALTER ANALYZE BEGIN CHECKPOINT CLOSE CLUSTER COMMENT COMMIT COPY CREATE DEALLOCATE " +
		"DECLARE DELETE DISCARD DROP END EXPLAIN FETCH GRANT INSERT LISTEN LOCK MERGE MOVE NOTIFY " +
		"PREPARE REASSIGN REFRESH REINDEX RELEASE RESET REVOKE ROLLBACK SAVEPOINT SECURITY SELECT " +
		"SET SHOW START TABLE TRUNCATE UNLISTEN UPDATE VACUUM VALUES WITH"),
	Valued: strings.Fields("CALL CREATE DECLARE DELETE EXECUTE EXPLAIN INSERT MERGE SELECT TABLE UPDATE VALUES " +
		"WITH"),
	Secrets:  [][]string{{"PASSWORD", "'"}},
	Commits:  strings.Fields("ABORT BEGIN COMMIT END ROLLBACK START"),
	ReadOnly: "SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY",
}
