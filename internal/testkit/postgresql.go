//go:build unix

package testkit

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// Require is the environment variable that makes a missing server a failure.
const Require = "GHARBOR_REQUIRE_SERVERS"

// PostgreSQL is a throw-away real server.
type PostgreSQL struct {
	Bin    string // folder of the server's programs
	Lib    string // folder of the libraries that stand beside them, "" for the system's
	Folder string // its socket, and the folder above its data
	Port   int

	in       *Namespace // where it runs; nil for here
	settings string     // before the first Configure

	Certificates
}

// Accounts of the main server.
const (
	WardenPassword = "dunlin at ebb: 7\\8" // with what a password file must escape
	AdminPassword  = "curlew-9"
)

// PostgreSQLServer is the main server: TLS, IPv4 only, one account for each
// rule of its access file. It is started once per test run.
func PostgreSQLServer(t testing.TB) *PostgreSQL {
	t.Helper()
	return need(t, "PostgreSQL", mainServer)
}

// StartPostgreSQL is PostgreSQLServer outside of a test.
func StartPostgreSQL() (*PostgreSQL, error) { return mainServer() }

// SecondPostgreSQL is another server on another port: without TLS, with few
// connections, and read-only by default.
func SecondPostgreSQL(t testing.TB) *PostgreSQL {
	t.Helper()
	return need(t, "PostgreSQL", secondServer)
}

// need is a server that a test can't do without: where it can't be started, the
// test is skipped, or fails where real servers are required.
func need[S any](t testing.TB, what string, start func() (S, error)) S {
	t.Helper()
	server, err := start()
	switch {
	case err == nil:
	case os.Getenv(Require) != "":
		t.Fatalf("no %s server: %v", what, err)
	default:
		t.Skipf("no %s server: %v", what, err)
	}
	return server
}

var mainServer = sync.OnceValues(func() (*PostgreSQL, error) {
	p, err := newCluster()
	if err != nil {
		return nil, err
	}
	if err := p.certificates(); err != nil {
		return nil, err
	}
	account, err := user.Current()
	if err != nil {
		return nil, err
	}
	settings := fmt.Sprintf("listen_addresses = '127.0.0.1'\nssl = on\nssl_cert_file = '%[1]s/server.pem'\nssl_key_file "+
		"= '%[1]s/server.key'\nssl_ca_file = '%[1]s/authority.pem'\nmax_connections = 60\n", p.Folder)
	rules := fmt.Sprintf(`local   all          postgres                 trust
local   all          %q                       peer
local   all          someone-else             peer
local   all          cleartext                password
host    all          md5user     127.0.0.1/32 md5
host    all          truster     127.0.0.1/32 trust
host    all          cleartext   127.0.0.1/32 password
host    all          banned      127.0.0.1/32 reject
hostssl all          tlsonly     127.0.0.1/32 scram-sha-256
hostssl all          certified   127.0.0.1/32 cert
host    sightings    elsewhere   192.0.2.7/32 scram-sha-256
hostssl all          nowhere     192.0.2.7/32 scram-sha-256
host    all          warden,visitor,admin,expired,nologin  127.0.0.1/32 scram-sha-256
host    all          nopassword,limited,summer,vistor,oldhash  127.0.0.1/32 scram-sha-256
`, account.Username)
	if err := p.startWith(settings, rules); err != nil {
		return nil, err
	}
	return p, p.statements("postgres", mainStatements(account.Username))
})

func mainStatements(account string) []string {
	return []string{
		"SET password_encryption = 'scram-sha-256'",
		fmt.Sprintf("CREATE ROLE warden LOGIN PASSWORD '%s'", WardenPassword),
		fmt.Sprintf("CREATE ROLE admin SUPERUSER LOGIN PASSWORD '%s'", AdminPassword),
		"CREATE ROLE visitor LOGIN PASSWORD 'knot'", "ALTER ROLE visitor SET default_transaction_read_only = on",
		"CREATE ROLE expired LOGIN PASSWORD 'knot' VALID UNTIL '2001-01-01'",
		"CREATE ROLE nologin NOLOGIN PASSWORD 'knot'", "CREATE ROLE nopassword LOGIN",
		"CREATE ROLE limited LOGIN PASSWORD 'knot' CONNECTION LIMIT 0",
		"CREATE ROLE truster LOGIN", "CREATE ROLE tlsonly LOGIN PASSWORD 'knot'", "CREATE ROLE certified LOGIN",
		"CREATE ROLE cleartext LOGIN PASSWORD 'knot'", "CREATE ROLE banned LOGIN PASSWORD 'knot'",
		"CREATE ROLE elsewhere LOGIN PASSWORD 'knot'",
		"CREATE ROLE nowhere LOGIN PASSWORD 'knot'", `CREATE ROLE "someone-else" LOGIN`,
		fmt.Sprintf("CREATE ROLE %q LOGIN", account),
		"SET password_encryption = 'md5'", "CREATE ROLE md5user LOGIN PASSWORD 'knot'",
		"CREATE ROLE oldhash LOGIN PASSWORD 'knot'",
		"CREATE DATABASE sightings OWNER warden", "CREATE DATABASE sealed", "REVOKE CONNECT ON DATABASE sealed FROM PUBLIC",
		"CREATE DATABASE asleep ALLOW_CONNECTIONS false", "CREATE DATABASE crowded CONNECTION LIMIT 0",
		`\c sightings`, "CREATE TABLE sighting(id int)", "CREATE SCHEMA field CREATE TABLE observer(id int)",
		"GRANT USAGE ON SCHEMA field TO warden", "CREATE EXTENSION plpgsql",
	}
}

var secondServer = sync.OnceValues(func() (*PostgreSQL, error) {
	p, err := newCluster()
	if err != nil {
		return nil, err
	}
	settings := "listen_addresses = '127.0.0.1'\nmax_connections = 6\nsuperuser_reserved_connections = 3\nautovacuum = " +
		"off\nmax_wal_senders = 0\n"
	if err := p.startWith(settings, "local all all trust\nhost all all 127.0.0.1/32 scram-sha-256\n"); err != nil {
		return nil, err
	}
	return p, p.statements("postgres", []string{
		fmt.Sprintf("CREATE ROLE warden LOGIN PASSWORD '%s'", WardenPassword),
		fmt.Sprintf("CREATE ROLE admin SUPERUSER LOGIN PASSWORD '%s'", AdminPassword),
		"CREATE DATABASE sightings OWNER warden", "ALTER ROLE warden SET default_transaction_read_only = on",
	})
})

// ThrowAway is a server that a test may stop and start as it likes; everybody
// of this machine is let in.
func ThrowAway(t testing.TB) *PostgreSQL {
	t.Helper()
	return ThrowAwayWith(t, "local all all trust\nhost all all 127.0.0.1/32 trust\n")
}

// ThrowAwayWith is ThrowAway with access rules of the test's own, and TLS.
func ThrowAwayWith(t testing.TB, rules string, statements ...string) *PostgreSQL {
	t.Helper()
	return need(t, "PostgreSQL", func() (*PostgreSQL, error) {
		p, err := newCluster()
		if err != nil {
			return nil, err
		}
		ownTo(t, p)
		if err := p.certificates(); err != nil {
			return nil, err
		}
		return p, p.startEncrypted(rules, statements)
	})
}

// ownTo ends a server with its test, and removes its files: tens of megabytes, and there are many such tests.
func ownTo(t testing.TB, p *PostgreSQL) {
	t.Cleanup(func() {
		p.Stop("immediate")
		os.RemoveAll(p.Folder)
	})
}

// startEncrypted starts the server with TLS.
func (p *PostgreSQL) startEncrypted(rules string, statements []string) error {
	settings := fmt.Sprintf("listen_addresses = '127.0.0.1'\nssl = on\nssl_cert_file = "+
		"'%[1]s/server.pem'\nssl_key_file = '%[1]s/server.key'\nssl_ca_file = '%[1]s/authority.pem'\n", p.Folder)
	if err := p.startWith(settings, rules); err != nil {
		return err
	}
	return p.statements("postgres", statements)
}

// PostgreSQLAges are the versions that scripts/fetch-servers puts into the cache.
var PostgreSQLAges = []string{"10", "17", "18"}

// PostgreSQLOf is ThrowAwayWith for a server of a certain age, from the cache.
func PostgreSQLOf(t testing.TB, age, rules string, statements ...string) *PostgreSQL {
	t.Helper()
	return need(t, "PostgreSQL "+age, func() (*PostgreSQL, error) {
		home, err := servers("postgresql-" + age)
		if err != nil {
			return nil, err
		}
		p, err := newClusterOf(filepath.Join(home, "bin"), filepath.Join(home, "lib"))
		if err != nil {
			return nil, err
		}
		ownTo(t, p)
		if err := p.certificates(); err != nil {
			return nil, err
		}
		return p, p.startEncrypted(rules, statements)
	})
}

// moduleRoot is the folder of the project.
func moduleRoot() (string, error) {
	path, err := exec.Command("go", "env", "GOMOD").Output()
	return filepath.Dir(strings.TrimSpace(string(path))), err
}

// serverCache is where scripts/fetch-servers puts servers.
func serverCache() (string, error) {
	if cache := os.Getenv("GHARBOR_TEST_CACHE"); cache != "" {
		return cache, nil
	}
	root, err := moduleRoot()
	return filepath.Join(root, ".cache", "servers"), err
}

// servers is a folder of the cache, as a copy that every account may read: a server does not run as root.
func servers(name string) (string, error) {
	cache, err := serverCache()
	if err != nil {
		return "", err
	}
	home := filepath.Join(cache, name)
	if _, err := os.Stat(filepath.Join(home, "bin", "postgres")); err != nil {
		return "", fmt.Errorf("it is not in the cache (scripts/fetch-servers): %w", err)
	}
	if os.Getuid() != 0 {
		return home, nil
	}
	copies.Lock()
	defer copies.Unlock()
	if copied := copies.of[home]; copied != "" {
		return copied, nil
	}
	folder, err := os.MkdirTemp("", "gharbor-server-")
	if err != nil {
		return "", err
	}
	onExit(func() { os.RemoveAll(folder) })
	os.Chmod(folder, 0o755)
	copied := filepath.Join(folder, name)
	if err := exec.Command("cp", "-r", home, copied).Run(); err != nil {
		return "", err
	}
	copies.of[home] = copied
	return copied, nil
}

// copies are the copies that were made, by what they are of.
var copies = struct {
	sync.Mutex
	of map[string]string
}{of: make(map[string]string)}

// PrivatePostgreSQL is a server on the loopback of a private network: only what
// runs there can reach it. It lets everybody in, and has the accounts and the
// database of the demo's tides.
func PrivatePostgreSQL(t testing.TB, in *Namespace) *PostgreSQL {
	t.Helper()
	return need(t, "PostgreSQL", func() (*PostgreSQL, error) {
		p, err := newCluster()
		if err != nil {
			return nil, err
		}
		ownTo(t, p)
		p.in = in
		if err := p.certificates(); err != nil {
			return nil, err
		}
		settings := fmt.Sprintf("listen_addresses = '127.0.0.1'\nssl = on\nssl_cert_file = "+
			"'%[1]s/server.pem'\nssl_key_file = '%[1]s/server.key'\nssl_ca_file = '%[1]s/authority.pem'\n"+
			"max_connections = 600\n", p.Folder)
		if err := p.startWith(settings,
			"local all postgres trust\nlocal all all scram-sha-256\nhost all all 127.0.0.1/32 scram-sha-256\n"); err != nil {
			return nil, err
		}
		return p, p.statements("postgres",
			[]string{fmt.Sprintf("CREATE ROLE tidekeeper LOGIN PASSWORD '%s'", WardenPassword),
				"CREATE DATABASE tides OWNER tidekeeper"})
	})
}

// serverPrograms finds the folder of the server's programs, newest first.
func serverPrograms() (string, error) {
	folders, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	slices.Reverse(folders)
	for _, folder := range folders {
		if _, err := os.Stat(filepath.Join(folder, "initdb")); err == nil {
			return folder, nil
		}
	}
	if path, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(path), nil
	}
	return "", errors.New("initdb was not found (Debian's package is postgresql)")
}

// credential is the account to run a server as where one is root: a server
// refuses to be root's.
func credential(name string) (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	account, err := user.Lookup(name)
	if err != nil {
		return nil, err
	}
	uid, _ := strconv.Atoi(account.Uid)
	gid, _ := strconv.Atoi(account.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

func newCluster() (*PostgreSQL, error) {
	bin, err := serverPrograms()
	if err != nil {
		return nil, err
	}
	return newClusterOf(bin, "")
}

func newClusterOf(bin, lib string) (*PostgreSQL, error) {
	folder, err := os.MkdirTemp("", "gharbor-pg-")
	if err != nil {
		return nil, err
	}
	onExit(func() { os.RemoveAll(folder) })
	os.Chmod(folder, 0o755)
	if cred, err := credential("postgres"); err != nil {
		return nil, err
	} else if cred != nil {
		os.Chown(folder, int(cred.Uid), int(cred.Gid))
	}
	p := &PostgreSQL{Bin: bin, Lib: lib, Folder: folder}
	if said, err := p.command("initdb", "-D", p.data(), "-U", "postgres", "-A", "trust", "--no-sync", "-E", "UTF8",
		"--locale=C.UTF-8").CombinedOutput(); err != nil {
		return nil, fmt.Errorf("initdb: %w: %s", err, said)
	}
	return p, nil
}

func (p *PostgreSQL) data() string { return filepath.Join(p.Folder, "data") }

// command is one of the server's programs, run as the account that may. It
// ends with the test run, however that ends.
func (p *PostgreSQL) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(p.Bin, name), args...)
	cmd.Dir = p.Folder
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C.UTF-8"}
	if p.Lib != "" {
		cmd.Env = append(cmd.Env, "LD_LIBRARY_PATH="+p.Lib)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{}
	cmd.SysProcAttr.Credential, _ = credential("postgres")
	return cmd
}

// startWith writes the settings and rules, and starts the server.
func (p *PostgreSQL) startWith(settings, rules string) error {
	port, err := freePort()
	if err != nil {
		return err
	}
	p.Port = port
	settings += fmt.Sprintf("port = %d\nunix_socket_directories = '%s'\nfsync = off\nsynchronous_commit = "+
		"off\nfull_page_writes = off\nshared_buffers = 16MB\n", port, p.Folder)
	if err := p.write("data/postgresql.auto.conf", settings); err != nil {
		return err
	}
	if err := p.write("data/pg_hba.conf", rules); err != nil {
		return err
	}
	return p.Start()
}

// Start starts the server and waits until it answers.
func (p *PostgreSQL) Start() error {
	if err := p.launch(); err != nil {
		return err
	}
	for range 200 {
		if err := p.statements("postgres", []string{"SELECT 1"}); err == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	log, _ := os.ReadFile(filepath.Join(p.Folder, "log"))
	return fmt.Errorf("the server does not answer:\n%s", log)
}

// StartUnready starts the server without waiting for it to be ready.
func (p *PostgreSQL) StartUnready() error { return p.launch() }

func (p *PostgreSQL) launch() error {
	cmd := p.command("postgres", "-D", p.data())
	dieWithParent(cmd.SysProcAttr)
	log, err := os.OpenFile(filepath.Join(p.Folder, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	if err := p.in.do(cmd.Start); err != nil {
		return err
	}
	go cmd.Wait()
	onExit(func() { p.Stop("immediate") })
	return nil
}

// Stop stops the server: smart waits for sessions to end, without our waiting.
func (p *PostgreSQL) Stop(mode string) {
	args := []string{"-D", p.data(), "-m", mode, "stop"}
	if mode == "smart" {
		args = append(args, "-W")
	}
	p.command("pg_ctl", args...).Run()
}

// Write writes a file below the server's folder, owned by its account.
func (p *PostgreSQL) Write(name, text string) error { return p.write(name, text) }

func (p *PostgreSQL) write(name, text string) error {
	path := filepath.Join(p.Folder, name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		return err
	}
	if cred, err := credential("postgres"); err == nil && cred != nil {
		return os.Chown(path, int(cred.Uid), int(cred.Gid))
	}
	return nil
}

// certificates makes an authority, the server's certificate and two clients'.
func (p *PostgreSQL) certificates() error {
	c, err := newCertificates(p.write, func(name string) string { return filepath.Join(p.Folder, name) })
	p.Certificates = c
	return err
}

// Connect makes a session as postgres over the socket.
func (p *PostgreSQL) Connect(database string) (*pgconn.PgConn, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return pgconn.Connect(ctx,
		fmt.Sprintf("host=%s port=%d user=postgres dbname=%s password=none", p.Folder, p.Port, database))
}

// ConnectAs makes a session over TCP.
func (p *PostgreSQL) ConnectAs(name, password, database string) (*pgconn.PgConn, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return pgconn.Connect(ctx,
		fmt.Sprintf("host=127.0.0.1 port=%d user=%s dbname=%s password='%s' sslmode=disable", p.Port, name, database,
			strings.ReplaceAll(password, `\`, `\\`)))
}

// statements runs SQL as postgres; "\c NAME" changes the database.
func (p *PostgreSQL) statements(database string, all []string) error {
	conn, err := p.Connect(database)
	if err != nil {
		return err
	}
	ctx := context.Background()
	defer func() { conn.Close(ctx) }()
	for _, sql := range all {
		if name, ok := strings.CutPrefix(sql, `\c `); ok {
			conn.Close(ctx)
			if conn, err = p.Connect(name); err != nil {
				return err
			}
			continue
		}
		if _, err := conn.Exec(ctx, sql).ReadAll(); err != nil && !strings.Contains(err.Error(), "already exists") {
			return fmt.Errorf("%s: %w", sql, err)
		}
	}
	return nil
}

// SQL runs statements as postgres in a database, for a test.
func (p *PostgreSQL) SQL(t testing.TB, database string, all ...string) {
	t.Helper()
	if err := p.statements(database, all); err != nil {
		t.Fatal(err)
	}
}

// Client is the path of the server's own client itself, without the distribution's wrapper.
func (p *PostgreSQL) Client() string { return filepath.Join(p.Bin, "psql") }
