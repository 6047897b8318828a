package mysql

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/secret"
)

// answers are rows by a part of a question; the longest part that fits counts.
type answers map[string][][]string

func (a answers) ask(_ context.Context, question string, _ ...string) ([][]string, error) {
	best := ""
	for part := range a {
		if strings.Contains(question, part) && len(part) > len(best) {
			best = part
		}
	}
	return a[best], nil
}

func (a answers) with(more answers) answers {
	all := make(answers)
	for _, some := range []answers{a, more} {
		for part, rows := range some {
			all[part] = rows
		}
	}
	return all
}

// root answers as an administrator's session at a server with nothing on it.
var root = answers{
	"CURRENT_USER()": {{"root@localhost"}}, "SHOW GRANTS": {{"GRANT ALL PRIVILEGES ON *.* TO `root`@`localhost` IDENTIFIED BY PASSWORD '*X' WITH GRANT OPTION"}},
	"SHOW GRANTS FOR": {{"GRANT USAGE ON *.* TO `bander`@`%`"}},
}

// helper may log in, and nothing more.
var helper = answers{"CURRENT_USER()": {{"helper@%"}}, "SHOW GRANTS": {{"GRANT USAGE ON *.* TO `helper`@`%`"}}}

func sent(p *engine.Plan, err error) string {
	if err != nil {
		return "error: " + err.Error()
	}
	var all []string
	for _, c := range p.Changes {
		all = append(all, c.Shown)
		if strings.Contains(c.Text, "harbor lights") && c.Clear == "" && !strings.Contains(c.Text, "USER() IDENTIFIED BY") {
			all = append(all, "IN CLEAR")
		}
	}
	return strings.Join(append(append(all, p.Lacks...), p.Missing...), "; ")
}

func withAccounts(rows ...[]string) answers { return answers{"FROM mysql.user WHERE (User": rows} }

func definition(text string) answers { return answers{"SHOW CREATE USER": {{text}}} }

func TestPlanAccount(t *testing.T) {
	lights := secret.NewValue("harbor lights")
	maria, my := &engine.Facts{Engine: "mariadb", Version: "10.11.6-MariaDB"}, &engine.Facts{Engine: "mysql", Version: "8.4.0"}
	own := []string{"bander", "192.168.%", nativePlugin, nativeHash(lights)}
	good := definition("CREATE USER `bander`@`192.168.%` IDENTIFIED BY PASSWORD '*X'")
	for name, c := range map[string]struct {
		ask  answers
		wish engine.DesiredState
		want string
	}{
		"new":            {root, engine.DesiredState{Facts: maria, Password: lights}, `CREATE USER 'ban''der\\'@'192.168.0.7' IDENTIFIED VIA mysql_native_password USING '[hidden]'`},
		"new, of MySQL":  {root, engine.DesiredState{Facts: my, Password: lights}, `CREATE USER 'ban''der\\'@'192.168.0.7' IDENTIFIED WITH caching_sha2_password AS '[hidden]'`},
		"of an old one":  {root, engine.DesiredState{Facts: &engine.Facts{Engine: "mysql", Version: "5.7.44"}, Password: lights}, `CREATE USER 'ban''der\\'@'192.168.0.7' IDENTIFIED WITH mysql_native_password AS '[hidden]'`},
		"judged there":   {root.with(answers{"strict_password_validation": {{"1"}}}), engine.DesiredState{Facts: maria, Password: lights}, `CREATE USER 'ban''der\\'@'192.168.0.7' IDENTIFIED BY '[hidden]'`},
		"anonymous":      {root.with(withAccounts([]string{"", "192.168.0.%", "", ""}, own)).with(good), engine.DesiredState{Facts: maria, User: "bander", Password: lights}, "DROP USER ''@'192.168.0.%'"},
		"as it is to be": {root.with(withAccounts(own, []string{"bander", "localhost", nativePlugin, "x"})).with(good), engine.DesiredState{Facts: maria, User: "bander", Password: lights}, ""},
		"another password": {root.with(withAccounts([]string{"bander", "192.168.%", nativePlugin, "*OTHER"})).with(good), engine.DesiredState{Facts: maria, User: "bander", Password: lights},
			"ALTER USER 'bander'@'192.168.%' IDENTIFIED VIA mysql_native_password USING '[hidden]'"},
		"locked": {root.with(withAccounts(own)).with(definition("CREATE USER x ACCOUNT LOCK")), engine.DesiredState{Facts: maria, User: "bander"}, "ALTER USER 'bander'@'192.168.%' ACCOUNT UNLOCK"},
		"expired": {root.with(withAccounts(own)).with(definition("CREATE USER x PASSWORD EXPIRE")), engine.DesiredState{Facts: maria, User: "bander", Password: lights},
			"ALTER USER 'bander'@'192.168.%' IDENTIFIED VIA mysql_native_password USING '[hidden]'"},
		"the socket's": {root.with(withAccounts([]string{"bander", "%", "unix_socket", ""})).with(definition("CREATE USER x IDENTIFIED VIA unix_socket")), engine.DesiredState{Facts: maria, User: "bander", Password: lights},
			"ALTER USER 'bander'@'%' IDENTIFIED VIA mysql_native_password USING '[hidden]'"},
		"no right": {helper, engine.DesiredState{Facts: maria, User: "bander"}, "CREATE USER 'bander'@'192.168.0.7'; the account helper@% may not make or change accounts (CREATE USER)"},
	} {
		if c.wish.User == "" {
			c.wish.User = `ban'der\`
		}
		c.wish.Host = "192.168.0.7"
		if got := sent(planAccount(t.Context(), c.ask.ask, &c.wish)); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
	in := true
	w := &engine.DesiredState{Facts: maria, User: "bander", Host: "192.168.0.7", Password: lights, LogsIn: func(context.Context) (bool, error) { return in, nil }}
	odd := root.with(withAccounts([]string{"bander", "%", "ed25519", "x"})).with(definition("CREATE USER x IDENTIFIED VIA ed25519 USING 'x'"))
	if got := sent(planAccount(t.Context(), odd.ask, w)); got != "" {
		t.Errorf("it gets in, and is sent %s", got)
	}
	if in = false; !strings.Contains(sent(planAccount(t.Context(), odd.ask, w)), "VIA mysql_native_password") {
		t.Error("a password that does not work is left")
	}
	if host, err := readClientHost(t.Context(), answers{"ID = 7": {{"2001:db8::1:4711"}}}.ask, 7); host != "2001:db8::1" || err != nil {
		t.Error(host, err)
	}
	if host, _ := readClientHost(t.Context(), answers{}.ask, 7); host != "" {
		t.Error(host)
	}
}

func TestPlanPasswords(t *testing.T) {
	maria, my := &engine.Facts{Engine: "mariadb", Version: "10.11.6"}, &engine.Facts{Engine: "mysql", Version: "8.4.0"}
	w := func(f *engine.Facts, keep bool) *engine.DesiredState {
		return &engine.DesiredState{Facts: f, User: "bander", Password: secret.NewValue("harbor lights"), KeepOld: keep}
	}
	ask := root.with(withAccounts([]string{"bander", "%", nativePlugin, "*OLD"})).with(definition("CREATE USER x IDENTIFIED BY PASSWORD '*OLD'"))
	two := root.with(withAccounts([]string{"bander", "%", nativePlugin, "*NEW"})).with(definition("IDENTIFIED VIA mysql_native_password USING '*NEW' OR mysql_native_password USING '*OLD'"))
	for name, c := range map[string]struct {
		plan engine.Planner
		ask  answers
		wish *engine.DesiredState
		want string
	}{
		"reset":             {planReset, ask, w(maria, false), "ALTER USER 'bander'@'%' IDENTIFIED VIA mysql_native_password USING '[hidden]'"},
		"reset beside":      {planReset, ask, w(maria, true), "ALTER USER 'bander'@'%' IDENTIFIED VIA mysql_native_password USING '[hidden]' OR mysql_native_password USING '[hidden]'"},
		"MySQL's beside":    {planReset, ask, w(my, true), "ALTER USER 'bander'@'%' IDENTIFIED WITH mysql_native_password AS '[hidden]' RETAIN CURRENT PASSWORD"},
		"nobody's":          {planReset, root, w(maria, false), "the account bander for %"},
		"its own":           {planOwnPassword, ask, w(maria, false), "SET PASSWORD = '[hidden]'"},
		"its own, odd":      {planOwnPassword, root.with(definition("IDENTIFIED VIA ed25519 USING 'x'")), w(maria, false), "SET PASSWORD = PASSWORD('[hidden]')"},
		"its own, of MySQL": {planOwnPassword, ask, w(my, false), "ALTER USER USER() IDENTIFIED BY '[hidden]'"},
		"its own beside":    {planOwnPassword, ask, w(maria, true), "error: an account can't keep its own old password: an administrator's profile can (-as)"},
		"the old one ends":  {planDropOld, two, w(maria, false), "ALTER USER 'bander'@'%' IDENTIFIED VIA mysql_native_password USING '[hidden]'"},
		"no old one":        {planDropOld, ask, w(maria, false), ""},
		"MySQL's old one":   {planDropOld, ask.with(answers{"additional_password": {{"1"}}}), w(my, false), "ALTER USER 'bander'@'%' DISCARD OLD PASSWORD"},
		"nobody's old one":  {planDropOld, root, w(maria, false), "the account bander for %"},
	} {
		p, err := c.plan(t.Context(), c.ask.ask, c.wish)
		if got := sent(p, err); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
		if name == "the old one ends" && !strings.Contains(p.Changes[0].Text, "'*NEW'") {
			t.Errorf("the new password is lost: %s", p.Changes[0].Text)
		}
		if name == "its own, odd" && p.Changes[0].Clear == "" {
			t.Error("nobody is told that the server sees the password")
		}
	}
}

func TestPlanRights(t *testing.T) {
	maria := &engine.Facts{Engine: "mariadb", Version: "10.11.6"}
	there := withAccounts([]string{"bander", "%", nativePlugin, "x"})
	grants := func(lines ...string) answers {
		var rows [][]string
		for _, l := range lines {
			rows = append(rows, []string{l})
		}
		return root.with(there).with(answers{"SHOW GRANTS FOR": rows})
	}
	wish := func(a engine.Access, tables ...string) *engine.DesiredState {
		return &engine.DesiredState{Facts: maria, User: "bander", Database: "mo_ult", Access: a, Tables: tables}
	}
	for name, c := range map[string]struct {
		plan engine.Planner
		ask  answers
		wish *engine.DesiredState
		want string
	}{
		"own":               {planRights, root, wish(engine.AccessOwn), "GRANT ALL PRIVILEGES ON `mo\\_ult`.* TO 'bander'@'%'"},
		"read":              {planRights, root, wish(engine.AccessRead), "GRANT SELECT, SHOW VIEW ON `mo\\_ult`.* TO 'bander'@'%'"},
		"some":              {planRights, grants("GRANT SELECT, INSERT (a, b), SHOW VIEW ON `mo\\_ult`.* TO `bander`@`%`"), wish(engine.AccessRead), ""},
		"all":               {planRights, grants("GRANT ALL PRIVILEGES ON `mo\\_ult`.* TO `bander`@`%`"), wish(engine.AccessWrite), ""},
		"another's":         {planRights, grants("GRANT SELECT ON `moult`.* TO `bander`@`%`"), wish(engine.AccessRead), "GRANT SELECT, SHOW VIEW ON `mo\\_ult`.* TO 'bander'@'%'"},
		"no patterns":       {planRights, root.with(answers{"partial_revokes": {{"partial_revokes", "ON"}}}), wish(engine.AccessRead), "GRANT SELECT, SHOW VIEW ON `mo_ult`.* TO 'bander'@'%'"},
		"a table":           {planRights, grants().with(answers{"TABLE_SCHEMA = 'mo_ult'": {{"ring"}}}), wish(engine.AccessRead, "ring"), "GRANT SELECT, SHOW VIEW ON `mo_ult`.`ring` TO 'bander'@'%'"},
		"a table that has":  {planRights, grants("GRANT SELECT, SHOW VIEW ON `mo_ult`.`ring` TO `bander`@`%`").with(answers{"TABLE_SCHEMA = 'mo_ult'": {{"ring"}}}), wish(engine.AccessRead, "mo_ult.ring"), ""},
		"no table":          {planRights, grants().with(answers{"TABLE_SCHEMA = 'mo_ult'": {{"ring"}}}), wish(engine.AccessRead, "rings"), "error: there is no table rings; did you mean ring?"},
		"no right":          {planRights, helper, wish(engine.AccessRead), "GRANT SELECT, SHOW VIEW ON `mo\\_ult`.* TO 'bander'@'%'; the account helper@% may not give rights on the database mo_ult (GRANT OPTION)"},
		"revoke":            {planRevoke, grants("GRANT USAGE ON *.* TO `bander`@`%`", "GRANT SELECT ON `mo\\_ult`.* TO `bander`@`%` WITH GRANT OPTION", "GRANT SELECT ON `mo_ult`.`ring` TO `bander`@`%`", "GRANT SELECT ON `tides`.* TO `bander`@`%`", "GRANT EXECUTE ON PROCEDURE `mo_ult`.`p` TO `bander`@`%`"), wish(""), "REVOKE GRANT OPTION ON `mo\\_ult`.* FROM 'bander'@'%'; REVOKE ALL PRIVILEGES ON `mo\\_ult`.* FROM 'bander'@'%'; REVOKE ALL PRIVILEGES ON `mo_ult`.`ring` FROM 'bander'@'%'; REVOKE ALL PRIVILEGES ON PROCEDURE `mo_ult`.`p` FROM 'bander'@'%'"},
		"revoke of nobody":  {planRevoke, root, wish(""), "the account bander for %"},
		"a database":        {planDatabase, root, wish(engine.AccessOwn), "CREATE DATABASE `mo_ult`"},
		"not to be made":    {planDatabase, helper, wish(engine.AccessOwn), "CREATE DATABASE `mo_ult`; the account helper@% may not make the database (CREATE)"},
		"drop":              {planDropDatabase, root.with(answers{"COUNT(*), COALESCE": {{"3", "48"}}, "SELECT 1 FROM information_schema.SCHEMATA": {{"1"}}}), wish(""), "DROP DATABASE `mo_ult`"},
		"drop a missing":    {planDropDatabase, root.with(answers{"COUNT(*), COALESCE": {{"0", "0"}}}), wish(""), "the database mo_ult"},
		"drop the account":  {planDropAccount, grants(), wish(""), "DROP USER 'bander'@'%'"},
		"drop nobody":       {planDropAccount, root, wish(""), "the account bander for %"},
		"drop oneself":      {planDropAccount, grants().with(answers{"CURRENT_USER()": {{"bander@%"}}}), wish(""), "error: the account bander@% is the administrator's own"},
		"unlock":            {planUnlock, grants().with(definition("x ACCOUNT LOCK")), wish(""), "ALTER USER 'bander'@'%' ACCOUNT UNLOCK"},
		"nothing to unlock": {planUnlock, grants().with(definition("x")), wish(""), ""},
		"unlock nobody":     {planUnlock, root, wish(""), "the account bander for %"},
	} {
		if got := sent(c.plan(t.Context(), c.ask.ask, c.wish)); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
	w := wish("")
	w.LogsIn = func(context.Context) (bool, error) { return false, nil }
	if got := sent(planUnlock(t.Context(), grants().with(definition("x")).with(answers{"max_password_errors": {{"3"}}}).ask, w)); got != "FLUSH PRIVILEGES" {
		t.Error(got)
	}
	p, err := planRevoke(t.Context(), grants("GRANT SELECT ON *.* TO `bander`@`%`", "GRANT `crew` TO `bander`@`%`").ask, wish(""))
	if notes := fmt.Sprint(p, err); !strings.Contains(notes, "keeps them: select") || !strings.Contains(notes, "the rights of roles") {
		t.Error(notes)
	}
	usual := wish(engine.AccessOwn)
	usual.Usual = true
	if _, err := planDatabase(t.Context(), root.with(answers{"SCHEMATA": {{"mo_ult"}}}).ask, usual); err != nil || usual.Access != engine.AccessWrite {
		t.Error(usual.Access, err)
	}
}

func TestPlanExpire(t *testing.T) {
	maria := &engine.Facts{Engine: "mariadb", Version: "10.11.6"}
	ask := func(days, text string) answers {
		return root.with(withAccounts([]string{"bander", "%", nativePlugin, "*KEPT"})).with(definition(text)).with(answers{"FLOOR((": {{days}}})
	}
	on := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	const renew = "ALTER USER 'bander'@'%' IDENTIFIED VIA mysql_native_password USING '[hidden]'"
	for name, c := range map[string]struct {
		ask   answers
		until time.Time
		want  string
	}{
		"never":        {ask("", "x"), time.Time{}, "ALTER USER 'bander'@'%' PASSWORD EXPIRE NEVER"},
		"never ends":   {ask("", "x PASSWORD EXPIRE NEVER"), time.Time{}, ""},
		"in ten days":  {ask("10", "x"), on, "ALTER USER 'bander'@'%' PASSWORD EXPIRE INTERVAL 10 DAY"},
		"ends so":      {ask("10", "x PASSWORD EXPIRE INTERVAL 10 DAY"), on, ""},
		"long ago":     {ask("-3", "x"), on, "ALTER USER 'bander'@'%' PASSWORD EXPIRE"},
		"has ended":    {ask("-3", "x PASSWORD EXPIRE"), on, ""},
		"ended, never": {ask("", "x PASSWORD EXPIRE"), time.Time{}, renew + "; ALTER USER 'bander'@'%' PASSWORD EXPIRE NEVER"},
		"ended, later": {ask("10", "x PASSWORD EXPIRE"), on, renew + "; ALTER USER 'bander'@'%' PASSWORD EXPIRE INTERVAL 10 DAY"},
		"nobody":       {root, on, "the account bander for %"},
	} {
		if got := sent(planExpire(t.Context(), c.ask.ask, &engine.DesiredState{Facts: maria, User: "bander", Until: c.until})); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
}
