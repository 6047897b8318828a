//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"gentleharbor/internal/testkit"
)

// storedRows is how many rows the table has that is written and loaded.
const storedRows = 1_000_000

// few is how many times what takes a second is run.
const few = 5

// statements compares running statements and loading with the servers' own clients, by their real paths. Everything
// goes to nowhere, so that no disk is measured but the server's.
func (b *bench) statements() error {
	server, err := testkit.StartPostgreSQL()
	if err != nil {
		return err
	}
	client := server.Client()
	b.env = append(b.env, "ADMIN="+testkit.AdminPassword, "PGPASSWORD="+testkit.AdminPassword)
	text := ""
	for _, database := range []string{"postgres", "stored", "loaded"} {
		text += fmt.Sprintf("[profile.%s]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"admin\"\n"+
			"database = %q\nsecret = \"env:ADMIN\"\ntls = \"off\"\n\n", database, server.Port, database)
	}
	if err := b.profiles(text); err != nil {
		return err
	}
	peer := func(database string, args ...string) []string {
		return append([]string{client, "-X", "-q", "-h", "127.0.0.1", "-p", fmt.Sprint(server.Port), "-U", "admin", "-d",
			database}, args...)
	}
	b.env = append(b.env, "PGSSLMODE=disable")
	sql := func(database string, statements ...string) error {
		for _, s := range statements {
			if _, err := b.time(peer(database, "-c", s)[0], peer(database, "-c", s)[1:]...); err != nil {
				return err
			}
		}
		return nil
	}
	const table = "stored(id int, place text, bird text, n numeric(8,2), at timestamptz, nothing text)"
	if err := sql("postgres", "CREATE DATABASE stored"); err != nil {
		return err
	}
	fill := fmt.Sprintf("INSERT INTO stored SELECT i, 'place ' || i %% 100, md5(i::text), (i %% 97)::numeric / 7, now(), "+
		"NULL FROM generate_series(1, %d) i", storedRows)
	if err := sql("stored", "CREATE TABLE "+table, fill, "VACUUM ANALYZE stored"); err != nil {
		return err
	}
	const all = "select * from stored"
	csv, cursor := peer("stored", "--csv", "-c", all), peer("stored", "--csv", "-v", "FETCH_COUNT=1000", "-c", all)
	query := func(format string) []string { return []string{"gharbor", "query", "stored", all, "-format", format} }
	for _, one := range []struct {
		what       string
		aim        float64
		ours, peer []string
	}{
		{"query csv, 1,000,000 rows", 0.60, query("csv"), csv},
		{"the same, beside its cursor mode", 1.0, query("csv"), cursor},
		{"query json, 1,000,000 rows", 1.0, query("json"), csv},
	} {
		if err := b.compareTimes(few, one.what, one.aim, one.ours, one.peer); err != nil {
			return err
		}
	}
	if err := b.compare("query 'select 1'", 0.70, []string{"gharbor", "query", "stored", "select 1"},
		peer("stored", "-c", "select 1")); err != nil {
		return err
	}
	if err := b.memory("memory of query csv", "query", "stored",
		"select i, md5(i::text) from generate_series(1, 10000000) i", "-format", "csv"); err != nil {
		return err
	}
	if err := b.session(peer("stored")); err != nil {
		return err
	}
	rows := filepath.Join(b.folder, "rows.csv")
	if _, err := b.time("gharbor", "query", "stored", all, "-format", "csv", "-out", rows); err != nil {
		return err
	}
	empty := func() error {
		return sql("stored", "DROP TABLE IF EXISTS taken", "CREATE TABLE taken AS SELECT * FROM stored LIMIT 0")
	}
	if err := b.compareInTurn(few, "load csv, 1,000,000 rows", 1.1, empty,
		[]string{"gharbor", "load", "stored", rows, "-table", "taken"},
		peer("stored", "-c", `\copy taken from '`+rows+`' csv header`)); err != nil {
		return err
	}
	return b.dump(server, sql, peer)
}

// dump compares the loading of a dump of some 200 MB.
func (b *bench) dump(
	server *testkit.PostgreSQL, sql func(string, ...string) error, peer func(string, ...string) []string,
) error {
	if err := sql("stored", "DROP TABLE IF EXISTS taken", "INSERT INTO stored SELECT * FROM stored"); err != nil {
		return err
	}
	dump := filepath.Join(b.folder, "dump.sql")
	if _, err := b.time(filepath.Join(server.Bin, "pg_dump"), "-h", "127.0.0.1", "-p", fmt.Sprint(server.Port),
		"-U", "admin", "-f", dump, "stored"); err != nil {
		return err
	}
	info, err := os.Stat(dump)
	if err != nil {
		return err
	}
	fresh := func() error { return sql("postgres", "DROP DATABASE IF EXISTS loaded", "CREATE DATABASE loaded") }
	what := fmt.Sprintf("load a dump of %d MB", info.Size()>>20)
	if err := b.compareInTurn(few, what, 1.0, fresh, []string{"gharbor", "load", "loaded", dump},
		peer("loaded", "-f", dump)); err != nil {
		return err
	}
	if err := fresh(); err != nil {
		return err
	}
	return b.memory("memory of that load", "load", "loaded", dump)
}

// memory prints the most memory that a run of the program had.
func (b *bench) memory(what string, args ...string) error {
	cmd := exec.Command(filepath.Join(b.folder, "gharbor"), args...)
	cmd.Env = b.env
	var stderr strings.Builder
	cmd.Stderr = &stderr
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w\n%s", strings.Join(args, " "), err, stderr.String())
	}
	usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	if ok {
		fmt.Printf("%-34s %8.1f MB (aim 16)\n", what, float64(usage.Maxrss)/1024)
	}
	return nil
}
