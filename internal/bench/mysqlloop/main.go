// Command mysqlloop is loop for MySQL's driver: COUNT, PARALLEL, DSN.
package main

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"sync"

	"github.com/go-sql-driver/mysql"
)

func main() {
	count, _ := strconv.Atoi(os.Args[1])
	parallel, _ := strconv.Atoi(os.Args[2])
	config, err := mysql.ParseDSN(os.Args[3])
	if err != nil {
		os.Exit(1)
	}
	next := make(chan struct{})
	var group sync.WaitGroup
	for range parallel {
		group.Go(func() {
			for range next {
				connector, err := mysql.NewConnector(config)
				if err == nil {
					conn, connectErr := connector.Connect(context.Background())
					if err = connectErr; err == nil {
						err = conn.Close()
					}
				}
				if err != nil {
					fmt.Fprintln(os.Stderr, "a bare login failed")
					os.Exit(1)
				}
			}
		})
	}
	for range count {
		next <- struct{}{}
	}
	close(next)
	group.Wait()
}
