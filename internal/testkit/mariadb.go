//go:build unix

package testkit

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
)

// MariaDB is a throw-away real server.
type MariaDB struct {
	Folder string // its socket, and the folder above its data
	Socket string
	Port   int
	args   []string
	stop   func()

	Certificates
}

// BanderPassword is the password of bander on the main server.
const BanderPassword = "redshank: 'at' \\ebb\""

// MariaDBServer is the main server: TLS, no names looked up, one account for
// each way to be refused. It is started once per test run.
func MariaDBServer(t testing.TB) *MariaDB {
	t.Helper()
	return need(t, "MariaDB", mainMariaDB)
}

// StartMariaDB is MariaDBServer outside of a test.
func StartMariaDB() (*MariaDB, error) { return mainMariaDB() }

// SecondMariaDB is another server on another port: without TLS, with names
// looked up, few connections, read-only, and soon tired of broken connections.
func SecondMariaDB(t testing.TB) *MariaDB {
	t.Helper()
	return need(t, "MariaDB", secondMariaDB)
}

// ThrowAwayMariaDB is a server that a test may stop and start as it likes.
func ThrowAwayMariaDB(t testing.TB, settings ...string) *MariaDB {
	t.Helper()
	return need(t, "MariaDB", func() (*MariaDB, error) {
		m, err := newMariaDB()
		if err != nil {
			return nil, err
		}
		t.Cleanup(func() {
			m.stop()
			os.RemoveAll(m.Folder)
		})
		return m, m.startWith(settings...)
	})
}

var mainMariaDB = sync.OnceValues(func() (*MariaDB, error) {
	m, err := newMariaDB()
	if err != nil {
		return nil, err
	}
	path := func(name string) string { return filepath.Join(m.Folder, name) }
	if m.Certificates, err = newCertificates(m.Write, path); err != nil {
		return nil, err
	}
	err = m.startWith("--skip-name-resolve", "--max-connections=80", "--plugin-maturity=stable",
		"--character-set-server=utf8mb4", "--collation-server=utf8mb4_general_ci",
		"--ssl-cert="+path("server.pem"), "--ssl-key="+path("server.key"), "--ssl-ca="+path("authority.pem"))
	if err != nil {
		return nil, err
	}
	if err := m.statements("INSTALL SONAME 'auth_ed25519'"); err == nil {
		err = m.statements("CREATE USER edward@'%' IDENTIFIED VIA ed25519 USING PASSWORD('knot')")
		if err != nil {
			return nil, err
		}
	} else if os.Getenv(Require) != "" {
		return nil, fmt.Errorf("the plugin auth_ed25519 of Debian's package mariadb-server: %w", err)
	}
	return m, m.statements(
		"CREATE DATABASE moult", "CREATE DATABASE ringing", "CREATE TABLE moult.ring(number int)",
		"CREATE TABLE ringing.species(code int)",
		"CREATE USER bander@'%' IDENTIFIED BY '"+strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(BanderPassword)+"'",
		"GRANT ALL ON moult.* TO bander@'%'", "GRANT SELECT ON ringing.* TO bander@'%'",
		"CREATE USER admin@'%' IDENTIFIED BY '"+AdminPassword+"'", "GRANT ALL ON *.* TO admin@'%' WITH GRANT OPTION",
		"CREATE USER locked@'%' IDENTIFIED BY 'knot' ACCOUNT LOCK",
		"CREATE USER expired@'%' IDENTIFIED BY 'knot' PASSWORD EXPIRE",
		"CREATE USER elsewhere@'10.0.0.0/255.0.0.0' IDENTIFIED BY 'knot'",
		"CREATE USER indoors@localhost IDENTIFIED BY 'knot'", "CREATE USER outdoors@'127.0.0.1' IDENTIFIED BY 'knot'",
		"CREATE USER norights@'%' IDENTIFIED BY 'knot'", "CREATE USER open@'%'",
		"CREATE USER tlsonly@'%' IDENTIFIED BY 'knot' REQUIRE SSL",
		"CREATE USER certified@'%' IDENTIFIED BY 'knot' REQUIRE X509",
		"CREATE USER few@'%' IDENTIFIED BY 'knot' WITH MAX_USER_CONNECTIONS 1",
		"CREATE USER socketed@'%' IDENTIFIED VIA unix_socket", "CREATE USER root@'%' IDENTIFIED VIA unix_socket",
		"CREATE USER shadowed@'%' IDENTIFIED BY 'knot'", "CREATE USER blank@'%' IDENTIFIED BY 'knot '",
	)
})

var secondMariaDB = sync.OnceValues(func() (*MariaDB, error) {
	m, err := newMariaDB()
	if err != nil {
		return nil, err
	}
	if err := m.startWith("--max-connections=10", "--max-connect-errors=2", "--max-password-errors=3"); err != nil {
		return nil, err
	}
	return m, m.statements(
		"CREATE DATABASE moult", "CREATE TABLE moult.ring(number int)", "CREATE USER bander@localhost IDENTIFIED BY 'knot'",
		"GRANT ALL ON moult.* TO bander@localhost",
		"CREATE USER ipv4@'127.0.0.1' IDENTIFIED BY 'knot'", "CREATE USER guesser@'%' IDENTIFIED BY 'knot'",
		"CREATE USER ''@'localhost'", "CREATE USER shadowed@'%' IDENTIFIED BY 'knot'",
		"CREATE USER admin@'localhost' IDENTIFIED BY '"+AdminPassword+"'", "GRANT ALL ON *.* TO admin@'localhost'",
		"SET GLOBAL read_only = 1",
	)
})

// newMariaDB makes a folder with the server's own tables in it.
func newMariaDB() (*MariaDB, error) {
	for _, name := range []string{"mariadbd", "mariadb-install-db"} {
		if _, err := serverProgram(name); err != nil {
			return nil, err
		}
	}
	folder, err := os.MkdirTemp("", "gharbor-maria-")
	if err != nil {
		return nil, err
	}
	onExit(func() { os.RemoveAll(folder) })
	os.Chmod(folder, 0o755)
	if cred, err := credential("mysql"); err != nil {
		return nil, err
	} else if cred != nil {
		os.Chown(folder, int(cred.Uid), int(cred.Gid))
	}
	m := &MariaDB{Folder: folder, Socket: filepath.Join(folder, "mysqld.sock")}
	out, err := m.command("mariadb-install-db", "--no-defaults", "--datadir="+m.data(),
		"--auth-root-authentication-method=normal", "--skip-test-db", "--innodb-log-file-size=8M").CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("mariadb-install-db: %w\n%s", err, out)
	}
	return m, nil
}

func serverProgram(name string) (string, error) {
	for _, folder := range []string{"/usr/sbin", "/usr/local/sbin", "/usr/libexec", "/usr/local/libexec"} {
		path := filepath.Join(folder, name)
		if _, err := os.Stat(path); err == nil {
			return path, nil
		}
	}
	path, err := exec.LookPath(name)
	if err != nil {
		return "", fmt.Errorf("%s was not found (Debian's package is mariadb-server)", name)
	}
	return path, nil
}

func (m *MariaDB) data() string { return filepath.Join(m.Folder, "data") }

func (m *MariaDB) command(name string, args ...string) *exec.Cmd {
	path, err := serverProgram(name)
	if err != nil {
		path = name
	}
	cmd := exec.Command(path, args...)
	cmd.Dir = m.Folder
	// A server clears up what it finds in the folder for temporary tables, so
	// each has its own.
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C.UTF-8", "TMPDIR=" + m.Folder}
	cmd.SysProcAttr = &syscall.SysProcAttr{}
	cmd.SysProcAttr.Credential, _ = credential("mysql")
	return cmd
}

func (m *MariaDB) startWith(settings ...string) error {
	port, err := freePort()
	if err != nil {
		return err
	}
	m.Port = port
	m.args = append([]string{"--no-defaults", "--datadir=" + m.data(), "--socket=" + m.Socket,
		fmt.Sprintf("--port=%d", port), "--bind-address=127.0.0.1",
		"--pid-file=" + filepath.Join(m.Folder, "pid"), "--innodb-buffer-pool-size=16M", "--innodb-log-file-size=8M",
		"--innodb-flush-log-at-trx-commit=0", "--skip-log-bin"}, settings...)
	return m.Start()
}

// Start starts the server and waits until it answers.
func (m *MariaDB) Start() error {
	if err := m.StartUnready(); err != nil {
		return err
	}
	for range 400 {
		if err := m.statements("SELECT 1"); err == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	log, _ := os.ReadFile(filepath.Join(m.Folder, "log"))
	return fmt.Errorf("the server does not answer:\n%s", log)
}

// StartUnready starts the server without waiting for it to be ready.
func (m *MariaDB) StartUnready() error {
	cmd := m.command("mariadbd", m.args...)
	dieWithParent(cmd.SysProcAttr)
	log, err := os.OpenFile(filepath.Join(m.Folder, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	go func() { cmd.Wait(); close(ended) }()
	m.stop = func() {
		cmd.Process.Signal(syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			cmd.Process.Kill()
			<-ended
		}
	}
	onExit(m.stop)
	return nil
}

// Stop stops the server and waits for its end.
func (m *MariaDB) Stop() { m.stop() }

// Write writes a file below the server's folder, owned by its account.
func (m *MariaDB) Write(name, text string) error {
	path := filepath.Join(m.Folder, name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		return err
	}
	if cred, err := credential("mysql"); err == nil && cred != nil {
		return os.Chown(path, int(cred.Uid), int(cred.Gid))
	}
	return nil
}

// Connect makes a session as root over the socket.
func (m *MariaDB) Connect() (*sql.DB, error) {
	return open("unix", m.Socket, "root", "")
}

// ConnectAs makes a session over TCP, and keeps it until the handle is closed.
func (m *MariaDB) ConnectAs(name, password string) (*sql.DB, error) {
	return open("tcp", fmt.Sprintf("127.0.0.1:%d", m.Port), name, password)
}

func open(network, address, name, password string) (*sql.DB, error) {
	config := driver.NewConfig()
	config.Net, config.Addr, config.User, config.Passwd = network, address, name, password
	config.Logger = &driver.NopLogger{}
	connector, err := driver.NewConnector(config)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(1)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := db.PingContext(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// statements runs SQL as root.
func (m *MariaDB) statements(all ...string) error {
	db, err := m.Connect()
	if err != nil {
		return err
	}
	defer db.Close()
	for _, text := range all {
		if _, err := db.Exec(text); err != nil {
			return fmt.Errorf("%s: %w", text, err)
		}
	}
	return nil
}

// SQL runs statements as root, for a test.
func (m *MariaDB) SQL(t testing.TB, all ...string) {
	t.Helper()
	if err := m.statements(all...); err != nil {
		t.Fatal(err)
	}
}

// Client is the path of the server's own client.
func (m *MariaDB) Client() string {
	path, err := exec.LookPath("mariadb")
	if err != nil {
		return "mariadb"
	}
	return path
}
