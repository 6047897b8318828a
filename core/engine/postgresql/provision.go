package postgresql

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/secret"
)

// provision is how a superuser, or a role with CREATEROLE and CREATEDB, makes what a profile needs (PostgreSQL
// documentation, "Database Roles", "Privileges", "ALTER DEFAULT PRIVILEGES").
var provision = &engine.Provision{
	Apart:        true,
	Around:       []string{"postgres", "template1"},
	Before:       "SET search_path TO pg_catalog",
	Account:      planAccount,
	Database:     planDatabase,
	Rights:       planRights,
	Revoke:       planRevoke,
	Unlock:       planUnlock,
	Expire:       planExpire,
	DropAccount:  planDropAccount,
	Disown:       planDisown,
	DropDatabase: planDropDatabase,
	Password:     planPassword,
	Reset:        planPassword,
}

// role is what a plan needs to know of a role before it changes it.
type role struct {
	exists, login, super, expired bool
	forever                       bool // its password never ends
	until                         string
	limit                         string // of connections; "-1" is none
}

// yes is the text of a true value.
const yes = "t"

// administrator is what the role of the session may do.
type administrator struct {
	name                             string
	super, makesRoles, makesDatabase bool
}

func readAdministrator(ctx context.Context, ask engine.Ask) (administrator, error) {
	rows, err := ask(ctx,
		"SELECT rolname, rolsuper, rolcreaterole, rolcreatedb FROM pg_roles WHERE rolname = current_user")
	if err != nil || len(rows) != 1 {
		return administrator{}, engine.OrNoRow(err)
	}
	r := rows[0]
	return administrator{r[0], r[1] == yes, r[1] == yes || r[2] == yes, r[1] == yes || r[3] == yes}, nil
}

// administratorAnd reads the rights of the session's role, and what the plan is about.
func administratorAnd[T any](ctx context.Context, ask engine.Ask,
	read func(context.Context, engine.Ask, string) (T, error), name string) (administrator, T, error) {
	admin, err := readAdministrator(ctx, ask)
	if err != nil {
		var none T
		return admin, none, err
	}
	it, err := read(ctx, ask, name)
	return admin, it, err
}

func readRole(ctx context.Context, ask engine.Ask, name string) (role, error) {
	rows, err := ask(ctx, "SELECT rolcanlogin, rolsuper, coalesce(rolvaliduntil <= now(), false), "+
		"coalesce(rolvaliduntil = 'infinity', true), coalesce(rolvaliduntil::text, ''), rolconnlimit FROM pg_roles "+
		"WHERE rolname = $1", name)
	if err != nil || len(rows) == 0 {
		return role{}, err
	}
	r := rows[0]
	return role{
		exists:  true,
		login:   r[0] == yes,
		super:   r[1] == yes,
		expired: r[2] == yes,
		forever: r[3] == yes,
		until:   r[4],
		limit:   r[5],
	}, nil
}

// noRole is the plan to change a role that does not exist.
func noRole(name string) *engine.Plan {
	return &engine.Plan{Missing: []string{"the role " + name}}
}

// mayMakeRoles notes that a change needs the right to make and change roles.
func (a administrator) mayMakeRoles(p *engine.Plan) {
	if !a.makesRoles && len(p.Changes) > 0 {
		p.Lacks = append(p.Lacks, fmt.Sprintf("the role %s may not make or change roles (CREATEROLE)", a.name))
	}
}

// planAccount makes the role, lets it log in, and sets its password where that is another.
func planAccount(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	admin, r, err := administratorAnd(ctx, ask, readRole, w.User)
	if err != nil {
		return nil, err
	}
	if err := tooLong("role", w.User); err != nil {
		return nil, err
	}
	p, name := &engine.Plan{}, statements.Name(w.User)
	switch {
	case !r.exists:
		c := engine.Change{Why: "there is no role " + w.User, Text: "CREATE ROLE " + name + " LOGIN"}
		c.Shown = c.Text
		if w.Password.Present() {
			c.Text, c.Shown = withVerifier(c.Text, w.Password)
		}
		p.Changes = append(p.Changes, c)
	default:
		p.Changes = append(p.Changes, allowLogin(r, w.User)...)
		c, err := planOwnPassword(ctx, ask, w, admin)
		if err != nil {
			return nil, err
		}
		p.Changes = append(p.Changes, c...)
	}
	if err := planQuiet(ctx, ask, w, p); err != nil {
		return nil, err
	}
	admin.mayMakeRoles(p)
	if r.super && !admin.super && len(p.Changes) > 0 {
		p.Lacks = append(p.Lacks, fmt.Sprintf("the role %s is a superuser, and %s is none", w.User, admin.name))
	}
	return p, nil
}

// planQuiet makes the sessions of a role read-only where the plan wants that.
func planQuiet(ctx context.Context, ask engine.Ask, w *engine.DesiredState, p *engine.Plan) error {
	if !w.Quiet {
		return nil
	}
	rows, err := ask(ctx,
		"SELECT 1 FROM pg_db_role_setting s JOIN pg_roles r ON r.oid = s.setrole WHERE s.setdatabase = 0 "+
			"AND r.rolname = $1 AND 'default_transaction_read_only=on' = ANY (s.setconfig)", w.User)
	if err == nil && len(rows) == 0 {
		p.Changes = append(p.Changes, engine.Adding("the profile expects sessions that are read-only",
			"ALTER ROLE %s SET default_transaction_read_only = on", statements.Name(w.User)))
	}
	return err
}

// withVerifier adds a password's verifier to a statement, and a mark for it to the text that is shown.
func withVerifier(text string, v secret.Value) (whole, shown string) {
	return text + " PASSWORD '" + scramVerifier(v) + "'", text + " PASSWORD '" + secret.Hidden + "'"
}

// allowLogin are the changes that let a role log in.
func allowLogin(r role, user string) (all []engine.Change) {
	name := statements.Name(user)
	if !r.login {
		all = append(all, engine.Altering(fmt.Sprintf("the role %s may not log in", user), "ALTER ROLE %s LOGIN", name))
	}
	if r.limit == "0" {
		all = append(all, engine.Altering(fmt.Sprintf("the role %s may have no connection", user),
			"ALTER ROLE %s CONNECTION LIMIT -1", name))
	}
	if r.expired {
		all = append(all, engine.Altering(fmt.Sprintf("the password of %s expired on %s", user, r.until),
			"ALTER ROLE %s VALID UNTIL 'infinity'", name))
	}
	return all
}

// planOwnPassword sets the password of an existing role where it differs, or is stored for MD5 on a server that
// stores new ones for SCRAM.
func planOwnPassword(ctx context.Context, ask engine.Ask, w *engine.DesiredState, admin administrator) ([]engine.Change,
	error) {
	if !w.Password.Present() {
		return nil, nil
	}
	set := func(why string) []engine.Change {
		c := engine.Change{Why: fmt.Sprintf(why, w.User), Alters: true}
		c.Text, c.Shown = withVerifier("ALTER ROLE "+statements.Name(w.User), w.Password)
		return []engine.Change{c}
	}
	if !admin.super {
		if w.LogsIn == nil {
			return nil, nil
		}
		if in, err := w.LogsIn(ctx); in || err != nil {
			return nil, err
		}
		return set("the role %s does not get in with the profile's password"), nil
	}
	rows, err := ask(ctx, "SELECT coalesce(rolpassword, ''), current_setting('password_encryption') FROM pg_authid "+
		"WHERE rolname = $1", w.User)
	if err != nil || len(rows) != 1 {
		return nil, engine.OrNoRow(err)
	}
	switch stored := rows[0][0]; {
	case stored == "":
		return set("the role %s has no password"), nil
	case !keeps(stored, w.User, w.Password):
		return set("the role %s has another password than the profile"), nil
	case keptMethod(stored) == methodMD5 && strings.HasPrefix(rows[0][1], "scram"):
		return set("the password of %s is kept for MD5, and this server's rules may want SCRAM"), nil
	}
	return nil, nil
}

// planPassword changes a password: the role itself may, and an administrator.
func planPassword(_ context.Context, _ engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	c := engine.Change{Why: "a new password for " + w.User, Alters: true}
	c.Text, c.Shown = withVerifier("ALTER ROLE "+statements.Name(w.User), w.Password)
	return &engine.Plan{Changes: []engine.Change{c}}, nil
}

// planUnlock lets a role log in again. PostgreSQL has no account lock: what is nearest is a role without LOGIN, with
// a connection limit of 0, or with an expired password.
func planUnlock(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	return planRole(ctx, ask, w, func(r role) []engine.Change { return allowLogin(r, w.User) })
}

// planExpire sets when the password expires.
func planExpire(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	return planRole(ctx, ask, w, func(r role) []engine.Change {
		name, until := statements.Name(w.User), "infinity"
		if w.Until.IsZero() {
			if r.forever {
				return nil
			}
		} else {
			until = w.Until.UTC().Format("2006-01-02 15:04:05+00")
			if t, err := time.Parse("2006-01-02 15:04:05-07", r.until); err == nil && t.Equal(w.Until) {
				return nil
			}
		}
		now := "ends on " + r.until
		if r.forever {
			now = "has no end"
		}
		return []engine.Change{engine.Altering(fmt.Sprintf("the password of %s %s", w.User, now),
			"ALTER ROLE %s VALID UNTIL '%s'", name, until)}
	})
}

// planRole plans the change of an existing role.
func planRole(
	ctx context.Context, ask engine.Ask, w *engine.DesiredState, change func(role) []engine.Change,
) (*engine.Plan, error) {
	admin, r, err := administratorAnd(ctx, ask, readRole, w.User)
	if err != nil {
		return nil, err
	}
	if !r.exists {
		return noRole(w.User), nil
	}
	p := &engine.Plan{Changes: change(r)}
	admin.mayMakeRoles(p)
	return p, nil
}

// planDatabase makes the database, gives it to the account where that is to own it, and lets the account connect.
func planDatabase(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	admin, d, err := administratorAnd(ctx, ask, readDatabase, w.Database)
	if err != nil {
		return nil, err
	}
	if d.exists && w.Usual && w.Access == engine.AccessOwn {
		if owned, err := isMember(ctx, ask, w.User, d.owner); err != nil {
			return nil, err
		} else if !owned {
			w.Access = engine.AccessWrite
		}
	}
	owner := w.Owner
	if owner == "" && w.Access == engine.AccessOwn {
		owner = w.User
	}
	if err := tooLong("database", w.Database); err != nil {
		return nil, err
	}
	p, name := &engine.Plan{}, statements.Name(w.Database)
	join := func(why string) error { return admin.join(ctx, ask, p, owner, why) }
	switch {
	case !d.exists:
		p.NewDatabase = true
		if owner != "" && owner != admin.name {
			if err := join("only a member of %s can give it a database"); err != nil {
				return nil, err
			}
			p.Changes = append(p.Changes, engine.Adding("there is no database "+w.Database, "CREATE DATABASE %s OWNER %s", name,
				statements.Name(owner)))
		} else {
			p.Changes = append(p.Changes, engine.Adding("there is no database "+w.Database, "CREATE DATABASE %s", name))
		}
		if !admin.makesDatabase {
			p.Lacks = append(p.Lacks, fmt.Sprintf("the role %s may not make databases (CREATEDB)", admin.name))
		}
		return p, nil
	case owner != "" && owner != d.owner:
		if owned, err := isMember(ctx, ask, owner, d.owner); err != nil {
			return nil, err
		} else if !owned {
			if err := join("only a member of %s can give it a database"); err != nil {
				return nil, err
			}
			p.Changes = append(p.Changes, engine.Altering(fmt.Sprintf("the database %s belongs to %s", w.Database, d.owner),
				"ALTER DATABASE %s OWNER TO %s", name, statements.Name(owner)))
			admin.mustOwn(ctx, ask, p, "the database "+w.Database, d.owner)
		}
	}
	if !d.connects {
		p.Unseen = true
		p.Changes = append(p.Changes, engine.Altering(fmt.Sprintf("the database %s accepts no connection", w.Database),
			"ALTER DATABASE %s ALLOW_CONNECTIONS true", name))
	}
	if w.Access != "" && owner != w.User {
		if err := planConnect(ctx, ask, w, p); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// tooLong refuses a name that the server would cut (PostgreSQL documentation, "Identifiers and Key Words").
func tooLong(what, name string) error {
	const most = 63
	if len(name) > most {
		return &engine.NameError{What: fmt.Sprintf("the name of the %s has %d bytes; the server takes %d", what,
			len(name), most)}
	}
	return nil
}

// planConnect lets the account connect to an existing database.
func planConnect(ctx context.Context, ask engine.Ask, w *engine.DesiredState, p *engine.Plan) error {
	rows, err := ask(ctx, "SELECT has_database_privilege(coalesce((SELECT rolname FROM pg_roles WHERE rolname = $1), "+
		"'public'), $2, 'CONNECT')", w.User, w.Database)
	if err != nil || len(rows) != 1 {
		return engine.OrNoRow(err)
	}
	if rows[0][0] != yes {
		p.Changes = append(p.Changes, engine.Adding(fmt.Sprintf("%s may not connect to the database %s", w.User, w.Database),
			"GRANT CONNECT ON DATABASE %s TO %s", statements.Name(w.Database), statements.Name(w.User)))
	}
	return nil
}

// database is what a plan needs to know of a database before it changes it.
type database struct {
	exists, connects bool
	owner            string
}

func readDatabase(ctx context.Context, ask engine.Ask, name string) (database, error) {
	rows, err := ask(ctx, "SELECT pg_get_userbyid(datdba), datallowconn FROM pg_database WHERE datname = $1", name)
	if err != nil || len(rows) == 0 {
		return database{}, err
	}
	return database{exists: true, owner: rows[0][0], connects: rows[0][1] == yes}, nil
}

// isMember reports whether a role has the rights of another by membership. A role that does not exist has none.
func isMember(ctx context.Context, ask engine.Ask, name, of string) (bool, error) {
	rows, err := ask(ctx,
		"SELECT coalesce((SELECT pg_has_role(oid, $2::name, 'USAGE') FROM pg_roles WHERE rolname = $1), "+
			"false)", name, of)
	if err != nil || len(rows) != 1 {
		return false, engine.OrNoRow(err)
	}
	return rows[0][0] == yes, nil
}

// join makes the administrator a member of a role where only a member may give that role something.
func (a administrator) join(ctx context.Context, ask engine.Ask, p *engine.Plan, of, why string) error {
	if a.super || of == a.name {
		return nil
	}
	rows, err := ask(ctx, "SELECT current_setting('server_version_num')")
	if err != nil || len(rows) != 1 {
		return engine.OrNoRow(err)
	}
	right := "MEMBER" // since PostgreSQL 16 a member may or may not act as the role
	if version, _ := strconv.Atoi(rows[0][0]); version >= 160000 {
		right = "SET"
	}
	rows, err = ask(ctx, "SELECT coalesce((SELECT pg_has_role(current_user, oid, '"+right+"') FROM pg_roles WHERE "+
		"rolname = $1), false)", of)
	if err != nil || len(rows) != 1 {
		return engine.OrNoRow(err)
	}
	if rows[0][0] != yes {
		p.Changes = append(p.Changes, engine.Adding(fmt.Sprintf(why, of), "GRANT %s TO %s", statements.Name(of),
			statements.Name(a.name)))
	}
	return nil
}

// mustOwn notes that only the owner of something, or a superuser, can change it.
func (a administrator) mustOwn(ctx context.Context, ask engine.Ask, p *engine.Plan, what, owner string) {
	if a.super {
		return
	}
	if member, err := isMember(ctx, ask, a.name, owner); err == nil && !member {
		p.Lacks = append(p.Lacks, fmt.Sprintf("%s belongs to %s, and %s is neither a superuser nor a member of that role",
			what, owner, a.name))
	}
}
