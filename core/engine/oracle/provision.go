package oracle

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/engine"
)

// provision is what an account with the role DBA does for another one: it unlocks it, and gives it rights on tables
// (Oracle Database SQL Language Reference, "ALTER USER", "GRANT").
var provision = &engine.Provision{
	Unlock: planUnlock,
	Rights: planRights,
}

// tableRights are those of each access on a table.
var tableRights = map[engine.Access][]string{
	engine.AccessOwn:   {"SELECT", "INSERT", "UPDATE", "DELETE", "ALTER", "INDEX", "REFERENCES"},
	engine.AccessWrite: {"SELECT", "INSERT", "UPDATE", "DELETE"},
	engine.AccessRead:  {"SELECT"},
}

// planUnlock unlocks an account, and gives it the right to log in.
func planUnlock(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	rows, err := ask(ctx, "SELECT account_status FROM dba_users WHERE username = "+literal(foldName(w.User)))
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return &engine.Plan{Missing: []string{"the account " + w.User}}, nil
	}
	p, name := &engine.Plan{}, identifier(w.User)
	if strings.Contains(rows[0][0], "LOCKED") {
		p.Changes = append(p.Changes, engine.Altering(fmt.Sprintf("the account %s is locked", w.User),
			"ALTER USER %s ACCOUNT UNLOCK", name))
	}
	rows, err = ask(ctx, "SELECT COUNT(*) FROM (SELECT grantee FROM dba_sys_privs WHERE privilege = 'CREATE SESSION' AND "+
		"grantee IN (SELECT granted_role FROM dba_role_privs START WITH grantee = "+literal(foldName(w.User))+
		" CONNECT BY PRIOR granted_role = grantee UNION ALL SELECT "+literal(foldName(w.User))+" FROM dual))")
	if err != nil {
		return nil, err
	}
	if len(rows) == 1 && rows[0][0] == "0" {
		p.Changes = append(p.Changes, engine.Adding(fmt.Sprintf("the account %s may not log in", w.User),
			"GRANT CREATE SESSION TO %s", name))
	}
	return p, nil
}

// planRights gives an account rights on tables. A right on all present and future tables exists only for every schema
// at once, which we never give.
func planRights(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	if len(w.Tables) == 0 {
		return nil,
			&engine.NameError{What: "name the tables with -on OWNER.TABLE: this engine gives no rights on a whole schema"}
	}
	p := &engine.Plan{}
	for _, word := range w.Tables {
		owner, name, both := engine.CutName(word, '"')
		if !both {
			return nil, &engine.NameError{What: fmt.Sprintf("the table %s needs its owner: OWNER.%s", word, word)}
		}
		owner, name = foldName(owner), foldName(name)
		rows, err := ask(ctx, "SELECT COUNT(*) FROM all_objects WHERE object_type IN ('TABLE','VIEW') AND object_name = "+
			literal(name)+" AND owner = "+literal(owner))
		if err != nil {
			return nil, err
		}
		if len(rows) == 0 || rows[0][0] == "0" {
			return nil, &engine.NameError{What: "there is no table " + word}
		}
		rows, err = ask(ctx, "SELECT privilege FROM dba_tab_privs WHERE grantee = "+literal(foldName(w.User))+" AND owner = "+
			literal(owner)+" AND table_name = "+literal(name))
		if err != nil {
			return nil, err
		}
		var lacking []string
		for _, right := range tableRights[w.Access] {
			has := slices.ContainsFunc(rows, func(row []string) bool { return row[0] == right })
			if !has && owner != foldName(w.User) {
				lacking = append(lacking, right)
			}
		}
		if len(lacking) > 0 {
			p.Changes = append(p.Changes, engine.Adding(fmt.Sprintf("%s lacks rights on the table %s", w.User, word),
				"GRANT %s ON %s.%s TO %s", strings.Join(lacking, ", "), statements.Name(owner), statements.Name(name),
				identifier(w.User)))
		}
	}
	return p, nil
}
