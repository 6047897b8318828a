package mysql

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/secret"
)

// planExpire sets when the password expires: so many days after its last change. An expired one is renewed by storing
// the same form again.
func planExpire(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	own, _, _, err := chooseAccount(ctx, ask, w)
	if err != nil {
		return nil, err
	}
	if own == nil {
		return noAccount(w), nil
	}
	definition, err := definitionOf(ctx, ask, own.account)
	if err != nil {
		return nil, err
	}
	p, ended := &engine.Plan{}, expiredNow(strings.ToUpper(definition))
	rule, err := expiry(ctx, ask, w, own.account, ended)
	if err != nil {
		return nil, err
	}
	const now = "PASSWORD EXPIRE"
	if ended && rule != now && (own.plugin == nativePlugin || own.plugin == sha2Plugin) {
		p.Changes = append(p.Changes, storeAgain(w, own))
	}
	if rule == now && !ended || rule != now && !strings.Contains(lifetimeOf(ctx, ask, own.account, definition), rule) {
		p.Changes = append(p.Changes, engine.Altering(fmt.Sprintf("the password of %s ends on another day, or never",
			own.account), "ALTER USER %s %s", own.at(), rule))
	}
	admin, err := readRights(ctx, ask, "")
	if err == nil {
		admin.mayMakeAccounts(p)
	}
	return p, err
}

// storeAgain stores the present form of the password again, which gives it a new date.
func storeAgain(w *engine.DesiredState, own *storedAccount) engine.Change {
	form := "ALTER USER " + own.at() + " IDENTIFIED WITH " + own.plugin + " AS "
	if isMariaDB(w.Facts) {
		form = "ALTER USER " + own.at() + " IDENTIFIED VIA " + own.plugin + " USING "
	}
	return engine.Change{
		Why:    fmt.Sprintf("the password of %s has expired: the same one counts as new", own.account),
		Text:   form + text(own.stored),
		Shown:  form + "'" + secret.Hidden + "'",
		Alters: true,
	}
}

// lifetimeOf is the rule by which an account's password expires, in a statement's words. MariaDB shows it in a second
// row where the password has expired.
func lifetimeOf(ctx context.Context, ask engine.Ask, a account, definition string) string {
	rows, err := ask(ctx, "SHOW CREATE USER "+a.at())
	if err != nil {
		return definition
	}
	var all []string
	for _, row := range rows {
		all = append(all, row[0])
	}
	return strings.ToUpper(strings.Join(all, " "))
}

// expiry is the rule by which a password expires on the wanted day.
func expiry(ctx context.Context, ask engine.Ask, w *engine.DesiredState, a account, renewed bool) (string, error) {
	if w.Until.IsZero() {
		return "PASSWORD EXPIRE NEVER", nil
	}
	changed := "UNIX_TIMESTAMP(password_last_changed) FROM mysql.user"
	if isMariaDB(w.Facts) {
		changed = "JSON_VALUE(Priv, '$.password_last_changed') FROM mysql.global_priv"
	}
	if renewed {
		changed = "UNIX_TIMESTAMP() FROM mysql.user"
	}
	rows, err := ask(ctx, "SELECT FLOOR(("+strconv.FormatInt(w.Until.Unix(), 10)+" - (SELECT "+changed+" WHERE User = "+
		text(a.user)+" AND Host = "+text(a.host)+")) / 86400)")
	if err != nil || len(rows) == 0 {
		return "", engine.OrNoRow(err)
	}
	days, err := strconv.Atoi(rows[0][0])
	if err != nil {
		return "", errors.New("the server does not say when the password was changed")
	}
	if days < 1 {
		return "PASSWORD EXPIRE", nil
	}
	return fmt.Sprintf("PASSWORD EXPIRE INTERVAL %d DAY", min(days, 65535)), nil
}
