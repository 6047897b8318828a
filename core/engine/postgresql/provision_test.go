package postgresql

import (
	"context"
	"crypto/md5"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/secret"
)

// answers are rows by a part of a question; the longest part that fits counts. Values of parameters are not looked at.
type answers map[string][][]string

// superuser answers as a superuser's session at a server with nothing on it.
var superuser = answers{
	"rolcreaterole, rolcreatedb": {{"postgres", "t", "t", "t"}}, "server_version_num": {{"150000"}}, "server_version_num')::int >= 130000": {{"t"}},
	"has_database_privilege": {{"t"}}, "pg_has_role(oid": {{"f"}}, "pg_size_pretty": {{"8 MB"}}, "pg_has_role(current_user, oid": {{"f"}},
	"'o'), count(*) FROM pg_shdepend s JOIN pg_roles r ON": {{"0", "0"}},
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

func (a answers) ask(_ context.Context, question string, _ ...string) ([][]string, error) {
	best := ""
	for part := range a {
		if strings.Contains(question, part) && len(part) > len(best) {
			best = part
		}
	}
	if rows := a[best]; len(rows) == 1 && rows[0][0] == "refused" {
		return nil, &engine.StatementError{Message: "permission denied"}
	}
	return a[best], nil
}

// sent are the statements of a plan as they are shown, with what it lacks and notes.
func sent(p *engine.Plan, err error) string {
	if err != nil {
		return "error: " + err.Error()
	}
	var all []string
	for _, c := range p.Changes {
		all = append(all, c.Shown)
		if strings.Contains(c.Shown, "harbor lights") || strings.Contains(c.Text, "harbor lights") {
			all = append(all, "IN CLEAR")
		}
	}
	for _, list := range [][]string{p.Lacks, p.Missing} {
		all = append(all, list...)
	}
	return strings.Join(all, "; ")
}

const role15 = "SELECT rolcanlogin"

func roleRow(login, expired, forever string) [][]string {
	until := "2026-08-31 00:00:00+00"
	if forever == "t" {
		until = ""
	}
	return [][]string{{login, "f", expired, forever, until, "-1"}}
}

func TestPlanAccount(t *testing.T) {
	lights, other := secret.NewValue("harbor lights"), secret.NewValue("x")
	normal := superuser.with(answers{role15: roleRow("t", "f", "t")})
	kept := func(stored string) answers {
		return normal.with(answers{"rolpassword": {{stored, "scram-sha-256"}}})
	}
	limited := superuser.with(answers{"rolcreaterole, rolcreatedb": {{"helper", "f", "f", "f"}}})
	for name, c := range map[string]struct {
		ask  answers
		wish engine.DesiredState
		want string
	}{
		"new":              {superuser, engine.DesiredState{User: "Warden", Password: lights}, `CREATE ROLE "Warden" LOGIN PASSWORD '[hidden]'`},
		"without password": {superuser, engine.DesiredState{User: "warden"}, "CREATE ROLE warden LOGIN"},
		"as it is to be":   {kept(scramVerifier(lights)), engine.DesiredState{User: "warden", Password: lights}, ""},
		"another password": {kept(scramVerifier(other)), engine.DesiredState{User: "warden", Password: lights}, "ALTER ROLE warden PASSWORD '[hidden]'"},
		"no password":      {kept(""), engine.DesiredState{User: "warden", Password: lights}, "ALTER ROLE warden PASSWORD '[hidden]'"},
		"kept for MD5":     {kept("md5" + hexMD5("harbor lightswarden")), engine.DesiredState{User: "warden", Password: lights}, "ALTER ROLE warden PASSWORD '[hidden]'"},
		"shut out": {superuser.with(answers{role15: {{"f", "f", "t", "f", "2026-08-31", "0"}}}), engine.DesiredState{User: "warden"},
			"ALTER ROLE warden LOGIN; ALTER ROLE warden CONNECTION LIMIT -1; ALTER ROLE warden VALID UNTIL 'infinity'"},
		"no right":            {limited, engine.DesiredState{User: "warden"}, "CREATE ROLE warden LOGIN; the role helper may not make or change roles (CREATEROLE)"},
		"not to be looked up": {answers{"": {{"refused"}}}, engine.DesiredState{User: "warden"}, "error: permission denied"},
	} {
		if got := sent(planAccount(t.Context(), c.ask.ask, &c.wish)); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
	in := true
	w := &engine.DesiredState{User: "warden", Password: lights, LogsIn: func(context.Context) (bool, error) { return in, nil }}
	ask := limited.with(answers{"rolcreaterole, rolcreatedb": {{"helper", "f", "t", "t"}}, role15: roleRow("t", "f", "t")}).ask
	if got := sent(planAccount(t.Context(), ask, w)); got != "" {
		t.Error(got)
	}
	if in = false; !strings.Contains(sent(planAccount(t.Context(), ask, w)), "PASSWORD '[hidden]'") {
		t.Error("a password that does not work is left")
	}
	if got := sent(planPassword(t.Context(), nil, w)); got != "ALTER ROLE warden PASSWORD '[hidden]'" {
		t.Error(got)
	}
}

func hexMD5(s string) string {
	sum := md5.Sum([]byte(s))
	return hex.EncodeToString(sum[:])
}

func TestPlanDatabase(t *testing.T) {
	there := superuser.with(answers{"datallowconn": {{"other", "t"}}})
	for name, c := range map[string]struct {
		ask  answers
		wish engine.DesiredState
		want string
	}{
		"new":               {superuser, engine.DesiredState{User: "warden", Access: engine.AccessOwn}, "CREATE DATABASE counts OWNER warden"},
		"new, for a reader": {superuser, engine.DesiredState{User: "warden", Access: engine.AccessRead}, "CREATE DATABASE counts"},
		"another's":         {there, engine.DesiredState{User: "warden", Access: engine.AccessOwn}, "ALTER DATABASE counts OWNER TO warden"},
		"another's, unsaid": {there, engine.DesiredState{User: "warden", Access: engine.AccessOwn, Usual: true}, ""},
		"a group's":         {there.with(answers{"pg_has_role(oid": {{"t"}}}), engine.DesiredState{User: "warden", Access: engine.AccessOwn, Usual: true}, ""},
		"sealed":            {there.with(answers{"has_database_privilege": {{"f"}}}), engine.DesiredState{User: "warden", Access: engine.AccessRead}, "GRANT CONNECT ON DATABASE counts TO warden"},
		"asleep":            {superuser.with(answers{"datallowconn": {{"warden", "f"}}}), engine.DesiredState{User: "warden", Access: engine.AccessOwn}, "ALTER DATABASE counts ALLOW_CONNECTIONS true"},
		"no superuser": {superuser.with(answers{"rolcreaterole, rolcreatedb": {{"helper", "f", "t", "f"}}}), engine.DesiredState{User: "warden", Access: engine.AccessOwn},
			"GRANT warden TO helper; CREATE DATABASE counts OWNER warden; the role helper may not make databases (CREATEDB)"},
	} {
		c.wish.Database = "counts"
		if got := sent(planDatabase(t.Context(), c.ask.ask, &c.wish)); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
}

func TestPlanRights(t *testing.T) {
	facts := &engine.Facts{User: "postgres"}
	wish := func(a engine.Access, tables ...string) *engine.DesiredState {
		return &engine.DesiredState{Facts: facts, User: "warden", Database: "counts", Access: a, Tables: tables}
	}
	makers := answers{"'MEMBER') FROM pg_roles r": {{"postgres", "t"}, {"keeper", "f"}}}
	some := superuser.with(makers).with(answers{"has_schema_privilege(": {{"marsh"}}, "has_table_privilege": {{"marsh"}, {"public"}}, "has_sequence_privilege": {{"marsh"}},
		"has_function_privilege": {{"public"}}})
	p, err := planRights(t.Context(), some.ask, wish(engine.AccessWrite))
	got := sent(p, err)
	for _, want := range []string{"GRANT USAGE ON SCHEMA marsh TO warden", "GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA marsh, public TO warden",
		"GRANT SELECT, UPDATE, USAGE ON ALL SEQUENCES IN SCHEMA marsh TO warden", "GRANT EXECUTE ON ALL FUNCTIONS IN SCHEMA public TO warden",
		"ALTER DEFAULT PRIVILEGES FOR ROLE postgres GRANT SELECT, INSERT, UPDATE, DELETE ON TABLES TO warden", "GRANT USAGE ON SCHEMAS TO warden"} {
		if !strings.Contains(got, want) {
			t.Errorf("no %q in %s", want, got)
		}
	}
	if len(p.Notes) != 1 || !strings.Contains(p.Notes[0], "keeper") || slices.ContainsFunc(p.Changes, func(c engine.Change) bool { return c.In != "counts" }) {
		t.Errorf("%+v", p)
	}
	if got := sent(planRights(t.Context(), some.ask, wish(engine.AccessRead))); strings.Contains(got, "EXECUTE") || strings.Contains(got, "INSERT") || !strings.Contains(got, "GRANT SELECT ON ALL SEQUENCES") {
		t.Errorf("a reader gets %s", got)
	}
	has := answers{"d.defaclobjtype::text": {{"postgres r SELECT"}, {"postgres S SELECT"}, {"postgres n USAGE"}}}
	if got := sent(planRights(t.Context(), superuser.with(makers).with(has).ask, wish(engine.AccessRead))); got != "" {
		t.Errorf("nothing lacks, and it sends %s", got)
	}
	if got := sent(planRights(t.Context(), nil, wish(engine.AccessRead))); strings.Count(got, "ALTER DEFAULT PRIVILEGES FOR ROLE postgres") != 3 {
		t.Errorf("for a new database: %s", got)
	}
	table := superuser.with(answers{"c.relname = $2": {{"marsh", "f", "f", "16400"}}, "d.refobjid": {{"marsh", "hide id"}}})
	if got, want := sent(planRights(t.Context(), table.ask, wish(engine.AccessWrite, "hide", `marsh."hide"`))),
		`GRANT USAGE ON SCHEMA marsh TO warden; GRANT SELECT, INSERT, UPDATE, DELETE ON marsh.hide TO warden; GRANT SELECT, UPDATE, USAGE ON SEQUENCE marsh."hide id" TO warden`; got != want {
		t.Errorf("%s", got)
	}
	two := superuser.with(answers{"c.relname = $2": {{"a", "t", "t", "1"}, {"b", "t", "t", "2"}}})
	none := superuser.with(answers{"SELECT c.relname FROM": {{"hides"}}})
	if got := sent(planRights(t.Context(), two.ask, wish(engine.AccessRead, "hide"))) + sent(planRights(t.Context(), none.ask, wish(engine.AccessRead, "hide"))); !strings.Contains(got, "several schemas: a, b") || !strings.Contains(got, "did you mean hides?") {
		t.Error(got)
	}
}

func TestPlanOthers(t *testing.T) {
	facts := &engine.Facts{User: "postgres"}
	wish := func() *engine.DesiredState {
		return &engine.DesiredState{Facts: facts, User: "warden", Database: "counts"}
	}
	normal := superuser.with(answers{role15: roleRow("t", "f", "t")})
	ends := superuser.with(answers{role15: roleRow("t", "f", "f")})
	until := wish()
	until.Until = time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	same := wish()
	same.Until = time.Date(2026, 8, 31, 0, 0, 0, 0, time.UTC)
	granted := normal.with(answers{"SELECT DISTINCT k, n": {{"TABLES", "marsh"}, {"DATABASE", "counts"}, {"SCHEMA", "marsh"}}, "SELECT DISTINCT r.rolname": {{"postgres", "r"}, {"postgres", "n"}},
		"'the database '": {{"the role crew"}, {"the database counts"}}})
	busy := superuser.with(answers{"datallowconn": {{"warden", "t"}}, "usename::text": {{"visitor from 192.0.2.1"}}})
	for name, c := range map[string]struct {
		plan engine.Planner
		ask  answers
		wish *engine.DesiredState
		want string
	}{
		"unlock":            {planUnlock, superuser.with(answers{role15: roleRow("f", "f", "t")}), wish(), "ALTER ROLE warden LOGIN"},
		"unlock nobody":     {planUnlock, superuser, wish(), "the role warden"},
		"never ends":        {planExpire, normal, wish(), ""},
		"is to end never":   {planExpire, ends, wish(), "ALTER ROLE warden VALID UNTIL 'infinity'"},
		"is to end":         {planExpire, normal, until, "ALTER ROLE warden VALID UNTIL '2027-01-01 00:00:00+00'"},
		"ends so":           {planExpire, ends, same, ""},
		"revoke":            {planRevoke, granted, wish(), "REVOKE ALL ON ALL TABLES IN SCHEMA marsh FROM warden; REVOKE ALL ON SCHEMA marsh FROM warden; REVOKE ALL ON DATABASE counts FROM warden; ALTER DEFAULT PRIVILEGES FOR ROLE postgres REVOKE ALL ON TABLES FROM warden; ALTER DEFAULT PRIVILEGES FOR ROLE postgres REVOKE ALL ON SCHEMAS FROM warden"},
		"revoke of nobody":  {planRevoke, superuser, wish(), "the role warden"},
		"drop":              {planDropAccount, normal.with(answers{"coalesce(d.datname, '')": {{"", "1", "1"}, {"counts", "2", "3"}, {"tides", "0", "1"}}, "NOT (datname = $2": {{"old counts"}}}), wish(), `ALTER DATABASE "old counts" OWNER TO postgres; DROP ROLE warden`},
		"drop nobody":       {planDropAccount, superuser, wish(), "the role warden"},
		"drop oneself":      {planDropAccount, normal.with(answers{"rolcreaterole, rolcreatedb": {{"warden", "t", "t", "t"}}}), wish(), "error: the role warden is the administrator's own"},
		"own things":        {planDisown, answers{"pg_shdepend": {{"2", "3"}}}, wish(), "REASSIGN OWNED BY warden TO postgres; DROP OWNED BY warden"},
		"no things":         {planDisown, superuser, wish(), ""},
		"drop a database":   {planDropDatabase, busy, wish(), "DROP DATABASE counts WITH (FORCE)"},
		"of an old server":  {planDropDatabase, busy.with(answers{"server_version_num')::int >= 130000": {{"f"}}}), wish(), "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = 'counts' AND pid <> pg_backend_pid(); DROP DATABASE counts"},
		"a missing one":     {planDropDatabase, superuser, wish(), "the database counts"},
		"of another's role": {planDropDatabase, busy.with(answers{"rolcreaterole, rolcreatedb": {{"helper", "f", "t", "t"}}}), wish(), "DROP DATABASE counts WITH (FORCE); the database counts belongs to warden, and helper is neither a superuser nor a member of that role"},
	} {
		if got := sent(c.plan(t.Context(), c.ask.ask, c.wish)); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
	p, _ := planRevoke(t.Context(), granted.ask, wish())
	if notes := fmt.Sprint(p.Notes); !strings.Contains(notes, "is a member of the role crew") || !strings.Contains(notes, "owns the database counts") {
		t.Error(notes)
	}
	tables := wish()
	tables.Tables = []string{"hide"}
	if got := sent(planRevoke(t.Context(), normal.with(answers{"c.relname = $2": {{"marsh", "t", "t", "1"}}}).ask, tables)); got != "REVOKE ALL ON marsh.hide FROM warden" {
		t.Error(got)
	}
	if p, err := planRevoke(t.Context(), nil, wish()); err != nil || len(p.Missing) != 1 {
		t.Error(p, err)
	}
	if literal(`a'b\c`) != `E'a''b\\c'` || literal("a'b") != "'a''b'" || engine.OrNoRow(nil) == nil || !errors.Is(engine.OrNoRow(errNone), errNone) {
		t.Error("texts in quotes")
	}
}

var errNone = errors.New("none")
