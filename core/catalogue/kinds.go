// Package catalogue lists what is on a server, as far as a login can see it. Each kind of things has the same columns
// for all engines. The engine has the statements; this package runs them, checks their rows against the kind, chooses
// names by a pattern, and compares two servers. It stands behind check, on a connection that a test proved. Start
// with Read.
package catalogue

import (
	"slices"

	"gentleharbor/core/engine"
)

// ColumnKind a column holds.
type ColumnKind int

// The kinds of columns.
const (
	Text    ColumnKind = iota
	Name               // of a thing on the server, as it is kept there
	Account            // the name of one
	Number             // a count
	Size               // a number of bytes
	Truth              // "true" or "false"
)

// Column is one of a kind's.
type Column struct {
	Name string
	Is   ColumnKind
}

// Kind is a kind of things with its columns.
type Kind struct {
	Word    engine.Kind
	One     string // a thing of it, for sentences
	Summary string
	Columns []Column
	Key     int  // so many columns name a thing
	Pattern int  // the column that a pattern is compared with
	Schema  bool // and the column before it is its schema
	OfTable bool // it belongs to a table, which the pattern names
	Asked   bool // the server compares the pattern itself
	Named   bool // only engines that name it have it
}

// Kinds are the kinds, in the order in which help lists them.
var Kinds = []*Kind{
	{
		Word: engine.KindDatabases, One: "database", Summary: "the databases of the server",
		Columns: []Column{{"database", Name}, {"owner", Account}, {"encoding", Text}, {"collation", Text}, {"size", Size},
			{"may_connect", Truth}, {"comment", Text}},
		Key: 1,
	},
	{
		Word: engine.KindSchemas, One: "schema", Summary: "the schemas of the database",
		Columns: []Column{{"schema", Name}, {"owner", Account}, {"tables", Number}, {"rows", Number},
			{"may_use", Truth}, {"may_create", Truth}, {"comment", Text}},
		Key: 1,
	},
	{
		Word: engine.KindTables, One: "table", Summary: "tables and views, with estimated rows",
		Columns: []Column{{"schema", Name}, {"table", Name}, {"kind", Text}, {"rows", Number}, {"size", Size},
			{"owner", Account}, {"comment", Text}},
		Key: 2, Pattern: 1, Schema: true,
	},
	{
		Word: engine.KindColumns, One: "table", Summary: "the columns of a table",
		Columns: []Column{{"schema", Name}, {"table", Name}, {"column", Name}, {"type", Text}, {"may_be_null", Truth},
			{"default", Text}, {"key", Text}, {"comment", Text}},
		Key: 3, Pattern: 1, Schema: true, OfTable: true,
	},
	{
		Word: engine.KindIndexes, One: "table", Summary: "the indexes of a table",
		Columns: []Column{{"schema", Name}, {"table", Name}, {"index", Name}, {"columns", Text}, {"unique", Truth},
			{"primary", Truth}, {"method", Text}, {"condition", Text}, {"size", Size}, {"note", Text}},
		Key: 3, Pattern: 1, Schema: true, OfTable: true,
	},
	{
		Word: engine.KindAccounts, One: "account", Summary: "accounts and roles",
		Columns: []Column{{"account", Account}, {"may_log_in", Truth}, {"administrator", Truth}, {"member_of", Text},
			{"expires", Text}, {"note", Text}},
		Key: 1,
	},
	{
		Word: engine.KindAccess, One: "thing", Summary: "what this login may do, and where",
		Columns: []Column{{"what", Text}, {"schema", Name}, {"name", Name}, {"may", Text}, {"note", Text}},
		Key:     3, Pattern: 2, Schema: true,
	},
	{
		Word: engine.KindActivity, One: "session", Summary: "who is connected, since when, and what waits",
		Columns: []Column{{"id", Number}, {"account", Account}, {"from", Text}, {"program", Text}, {"database", Name},
			{"connected", Text}, {"state", Text}, {"seconds", Number}, {"waits_for", Text}, {"statement", Text}},
		Key: 1, Pattern: 1,
	},
	{
		Word: engine.KindSettings, One: "setting", Summary: "the server's settings, as this session has them",
		Columns: []Column{{"setting", Text}, {"value", Text}, {"from", Text}, {"changes", Text}, {"comment", Text}},
		Key:     1,
	},
	{
		Word: engine.KindSizes, One: "table", Summary: "the size of tables, the largest first",
		Columns: []Column{{"schema", Name}, {"table", Name}, {"rows", Number}, {"data", Size}, {"indexes", Size},
			{"total", Size}},
		Key: 2, Pattern: 1, Schema: true,
	},
	{
		Word: engine.KindKeys, One: "key", Summary: "keys of a key-value store, at most 1,000",
		Columns: []Column{{"key", Text}, {"type", Text}, {"elements", Number}, {"size", Size}, {"expires_in", Text}},
		Key:     1, Asked: true, Named: true,
	},
	{
		Word: engine.KindSlow, One: "statement", Summary: "statements that took long, the last first",
		Columns: []Column{{"id", Number}, {"when", Text}, {"milliseconds", Number}, {"from", Text}, {"statement", Text}},
		Key:     1, Pattern: 4, Named: true,
	},
}

// KindsOf are the kinds of an engine.
func KindsOf(by *engine.Catalogue) (all []*Kind) {
	for _, k := range Kinds {
		if by.Kinds == nil && !k.Named || slices.Contains(by.Kinds, k.Word) {
			all = append(all, k)
		}
	}
	return all
}

// Others are kinds that a script may drop, besides databases, schemas and tables, to find out whether a thing exists.
var Others = &Kind{
	Word: engine.KindOthers, One: "thing",
	Columns: []Column{{"what", Text}, {"schema", Name}, {"name", Name}},
	Key:     3, Pattern: 2, Schema: true,
}

// Find returns the kind of that word, nil for none.
func Find(word engine.Kind) *Kind {
	for _, k := range Kinds {
		if k.Word == word {
			return k
		}
	}
	return nil
}
