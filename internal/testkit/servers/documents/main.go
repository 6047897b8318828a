// Command documents is a server that speaks MongoDB's protocol, of an independent make: github.com/FerretDB/FerretDB.
// Its words are the address and a folder.
package main

import (
	"context"
	"fmt"
	"os"

	"github.com/FerretDB/FerretDB/ferretdb"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "documents: give an address and a folder")
		os.Exit(2)
	}
	s, err := ferretdb.New(&ferretdb.Config{
		Listener:  ferretdb.ListenerConfig{TCP: os.Args[1]},
		Handler:   "sqlite",
		SQLiteURL: "file:" + os.Args[2] + "/",
	})
	if err == nil {
		err = s.Run(context.Background())
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "documents:", err)
		os.Exit(1)
	}
}
