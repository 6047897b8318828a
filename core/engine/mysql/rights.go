package mysql

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
)

// databaseRights are those of each access on a database. A routine runs with the rights of its maker, so an access
// that only reads has no right to call one.
var databaseRights = map[engine.Access][]string{
	engine.AccessOwn: {"ALL PRIVILEGES"},
	engine.AccessWrite: {"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE TEMPORARY TABLES", "LOCK TABLES", "EXECUTE",
		"SHOW VIEW"},
	engine.AccessRead: {"SELECT", "SHOW VIEW"},
}

// tableRights are those on one table.
var tableRights = map[engine.Access][]string{
	engine.AccessOwn:   {"ALL PRIVILEGES"},
	engine.AccessWrite: {"SELECT", "INSERT", "UPDATE", "DELETE", "SHOW VIEW"},
	engine.AccessRead:  {"SELECT", "SHOW VIEW"},
}

// grant is a line of SHOW GRANTS: rights on something.
type grant struct {
	rights       []string // upper case, without columns
	schema, name string   // the pattern as it was granted, and "*" for all
	routine      string   // FUNCTION or PROCEDURE, "" for tables
	option       bool     // may be given to others
}

// rights is all that an account was granted.
type rights struct {
	whose string
	all   []grant
	roles bool // it has rights by roles too, which are not listed
}

// readRights reads what was granted to an account, or to the session's own for "".
func readRights(ctx context.Context, ask engine.Ask, account string) (*rights, error) {
	question := "SHOW GRANTS FOR " + account
	r := &rights{whose: account}
	if account == "" {
		question = "SHOW GRANTS"
		rows, err := ask(ctx, "SELECT CURRENT_USER()")
		if err != nil || len(rows) == 0 {
			return nil, engine.OrNoRow(err)
		}
		r.whose = rows[0][0]
	}
	rows, err := ask(ctx, question)
	for _, row := range rows {
		words := grantWords(row[0])
		on, to := indexOf(words, "ON"), indexOf(words, "TO")
		switch {
		case len(words) == 0 || words[0] != "GRANT" || to < 0:
		case on < 0 || on > to:
			r.roles = true
		case on+1 < to:
			r.all = append(r.all, readGrant(words, on, to))
		}
	}
	return r, err
}

// readGrant returns one line, as words.
func readGrant(words []string, on, to int) grant {
	g := grant{option: strings.Contains(strings.Join(words[to:], " "), "WITH GRANT OPTION")}
	target := words[on+1]
	if target == "FUNCTION" || target == "PROCEDURE" {
		g.routine, target = target, words[on+2]
	}
	g.schema, g.name = cutTarget(target)
	depth, right := 0, ""
	for _, w := range words[1:on] {
		switch {
		case w == "(":
			depth++
		case w == ")":
			depth--
		case depth > 0:
		case w == ",":
			g.rights, right = append(g.rights, right), ""
		default:
			right = strings.TrimSpace(right + " " + strings.ToUpper(w))
		}
	}
	g.rights = append(g.rights, right)
	return g
}

// covers reports whether a grant covers a whole database, by its name or by *.*.
func (g grant) covers(database string) bool {
	if g.routine != "" || g.name != "*" {
		return false
	}
	return g.schema == "*" || g.schema == database || unescapePattern(g.schema) == database
}

// unescapePattern returns the name in a pattern without wildcards.
func unescapePattern(pattern string) string {
	return strings.NewReplacer(`\_`, "_", `\%`, "%").Replace(pattern)
}

// has reports whether an account has a right on a database, or everywhere.
func (r *rights) has(right, database string) bool {
	return slices.ContainsFunc(r.all, func(g grant) bool {
		all := slices.Contains(g.rights, "ALL PRIVILEGES") || slices.Contains(g.rights, "ALL")
		return g.covers(database) && (slices.Contains(g.rights, right) || all)
	})
}

// mayGrant reports whether it may give its rights on a database to others.
func (r *rights) mayGrant(database string) bool {
	return slices.ContainsFunc(r.all, func(g grant) bool { return g.covers(database) && g.option })
}

// mayMakeAccounts notes that a change needs the right to make and change accounts.
func (r *rights) mayMakeAccounts(p *engine.Plan) {
	if len(p.Changes) > 0 && !r.roles && !r.has("CREATE USER", "*") {
		p.Lacks = append(p.Lacks, fmt.Sprintf("the account %s may not make or change accounts (CREATE USER)", r.whose))
	}
}

// planDatabase makes the database, with the server's own character set.
func planDatabase(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	p := &engine.Plan{}
	rows, err := ask(ctx, "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = "+text(w.Database))
	if len(rows) > 0 && w.Usual && w.Access == engine.AccessOwn {
		w.Access = engine.AccessWrite
	}
	if err != nil || len(rows) > 0 {
		return p, err
	}
	p.NewDatabase = true
	p.Changes = append(p.Changes, engine.Adding("there is no database "+w.Database, "CREATE DATABASE %s",
		quoteName(w.Database)))
	admin, err := readRights(ctx, ask, "")
	if err == nil && !admin.roles && !admin.has("CREATE", w.Database) {
		p.Lacks = append(p.Lacks, fmt.Sprintf("the account %s may not make the database (CREATE)", admin.whose))
	}
	return p, err
}

// planRights gives the account the rights that its access needs. Rights on a database are also those on all that will
// be in it.
func planRights(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	if w.Owner != "" && w.Owner != w.User {
		w = &engine.DesiredState{Facts: w.Facts, User: w.Owner, Host: w.Host, Database: w.Database, Access: engine.AccessOwn}
	}
	own, _, _, err := chooseAccount(ctx, ask, w)
	if err != nil {
		return nil, err
	}
	a, has := newAccount(w), &rights{}
	if own != nil {
		a = own.account
		if has, err = readRights(ctx, ask, a.at()); err != nil {
			return nil, err
		}
	}
	p := &engine.Plan{}
	if len(w.Tables) > 0 {
		err = planTables(ctx, ask, w, a, has, p)
	} else if lacking := has.missingRights(databaseRights[w.Access], w.Database); len(lacking) > 0 {
		name, err := patternFor(ctx, ask, w)
		if err != nil {
			return nil, err
		}
		p.Changes = append(p.Changes, engine.Adding(fmt.Sprintf("%s lacks rights on the database %s", a, w.Database),
			"GRANT %s ON %s.* TO %s", strings.Join(lacking, ", "), quoteName(name), a.at()))
	}
	if err != nil || len(p.Changes) == 0 {
		return p, err
	}
	admin, err := readRights(ctx, ask, "")
	if err == nil && !admin.roles && !admin.mayGrant(w.Database) {
		p.Lacks = append(p.Lacks, fmt.Sprintf("the account %s may not give rights on the database %s (GRANT OPTION)",
			admin.whose, w.Database))
	}
	return p, err
}

// missingRights are those of some rights that an account does not have.
func (r *rights) missingRights(wanted []string, database string) (all []string) {
	for _, right := range wanted {
		if !r.has(right, database) {
			all = append(all, right)
		}
	}
	return all
}

// patternFor is a database's name in GRANT's form: a pattern, except where the server takes no patterns (MySQL
// reference manual, "partial_revokes").
func patternFor(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (string, error) {
	rows, err := ask(ctx, "SHOW VARIABLES LIKE 'partial_revokes'")
	if err != nil || len(rows) > 0 && strings.EqualFold(rows[0][1], "ON") {
		return w.Database, err
	}
	return strings.NewReplacer("_", `\_`, "%", `\%`).Replace(w.Database), nil
}

// planTables gives rights on some tables.
func planTables(
	ctx context.Context, ask engine.Ask, w *engine.DesiredState, a account, has *rights, p *engine.Plan,
) error {
	for _, word := range w.Tables {
		schema, name, err := findTable(ctx, ask, w, word)
		if err != nil {
			return err
		}
		var lacking []string
		for _, right := range tableRights[w.Access] {
			on := slices.ContainsFunc(has.all, func(g grant) bool {
				return g.routine == "" && g.schema == schema && g.name == name &&
					(slices.Contains(g.rights, right) || slices.Contains(g.rights, "ALL PRIVILEGES"))
			})
			if !on && !has.has(right, schema) {
				lacking = append(lacking, right)
			}
		}
		if len(lacking) > 0 {
			p.Changes = append(p.Changes, engine.Adding(fmt.Sprintf("%s lacks rights on the table %s", a, name),
				"GRANT %s ON %s.%s TO %s", strings.Join(lacking, ", "), quoteName(schema), quoteName(name), a.at()))
		}
	}
	return nil
}

// findTable looks a table of the database up by "table" or "database.table".
func findTable(
	ctx context.Context, ask engine.Ask, w *engine.DesiredState, word string,
) (schema, name string, err error) {
	schema, name, both := engine.CutName(word, '`')
	if !both {
		schema, name = w.Database, word
	}
	schema, _ = engine.Unquote(schema, '`')
	name, _ = engine.Unquote(name, '`')
	rows, err := ask(ctx, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = "+text(schema)+
		" LIMIT 10000")
	if err != nil {
		return "", "", err
	}
	var all []string
	for _, row := range rows {
		all = append(all, row[0])
	}
	if !slices.Contains(all, name) {
		return "", "", &engine.NameError{What: "there is no table " + word, Near: nearest.Name(name, all)}
	}
	return schema, name, nil
}

// planRevoke takes the account's rights in the database away. Those on *.* stay, and a note says so.
func planRevoke(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	own, _, _, err := chooseAccount(ctx, ask, w)
	if err != nil {
		return nil, err
	}
	if own == nil {
		return noAccount(w), nil
	}
	has, err := readRights(ctx, ask, own.at())
	if err != nil {
		return nil, err
	}
	p := &engine.Plan{}
	take := func(g grant, what, target string) {
		rights := "ALL PRIVILEGES"
		if g.routine != "" {
			target = g.routine + " " + target
		}
		if g.option {
			rights = "GRANT OPTION"
			c := engine.Revoking(fmt.Sprintf("%s may give others rights on %s", own.account, what),
				"REVOKE %s ON %s FROM %s", rights,
				target, own.at())
			p.Changes = append(p.Changes, c)
			rights = "ALL PRIVILEGES"
		}
		c := engine.Revoking(fmt.Sprintf("%s has rights on %s", own.account, what), "REVOKE %s ON %s FROM %s", rights,
			target, own.at())
		p.Changes = append(p.Changes, c)
	}
	for _, g := range has.all {
		wanted := len(w.Tables) == 0 || slices.Contains(w.Tables, g.name) || slices.Contains(w.Tables, g.schema+"."+g.name)
		switch {
		case g.schema == "*" && !(len(g.rights) == 1 && g.rights[0] == "USAGE"):
			p.Notes = append(p.Notes, fmt.Sprintf("%s has rights on every database, and keeps them: %s", own.account,
				strings.ToLower(strings.Join(g.rights, ", "))))
		case g.name == "*" && g.covers(w.Database) && g.schema != "*":
			if len(w.Tables) == 0 {
				take(g, "the database "+w.Database, quoteName(g.schema)+".*")
			} else {
				p.Notes = append(p.Notes, fmt.Sprintf("%s has rights on all tables of %s, and keeps them", own.account,
					w.Database))
			}
		case g.name != "*" && g.schema == w.Database && wanted:
			take(g, g.name, quoteName(g.schema)+"."+quoteName(g.name))
		}
	}
	if has.roles {
		p.Notes = append(p.Notes, own.String()+" also has the rights of roles, and keeps them")
	}
	return p, nil
}

// planDropAccount drops the account that the profile logs in as. Those of its name for other hosts stay.
func planDropAccount(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	own, others, _, err := chooseAccount(ctx, ask, w)
	if err != nil {
		return nil, err
	}
	if own == nil {
		return noAccount(w), nil
	}
	admin, err := readRights(ctx, ask, "")
	if err != nil {
		return nil, err
	}
	if admin.whose == own.String() {
		return nil, &engine.NameError{What: fmt.Sprintf("the account %s is the administrator's own", own.account)}
	}
	p := &engine.Plan{}
	for _, o := range others {
		p.Notes = append(p.Notes, fmt.Sprintf("the account %s stays", o))
	}
	rows, err := ask(ctx, "SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE USER = "+text(w.User))
	if err == nil && len(rows) == 1 && rows[0][0] != "0" {
		p.Notes = append(p.Notes, fmt.Sprintf("%s is connected (%s), and stays so until it leaves", w.User, rows[0][0]))
	}
	definer := text(own.String())
	rows, err = ask(ctx, "SELECT CONCAT('the view ', TABLE_SCHEMA, '.', TABLE_NAME) FROM information_schema.VIEWS WHERE "+
		"DEFINER = "+definer+" UNION ALL SELECT CONCAT('the ', LOWER(ROUTINE_TYPE), ' ', ROUTINE_SCHEMA, '.', ROUTINE_NAME) "+
		"FROM information_schema.ROUTINES WHERE DEFINER = "+definer+" UNION ALL "+
		"SELECT CONCAT('the trigger ', TRIGGER_SCHEMA, "+
		"'.', TRIGGER_NAME) FROM information_schema.TRIGGERS WHERE DEFINER = "+definer+" LIMIT 20")
	if err == nil {
		for _, row := range rows {
			p.Notes = append(p.Notes, row[0]+" runs with its rights, and fails without it")
		}
	}
	c := engine.Revoking(fmt.Sprintf("the account %s exists", own.account), "DROP USER %s", own.at())
	p.Changes = append(p.Changes, c)
	admin.mayMakeAccounts(p)
	return p, nil
}

// planDropDatabase drops a database. It notes who uses it and what it holds.
func planDropDatabase(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	rows, err := ask(ctx, "SELECT COUNT(*), COALESCE(ROUND(SUM(DATA_LENGTH + INDEX_LENGTH) / 1024), 0) FROM "+
		"information_schema.TABLES WHERE TABLE_SCHEMA = "+text(w.Database))
	if err != nil || len(rows) == 0 {
		return nil, engine.OrNoRow(err)
	}
	there, err := ask(ctx, "SELECT 1 FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = "+text(w.Database))
	if err != nil {
		return nil, err
	}
	p := &engine.Plan{}
	if len(there) == 0 {
		p.Missing = append(p.Missing, "the database "+w.Database)
		return p, nil
	}
	p.Notes = append(p.Notes, fmt.Sprintf("the database %s has %s tables and views, %s KiB", w.Database, rows[0][0],
		rows[0][1]))
	rows, err = ask(ctx, "SELECT DISTINCT CONCAT(USER, ' from ', SUBSTRING_INDEX(HOST, ':', 1)) FROM "+
		"information_schema.PROCESSLIST WHERE DB = "+text(w.Database)+" LIMIT 20")
	if err == nil {
		for _, row := range rows {
			p.Notes = append(p.Notes, "connected to it: "+row[0])
		}
	}
	c := engine.Revoking("the database "+w.Database+" exists", "DROP DATABASE %s", quoteName(w.Database))
	p.Changes = append(p.Changes, c)
	admin, err := readRights(ctx, ask, "")
	if err == nil && !admin.roles && !admin.has("DROP", w.Database) {
		p.Lacks = append(p.Lacks, fmt.Sprintf("the account %s may not drop the database (DROP)", admin.whose))
	}
	return p, err
}
