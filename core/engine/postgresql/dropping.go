package postgresql

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/engine"
)

// grantedHere are the kinds of things of this database on which a role itself was granted rights: not through PUBLIC,
// not through a role that it is a member of, and not as their owner.
const grantedHere = `SELECT DISTINCT k, n FROM (
 SELECT 'SCHEMA' k, n.nspname n, n.nspowner o, n.nspacl acl FROM pg_namespace n WHERE ` + ownSchemas + `
 UNION ALL SELECT CASE c.relkind WHEN 'S' THEN 'SEQUENCES' ELSE 'TABLES' END, n.nspname, c.relowner,
	c.relacl FROM pg_class c
 JOIN pg_namespace n ON n.oid = c.relnamespace WHERE ` + ownSchemas + `
 UNION ALL SELECT 'FUNCTIONS', n.nspname, p.proowner,
	p.proacl FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
 WHERE ` + ownSchemas + `
 UNION ALL SELECT 'DATABASE', datname, datdba, datacl FROM pg_database WHERE datname = current_database()
 ) all_things CROSS JOIN LATERAL aclexplode(acl) a JOIN pg_roles g ON g.oid = a.grantee
 WHERE g.rolname = $1 AND o <> g.oid ORDER BY 1, 2`

// planRevoke takes the account's rights in the database away. Rights that it has as an owner, as a member of another
// role or through PUBLIC stay, and a note says so.
func planRevoke(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	if ask == nil {
		return &engine.Plan{Missing: []string{"the database " + w.Database}}, nil
	}
	r, err := readRole(ctx, ask, w.User)
	if err != nil {
		return nil, err
	}
	if !r.exists {
		return noRole(w.User), nil
	}
	p := &engine.Plan{}
	take := func(why, text string, args ...any) {
		c := engine.Revoking(why, text, args...)
		c.In = w.Database
		p.Changes = append(p.Changes, c)
	}
	from := statements.Name(w.User)
	if len(w.Tables) > 0 {
		for _, word := range w.Tables {
			t, err := findTable(ctx, ask, w, word)
			if err != nil {
				return nil, err
			}
			if t.rights {
				take(fmt.Sprintf("%s has rights on the table %s.%s", w.User, t.schema, t.name), "REVOKE ALL ON %s.%s FROM %s",
					statements.Name(t.schema), statements.Name(t.name), from)
			}
		}
		return p, noteOtherRights(ctx, ask, w, r, p)
	}
	rows, err := ask(ctx, grantedHere, w.User)
	if err != nil {
		return nil, err
	}
	schemas := make(map[string][]string)
	for _, row := range rows {
		schemas[row[0]] = append(schemas[row[0]], row[1])
	}
	for _, kind := range []string{"TABLES", "SEQUENCES", "FUNCTIONS"} {
		if in := schemas[kind]; len(in) > 0 {
			take(fmt.Sprintf("%s has rights on %s of the %s", w.User, strings.ToLower(kind), inWords("schema", in)),
				"REVOKE ALL ON ALL %s IN SCHEMA %s FROM %s", kind, nameList(in), from)
		}
	}
	if in := schemas["SCHEMA"]; len(in) > 0 {
		take(fmt.Sprintf("%s has rights on the %s", w.User, inWords("schema", in)), "REVOKE ALL ON SCHEMA %s FROM %s",
			nameList(in), from)
	}
	if in := schemas["DATABASE"]; len(in) > 0 {
		take(fmt.Sprintf("%s has rights on the database %s", w.User, in[0]), "REVOKE ALL ON DATABASE %s FROM %s",
			nameList(in), from)
	}
	if err := revokeFuture(ctx, ask, w, take); err != nil {
		return nil, err
	}
	return p, noteOtherRights(ctx, ask, w, r, p)
}

// revokeFuture revokes the rights that roles give on what they will make.
func revokeFuture(
	ctx context.Context, ask engine.Ask, w *engine.DesiredState, take func(string, string, ...any),
) error {
	rows, err := ask(ctx, `SELECT DISTINCT r.rolname, d.defaclobjtype FROM pg_default_acl d
 JOIN pg_roles r ON r.oid = d.defaclrole CROSS JOIN LATERAL aclexplode(d.defaclacl) a
 JOIN pg_roles g ON g.oid = a.grantee
 WHERE d.defaclnamespace = 0 AND g.rolname = $1 AND d.defaclrole <> g.oid ORDER BY 1, 2`,
		w.User)
	if err != nil {
		return err
	}
	for _, code := range []string{"r", "S", "f", "n"} {
		var makers []string
		for _, row := range rows {
			if row[1] == code {
				makers = append(makers, row[0])
			}
		}
		plural := "SCHEMAS"
		if i := slices.IndexFunc(inSchemas, func(t objectKind) bool { return t.code == code }); i >= 0 {
			plural = inSchemas[i].plural
		}
		if len(makers) > 0 {
			take(fmt.Sprintf("%s has rights on %s that %s will make", w.User, strings.ToLower(plural),
				strings.Join(makers, ", ")), "ALTER DEFAULT PRIVILEGES FOR ROLE %s REVOKE ALL ON %s FROM %s",
				nameList(makers), plural, statements.Name(w.User))
		}
	}
	return nil
}

// noteOtherRights notes the rights that no REVOKE takes away.
func noteOtherRights(ctx context.Context, ask engine.Ask, w *engine.DesiredState, r role, p *engine.Plan) error {
	if r.super {
		p.Notes = append(p.Notes, w.User+" is a superuser: it may do everything whatever is revoked")
	}
	rows, err := ask(ctx, `SELECT 'the database ' || datname::text FROM pg_database JOIN pg_roles r ON r.oid = datdba
 WHERE datname = current_database() AND r.rolname = $1
 UNION ALL SELECT 'the role ' || g.rolname::text FROM pg_auth_members m JOIN pg_roles r ON r.oid = m.member
 JOIN pg_roles g ON g.oid = m.roleid WHERE r.rolname = $1`, w.User)
	for _, row := range rows {
		how := "owns "
		if strings.HasPrefix(row[0], "the role ") {
			how = "is a member of "
		}
		p.Notes = append(p.Notes, w.User+" "+how+row[0]+", and keeps the rights of that")
	}
	return err
}

// holdings are the databases in which a role owns something or was granted rights. A row without a name is for what
// all databases share: the databases themselves.
const holdings = `SELECT coalesce(d.datname, ''), count(*) FILTER (WHERE s.deptype = 'o'), count(*) FROM pg_shdepend s
 JOIN pg_roles r ON r.oid = s.refobjid LEFT JOIN pg_database d ON d.oid = s.dbid
 WHERE s.refclassid = 'pg_authid'::regclass AND r.rolname = $1 GROUP BY 1 ORDER BY 1`

// planDropAccount drops a role. In each database where it owns something or has rights, what it owns goes to the
// administrator and its rights are revoked: Plan.Also names these databases, and planDisown plans for each.
func planDropAccount(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	admin, r, err := administratorAnd(ctx, ask, readRole, w.User)
	if err != nil {
		return nil, err
	}
	if !r.exists {
		return noRole(w.User), nil
	}
	p := &engine.Plan{}
	if w.User == admin.name {
		return nil, &engine.NameError{What: fmt.Sprintf("the role %s is the administrator's own", w.User)}
	}
	rows, err := ask(ctx, holdings, w.User)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		switch {
		case row[0] == "":
			shared, err := ask(ctx, "SELECT datname FROM pg_database JOIN pg_roles r ON r.oid = datdba WHERE "+
				"r.rolname = $1 AND NOT (datname = $2 AND $3) ORDER BY 1", w.User, w.Database,
				strconv.FormatBool(w.DropsDatabase))
			if err != nil {
				return nil, err
			}
			for _, d := range columnOf(shared) {
				c := engine.Altering(fmt.Sprintf("the role %s owns the database %s", w.User, d), "ALTER DATABASE %s OWNER TO %s",
					statements.Name(d), statements.Name(admin.name))
				p.Changes = append(p.Changes, c)
			}
		case row[0] != w.Database:
			p.Also = append(p.Also, row[0])
			p.Notes = append(p.Notes, fmt.Sprintf("%s owns %s things in the database %s, and has rights on others", w.User,
				row[1], row[0]))
		default:
			p.Also = append(p.Also, row[0])
		}
	}
	sessions, err := ask(ctx, "SELECT count(*) FROM pg_stat_activity WHERE usename = $1", w.User)
	if err == nil && len(sessions) == 1 && sessions[0][0] != "0" {
		p.Notes = append(p.Notes, fmt.Sprintf("%s is connected: %s", w.User, countNoun(sessions[0][0], "session")))
	}
	c := engine.Revoking(fmt.Sprintf("the role %s exists", w.User), "DROP ROLE %s", statements.Name(w.User))
	p.Changes = append(p.Changes, c)
	admin.mayMakeRoles(p)
	return p, nil
}

// countNoun returns a number with its noun.
func countNoun(n, noun string) string {
	if n != "1" {
		noun += "s"
	}
	return n + " " + noun
}

// planDisown gives what a role owns in a database to the administrator, and revokes its rights there.
func planDisown(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	if ask == nil {
		return &engine.Plan{}, nil
	}
	rows, err := ask(ctx,
		"SELECT count(*) FILTER (WHERE s.deptype = 'o'), count(*) FROM pg_shdepend s JOIN pg_roles r ON "+
			"r.oid = s.refobjid JOIN pg_database d ON d.oid = s.dbid WHERE s.refclassid = 'pg_authid'::regclass AND "+
			"r.rolname = $1 AND d.datname = current_database()", w.User)
	if err != nil || len(rows) != 1 {
		return nil, engine.OrNoRow(err)
	}
	p, name := &engine.Plan{}, statements.Name(w.User)
	add := func(c engine.Change) {
		c.In = w.Database
		p.Changes = append(p.Changes, c)
	}
	if rows[0][0] != "0" {
		add(engine.Altering(fmt.Sprintf("%s owns %s in the database %s", w.User, countNoun(rows[0][0], "thing"), w.Database),
			"REASSIGN OWNED BY %s TO %s", name, statements.Name(w.Facts.User)))
	}
	if rows[0][1] != "0" { // REASSIGN leaves the rights; DROP OWNED drops only them once nothing is owned
		c := engine.Revoking(fmt.Sprintf("%s has rights in the database %s", w.User, w.Database), "DROP OWNED BY %s", name)
		add(c)
	}
	return p, nil
}

// planDropDatabase drops a database. It notes who is connected and what the database holds.
func planDropDatabase(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	admin, d, err := administratorAnd(ctx, ask, readDatabase, w.Database)
	if err != nil {
		return nil, err
	}
	if !d.exists {
		return &engine.Plan{Missing: []string{"the database " + w.Database}}, nil
	}
	p := &engine.Plan{}
	rows, err := ask(ctx, "SELECT pg_size_pretty(pg_database_size(oid)) FROM pg_database WHERE datname = $1", w.Database)
	if err == nil && len(rows) == 1 {
		p.Notes = append(p.Notes, fmt.Sprintf("the database %s has %s, and belongs to %s", w.Database, rows[0][0], d.owner))
	}
	rows, err = ask(ctx,
		"SELECT coalesce(usename::text, '(a worker)') || coalesce(' from ' || host(client_addr), ' over a socket') "+
			"|| coalesce(', ' || nullif(application_name, ''), '') FROM pg_stat_activity WHERE datname = $1 AND "+
			"pid <> pg_backend_pid() ORDER BY 1 LIMIT 20", w.Database)
	if err != nil {
		return nil, err
	}
	for _, who := range columnOf(rows) {
		p.Notes = append(p.Notes, "connected to it: "+who)
	}
	version, err := ask(ctx, "SELECT current_setting('server_version_num')::int >= 130000")
	if err != nil || len(version) != 1 {
		return nil, engine.OrNoRow(err)
	}
	text := "DROP DATABASE " + statements.Name(w.Database)
	if len(rows) > 0 {
		if version[0][0] == yes {
			text += " WITH (FORCE)"
		} else {
			c := engine.Revoking(fmt.Sprintf("%s would keep it from being dropped",
				countNoun(fmt.Sprint(len(rows)), "connection")),
				"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = %s AND pid <> pg_backend_pid()",
				literal(w.Database))
			p.Changes = append(p.Changes, c)
		}
	}
	c := engine.Revoking("the database "+w.Database+" exists", "%s", text)
	p.Changes = append(p.Changes, c)
	admin.mustOwn(ctx, ask, p, "the database "+w.Database, d.owner)
	return p, nil
}

// literal is a text in quotes, whatever standard_conforming_strings says.
func literal(s string) string {
	if !strings.Contains(s, `\`) {
		return "'" + strings.ReplaceAll(s, "'", "''") + "'"
	}
	return "E'" + strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(s) + "'"
}
