package postgresql

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
)

// objectKind are kinds of things in a database, with the rights that each access gives.
type objectKind struct {
	plural string // in a statement: "TABLES"
	what   string // for a person
	code   string // in pg_default_acl.defaclobjtype
	kind   string // of pg_class.relkind, as a list; "" for what is not in pg_class
	rights map[engine.Access]string
}

// inSchemas are what schemas hold (PostgreSQL documentation, "Privileges").
var inSchemas = []objectKind{
	{
		plural: "TABLES", what: "tables and views", code: "r", kind: "'r', 'p', 'v', 'm', 'f'",
		rights: map[engine.Access]string{
			engine.AccessOwn:   "SELECT, INSERT, UPDATE, DELETE, TRUNCATE, REFERENCES, TRIGGER",
			engine.AccessWrite: "SELECT, INSERT, UPDATE, DELETE",
			engine.AccessRead:  "SELECT",
		},
	},
	{
		plural: "SEQUENCES", what: "sequences", code: "S", kind: "'S'",
		rights: map[engine.Access]string{
			engine.AccessOwn:   "SELECT, UPDATE, USAGE",
			engine.AccessWrite: "SELECT, UPDATE, USAGE",
			engine.AccessRead:  "SELECT",
		},
	},
	{
		plural: "FUNCTIONS", what: "functions", code: "f",
		rights: map[engine.Access]string{
			engine.AccessOwn:   "EXECUTE",
			engine.AccessWrite: "EXECUTE",
		},
	},
}

// schemaRights are those on a schema.
var schemaRights = map[engine.Access]string{
	engine.AccessOwn:   "USAGE, CREATE",
	engine.AccessWrite: "USAGE",
	engine.AccessRead:  "USAGE",
}

// ownSchemas leaves the server's own schemas out.
const ownSchemas = "n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'"

// asWho is the account, or PUBLIC where there is no such role yet.
const asWho = "coalesce((SELECT rolname FROM pg_roles WHERE rolname = $1), 'public')"

// planRights gives the account the rights that its access needs, on what is in the database and on what will be.
// Without a database it plans for a new one.
func planRights(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	switch {
	case ask == nil:
		return planNew(w), nil
	case len(w.Tables) > 0:
		return planTables(ctx, ask, w)
	}
	p := &engine.Plan{}
	give := func(why, text string, args ...any) {
		c := engine.Adding(why, text, args...)
		c.In = w.Database
		p.Changes = append(p.Changes, c)
	}
	to := statements.Name(w.User)
	lacking, err := schemasLacking(ctx, ask, w.User, schemaRights[w.Access])
	if err != nil {
		return nil, err
	}
	if len(lacking) > 0 {
		give(fmt.Sprintf("%s may not use the %s", w.User, inWords("schema", lacking)), "GRANT %s ON SCHEMA %s TO %s",
			schemaRights[w.Access], nameList(lacking), to)
	}
	for _, t := range inSchemas {
		if t.rights[w.Access] == "" {
			continue
		}
		lacking, err := t.lackingSchemas(ctx, ask, w)
		if err != nil {
			return nil, err
		}
		if len(lacking) > 0 {
			give(fmt.Sprintf("%s lacks rights on the %s of the %s", w.User, t.what, inWords("schema", lacking)),
				"GRANT %s ON ALL %s IN SCHEMA %s TO %s", t.rights[w.Access], t.plural, nameList(lacking), to)
		}
	}
	return p, planFuture(ctx, ask, w, p)
}

// schemasLacking are the schemas on which a role lacks one of some rights.
func schemasLacking(ctx context.Context, ask engine.Ask, user, rights string) ([]string, error) {
	rows, err := ask(ctx, "SELECT n.nspname FROM pg_namespace n WHERE "+ownSchemas+" AND NOT ("+
		having("has_schema_privilege("+asWho+", n.oid, '%s')", rights)+") ORDER BY 1", user)
	return columnOf(rows), err
}

// having is a condition for each of some rights.
func having(condition, rights string) string {
	var all []string
	for right := range strings.SplitSeq(rights, ", ") {
		all = append(all, fmt.Sprintf(condition, right))
	}
	return strings.Join(all, " AND ")
}

// lackingSchemas are the schemas in which the account lacks a right on one of the things.
func (t objectKind) lackingSchemas(ctx context.Context, ask engine.Ask, w *engine.DesiredState) ([]string, error) {
	has := map[string]string{"r": "has_table_privilege", "S": "has_sequence_privilege",
		"f": "has_function_privilege"}[t.code]
	rights := having(has+"("+asWho+", c.oid, '%s')", t.rights[w.Access])
	text := "pg_proc c JOIN pg_namespace n ON n.oid = c.pronamespace WHERE " + ownSchemas + " AND NOT (" + rights + ")"
	if t.kind != "" { // CASE, as a right on a thing of another kind must not be asked for
		text = "pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE " + ownSchemas +
			" AND CASE WHEN c.relkind IN (" + t.kind + ") THEN NOT (" + rights + ") ELSE false END"
	}
	rows, err := ask(ctx, "SELECT DISTINCT n.nspname FROM "+text+" ORDER BY 1", w.User)
	return columnOf(rows), err
}

// makers are the roles that seem to make things in the database: its owner, those of its schemas and of what is in
// them, and the administrator. The account itself is none of them: it owns what it makes.
const makers = `SELECT r.rolname, pg_has_role(current_user, r.oid, 'MEMBER') FROM pg_roles r WHERE r.rolname <> $1 AND
 r.rolname NOT LIKE 'pg\_%' AND (r.rolname = current_user
 OR r.oid = (SELECT datdba FROM pg_database WHERE datname = current_database())
 OR EXISTS (SELECT 1 FROM pg_namespace n WHERE n.nspowner = r.oid AND ` + ownSchemas + `)
 OR EXISTS (SELECT 1 FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relowner = r.oid AND ` +
	ownSchemas + `)) ORDER BY 1`

// promised are the rights that a role already gives an account on all that it will make, in any schema of the
// database.
const promised = `SELECT r.rolname::text || ' ' || d.defaclobjtype::text || ' ' || a.privilege_type
 FROM pg_default_acl d
 JOIN pg_roles r ON r.oid = d.defaclrole CROSS JOIN LATERAL aclexplode(d.defaclacl) a
 JOIN pg_roles g ON g.oid = a.grantee WHERE d.defaclnamespace = 0 AND g.rolname = $1`

// planFuture gives rights on what is yet to be made.
func planFuture(ctx context.Context, ask engine.Ask, w *engine.DesiredState, p *engine.Plan) error {
	rows, err := ask(ctx, makers, w.User)
	if err != nil {
		return err
	}
	var can, cannot []string
	for _, row := range rows {
		if row[1] == yes {
			can = append(can, row[0])
		} else {
			cannot = append(cannot, row[0])
		}
	}
	has, err := ask(ctx, promised, w.User)
	if err != nil {
		return err
	}
	p.Changes = append(p.Changes, futureRights(w, can, columnOf(has))...)
	if len(cannot) > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("what %s will make is not included: only that role or a superuser can give "+
			"rights on it", strings.Join(cannot, ", ")))
	}
	return nil
}

// futureRights are the statements that give rights on what some roles will make, without rights that they already
// give.
func futureRights(w *engine.DesiredState, makers, promised []string) (all []engine.Change) {
	kinds := append(slices.Clone(inSchemas), objectKind{
		plural: "SCHEMAS",
		what:   "schemas",
		code:   "n",
		rights: schemaRights,
	})
	for _, t := range kinds {
		rights := t.rights[w.Access]
		if t.code == "n" {
			rights = schemaRights[engine.AccessRead]
		}
		if rights == "" {
			continue
		}
		var lacking []string
		for _, maker := range makers {
			for right := range strings.SplitSeq(rights, ", ") {
				if !slices.Contains(promised, maker+" "+t.code+" "+right) {
					lacking = append(lacking, maker)
					break
				}
			}
		}
		if len(lacking) == 0 {
			continue
		}
		c := engine.Adding(fmt.Sprintf("%s has no rights yet on what %s will make", w.User,
			strings.Join(lacking, ", ")), "ALTER DEFAULT PRIVILEGES FOR ROLE %s GRANT %s ON %s TO %s", nameList(lacking),
			rights, t.plural, statements.Name(w.User))
		c.In = w.Database
		all = append(all, c)
	}
	return all
}

// planNew is for a database that the plan makes, which is assumed to be empty.
func planNew(w *engine.DesiredState) *engine.Plan {
	var makers []string
	for _, maker := range []string{w.Facts.User, w.Owner} {
		if maker != "" && maker != w.User && !slices.Contains(makers, maker) {
			makers = append(makers, maker)
		}
	}
	slices.Sort(makers)
	return &engine.Plan{Changes: futureRights(w, makers, nil)}
}

// planTables gives rights on some tables, on their schemas, and on the sequences of their columns.
func planTables(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	p := &engine.Plan{}
	for _, table := range w.Tables {
		t, err := findTable(ctx, ask, w, table)
		if err != nil {
			return nil, err
		}
		for _, c := range t.changes(w) {
			if !slices.ContainsFunc(p.Changes, func(o engine.Change) bool { return o.Text == c.Text }) {
				p.Changes = append(p.Changes, c)
			}
		}
	}
	return p, nil
}

// grantTable is one to which rights are given.
type grantTable struct {
	schema, name  string
	usage, rights bool     // the account has them
	sequences     []string // of its columns, on which it has none, as they are typed
}

// findTable looks a table up by "table" or "schema.table".
func findTable(ctx context.Context, ask engine.Ask, w *engine.DesiredState, word string) (*grantTable, error) {
	schema, name, both := engine.CutName(word, '"')
	if !both {
		schema, name = "", word
	} else {
		schema, _ = engine.Unquote(schema, '"')
	}
	name, _ = engine.Unquote(name, '"')
	rows, err := ask(ctx, "SELECT n.nspname, has_schema_privilege("+asWho+", n.oid, 'USAGE'), "+
		having("has_table_privilege("+asWho+", c.oid, '%s')", inSchemas[0].rights[w.Access])+", c.oid FROM pg_class c JOIN "+
		"pg_namespace n ON n.oid = c.relnamespace WHERE "+ownSchemas+" AND c.relkind IN ("+inSchemas[0].kind+") AND "+
		"c.relname = $2 AND ($3 = '' OR n.nspname = $3) ORDER BY 1", w.User, name, schema)
	switch {
	case err != nil:
		return nil, err
	case len(rows) == 0:
		return nil, noTable(ctx, ask, word)
	case len(rows) > 1:
		return nil, &engine.NameError{What: fmt.Sprintf("the table %s is in several schemas: %s; write SCHEMA.%s", word,
			strings.Join(columnOf(rows), ", "), word)}
	}
	t := &grantTable{schema: rows[0][0], name: name, usage: rows[0][1] == yes, rights: rows[0][2] == yes}
	if w.Access == engine.AccessRead {
		return t, nil
	}
	rows, err = ask(ctx, "SELECT n.nspname, c.relname FROM pg_depend d JOIN pg_class c ON c.oid = d.objid "+
		"JOIN pg_namespace n ON n.oid = c.relnamespace WHERE d.classid = 'pg_class'::regclass AND "+
		"d.refobjid = $2::oid AND CASE WHEN c.relkind = 'S' THEN NOT ("+
		having("has_sequence_privilege("+asWho+", c.oid, '%s')", inSchemas[1].rights[w.Access])+") ELSE false END",
		w.User, rows[0][3])
	for _, row := range rows {
		t.sequences = append(t.sequences, statements.Name(row[0])+"."+statements.Name(row[1]))
	}
	return t, err
}

// noTable is the error for a table that does not exist, with the nearest name.
func noTable(ctx context.Context, ask engine.Ask, word string) error {
	rows, err := ask(ctx, "SELECT c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE "+
		ownSchemas+" AND c.relkind IN ("+inSchemas[0].kind+") LIMIT 10000")
	if err != nil {
		return err
	}
	return &engine.NameError{What: "there is no table " + word, Near: nearest.Name(word, columnOf(rows))}
}

// changes are those that a table needs.
func (t *grantTable) changes(w *engine.DesiredState) (all []engine.Change) {
	to := statements.Name(w.User)
	give := func(why, text string, args ...any) {
		c := engine.Adding(why, text, args...)
		c.In = w.Database
		all = append(all, c)
	}
	if !t.usage {
		give(fmt.Sprintf("%s may not use the schema %s", w.User, t.schema), "GRANT USAGE ON SCHEMA %s TO %s",
			statements.Name(t.schema), to)
	}
	if !t.rights {
		give(fmt.Sprintf("%s lacks rights on the table %s.%s", w.User, t.schema, t.name), "GRANT %s ON %s.%s TO %s",
			inSchemas[0].rights[w.Access], statements.Name(t.schema), statements.Name(t.name), to)
	}
	if len(t.sequences) > 0 {
		give(fmt.Sprintf("%s lacks rights on the sequences of the table %s.%s", w.User, t.schema,
			t.name), "GRANT %s ON SEQUENCE %s TO %s",
			inSchemas[1].rights[w.Access], strings.Join(t.sequences, ", "), to)
	}
	return all
}

func columnOf(rows [][]string) (all []string) {
	for _, row := range rows {
		all = append(all, row[0])
	}
	return all
}

// nameList are names in a statement's form.
func nameList(names []string) string {
	typed := make([]string, len(names))
	for i, n := range names {
		typed[i] = statements.Name(n)
	}
	return strings.Join(typed, ", ")
}

// inWords are names after their noun: "schema a", "schemas a, b".
func inWords(noun string, names []string) string {
	if len(names) > 1 {
		noun += "s"
	}
	return noun + " " + strings.Join(names, ", ")
}
