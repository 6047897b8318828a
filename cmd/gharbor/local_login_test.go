//go:build linux

package main

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"gentleharbor/internal/testkit"
)

// loggingIn opens a local address that logs in at a profile's server, with more flags.
func loggingIn(t *testing.T, p *testkit.Program, name string, flags ...string) (local string) {
	t.Helper()
	run := t.TempDir()
	os.Chmod(run, 0o700)
	p.Setenv("XDG_RUNTIME_DIR", run)
	p.OK(append([]string{"tunnel", "open", name, "-login", "-background"}, flags...)...).Has("open: ")
	t.Cleanup(func() { p.Run("tunnel", "close", name) })
	return filepath.Join(run, fmt.Sprintf("gentle-harbor-%d", os.Getuid()), "login", name)
}

// TestLocalLogin: a program without a password is in the right database, behind a hop and verified TLS.
func TestLocalLogin(t *testing.T) {
	t.Parallel()
	p, gate, _ := tides(t)
	folder := loggingIn(t, p, "tides")
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	dsn := "host=" + folder + " user=tidekeeper application_name=tidebook"
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	var who, app, in string
	var secure bool
	row := conn.QueryRow(ctx, "SELECT current_user, current_database(), current_setting('application_name'), ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()")
	if err := row.Scan(&who, &in, &app, &secure); err != nil || who != "tidekeeper" || app != "tidebook" || !secure {
		t.Errorf("%s in %s by %s, TLS %v: %v", who, in, app, secure, err)
	}
	var large string
	if err := conn.QueryRow(ctx, "SELECT repeat($1, 30000000)", "x").Scan(&large); err != nil || len(large) != 30e6 {
		t.Errorf("%d bytes: %v", len(large), err)
	}
	if _, err := conn.Exec(ctx, "CREATE TEMP TABLE level(at int)"); err != nil {
		t.Fatal(err)
	}
	rows := [][]any{{1}, {2}, {3}}
	if n, err := conn.CopyFrom(ctx, pgx.Identifier{"level"}, []string{"at"}, pgx.CopyFromRows(rows)); n != 3 || err != nil {
		t.Errorf("%d rows copied: %v", n, err)
	}
	var out bytes.Buffer
	if _, err := conn.PgConn().CopyTo(ctx, &out, "COPY level TO STDOUT"); err != nil || out.String() != "1\n2\n3\n" {
		t.Errorf("%q: %v", out.String(), err)
	}
	short, stop := context.WithCancel(ctx)
	time.AfterFunc(300*time.Millisecond, stop)
	start := time.Now()
	stopped := make(chan struct{})
	go func() {
		<-short.Done()
		if err := conn.PgConn().CancelRequest(ctx); err != nil {
			t.Error(err)
		}
		close(stopped)
	}()
	_, err = conn.Exec(ctx, "SELECT pg_sleep(30)")
	<-stopped
	var refused *pgconn.PgError
	if !errors.As(err, &refused) || refused.Code != "57014" || time.Since(start) > 10*time.Second {
		t.Errorf("a statement that is cancelled: %v after %s", err, time.Since(start))
	}
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			for range 10 {
				one, err := pgx.Connect(ctx, dsn)
				if err != nil {
					t.Error(err)
					return
				}
				one.Close(ctx)
			}
		})
	}
	group.Wait()
	for dsn, want := range map[string]string{
		"host=" + folder + " user=curator":                                        "login.other-user",
		"host=" + folder + " user=tidekeeper dbname=postgres":                     "login.other-database",
		"host=" + folder + " user=tidekeeper replication=database":                "login.replication",
		"host=" + folder + " user=tidekeeper sslmode=require dbname=none port=1":  "",
		"host=" + folder + " user=tidekeeper options='-c search_path=none,knot'":  "none,knot",
		"host=" + folder + " user=tidekeeper options='-c no_such_setting=1'":      "login.refused",
		"host=" + folder + " user=tidekeeper client_encoding=LATIN1 dbname=tides": "LATIN1",
	} {
		one, err := pgx.Connect(ctx, dsn)
		got := fmt.Sprint(err)
		if err == nil {
			var path, encoding string
			one.QueryRow(ctx, "SELECT current_setting('search_path'), current_setting('client_encoding')").Scan(&path, &encoding)
			got = path + " " + encoding
			one.Close(ctx)
		} else if want == "" {
			continue
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s: %s", dsn, got)
		}
	}
	p.OK("tunnel", "show", "tides").Has("last trouble")
	gate.Stop()
	wait, end := context.WithTimeout(ctx, 2*time.Second)
	defer end()
	if _, err := pgx.Connect(wait, dsn); err == nil {
		t.Error("it connects without a hop")
	}
	if err := gate.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "the way to be there again", func() bool {
		one, err := pgx.Connect(ctx, dsn)
		if err == nil {
			one.Close(ctx)
		}
		return err == nil
	})
}

// TestLocalLoginOfOthers: on a port, a process of another user gets nothing.
func TestLocalLoginOfOthers(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root can run a process as another user")
	}
	p, _, _ := tides(t)
	port := testkit.FreePort(t)
	loggingIn(t, p, "tides", "-local", fmt.Sprint(port))
	dsn := fmt.Sprintf("host=127.0.0.1 port=%d user=tidekeeper", port)
	conn, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	conn.Close(t.Context())
	asOther := func(tries int) string {
		script := fmt.Sprintf(`for i in $(seq %d); do exec 3<>/dev/tcp/127.0.0.1/%d || continue; printf '\0\0\0\010\4\322\26\57' >&3; head -c1 <&3; exec 3>&-; done`, tries, port)
		other := exec.Command("bash", "-c", script)
		other.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		got, _ := other.Output()
		return string(got)
	}
	var group sync.WaitGroup
	stop := make(chan struct{})
	group.Go(func() { // this user's own connections, in a race with the other's
		for {
			select {
			case <-stop:
				return
			default:
			}
			if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
				conn.Close()
			}
		}
	})
	got := asOther(200)
	close(stop)
	group.Wait()
	if len(got) > 0 {
		t.Errorf("a process of another user was answered: %q", got)
	}
	// The own connections that were closed at once are all seen before the last one.
	waitFor(t, "the own connections", func() bool {
		return strings.Contains(p.OK("tunnel", "show", "tides").Stdout, " 0 open, ")
	})
	asOther(1)
	shown := p.OK("tunnel", "show", "tides").Has("a process of another user connected, and was refused").Stdout
	// Of the other's 201 connections some may come while the most are open; this user's are none of them.
	count := regexp.MustCompile(`of others +(\d+) connections?, refused`).FindStringSubmatch(shown)
	if count == nil {
		t.Fatalf("no count of others in\n%s", shown)
	}
	if n, _ := strconv.Atoi(count[1]); n < 1 || n > 201 {
		t.Errorf("%d connections of others, 201 were made", n)
	}
}

// TestLocalLoginMariaDB: the same for MySQL's protocol, on a real MariaDB over verified TLS.
func TestLocalLoginMariaDB(t *testing.T) {
	t.Parallel()
	p, server := onMariaDB(t)
	p.OK("set", "moult", "tls=verified", "tls-ca="+server.Authority, "tls-name=localhost")
	folder := loggingIn(t, p, "moult")
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	open := func(settings string) *sql.DB {
		db, err := sql.Open("mysql", settings)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { db.Close() })
		return db
	}
	at := "@unix(" + folder + "/mysqld.sock)/"
	db := open("bander" + at + "?multiStatements=true&collation=utf8mb4_bin")
	var who, in, collation, cipher string
	row := db.QueryRowContext(ctx, "SELECT USER(), DATABASE(), @@collation_connection, (SELECT VARIABLE_VALUE FROM "+
		"information_schema.SESSION_STATUS WHERE VARIABLE_NAME = 'Ssl_cipher')")
	if err := row.Scan(&who, &in, &collation, &cipher); err != nil || !strings.HasPrefix(who, "bander@") || in != "moult" || collation != "utf8mb4_bin" || cipher == "" {
		t.Errorf("%s in %s with %s and %q: %v", who, in, collation, cipher, err)
	}
	var large string
	if err := db.QueryRowContext(ctx, "SELECT REPEAT(?, 12000000)", "x").Scan(&large); err != nil || len(large) != 12e6 {
		t.Errorf("%d bytes: %v", len(large), err)
	}
	if _, err := db.ExecContext(ctx, "SET @a = 1; SET @b = 2"); err != nil {
		t.Errorf("several statements: %v", err)
	}
	single := open("bander" + at + "moult")
	if _, err := single.ExecContext(ctx, "SET @a = 1; SET @b = 2"); err == nil {
		t.Error("several statements where the program does not want them")
	}
	one, err := single.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var id int
	if err := one.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&id); err != nil {
		t.Fatal(err)
	}
	time.AfterFunc(300*time.Millisecond, func() { db.ExecContext(ctx, fmt.Sprintf("KILL QUERY %d", id)) })
	start := time.Now()
	one.QueryRowContext(ctx, "SELECT SLEEP(30)").Scan(&id)
	if took := time.Since(start); took > 10*time.Second {
		t.Errorf("a statement that was killed took %s", took)
	}
	file := filepath.Join(t.TempDir(), "knot")
	os.WriteFile(file, []byte("knot"), 0o600)
	driver.RegisterLocalFile(file)
	if _, err := one.ExecContext(ctx, "LOAD DATA LOCAL INFILE '"+file+"' INTO TABLE moult"); err == nil || strings.Contains(err.Error(), "doesn't exist") {
		t.Errorf("a file of this machine: %v", err)
	}
	one.Close()
	for settings, want := range map[string]string{"curator" + at: "login.other-user", "bander" + at + "mysql": "login.other-database",
		"bander" + at + "?tls=skip-verify": "TLS"} {
		if err := open(settings).PingContext(ctx); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", settings, err)
		}
	}
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			for range 10 {
				short, _ := sql.Open("mysql", "bander"+at+"moult")
				if err := short.PingContext(ctx); err != nil {
					t.Error(err)
				}
				short.Close()
			}
		})
	}
	group.Wait()
	if out, err := exec.Command("mariadb", "-u", "bander", "-S", folder+"/mysqld.sock", "-Ne", "SELECT CURRENT_USER(), DATABASE()").CombinedOutput(); err != nil || !strings.Contains(string(out), "bander@") {
		t.Errorf("%s %v", out, err)
	}
}
