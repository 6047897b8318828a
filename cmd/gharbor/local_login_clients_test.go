//go:build linux

package main

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/lib/pq"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/cloud"
)

// behindTwoHops is a program whose profiles of a server, by user, are behind two jump hosts. more is what each profile
// has besides.
func behindTwoHops(t *testing.T, engine string, port int, database, more string, accounts map[string]string) *testkit.Program {
	t.Helper()
	outer, inner := testkit.SSHServer(t), testkit.SSHServer(t)
	p := testkit.NewProgram(t)
	p.Knows(outer.KnownLine(t), inner.KnownLine(t))
	var text strings.Builder
	for user, password := range accounts {
		p.Setenv("OF_"+strings.ToUpper(user), password)
		fmt.Fprintf(&text, "[profile.%s]\nengine = %q\nhost = \"127.0.0.1\"\nport = %d\n%suser = %q\nsecret = \"env:OF_%s\"\n%s\n",
			user, engine, port, database, user, strings.ToUpper(user), more)
		text.WriteString(outer.Hop(user, `key = "`+outer.Key+`"`))
		text.WriteString(inner.Hop(user, `key = "`+inner.Key+`"`))
	}
	p.Profiles(text.String())
	return p
}

// TestLocalLoginMethods: each way to log in, over verified TLS behind two hops, by the Go libraries.
func TestLocalLoginMethods(t *testing.T) {
	t.Parallel()
	server := testkit.PostgreSQLServer(t)
	p := behindTwoHops(t, "postgresql", server.Port, "database = \"postgres\"\n", fmt.Sprintf("tls = \"verified\"\ntls-ca = %q\ntls-name = \"localhost\"\n", server.Authority),
		map[string]string{"warden": testkit.WardenPassword, "md5user": "knot"})
	for user := range map[string]string{"warden": "scram-sha-256", "md5user": "md5"} {
		folder := loggingIn(t, p, user)
		db, err := sql.Open("postgres", "host="+folder+" user="+user+" dbname=postgres sslmode=disable")
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		var who string
		if err := db.QueryRowContext(t.Context(), "SELECT current_user || $1::text", "!").Scan(&who); err != nil || who != user+"!" {
			t.Errorf("%s: %q %v", user, who, err)
		}
		p.OK("tunnel", "show", user).Has(", then ")
	}
	maria := testkit.MariaDBServer(t)
	p = behindTwoHops(t, "mariadb", maria.Port, "", fmt.Sprintf("tls = \"verified\"\ntls-ca = %q\ntls-name = \"localhost\"\n", maria.Authority),
		map[string]string{"bander": testkit.BanderPassword, "edward": "knot"})
	for _, user := range []string{"bander", "edward"} {
		folder := loggingIn(t, p, user)
		db, err := sql.Open("mysql", user+"@unix("+folder+"/mysqld.sock)/")
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		var who string
		if err := db.QueryRowContext(t.Context(), "SELECT CONCAT(USER(), ?)", "!").Scan(&who); err != nil || !strings.HasPrefix(who, user+"@") || !strings.HasSuffix(who, "!") {
			t.Errorf("%s: %q %v", user, who, err)
		}
	}
}

// TestLocalLoginPQ: notifications, prepared statements, rows of 100 MB and the server's own program.
func TestLocalLoginPQ(t *testing.T) {
	t.Parallel()
	p, _, server := tides(t)
	folder := loggingIn(t, p, "tides")
	dsn := "host=" + folder + " user=tidekeeper dbname=tides sslmode=disable"
	heard := make(chan string, 1)
	listener := pq.NewListener(dsn, time.Second, time.Second, nil)
	defer listener.Close()
	if err := listener.Listen("ebb"); err != nil {
		t.Fatal(err)
	}
	go func() {
		if n := <-listener.Notify; n != nil {
			heard <- n.Extra
		}
	}()
	db, err := sql.Open("postgres", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("NOTIFY ebb, 'at six'"); err != nil {
		t.Fatal(err)
	}
	select {
	case text := <-heard:
		if text != "at six" {
			t.Errorf("heard %q", text)
		}
	case <-time.After(20 * time.Second):
		t.Error("the notification did not come")
	}
	ready, err := db.Prepare("SELECT $1::int + 1")
	if err != nil {
		t.Fatal(err)
	}
	for i := range 20 {
		var got int
		if err := ready.QueryRow(i).Scan(&got); err != nil || got != i+1 {
			t.Errorf("%d: %v", got, err)
		}
	}
	var large []byte
	if err := db.QueryRow("SELECT convert_to(repeat('a', 100000000), 'UTF8')").Scan(&large); err != nil || len(large) != 100e6 {
		t.Errorf("%d bytes: %v", len(large), err)
	}
	out, err := exec.Command(server.Client(), "-h", folder, "-U", "tidekeeper", "-XAtc", "SELECT current_user; SELECT 2").CombinedOutput()
	if string(out) != "tidekeeper\n2\n" {
		t.Errorf("%q %v", out, err)
	}
}

// TestLocalLoginNode: the libraries of another language connect by their own words, on a socket and on a port.
func TestLocalLoginNode(t *testing.T) {
	t.Parallel()
	p, _, _ := tides(t)
	folder := loggingIn(t, p, "tides")
	got := testkit.Node(t, `
const { Client } = require('pg')
const run = async () => {
  const c = new Client({ host: process.env.AT, user: 'tidekeeper', database: 'tides' })
  await c.connect()
  const heard = new Promise(done => c.on('notification', m => done(m.payload)))
  await c.query('LISTEN ebb')
  await c.query("NOTIFY ebb, 'at six'")
  const r = await c.query({ name: 'once', text: 'SELECT current_user AS who, $1::int + 1 AS n', values: [41] })
  const big = await c.query("SELECT repeat('x', 20000000) AS x")
  console.log(r.rows[0].who, r.rows[0].n, big.rows[0].x.length, await heard)
  await c.end()
  const other = new Client({ host: process.env.AT, user: 'curator', database: 'tides' })
  await other.connect().catch(e => console.log(e.code, e.message))
}
run()`, "AT="+folder)
	if got != "tidekeeper 42 20000000 at six\n08004 this address logs in as \"tidekeeper\", and as nobody else (login.other-user)\n" {
		t.Errorf("%s", got)
	}
	maria, _ := onMariaDB(t)
	port := testkit.FreePort(t)
	loggingIn(t, maria, "moult", "-local", fmt.Sprint(port))
	got = testkit.Node(t, `
const mysql = require('mysql2/promise')
const run = async () => {
  const c = await mysql.createConnection({ host: '127.0.0.1', port: +process.env.PORT, user: 'bander', multipleStatements: true })
  const [r] = await c.execute('SELECT CURRENT_USER() AS who, DATABASE() AS d, ? + 1 AS n', [41])
  const [many] = await c.query('SELECT 1 AS a; SELECT 2 AS b')
  const [big] = await c.query("SELECT REPEAT('x', 12000000) AS x")
  console.log(r[0].who, r[0].d, Number(r[0].n), many[1][0].b, big[0].x.length)
  await c.changeUser({ user: 'curator', password: 'knot' }).catch(e => console.log([1045, 1698].includes(e.errno)))
  c.destroy()
  await mysql.createConnection({ host: '127.0.0.1', port: +process.env.PORT, user: 'curator' }).catch(e => console.log(e.errno, e.message))
}
run()`, fmt.Sprint("PORT=", port))
	if want := "bander@% moult 42 2 12000000\ntrue\n1105 this address logs in as \"bander\", and as nobody else (login.other-user)"; !strings.HasPrefix(got, want) {
		t.Errorf("%s", got)
	}
}

// TestLocalLoginMany: a thousand short connections, eight at a time, and none is left.
func TestLocalLoginMany(t *testing.T) {
	t.Parallel()
	p, _, _ := tides(t)
	folder := loggingIn(t, p, "tides")
	var done atomic.Int64
	failed := make(chan error, 8)
	for range 8 {
		go func() {
			for done.Add(1) <= 1000 {
				one, err := pgx.Connect(t.Context(), "host="+folder+" user=tidekeeper")
				if err != nil {
					failed <- err
					return
				}
				one.Close(t.Context())
			}
			failed <- nil
		}()
	}
	for range 8 {
		if err := <-failed; err != nil {
			t.Error(err)
		}
	}
	waitFor(t, "the connections to be closed", func() bool {
		return strings.Contains(p.OK("tunnel", "show", "tides").Stdout, " 0 open, 1000 in all, 0 failed")
	})
}

// TestLocalLoginReadOnly: the session begins read-only, and it is said how a program ends that.
func TestLocalLoginReadOnly(t *testing.T) {
	t.Parallel()
	p, _, _ := tides(t)
	folder := loggingIn(t, p, "tides", "-read-only")
	for settings, want := range map[string]string{"": "25006", " options='-c default_transaction_read_only=off'": "25006", " Default_Transaction_Read_Only=off": "25006"} {
		conn, err := pgx.Connect(t.Context(), "host="+folder+" user=tidekeeper"+settings)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := conn.Exec(t.Context(), "CREATE TABLE knot(a int)"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", settings, err)
		}
		if _, err := conn.Exec(t.Context(), "DISCARD ALL"); err != nil {
			t.Error(err)
		}
		if _, err := conn.Exec(t.Context(), "CREATE TABLE knot(a int)"); err == nil {
			t.Errorf("%q: it writes after DISCARD ALL", settings)
		}
		conn.Close(t.Context())
	}
	p.OK("tunnel", "show", "tides").Has("sessions begin read-only")
	p.OK("with", "tides", "-login", "-read-only", "--", "true").Has("a program can end that (SET default_transaction_read_only = off)")
	p.OK("set", "tides", "guard=read-only")
	p.OK("with", "tides", "-login", "--", "true").Has("sessions begin read-only")

	p, _ = onMariaDB(t)
	folder = loggingIn(t, p, "moult", "-read-only", "-local-infile")
	db, err := sql.Open("mysql", "bander@unix("+folder+"/mysqld.sock)/")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE moult.knot(a int)"); err == nil || !strings.Contains(err.Error(), "1792") {
		t.Errorf("it writes: %v", err)
	}
}

// TestLocalLoginFiles: files of this machine pass where that is asked for.
func TestLocalLoginFiles(t *testing.T) {
	t.Parallel()
	p, _ := onMariaDB(t)
	folder := loggingIn(t, p, "moult", "-local-infile")
	db, err := sql.Open("mysql", "bander@unix("+folder+"/mysqld.sock)/")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	file := filepath.Join(t.TempDir(), "rings")
	os.WriteFile(file, []byte("7\n8\n"), 0o600)
	driver.RegisterLocalFile(file)
	conn, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	var rows int
	_, err = conn.ExecContext(t.Context(), "CREATE TEMPORARY TABLE rings(number int)")
	if err == nil {
		_, err = conn.ExecContext(t.Context(), "LOAD DATA LOCAL INFILE '"+file+"' INTO TABLE rings")
	}
	if err == nil {
		err = conn.QueryRowContext(t.Context(), "SELECT SUM(number) FROM rings").Scan(&rows)
	}
	if err != nil || rows != 15 {
		t.Errorf("%d: %v", rows, err)
	}
	p.Run("with", "moult", "-local-infile", "--", "true").Want(125).Has("-local-infile goes with -login")
	pg, _, _ := tides(t)
	pg.Run("tunnel", "open", "tides", "-login", "-local-infile").Want(2).Has("asks no program for files")
}

// TestLocalLoginPassword: a password of the address in place of the user that connects.
func TestLocalLoginPassword(t *testing.T) {
	t.Parallel()
	p, _, _ := tides(t)
	port := testkit.FreePort(t)
	run := t.TempDir()
	os.Chmod(run, 0o700)
	p.Setenv("XDG_RUNTIME_DIR", run)
	file := filepath.Join(run, fmt.Sprintf("gentle-harbor-%d", os.Getuid()), "login", "tides", "password")
	r := p.OK("tunnel", "open", "tides", "-login", "-local", fmt.Sprint(port), "-local-password", "-background")
	r.Has("any program that sends the password in the file " + file)
	t.Cleanup(func() { p.Run("tunnel", "close", "tides") })
	info, err := os.Stat(file)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("%v %v", info, err)
	}
	content, _ := os.ReadFile(file)
	password := strings.TrimSpace(string(content))
	if len(password) < 20 || strings.Contains(r.Stdout+r.Stderr, password) {
		t.Errorf("the password has %d characters, and %s", len(password), r.Stdout)
	}
	at := fmt.Sprintf("host=127.0.0.1 port=%d user=tidekeeper sslmode=disable", port)
	for with, want := range map[string]string{" password=" + password: "", " password=knot": "login.local-password", "": "login.local-password"} {
		conn, err := pgx.Connect(t.Context(), at+with)
		if err == nil {
			conn.Close(t.Context())
		}
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) && with != "" {
			t.Errorf("%q: %v", with, err)
		}
	}
	p.OK("tunnel", "show", "tides").Has("of others", "programs that send the password in "+file, "login.local-password")
	p.OK("tunnel", "close", "tides")
	if _, err := os.Stat(file); err == nil {
		t.Error("the file is still there")
	}
	p.Run("tunnel", "open", "tides", "-login", "-local-password").Want(2).Has("-local-password goes with -local")
	p.OK("with", "tides", "-login", "-local", "0", "-local-password", "--", "sh", "-c",
		`test -n "$PGPASSFILE" && test -z "$PGPASSWORD" && psql -XAtc 'SELECT current_user'`).Has("tidekeeper")
	p.OK("with", "tides", "-login", "-local", "0", "--", "sh", "-c", `psql -XAtc 'SELECT current_user'; echo "$PGHOST"`).Has("tidekeeper", "127.0.0.1")
	p.Run("with", "tides", "-login", "-local", "0.0.0.0:0", "--", "true").Want(125).Has("others on the network")

	maria, server := onMariaDB(t)
	maria.OK("with", "moult", "-login", "-local", "0", "-local-password", "--", server.Client(), "--defaults-extra-file={optionfile}", "-Ne", "SELECT CURRENT_USER()").Has("bander@%")
	maria.Run("with", "moult", "-login", "-local", "0", "-local-password", "--", server.Client(), "-h127.0.0.1", "-P{port}", "-ubander", "-pknot", "-e", "SELECT 1").Want(1).Has("login.local-password")
}

// TestLocalLoginHalf: a program that stops in the middle of its opening is let go after a while, and holds up nobody.
func TestLocalLoginHalf(t *testing.T) {
	t.Parallel()
	p, _, _ := tides(t)
	folder := loggingIn(t, p, "tides") // a socket: no other test's program looks at it
	var stuck []net.Conn
	for i := range 40 {
		conn, err := net.Dial("unix", filepath.Join(folder, ".s.PGSQL.5432"))
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		conn.Write([]byte("\x00\x00\x00\x64\x00\x03\x00\x00user\x00tidekeeper\x00")[:i%24])
		stuck = append(stuck, conn)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 8*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, "host="+folder+" user=tidekeeper")
	if err != nil {
		t.Fatal(err)
	}
	conn.Close(ctx)
	for _, conn := range stuck {
		conn.SetReadDeadline(time.Now().Add(30 * time.Second))
		if n, err := conn.Read(make([]byte, 1)); n != 0 || os.IsTimeout(err) {
			t.Fatalf("%d bytes, %v", n, err)
		}
	}
	p.OK("tunnel", "show", "tides").Has(" 0 open, 41 in all, 40 failed")
}

// TestLocalLoginNoise: whatever a program sends, the address goes on.
func TestLocalLoginNoise(t *testing.T) {
	t.Parallel()
	pg, _, _ := tides(t)
	maria, _ := onMariaDB(t)
	source := rand.New(rand.NewPCG(7, 11))
	openings := []string{"\x00\x00\x00\x08\x04\xd2\x16\x2f", "\x00\x00\x00\x26\x00\x03\x00\x00user\x00tidekeeper\x00database\x00tides\x00\x00",
		"\x16\x03\x01\x02\x00\x01", "\x20\x00\x00\x01\x85\xa6\x03\x00\x00\x00\x00\x01\x08" + strings.Repeat("\x00", 23) + "bander\x00\x00", "GET / HTTP/1.1\r\n\r\n"}
	for _, one := range []struct {
		p      *testkit.Program
		name   string
		socket string // no other test's program looks at one; "" for a port
	}{{pg, "tides", ".s.PGSQL.5432"}, {maria, "moult", "mysqld.sock"}, {maria, "moult", ""}} {
		var flags []string
		network, local := "tcp", fmt.Sprintf("127.0.0.1:%d", testkit.FreePort(t))
		if one.socket == "" {
			flags = []string{"-local", local, "-local-password"}
		}
		folder := loggingIn(t, one.p, one.name, flags...)
		if one.socket != "" {
			network, local = "unix", filepath.Join(folder, one.socket)
		}
		for range 200 {
			conn, err := net.Dial(network, local)
			if err != nil {
				t.Fatal(err)
			}
			sent := []byte(openings[source.IntN(len(openings))])
			for range source.IntN(4) {
				sent[source.IntN(len(sent))] = byte(source.IntN(256))
			}
			conn.Write(sent[:source.IntN(len(sent)+1)])
			if source.IntN(3) == 0 {
				more := make([]byte, source.IntN(70000))
				for i := range more {
					more[i] = byte(source.IntN(256))
				}
				conn.Write(more)
			}
			conn.Close()
		}
		waitFor(t, "the connections to be closed", func() bool {
			shown := one.p.OK("tunnel", "show", one.name).Stdout
			return strings.Contains(shown, " 0 open,") && (one.socket == "" || strings.Contains(shown, " 200 in all"))
		})
		one.p.OK("tunnel", "close", one.name)
	}
}

// TestLocalLoginCanary: the password is in nothing that a program of this machine can see.
func TestLocalLoginCanary(t *testing.T) {
	t.Parallel()
	p, _ := onMariaDB(t)
	kept := filepath.Join(t.TempDir(), "kept")
	os.WriteFile(kept, []byte(testkit.BanderPassword), 0o600)
	p.Setenv("BANDER", "elsewhere")
	p.OK("set", "moult", "secret=file:"+kept)
	run := t.TempDir()
	os.Chmod(run, 0o700)
	p.Setenv("XDG_RUNTIME_DIR", run)
	out := p.OK("with", "moult", "-login", "-local", "0", "--", "sh", "-c",
		`env; cat /proc/$PPID/cmdline /proc/$$/cmdline | tr '\0' ' '; find "$XDG_RUNTIME_DIR" "$HOME" -type f -exec cat {} +; mariadb --defaults-extra-file={optionfile} -vvv -e 'SHOW PROCESSLIST' 2>&1`)
	if strings.Contains(out.Stdout+out.Stderr, testkit.BanderPassword) || !strings.Contains(out.Stdout, "bander") {
		t.Error("the password is in the environment, the arguments or a file")
	}
	port := testkit.FreePort(t)
	loggingIn(t, p, "moult", "-local", fmt.Sprint(port))
	var traffic strings.Builder
	proxy, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer proxy.Close()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		near, err := proxy.Accept()
		if err != nil {
			return
		}
		far, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			return
		}
		go func() {
			buffer := make([]byte, 1<<16)
			for {
				n, err := near.Read(buffer)
				far.Write(buffer[:n])
				if err != nil {
					far.Close()
					return
				}
			}
		}()
		buffer := make([]byte, 1<<16)
		for {
			n, err := far.Read(buffer)
			traffic.Write(buffer[:n])
			near.Write(buffer[:n])
			if err != nil {
				return
			}
		}
	}()
	db, err := sql.Open("mysql", "bander@tcp("+proxy.Addr().String()+")/")
	if err != nil {
		t.Fatal(err)
	}
	if err := db.Ping(); err != nil {
		t.Error(err)
	}
	db.Close()
	<-ended
	hash := sha256.Sum256([]byte(testkit.BanderPassword))
	for _, secret := range []string{testkit.BanderPassword, string(hash[:])} {
		if strings.Contains(traffic.String(), secret) {
			t.Error("the password is in the program's traffic")
		}
	}
	if traffic.Len() < 80 {
		t.Errorf("%d bytes of traffic prove nothing", traffic.Len())
	}
}

// TestLocalLoginLongNames: a socket has a path that the system takes, whatever the profile is called; where that can't
// be, it is said.
func TestLocalLoginLongNames(t *testing.T) {
	t.Parallel()
	p, _, server := tides(t)
	long := strings.Repeat("tide", 16)
	p.OK("copy", "tides", long)
	run, err := os.MkdirTemp("", "gharbor-run-of-somebody-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(run) })
	p.Setenv("XDG_RUNTIME_DIR", run)
	for _, name := range []string{long, "tides"} {
		r := p.OK("tunnel", "open", name, "-login", "-background")
		t.Cleanup(func() { p.Run("tunnel", "close", name) })
		at := strings.Fields(strings.TrimPrefix(r.Stdout, "open: "))[0]
		if out, err := exec.Command(server.Client(), "-h", filepath.Dir(at), "-U", "tidekeeper", "-XAtc", "SELECT 1").CombinedOutput(); string(out) != "1\n" {
			t.Errorf("%s: %s %v", at, out, err)
		}
	}
	deep := filepath.Join(run, strings.Repeat("deep", 25))
	os.Mkdir(deep, 0o700)
	p.Setenv("XDG_RUNTIME_DIR", deep)
	p.Run("with", "tides", "-login", "--", "true").Want(125).Has("its path is too long", "XDG_RUNTIME_DIR")
}

// TestLocalLoginHosts: the server is chosen at each connection, by what the profile wants of it.
func TestLocalLoginHosts(t *testing.T) {
	t.Parallel()
	p, server := onReal(t)
	second := testkit.SecondPostgreSQL(t)
	p.OK("set", "sightings", "host=", "port=", fmt.Sprintf("hosts=127.0.0.1:%d,127.0.0.1:%d,127.0.0.1:%d", testkit.ClosedPort(t), second.Port, server.Port), "target=writable")
	for _, flags := range [][]string{nil, {"-read-only"}} {
		folder := loggingIn(t, p, "sightings", flags...)
		for range 2 {
			conn, err := pgx.Connect(t.Context(), "host="+folder+" user=warden dbname=sightings")
			if err != nil {
				t.Fatal(err)
			}
			var port int
			if err := conn.QueryRow(t.Context(), "SELECT inet_server_port()").Scan(&port); err != nil || port != server.Port {
				t.Errorf("at %d, and the server that writes is at %d: %v", port, server.Port, err)
			}
			conn.Close(t.Context())
		}
		p.OK("tunnel", "close", "sightings")
	}
	p.OK("set", "sightings", fmt.Sprintf("hosts=127.0.0.1:%d", second.Port))
	p.Run("tunnel", "open", "sightings", "-login").Want(5).Has("session.target")
}

// TestLocalLoginCloud: a login that a cloud makes is made again when it has ended.
func TestLocalLoginCloud(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{LoginFor: 7 * time.Second})
	s.signIn().Want(0)
	s.OK("cloud", "adopt", "station/estuary-members/spring", "spring")
	folder := loggingIn(t, s.Program, "spring")
	ping := func() {
		db, err := sql.Open("mysql", "@unix("+folder+"/mysqld.sock)/")
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		if err := db.PingContext(t.Context()); err != nil {
			t.Error(err)
		}
	}
	logins := func() (n int) {
		for _, request := range s.Requests() {
			if strings.HasSuffix(request, "/logins") {
				n++
			}
		}
		return n
	}
	before := logins()
	ping()
	waitFor(t, "another login to be made", func() bool {
		ping()
		return logins() > before+1
	})
	s.EndSignIns()
	waitFor(t, "an end of the logins", func() bool {
		db, _ := sql.Open("mysql", "@unix("+folder+"/mysqld.sock)/")
		defer db.Close()
		err := db.PingContext(t.Context())
		return err != nil && strings.Contains(err.Error(), "cloud.sign-in-expired")
	})
	s.OK("tunnel", "show", "spring").Has("cloud.sign-in-expired", "gharbor cloud sign-in station")
}

// TestLocalLoginRotated: a password that has changed counts for the next connection.
func TestLocalLoginRotated(t *testing.T) {
	t.Parallel()
	p, server := onMariaDB(t)
	admin, err := server.Connect()
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	for _, statement := range []string{"CREATE USER turning@'%' IDENTIFIED BY 'knot'", "GRANT ALL ON moult.* TO turning@'%'"} {
		if _, err := admin.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	kept := filepath.Join(t.TempDir(), "kept")
	os.WriteFile(kept, []byte("knot"), 0o600)
	p.OK("set", "moult", "user=turning", "secret=file:"+kept)
	folder := loggingIn(t, p, "moult")
	ping := func() error {
		db, err := sql.Open("mysql", "turning@unix("+folder+"/mysqld.sock)/")
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		return db.PingContext(t.Context())
	}
	if err := ping(); err != nil {
		t.Error(err)
	}
	if _, err := admin.Exec("ALTER USER turning@'%' IDENTIFIED BY 'curlew'"); err != nil {
		t.Fatal(err)
	}
	if err := ping(); err == nil || !strings.Contains(err.Error(), "login.password") {
		t.Errorf("with the old password: %v", err)
	}
	p.OK("tunnel", "show", "moult").Has("login.password", "seen", "try")
	os.WriteFile(kept, []byte("curlew"), 0o600)
	if err := ping(); err != nil {
		t.Error(err)
	}
}

// TestLocalLoginReplication: a stream of changes where that is asked for.
func TestLocalLoginReplication(t *testing.T) {
	t.Parallel()
	p, _, server := tides(t)
	if err := server.Write("data/pg_hba.conf", "local all all trust\nhost all,replication all 127.0.0.1/32 scram-sha-256\n"); err != nil {
		t.Fatal(err)
	}
	server.SQL(t, "postgres", "ALTER ROLE tidekeeper REPLICATION", "SELECT pg_reload_conf()")
	folder := loggingIn(t, p, "tides", "-replication")
	for mode, want := range map[string]string{"database": "tides", "true": ""} {
		conn, err := pgconn.Connect(t.Context(), "host="+folder+" user=tidekeeper replication="+mode)
		if err != nil {
			t.Fatal(err)
		}
		results, err := conn.Exec(t.Context(), "IDENTIFY_SYSTEM").ReadAll()
		if err != nil || len(results) != 1 || len(results[0].Rows) != 1 || string(results[0].Rows[0][3]) != want {
			t.Errorf("replication=%s: %v %v", mode, results, err)
		}
		conn.Close(t.Context())
	}
}

// TestLocalLoginShortcut: a command of one's own that logs in for its program.
func TestLocalLoginShortcut(t *testing.T) {
	t.Parallel()
	p, _, server := tides(t)
	into := t.TempDir()
	p.OK("shortcut", "tides", "ebb-reader", "-into", into, "-login", "-read-only", "--", server.Client(), "-XAtc").Has("made: ")
	script, err := os.ReadFile(filepath.Join(into, "ebb-reader"))
	if err != nil || !strings.Contains(string(script), " with tides -login -read-only -- ") {
		t.Fatalf("%s %v", script, err)
	}
	command := exec.Command(filepath.Join(into, "ebb-reader"), "SELECT current_user || ', ' || current_setting('transaction_read_only')")
	command.Env = p.Env
	out, err := command.Output()
	if string(out) != "tidekeeper, on\n" {
		t.Errorf("%q %v", out, err)
	}
	p.Run("shortcut", "tides", "x", "-into", into, "-read-only", "--", "true").Want(2).Has("-read-only goes with -login")
}
