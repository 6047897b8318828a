// Command login makes one login with the driver alone, as the peer of a whole
// test: CONNECTION-STRING as the driver reads it.
package main

import (
	"context"
	"fmt"
	"os"

	"github.com/jackc/pgx/v5/pgconn"
)

func main() {
	ctx := context.Background()
	conn, err := pgconn.Connect(ctx, os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, "the bare login failed")
		os.Exit(1)
	}
	conn.Close(ctx)
}
