package mongodb

import (
	"slices"
	"strings"

	"gentleharbor/core/engine"
)

// maxNesting is how deep documents may nest (MongoDB documentation, "MongoDB Limits and Thresholds").
const maxNesting = 100

// maxJudged is how many words of a command are read to judge it; a longer one counts as unknown.
const maxJudged = 3900

// statements is what a statement is here: one command, as a document of JSON.
var statements = &engine.Statements{
	Lexis:     engine.Lexis{JSON: true, Nesting: maxNesting},
	Quote:     quoteJSON,
	Parameter: parameter,
	Bare:      isPlain,
	Catalogue: catalogue,
	Documents: &engine.Documents{Statement: insertOf, Check: checkDocument},
	Rules: &engine.Rules{
		Risk:      riskOf,
		Secret:    hasPassword,
		Reads:     reads,
		End:       "the closing }",
		NotAtomic: "gharbor begins no transactions on this engine; one command changes a document whole, or not at all",
	},
}

// isPlain reports whether a name needs no quotes where people type it.
func isPlain(name string) bool {
	for i := range len(name) {
		if c := name[i]; c <= ' ' || c == '"' || c == '\\' || c == '.' || c == '*' || c == 0x7f {
			return false
		}
	}
	return name != ""
}

// readers are commands that change nothing (MongoDB documentation, "Database Commands"), in capital letters.
const readers engine.Words = "FIND GETMORE AGGREGATE COUNT DISTINCT EXPLAIN LISTCOLLECTIONS LISTINDEXES " +
	"LISTDATABASES DBSTATS COLLSTATS DATASIZE VALIDATE PING BUILDINFO SERVERSTATUS HOSTINFO CONNECTIONSTATUS USERSINFO " +
	"ROLESINFO GETPARAMETER GETCMDLINEOPTS GETLOG TOP CURRENTOP WHATSMYURI LISTCOMMANDS FEATURES GETDEFAULTRWCONCERN " +
	"REPLSETGETSTATUS REPLSETGETCONFIG DBHASH CONNPOOLSTATS LOCKINFO ISDBGRID LISTSHARDS BALANCERSTATUS"

// writers are commands that change what they name, and no more than that.
const writers engine.Words = "INSERT UPDATE DELETE FINDANDMODIFY CREATE CREATEINDEXES KILLCURSORS"

// has reports whether a command has a name at any level.
func has(words []string, names ...string) bool {
	return slices.ContainsFunc(names, func(name string) bool { return slices.Contains(words, name+":") })
}

// reads reports whether a command changes nothing. An aggregation may write into a collection at its end.
func reads(words []string) bool {
	return readers.Has(words[0]) && len(words) < maxJudged && !has(words, "$OUT", "$MERGE")
}

// riskOf says what a command may destroy.
func riskOf(words []string) string {
	first := words[0]
	switch {
	case len(words) >= maxJudged:
		return first + " is too long to be seen into"
	case reads(words):
		return ""
	case first == "AGGREGATE":
		return "AGGREGATE writes into a collection ($out or $merge)"
	case first == "DELETE" && withoutCondition(words, "Q"):
		return "DELETE without a condition"
	case first == "UPDATE" && withoutCondition(words, "Q"):
		return "UPDATE without a condition"
	case first == "FINDANDMODIFY" && has(words, "REMOVE") && (!has(words, "QUERY") || withoutCondition(words, "QUERY")):
		return "FINDANDMODIFY removes a document without a condition"
	case writers.Has(first):
		return ""
	case strings.HasPrefix(first, "DROP"), strings.HasPrefix(first, "GRANT"), strings.HasPrefix(first, "REVOKE"):
		return first
	}
	return "what " + first + " does is not known"
}

// withoutCondition reports whether a condition of that name is empty somewhere in a command.
func withoutCondition(words []string, name string) bool {
	for i := range words {
		if words[i] == name+":" && i+2 < len(words) && words[i+1] == "{" && words[i+2] == "}" {
			return true
		}
	}
	return false
}

// hasPassword reports whether a command has a password in it.
func hasPassword(words []string) bool {
	if engine.Words("SASLSTART SASLCONTINUE AUTHENTICATE COPYDBSASLSTART").Has(words[0]) {
		return true
	}
	return has(words, "PWD") && strings.HasSuffix(words[0], "USER")
}
