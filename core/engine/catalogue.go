package engine

import (
	"context"
	"strings"
)

// Kind is a kind of things on a server that can be looked at.
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

// Catalogue is how an engine's server says what is on it. Its statements change nothing, whatever the search path,
// the functions and the modes of a role are.
type Catalogue struct {
	// Statement reads a kind: its columns in their order, and behind them one that tells whether the row is of the
	// system's own. Where a server may refuse it to an ordinary login there is a second one, which gives less. With
	// one it reads the one database, or what belongs to the tables of one name: the name is the parameter.
	Statement func(kind Kind, facts *Facts, one bool) []string
	// Read reads a kind in the place of Statement, where one statement does not give it: rows as those of Statement, nil
	// for what is not known. less is a refusal because of which the rows are not all.
	Read func(ctx context.Context, r Runner, kind Kind, facts *Facts, one string) (rows [][][]byte, less *StatementError,
		err error)
	// Kinds are the kinds that the engine has; nil for those of SQL.
	Kinds []Kind
	// Words are other words for kinds, those of the engine.
	Words map[string]Kind
	// Listed is the kind that an overview lists; "" for the schemas.
	Listed Kind
	// Turn makes rows of a kind out of one that a statement gives which can't give them itself.
	Turn map[Kind]func(values [][]byte) [][][]byte
	// Account is an account's name as it must be typed; nil where it is a name like others.
	Account func(name string) string
	// Granted: the access is what was granted and where, and not what may be done with each table.
	Granted bool
	// Before and After are sent around the reading, each alone.
	Before, After []string
	// Path is the statement that gives the schemas in which a name without one is looked for, a row each.
	Path string
	// Dependents gives what depends on the table or view of a name, the parameter: a row each, in words. "" where it is
	// not known.
	Dependents string
}

// Name is a name as it must be typed in a statement.
func (s *Statements) Name(name string) string {
	if s.Bare(name) && !s.Reserved.Has(strings.ToLower(name)) && !s.Reserved.Has(strings.ToUpper(name)) {
		return name
	}
	return s.Quote(name)
}

// AccountName is an account's name as it must be typed in a statement.
func (s *Statements) AccountName(name string) string {
	if s.Catalogue != nil && s.Catalogue.Account != nil {
		return s.Catalogue.Account(name)
	}
	return s.Name(name)
}

// Narrow puts a condition in the place of {one} in statements, or one that always holds.
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
