//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/catalogue"
	"gentleharbor/core/engine"
	"gentleharbor/internal/testkit"
)

// head is the line of names of a kind's columns.
func head(kind engine.Kind) string {
	var names []string
	for _, c := range catalogue.Find(kind).Columns {
		names = append(names, c.Name)
	}
	return strings.Join(names, "\t") + "\n"
}

// TestBrowse looks at a real server with each kind, as an ordinary account.
func TestBrowse(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	server.SQL(t, "sightings",
		`CREATE SCHEMA marsh`, `CREATE SCHEMA closed`,
		`CREATE TABLE marsh.hide(id int PRIMARY KEY, name text NOT NULL UNIQUE, size numeric(6,2) DEFAULT 1.5)`,
		`CREATE TABLE marsh."Odd Name"("order" int, hide int REFERENCES marsh.hide)`,
		`CREATE TABLE closed.hide(id int)`, `GRANT SELECT ON closed.hide TO warden`,
		`COMMENT ON TABLE marsh.hide IS 'where people sit'`,
		`CREATE UNIQUE INDEX hide_lower ON marsh.hide(lower(name)) WHERE id > 10`,
		`INSERT INTO marsh.hide SELECT i, 'hide ' || i FROM generate_series(1, 1200) i`, `ANALYZE marsh.hide`)
	browse := func(args ...string) *testkit.Result {
		t.Helper()
		return p.OK(append([]string{"browse", "sightings"}, args...)...)
	}
	for _, kind := range catalogue.KindsOf(new(engine.Catalogue)) {
		if r := browse(string(kind.Word)); !strings.HasPrefix(r.Stdout, head(kind.Word)) || strings.Count(r.Stdout, "\n") < 2 {
			t.Errorf("%s: %q", kind.Word, r.Stdout)
		}
	}

	before := browse("access", "marsh*.*").Stdout
	if !strings.Contains(before, "table\tmarsh\thide\tnothing\tbut no usage of its schema\n") {
		t.Errorf("before the grant: %s", before)
	}
	server.SQL(t, "sightings", `GRANT USAGE ON SCHEMA marsh TO warden`, `GRANT SELECT, INSERT(id) ON marsh.hide TO warden`)
	browse("access", "marsh.hide").Has("table\tmarsh\thide\tselect, insert (some columns)\t\\N\n")
	browse("access", "closed.*").Has("schema\tclosed\tclosed\tnothing\t\\N\n", "table\tclosed\thide\tselect\tbut no usage of its schema\n")

	browse("tables", "marsh.hide").Has("marsh\thide\ttable\t1200\t")
	browse("tables", "Odd*").Has("marsh\t\"Odd Name\"\ttable\t")
	browse("tables", "-format", "json", "Odd*").Has(`"table":"Odd Name"`)
	browse("columns", "marsh.hide").Has("marsh\thide\tsize\tnumeric(6,2)\tyes\t1.5\t\\N\t\\N\n", "marsh\thide\tname\ttext\tno\t\\N\tunique\t\\N\n")
	browse("columns", `"Odd Name"`).Has("marsh\t\"Odd Name\"\t\"order\"\tinteger\tyes", "refers to marsh.hide")
	browse("columns", "MARSH.HIDE").Has("marsh\thide\tid\tinteger\tno\t\\N\tprimary\t\\N\n")
	browse("indexes", "marsh.hide").Has("hide_lower\tlower(name)\tyes\tno\tbtree\tid > 10\t")
	if r := browse("indexes", `marsh."Odd Name"`); r.Stdout != head(engine.KindIndexes) {
		t.Errorf("a table without an index: %q", r.Stdout)
	}
	browse("accounts", "warden").Has("warden\tyes\tno\t")
	browse("settings", "server_version_n*").Has("server_version_num\t")
	browse("activity").Has("this session")
	browse("databases", "sightings").Has("sightings\t")
	if r := browse("tables", "pg_*"); r.Stdout != head(engine.KindTables) {
		t.Errorf("without -system: %q", r.Stdout)
	}
	browse("tables", "pg_cl*", "-system").Has("pg_catalog\tpg_class\ttable\t")
	browse("columns", "pg_class").Has("pg_catalog\tpg_class\trelname\tname")

	p.Run("browse", "sightings", "columns", "marsh.hied").Want(1).Has(`sees no table "marsh.hied"; near: hide`)
	p.Run("browse", "sightings", "columns", "public.hide").Want(1).Has("there is one of that name in closed, marsh")
	p.Run("browse", "sightings", "tabels").Want(2).Has("did you mean")
	p.Run("browse", "sightings", "activity", "-against", "admin").Want(2)
	p.Run("browse", "sightings", "-format", "csv").Want(2).Has("a KIND takes any format")
	p.Run("browse", "sightings", "-override", "secret=env:KNOT").Want(5).Has("login.password")

	r := p.Run("browse", "sightings", "access", "marsh.*", "-against", "admin", "-override", "database=sightings").Want(1)
	r.Has("what\tschema\tname\tdiffers\tsightings\tadmin\n", "table\tmarsh\thide\tmay\tselect, insert (some columns)\tselect, insert, update, delete")
	p.Run("browse", "sightings", "columns", "marsh.hide", "-against", "admin", "-database", "sightings", "-format", "table").Want(0).Has("no difference")

	browse().Has("account   warden", "marsh", "usage", "closed", "nothing", "log in")
	var v struct {
		Size    int64
		MayAt   map[string]int `json:"may_at"`
		Schemas []struct {
			Schema, May string
			Rows        int64
		}
	}
	if err := json.Unmarshal([]byte(browse("-format", "json").Stdout), &v); err != nil || v.Size < 1<<20 || v.MayAt["select"] < 2 || len(v.Schemas) < 3 {
		t.Errorf("%v %+v", err, v)
	}
}

// TestBrowseActivity: a session that waits for another says for which, and a statement with a password is not shown.
func TestBrowseActivity(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	server.SQL(t, "sightings", "CREATE TABLE held(id int)")
	holder, err := server.Connect("sightings")
	if err != nil {
		t.Fatal(err)
	}
	defer holder.Close(t.Context())
	if _, err := holder.Exec(t.Context(), "BEGIN; LOCK TABLE held").ReadAll(); err != nil {
		t.Fatal(err)
	}
	waiter, err := server.Connect("sightings")
	if err != nil {
		t.Fatal(err)
	}
	defer waiter.Close(t.Context())
	go waiter.Exec(t.Context(), "SELECT * FROM held").ReadAll()
	other, err := server.Connect("sightings")
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close(t.Context())
	if _, err := other.Exec(t.Context(), "CREATE ROLE nobody_of_note PASSWORD 'curlew-secret'; DROP ROLE nobody_of_note").ReadAll(); err != nil {
		t.Fatal(err)
	}
	for start := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		r := p.OK("browse", "admin", "activity", "-override", "database=sightings")
		testkit.NoSecret(t, "the activity", r.Stdout+r.Stderr, "curlew-secret")
		if strings.Contains(r.Stdout, "a lock of ") && strings.Contains(r.Stdout, "idle in transaction") {
			r.Has("SELECT * FROM held", "(not shown: it has a password)")
			break
		}
		if time.Since(start) > 10*time.Second {
			t.Fatal(r.Stdout)
		}
	}
	p.Run("browse", "sightings", "sizes", "-statement-timeout", "200ms").Want(1).Has("-statement-timeout")
	p.OK("browse", "sightings", "columns", "held")
	p.OK("browse", "sightings")
}

// TestBrowseIsNotLedAstray: what a role's search path and functions are decides nothing.
func TestBrowseIsNotLedAstray(t *testing.T) {
	t.Parallel()
	server := testkit.ThrowAwayWith(t, "local all all trust\nhost all all 127.0.0.1/32 scram-sha-256\n", `CREATE SCHEMA astray`, `GRANT USAGE ON SCHEMA astray TO PUBLIC`,
		`CREATE VIEW astray.pg_class AS SELECT 1 AS one`, `CREATE VIEW astray.pg_namespace AS SELECT 1 AS one`,
		`CREATE FUNCTION astray.has_schema_privilege(oid, text) RETURNS boolean LANGUAGE sql AS 'SELECT true'`,
		`CREATE ROLE astray LOGIN PASSWORD 'knot'`, `ALTER ROLE astray SET search_path = astray, pg_catalog`,
		`CREATE SCHEMA hidden`)
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Profiles(fmt.Sprintf("[profile.astray]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"postgres\"\nuser = \"astray\"\nsecret = \"env:KNOT\"\n", server.Port))
	p.OK("browse", "astray", "schemas", "hidden").Has("hidden\t", "\tno\tno\t")
}

// TestBrowseMariaDB looks at a real MariaDB: the columns are the same.
func TestBrowseMariaDB(t *testing.T) {
	t.Parallel()
	p, server := onMariaDB(t)
	server.SQL(t, "CREATE TABLE moult.`Odd Name`(`order` int, size decimal(6,2) DEFAULT 1.5 COMMENT 'in mm')",
		"CREATE ROLE counters", "GRANT SELECT ON moult.* TO counters", "GRANT counters TO bander@'%'", "SET DEFAULT ROLE counters FOR bander@'%'")
	for _, kind := range catalogue.KindsOf(new(engine.Catalogue)) {
		if r := p.OK("browse", "moult", string(kind.Word)); !strings.HasPrefix(r.Stdout, head(kind.Word)) {
			t.Errorf("%s: %q", kind.Word, r.Stdout)
		}
		if r := p.OK("browse", "admin", string(kind.Word), "-system"); strings.Count(r.Stdout, "\n") < 2 {
			t.Errorf("%s of an administrator: %q", kind.Word, r.Stdout)
		}
	}
	p.OK("browse", "moult", "columns", "Odd Name").Has("moult\t`Odd Name`\t`order`\tint(11)\tyes", "size\tdecimal(6,2)\tyes\t1.50\t\\N\tin mm")
	p.OK("browse", "moult", "accounts").Has("this login sees only a part of the accounts")
	p.OK("browse", "admin", "accounts", "bander").Has("'bander'@'%'\tyes\tno\t")
	r := p.OK("browse", "moult", "access")
	r.Has("by the role counters", "use the role counters")
	if strings.Contains(r.Stdout, "*") || strings.Contains(r.Stdout, "IDENTIFIED") {
		t.Errorf("a password as it is saved: %s", r.Stdout)
	}
	p.OK("browse", "moult").Has("database  moult", "account   bander")
}
