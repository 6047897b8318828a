package engine

import (
	"context"
	"strings"
)

// Kind is a kind of object on a server, for browse.
type Kind string

// The kinds. Package catalogue has their columns, which are the same for every engine.
const (
	KindDatabases Kind = "databases"
	KindSchemas   Kind = "schemas"
	KindTables    Kind = "tables"
	KindColumns   Kind = "columns"
	KindIndexes   Kind = "indexes"
	KindAccounts  Kind = "accounts"
	KindAccess    Kind = "access"
	KindActivity  Kind = "activity"
	KindSettings  Kind = "settings"
	KindSizes     Kind = "sizes"
	KindKeys      Kind = "keys"   // of a key-value store
	KindSlow      Kind = "slow"   // statements that took long
	KindOthers    Kind = "others" // what a script may drop beside databases, schemas and tables
)

// Catalogue has the statements that list what is on an engine's server. They change nothing, whatever the search
// path, the functions and the modes of a role are.
type Catalogue struct {
	// Statement gives the statements for a kind. Their columns are the kind's, in order; one more tells whether the
	// row is of the system's own. Where a server may refuse the first to an ordinary login, the second gives less.
	// With one, a statement reads the one database or table whose name is its parameter.
	Statement func(kind Kind, facts *Facts, one bool) []string
	// Read takes the place of Statement where one statement is not enough. Its rows are as those of Statement, nil
	// for what is not known. less is a refusal because of which rows are missing.
	Read func(ctx context.Context, r Runner, kind Kind, facts *Facts, one string) (rows [][][]byte, less *StatementError,
		err error)
	// Kinds are the kinds that the engine has; nil for those of SQL.
	Kinds []Kind
	// Words are the engine's own words for kinds.
	Words map[string]Kind
	// Listed is the kind that an overview lists; "" for the schemas.
	Listed Kind
	// Turn makes rows of a kind from a value of a statement, for a server that has no such rows.
	Turn map[Kind]func(values [][]byte) [][][]byte
	// Account quotes an account's name for a statement; nil where it is quoted like other names.
	Account func(name string) string
	// Granted: the rows of access say what was granted and where, not what each table allows.
	Granted bool
	// Before and After are sent before and after the reading, each alone.
	Before, After []string
	// Path is the statement for the schemas in which a name without a schema is looked up, a row each.
	Path string
	// Dependents lists what depends on a table or view, whose name is the parameter: a row each, in words. "" where
	// the engine does not know.
	Dependents string
}

// Name quotes a name for a statement.
func (s *Statements) Name(name string) string {
	if s.Bare(name) && !s.Reserved.Has(strings.ToLower(name)) && !s.Reserved.Has(strings.ToUpper(name)) {
		return name
	}
	return s.Quote(name)
}

// AccountName quotes an account's name for a statement.
func (s *Statements) AccountName(name string) string {
	if s.Catalogue != nil && s.Catalogue.Account != nil {
		return s.Catalogue.Account(name)
	}
	return s.Name(name)
}

// Narrow puts a condition in the place of {one} in statements; without one, a condition that is always true.
func Narrow(texts []string, one bool, condition string) []string {
	if !one {
		condition = "1 = 1"
	}
	narrowed := make([]string, len(texts))
	for i, text := range texts {
		narrowed[i] = strings.ReplaceAll(text, "{one}", condition)
	}
	return narrowed
}
