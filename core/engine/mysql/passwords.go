package mysql

import (
	"context"
	"fmt"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/secret"
)

// planReset plans an administrator's change of a password. The old one can stay valid beside it: MySQL keeps two
// since 8.0.14, MariaDB has several ways to log in since 10.4.
func planReset(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	own, _, _, err := chooseAccount(ctx, ask, w)
	if err != nil {
		return nil, err
	}
	if own == nil {
		return noAccount(w), nil
	}
	plugin := own.plugin
	if plugin != nativePlugin && plugin != sha2Plugin {
		plugin = ""
	}
	c := engine.Change{Why: fmt.Sprintf("a new password for %s", own.account), Alters: true, Text: "ALTER USER " +
		own.at()}
	c.Shown = c.Text
	if err = identify(ctx, ask, &c, w, w.Password, plugin); err != nil {
		return nil, err
	}
	switch {
	case !w.KeepOld:
	case isMariaDB(w.Facts) && own.stored != "" && c.Clear == "":
		c.Text += " OR " + own.plugin + " USING " + text(own.stored)
		c.Shown += " OR " + own.plugin + " USING '" + secret.Hidden + "'"
	case !isMariaDB(w.Facts):
		c.Text, c.Shown = c.Text+" RETAIN CURRENT PASSWORD", c.Shown+" RETAIN CURRENT PASSWORD"
	default:
		return nil, &engine.NameError{What: fmt.Sprintf("the server keeps no second password for %s", own.account)}
	}
	p := &engine.Plan{Changes: []engine.Change{c}}
	admin, readErr := readRights(ctx, ask, "")
	if readErr == nil {
		admin.mayMakeAccounts(p)
	}
	return p, err
}

// planDropOld ends the old password that stayed valid beside a new one.
func planDropOld(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	own, _, _, err := chooseAccount(ctx, ask, w)
	if err != nil {
		return nil, err
	}
	if own == nil {
		return noAccount(w), nil
	}
	why := fmt.Sprintf("%s has an old password beside its new one", own.account)
	p := &engine.Plan{}
	if !isMariaDB(w.Facts) {
		rows, err := ask(ctx, "SELECT 1 FROM mysql.user WHERE User = "+text(w.User)+" AND Host = "+text(own.host)+
			" AND JSON_CONTAINS_PATH(User_attributes, 'one', '$.additional_password')")
		if err == nil && len(rows) > 0 {
			p.Changes = append(p.Changes, engine.Revoking(why, "ALTER USER %s DISCARD OLD PASSWORD", own.at()))
		}
		return p, err
	}
	definition, err := definitionOf(ctx, ask, own.account)
	if err != nil || strings.Count(definition, " "+own.plugin+" USING ") < 2 {
		return p, err
	}
	form := "ALTER USER " + own.at() + " IDENTIFIED VIA " + own.plugin + " USING "
	p.Changes = append(p.Changes, engine.Change{
		Why:   why,
		Text:  form + text(own.stored),
		Shown: form + "'" + secret.Hidden + "'",
		Takes: true,
	})
	return p, nil
}

// planOwnPassword changes the password of the session's own account.
func planOwnPassword(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	c := engine.Change{Why: "a new password for " + w.User, Alters: true}
	if w.KeepOld {
		return nil,
			&engine.NameError{What: "an account can't keep its own old password: an administrator's profile can (-as)"}
	}
	if !isMariaDB(w.Facts) {
		c.Text = "ALTER USER USER() IDENTIFIED BY " + text(w.Password.Disclose())
		c.Shown = "ALTER USER USER() IDENTIFIED BY '" + secret.Hidden + "'"
		return &engine.Plan{Changes: []engine.Change{c}}, nil // the server writes <secret> into its logs (8.0 and later)
	}
	rows, err := ask(ctx, "SHOW CREATE USER CURRENT_USER()")
	if err != nil || len(rows) == 0 {
		return nil, engine.OrNoRow(err)
	}
	strict, err := judges(ctx, ask)
	if err != nil {
		return nil, err
	}
	native := strings.Contains(rows[0][0], "IDENTIFIED BY PASSWORD ") || strings.Contains(rows[0][0], nativePlugin)
	if native && !strict {
		c.Text = "SET PASSWORD = '" + nativeHash(w.Password) + "'"
		c.Shown = "SET PASSWORD = '" + secret.Hidden + "'"
	} else {
		c.Text = "SET PASSWORD = PASSWORD(" + text(w.Password.Disclose()) + ")"
		c.Shown = "SET PASSWORD = PASSWORD('" + secret.Hidden + "')"
		c.Clear = "the server makes the hash of this account's kind itself: a general log would have the password"
	}
	return &engine.Plan{Changes: []engine.Change{c}}, nil
}
