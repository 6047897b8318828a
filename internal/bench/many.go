//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"gentleharbor/internal/testkit"
)

// The run of many: how many profiles, and how many at a time.
const (
	profiles = 1000
	parallel = 32
	rounds   = 5 // each takes seconds
)

// mariadb compares a whole test with the bare login, TLS off and verified, and
// a thousand with a loop of bare logins.
func (b *bench) mariadb() error {
	server, err := testkit.StartMariaDB()
	if err != nil {
		return err
	}
	b.env = append(b.env, "ADMIN="+testkit.AdminPassword)
	base := fmt.Sprintf("[profile.%%s]\nengine = \"mariadb\"\nhost = \"127.0.0.1\"\nport = %d\nuser = "+
		"\"admin\"\ndatabase = \"moult\"\nsecret = \"env:ADMIN\"\n", server.Port)
	if err := b.profiles(fmt.Sprintf(base, "moult") + fmt.Sprintf("tls-ca = %q\ntls-name = \"localhost\"\n",
		server.Authority)); err != nil {
		return err
	}
	dsn := fmt.Sprintf("admin:%s@tcp(127.0.0.1:%d)/moult", testkit.AdminPassword, server.Port)
	b.env = append(b.env, "MYSQL_PWD="+testkit.AdminPassword)
	if err := b.compare("test / client, MariaDB", 0.70, []string{"gharbor", "test", "moult", "-override", "tls=off"},
		[]string{server.Client(), "--no-defaults", "-h", "127.0.0.1", "-P", fmt.Sprint(server.Port), "-u", "admin",
			"--skip-ssl", "-B", "-N", "-e", "SELECT 1", "moult"}); err != nil {
		return err
	}
	if err := b.compare("test, MariaDB, TLS off", 1.5, []string{"gharbor", "test", "moult", "-override", "tls=off"},
		[]string{"mysqllogin", dsn}); err != nil {
		return err
	}
	if err := b.compare("test, MariaDB, TLS verified", 1.5,
		[]string{"gharbor", "test", "moult", "-override", "tls=verified"},
		[]string{"mysqllogin", dsn, server.Authority, "localhost"}); err != nil {
		return err
	}
	if err := b.fleet(base + "tls = \"off\"\n\n"); err != nil {
		return err
	}
	return b.rounds("1,000 at 32, MariaDB", 2.0, []string{"mysqlloop", fmt.Sprint(profiles), fmt.Sprint(parallel), dsn})
}

// many does the same on PostgreSQL.
func (b *bench) many() error {
	server, err := testkit.StartPostgreSQL()
	if err != nil {
		return err
	}
	base := fmt.Sprintf("[profile.%%s]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = "+
		"\"warden\"\ndatabase = \"sightings\"\nsecret = \"env:WARDEN\"\ntls = \"off\"\n\n", server.Port)
	if err := b.fleet(base); err != nil {
		return err
	}
	peer := fmt.Sprintf("host=127.0.0.1 port=%d dbname=sightings user=warden password='%s' sslmode=disable", server.Port,
		strings.ReplaceAll(testkit.WardenPassword, `\`, `\\`))
	return b.rounds("1,000 at 32, PostgreSQL (SCRAM)", 1.3,
		[]string{"loop", fmt.Sprint(profiles), fmt.Sprint(parallel), peer})
}

// fleet writes a thousand profiles.
func (b *bench) fleet(form string) error {
	var text strings.Builder
	for i := range profiles {
		fmt.Fprintf(&text, form, fmt.Sprintf("station-%d", i))
	}
	return b.profiles(text.String())
}

func (b *bench) profiles(text string) error {
	if err := os.MkdirAll(filepath.Join(b.folder, "home"), 0o700); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(b.folder, "home", "profiles.toml"), []byte(text), 0o600)
}

// rounds compares the test of all profiles with a peer, a few times.
func (b *bench) rounds(what string, aim float64, peer []string) error {
	return b.compareTimes(rounds, what, aim,
		[]string{"gharbor", "test", "-all", "-parallel", fmt.Sprint(parallel), "-quiet"}, peer)
}
