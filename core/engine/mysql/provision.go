package mysql

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/secret"
)

// provision is how an account with CREATE USER and GRANT OPTION makes what a profile needs (MySQL reference manual,
// "Account Management Statements"; MariaDB documentation, "Account Management SQL Commands").
var provision = &engine.Provision{
	Hosts:        true,
	Before:       "SET SESSION sql_mode = ''", // so that a backslash in quotes means one thing
	Account:      planAccount,
	Database:     planDatabase,
	Rights:       planRights,
	Revoke:       planRevoke,
	Unlock:       planUnlock,
	Expire:       planExpire,
	DropAccount:  planDropAccount,
	DropDatabase: planDropDatabase,
	Password:     planOwnPassword,
	Reset:        planReset,
	DropOld:      planDropOld,
	Arrives:      readClientHost,
}

// text is a text in quotes, for the SQL mode of provision.Before. Who shows it cleans it.
func text(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(s) + "'"
}

// at is an account in a statement's form.
func (a account) at() string { return text(a.user) + "@" + text(a.host) }

// String is an account as people write it.
func (a account) String() string { return a.user + "@" + a.host }

// storedAccount is an account with its plugin and the stored form of its password.
type storedAccount struct {
	account
	plugin, stored string
}

// readClientHost reads from which host the server sees a connection before its login, by the connection's number from
// the greeting.
func readClientHost(ctx context.Context, ask engine.Ask, connection uint32) (string, error) {
	rows, err := ask(ctx, "SELECT HOST FROM information_schema.PROCESSLIST WHERE ID = "+strconv.Itoa(int(connection)))
	if err != nil {
		return "", err
	}
	if len(rows) == 0 {
		return "", nil
	}
	host := rows[0][0]
	if i := strings.LastIndexByte(host, ':'); i >= 0 { // the client's port
		host = host[:i]
	}
	return host, nil
}

// chooseAccount returns the account that the server would choose for a connection from the profile's host. The others
// have the same name for other hosts; before is an anonymous account that the server would choose instead.
func chooseAccount(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (own *storedAccount, others []account,
	before *account,
	err error) {
	rows, err := ask(ctx, "SELECT User, Host, plugin, authentication_string FROM mysql.user WHERE (User = "+text(w.User)+
		" OR User = '') AND Host <> '' LIMIT 1000")
	if err != nil {
		return nil, nil, nil, err
	}
	var fitting []storedAccount
	for _, row := range rows {
		k := storedAccount{account{row[0], row[1]}, row[2], row[3]}
		fits := w.Host == "" && k.user != "" || w.Host != "" && hostFits(k.host, w.Host)
		if fits {
			fitting = append(fitting, k)
		} else if k.user != "" {
			others = append(others, k.account)
		}
	}
	slices.SortStableFunc(fitting, func(a, b storedAccount) int { return compareOrder(a.account, b.account) })
	for i := range fitting {
		switch k := &fitting[i]; {
		case k.user == "" && own == nil && before == nil:
			before = &k.account
		case k.user != "" && own == nil:
			own = k
		case k.user != "":
			others = append(others, k.account)
		}
	}
	return own, others, before, nil
}

// compareOrder orders accounts as a server compares them.
func compareOrder(a, b account) int { return before(a, b) }

// newAccount is the account to make where there is none.
func newAccount(w *engine.DesiredState) account {
	host := w.Host
	if host == "" {
		host = "%"
	}
	return account{w.User, host}
}

// planAccount makes the account for the host from which the profile connects, and lets it log in.
func planAccount(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	own, others, anonymous, err := chooseAccount(ctx, ask, w)
	if err != nil {
		return nil, err
	}
	p := &engine.Plan{}
	admin, err := readRights(ctx, ask, "")
	if err != nil {
		return nil, err
	}
	switch {
	case own == nil:
		a := newAccount(w)
		why := fmt.Sprintf("there is no account %s for %s", a.user, a.host)
		if len(others) > 0 {
			why += ", only for " + hostsOf(others)
		}
		c := engine.Change{Why: why, Text: "CREATE USER " + a.at()}
		c.Shown = c.Text
		if err := identify(ctx, ask, &c, w, w.Password, ""); err != nil {
			return nil, err
		}
		p.Changes = append(p.Changes, c)
	default:
		c, err := allowLogin(ctx, ask, own.account)
		if err != nil {
			return nil, err
		}
		p.Changes = append(p.Changes, c...)
		if c, err = planPassword(ctx, ask, w, own); err != nil {
			return nil, err
		}
		p.Changes = append(p.Changes, c...)
	}
	if anonymous != nil && (own == nil || compareOrder(*anonymous, own.account) < 0) &&
		(own != nil || compareOrder(*anonymous, newAccount(w)) < 0) {
		c := engine.Altering(fmt.Sprintf("the anonymous account for %s would be taken first", anonymous.host), "DROP USER %s",
			anonymous.at())
		c.Takes = true
		p.Changes = append(p.Changes, c)
	}
	admin.mayMakeAccounts(p)
	return p, nil
}

// newPlugin is the plugin of a new account: the server's default where we know that one (MySQL reference manual,
// "default_authentication_plugin"; later servers have only caching_sha2_password).
func newPlugin(ctx context.Context, ask engine.Ask, f *engine.Facts) (string, error) {
	if major, _, _ := strings.Cut(f.Version, "."); isMariaDB(f) || !atLeast(major, 8) {
		return nativePlugin, nil
	}
	rows, err := ask(ctx, "SHOW VARIABLES LIKE 'default_authentication_plugin'")
	if err == nil && len(rows) == 1 && len(rows[0]) == 2 && rows[0][1] == nativePlugin {
		return nativePlugin, nil
	}
	return sha2Plugin, err
}

func isMariaDB(f *engine.Facts) bool { return f.Engine == "mariadb" }

func atLeast(number string, least int) bool {
	n, err := strconv.Atoi(number)
	return err == nil && n >= least
}

// identify adds to a statement how the account logs in: with the stored form of a password, so that no log of the
// server has the password. plugin is "" for the server's default. A server that checks the quality of passwords takes
// only the password itself.
func identify(ctx context.Context, ask engine.Ask, c *engine.Change, w *engine.DesiredState, v secret.Value,
	plugin string) error {
	if !v.Present() {
		return nil
	}
	if plugin == "" {
		var err error
		if plugin, err = newPlugin(ctx, ask, w.Facts); err != nil {
			return err
		}
	}
	form := " IDENTIFIED WITH " + plugin + " AS '"
	if isMariaDB(w.Facts) {
		form = " IDENTIFIED VIA " + plugin + " USING '"
		strict, err := judges(ctx, ask)
		if err != nil {
			return err
		}
		if strict {
			c.Text += " IDENTIFIED BY " + text(v.Disclose())
			c.Shown += " IDENTIFIED BY '" + secret.Hidden + "'"
			c.Clear = "this server judges new passwords itself (strict_password_validation), so it takes no hash: a general " +
				"log would have the password"
			return nil
		}
	}
	c.Text += form + hashOf(plugin, v) + "'"
	c.Shown += form + secret.Hidden + "'"
	return nil
}

// judges reports whether a MariaDB server checks the quality of passwords by a plugin, and so refuses hashes (MariaDB
// documentation, "strict_password_validation").
func judges(ctx context.Context, ask engine.Ask) (bool, error) {
	rows, err := ask(ctx, "SELECT 1 FROM information_schema.PLUGINS WHERE PLUGIN_TYPE = 'PASSWORD VALIDATION' AND "+
		"PLUGIN_STATUS = 'ACTIVE' AND @@strict_password_validation = 1")
	return len(rows) > 0, err
}

// allowLogin are the changes that let an account log in.
func allowLogin(ctx context.Context, ask engine.Ask, a account) ([]engine.Change, error) {
	definition, err := definitionOf(ctx, ask, a)
	if err != nil || !strings.Contains(strings.ToUpper(definition), "ACCOUNT LOCK") {
		return nil, err
	}
	return []engine.Change{engine.Altering(fmt.Sprintf("the account %s is locked", a), "ALTER USER %s ACCOUNT UNLOCK",
		a.at())}, nil
}

// definitionOf is an account's statement from SHOW CREATE USER.
func definitionOf(ctx context.Context, ask engine.Ask, a account) (string, error) {
	rows, err := ask(ctx, "SHOW CREATE USER "+a.at())
	if err != nil || len(rows) == 0 {
		return "", engine.OrNoRow(err)
	}
	return rows[0][0], nil
}

// planPassword sets the password of an existing account where it differs or has expired.
func planPassword(
	ctx context.Context, ask engine.Ask, w *engine.DesiredState, own *storedAccount,
) ([]engine.Change, error) {
	if !w.Password.Present() {
		return nil, nil
	}
	definition, err := definitionOf(ctx, ask, own.account)
	if err != nil {
		return nil, err
	}
	why, plugin := "", own.plugin
	same, known := keeps(own.plugin, own.stored, w.Password)
	switch {
	case expiredNow(strings.ToUpper(definition)):
		why = "the password of %s has expired"
	case own.stored == "" && (plugin == nativePlugin || plugin == sha2Plugin || plugin == ""):
		why = "the account %s has no password"
	case !known && allowsSocketOnly(definition):
		why = "the account %s logs in only by its system account, over a Unix socket"
	case !known && w.LogsIn != nil:
		if in, err := w.LogsIn(ctx); err != nil || in {
			return nil, err
		}
		why = "the account %s does not get in with the profile's password"
	case known && !same && strings.Contains(definition, " OR ") && w.LogsIn != nil:
		if in, err := w.LogsIn(ctx); err != nil || in {
			return nil, err
		}
		why = "the account %s has another password than the profile"
	case known && !same:
		why = "the account %s has another password than the profile"
	}
	if why == "" {
		return nil, nil
	}
	if !known {
		plugin = ""
	}
	c := engine.Change{Why: fmt.Sprintf(why, own.account), Alters: true, Text: "ALTER USER " + own.at()}
	c.Shown = c.Text
	err = identify(ctx, ask, &c, w, w.Password, plugin)
	return []engine.Change{c}, err
}

// noAccount is the plan to change an account that does not exist.
func noAccount(w *engine.DesiredState) *engine.Plan {
	a := newAccount(w)
	return &engine.Plan{Missing: []string{fmt.Sprintf("the account %s for %s", a.user, a.host)}}
}

// planUnlock lets an account log in again.
func planUnlock(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	own, _, _, err := chooseAccount(ctx, ask, w)
	if err != nil {
		return nil, err
	}
	if own == nil {
		return noAccount(w), nil
	}
	p := &engine.Plan{}
	if p.Changes, err = allowLogin(ctx, ask, own.account); err != nil {
		return nil, err
	}
	admin, err := readRights(ctx, ask, "")
	if err != nil {
		return nil, err
	}
	admin.mayMakeAccounts(p)
	if isMariaDB(w.Facts) { // which does not show who typed wrong passwords how often
		rows, err := ask(ctx, "SELECT @@max_password_errors")
		if most, none := "4294967295", len(rows) == 0; err == nil && !none && rows[0][0] != most && w.LogsIn != nil {
			if in, err := w.LogsIn(ctx); err == nil && !in {
				p.Changes = append(p.Changes, engine.Altering(fmt.Sprintf("after %s wrong passwords the server refuses an account",
					rows[0][0]), "FLUSH PRIVILEGES"))
			}
		}
	}
	return p, nil
}
