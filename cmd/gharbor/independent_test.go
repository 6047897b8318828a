//go:build unix

package main

import (
	"fmt"
	"testing"

	"gentleharbor/internal/testkit"
)

// TestIndependentSQL: a server of another make that speaks MySQL's protocol, lacks some of its variables and has its own
// words and codes for refusals.
func TestIndependentSQL(t *testing.T) {
	t.Parallel()
	port := testkit.IndependentSQL(t, "sightings", "warden", "knot")
	p := testkit.NewProgram(t)
	p.Setenv("KNOT", "knot")
	p.Setenv("WRONG", "dunlin")
	p.Profiles(fmt.Sprintf("[profile.x]\nengine = \"mysql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\ndatabase = \"sightings\"\nsecret = \"env:KNOT\"\n", port))
	runReal(t, p, "x", []realCase{
		{"right", nil, "session", "ok", "", "", ""},
		{"without a database", override("database="), "session", "ok", "", "", ""},
		{"as mariadb", override("engine=mariadb"), "speak", "warn", "speak.flavour", "MySQL", "engine=mysql"},
		{"a wrong password", override("secret=env:WRONG"), "login", "fail", "login.password", "Access denied", "secret=ask"},
		{"no such user", override("user=nobody"), "login", "fail", "login.refused", "No authentication methods", "gharbor show"},
		{"no such database", override("database=sightins"), "database", "fail", "database.missing", "sightings", "database=sightings"},
		{"TLS", override("tls=required"), "tls", "fail", "tls.not-offered", "does not offer TLS", "tls=offered"},
		{"as postgresql", override("engine=postgresql"), "speak", "fail", "speak.other-engine", "MySQL", "engine=mysql"},
	})
	p.OK("query", "x", "SELECT 41 + 1 AS answer", "-format", "tsv").Has("answer\n42")
	p.OK("with", "x", "--", "sh", "-c", "echo $MYSQL_HOST:$MYSQL_TCP_PORT").Has(fmt.Sprintf("127.0.0.1:%d", port))
}

// TestIndependentDocuments: a server that speaks MongoDB's protocol is known as one.
func TestIndependentDocuments(t *testing.T) {
	t.Parallel()
	port := testkit.IndependentDocuments(t)
	p := testkit.NewProgram(t)
	p.Profiles(fmt.Sprintf("[profile.x]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\n", port))
	runReal(t, p, "x", []realCase{
		{"as postgresql", nil, "speak", "fail", "speak.other-engine", "a MongoDB server answers", "engine=mongodb"},
		{"as mysql", override("engine=mysql"), "speak", "fail", "speak.other-engine", "a MongoDB server answers", "engine=mongodb"},
	})
}
