// Command mysqllogin makes one login with the driver alone, as the peer of a
// whole test: DSN as the driver reads it, and for TLS the PEM file of the
// authority and the name that the certificate must carry.
package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"os"

	"github.com/go-sql-driver/mysql"
)

func main() {
	if err := login(); err != nil {
		fmt.Fprintln(os.Stderr, "the bare login failed")
		os.Exit(1)
	}
}

func login() error {
	config, err := mysql.ParseDSN(os.Args[1])
	if err != nil {
		return err
	}
	if len(os.Args) > 3 {
		pem, err := os.ReadFile(os.Args[2])
		if err != nil {
			return err
		}
		roots := x509.NewCertPool()
		roots.AppendCertsFromPEM(pem)
		config.TLS = &tls.Config{RootCAs: roots, ServerName: os.Args[3]}
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return err
	}
	conn, err := connector.Connect(context.Background())
	if err != nil {
		return err
	}
	return conn.Close()
}
