// Command loop makes COUNT logins with the driver alone, PARALLEL at a time, as
// the peer of a test of many profiles: CONNECTION-STRING as the driver reads it.
package main

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"sync"

	"github.com/jackc/pgx/v5/pgconn"
)

func main() {
	count, _ := strconv.Atoi(os.Args[1])
	parallel, _ := strconv.Atoi(os.Args[2])
	next := make(chan struct{})
	var group sync.WaitGroup
	for range parallel {
		group.Go(func() {
			for range next {
				conn, err := pgconn.Connect(context.Background(), os.Args[3])
				if err != nil {
					fmt.Fprintln(os.Stderr, "a bare login failed")
					os.Exit(1)
				}
				conn.Close(context.Background())
			}
		})
	}
	for range count {
		next <- struct{}{}
	}
	close(next)
	group.Wait()
}
