package catalogue

import (
	"slices"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/statement"
)

// KindOf is the kind for a word of a statement: "table", "materialized view", "function".
func KindOf(word string) *Kind {
	switch {
	case word == "database":
		return Find(engine.KindDatabases)
	case word == "schema":
		return Find(engine.KindSchemas)
	case strings.HasSuffix(word, "table"), strings.HasSuffix(word, "view"):
		return Find(engine.KindTables)
	}
	return Others
}

// Has reports whether a thing is among the rows of its kind. A name without a schema may be in any of path. known is
// false for a kind of thing that the rows never list. Capital letters do not matter: to ask once too often is better
// than not to ask.
func Has(kind *Kind, rows []Row, word string, name statement.Name, path []string) (is, known bool) {
	known = kind != Others
	for _, row := range rows {
		if kind == Others {
			if row.Text(0) != word {
				continue
			}
			known = true
		}
		if !strings.EqualFold(row.Text(kind.Pattern), name.Name) {
			continue
		}
		if !kind.Schema {
			return true, true
		}
		of := row.Text(kind.Pattern - 1)
		if of == "" || strings.EqualFold(name.Schema, of) || name.Schema == "" && slices.Contains(path, of) {
			return true, true
		}
	}
	return false, known || slices.Contains(alwaysKnown, word)
}

// alwaysKnown are the words of which there may be none.
var alwaysKnown = strings.Fields("function procedure sequence index type domain trigger event policy aggregate")
