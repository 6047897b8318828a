// Command sqlserver is a server that speaks MySQL's protocol, of an independent make:
// github.com/dolthub/go-mysql-server, with its tables in memory. Its words are the address, a
// database, a user and the user's password.
package main

import (
	"fmt"
	"os"

	sqle "github.com/dolthub/go-mysql-server"
	"github.com/dolthub/go-mysql-server/memory"
	"github.com/dolthub/go-mysql-server/server"
	"github.com/dolthub/go-mysql-server/sql"
)

func main() {
	if len(os.Args) != 5 {
		fmt.Fprintln(os.Stderr, "sqlserver: give an address, a database, a user and a password")
		os.Exit(2)
	}
	if err := serve(os.Args[1], os.Args[2], os.Args[3], os.Args[4]); err != nil {
		fmt.Fprintln(os.Stderr, "sqlserver:", err)
		os.Exit(1)
	}
}

func serve(address, database, user, password string) error {
	provider := memory.NewDBProvider(memory.NewDatabase(database))
	engine := sqle.NewDefault(provider)
	accounts := engine.Analyzer.Catalog.MySQLDb
	accounts.SetPersister(nothing{})
	editor := accounts.Editor()
	accounts.AddSuperUser(editor, user, "%", password)
	editor.Close()
	s, err := server.NewServer(server.Config{Protocol: "tcp", Address: address}, engine, sql.NewContext,
		memory.NewSessionBuilder(provider), nil)
	if err != nil {
		return err
	}
	return s.Start()
}

// nothing keeps no accounts on disk.
type nothing struct{}

func (nothing) Persist(*sql.Context, []byte) error { return nil }
