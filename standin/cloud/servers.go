package cloud

import (
	"crypto/tls"
	"fmt"

	"gentleharbor/standin/mysql"
	"gentleharbor/standin/postgresql"
)

// PostgreSQL starts a simulated PostgreSQL server for an instance, with a database.
func PostgreSQL(database string, tables ...string) func(*tls.Config) (Server, error) {
	return func(secure *tls.Config) (Server, error) {
		s, err := postgresql.Start(postgresql.Config{
			Version:   "16.2",
			Databases: []string{"postgres", database},
			Tables:    tables,
			TLS:       secure,
			OnlyTLS:   true,
			Roles:     map[string]postgresql.Role{},
		})
		return &overPostgreSQL{s}, err
	}
}

type overPostgreSQL struct{ *postgresql.Server }

func (s *overPostgreSQL) Address() string { return fmt.Sprintf("127.0.0.1:%d", s.Port()) }

// Allow makes a role; one without a password logs in by a certificate for its name.
func (s *overPostgreSQL) Allow(user, password, _ string) {
	role := postgresql.Role{Password: password}
	if password == "" {
		role.Method = "cert"
	}
	s.Server.Allow(user, role)
}

// MySQL starts a simulated MySQL server for an instance, with a database.
func MySQL(database string, tables ...string) func(*tls.Config) (Server, error) {
	return func(secure *tls.Config) (Server, error) {
		s, err := mysql.Start(mysql.Config{
			Version:   "8.4.0",
			UUID:      "5a175a17-0000-4000-8000-0000e57a4a4e",
			Databases: []string{database},
			Tables:    tables,
			TLS:       secure,
			NoNames:   true,
		})
		return &overMySQL{s}, err
	}
}

type overMySQL struct{ *mysql.Server }

func (s *overMySQL) Address() string { return fmt.Sprintf("127.0.0.1:%d", s.Port()) }

func (s *overMySQL) Allow(user, password, database string) {
	s.Server.Allow(mysql.Account{User: user, Host: "%", Password: password, Databases: []string{database}, NeedsTLS: true})
}
