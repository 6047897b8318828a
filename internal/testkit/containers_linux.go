package testkit

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// ContainerEngine is a throw-away real container engine, on a socket, with data and in
// a network namespace of its own (an engine writes packet rules), and an image in which
// the machine's own servers run.
type ContainerEngine struct {
	Folder  string
	Socket  string
	network *Namespace // what is published is published there
}

// Inside are the words that run a program where the containers' ports are published.
func (e *ContainerEngine) Inside() []string { return []string{"ip", "netns", "exec", e.network.name} }

// Endpoint is where it is asked.
func (e *ContainerEngine) Endpoint() string { return "unix://" + e.Socket }

// ServerImage is the image: it takes the variables that the servers' official images
// document. Its own folders are empty; /usr and /etc are the machine's.
const ServerImage = "gharbor-test/server:1"

// Containers is the engine, started once per test run. It takes root.
func Containers(t testing.TB) *ContainerEngine {
	t.Helper()
	return need(t, "container engine", containerEngine)
}

var containerEngine = sync.OnceValues(func() (*ContainerEngine, error) {
	if os.Getuid() != 0 {
		return nil, errors.New("a container engine takes root")
	}
	for _, program := range []string{"dockerd", "docker", "iptables", "ip", "redis-server"} {
		if _, err := exec.LookPath(program); err != nil {
			return nil, fmt.Errorf("%s was not found (Debian's packages are docker.io, iptables, iproute2 and "+
				"redis-server)", program)
		}
	}
	folder, err := os.MkdirTemp("", "gharbor-dock-")
	if err != nil {
		return nil, err
	}
	e := &ContainerEngine{
		Folder:  folder,
		Socket:  filepath.Join(folder, "docker.sock"),
		network: &Namespace{name: fmt.Sprintf("gharbor-engine-%d", os.Getpid())},
	}
	for _, words := range []string{"netns add " + e.network.name, "-n " + e.network.name + " link set lo up"} {
		if out, err := exec.Command("ip", strings.Fields(words)...).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("ip %s: %w: %s", words, err, out)
		}
	}
	onExit(func() { exec.Command("ip", "netns", "del", e.network.name).Run() })
	path := func(name string) string { return filepath.Join(folder, name) }
	log, err := os.Create(path("log"))
	if err != nil {
		return nil, err
	}
	cmd := exec.Command("dockerd", "--host", e.Endpoint(), "--data-root", path("data"), "--exec-root", path("exec"),
		"--pidfile", path("pid"), "--config-file", path("none.json"))
	if err := os.WriteFile(path("none.json"), []byte("{}"), 0o600); err != nil {
		return nil, err
	}
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{}
	dieWithParent(cmd.SysProcAttr)
	cmd.SysProcAttr.Pdeathsig = syscall.SIGTERM // it ends its containers then
	if err := e.network.do(cmd.Start); err != nil {
		return nil, err
	}
	ended := make(chan struct{})
	go func() { cmd.Wait(); close(ended) }()
	onExit(func() { e.end(cmd, ended) })
	for range 200 {
		if exec.Command("docker", "-H", e.Endpoint(), "version").Run() == nil {
			return e, e.importImage()
		}
		select {
		case <-ended:
			text, _ := os.ReadFile(path("log"))
			return nil, fmt.Errorf("dockerd ended:\n%s", text)
		case <-time.After(100 * time.Millisecond):
		}
	}
	return nil, errors.New("dockerd does not answer")
})

// end removes all containers and ends the engine.
func (e *ContainerEngine) end(cmd *exec.Cmd, ended chan struct{}) {
	if ids, err := e.docker("ps", "-aq"); err == nil && strings.TrimSpace(ids) != "" {
		e.docker(append([]string{"rm", "-f", "-v"}, strings.Fields(ids)...)...)
	}
	cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		cmd.Process.Kill()
		<-ended
	}
	e.unmount()
	os.RemoveAll(e.Folder)
}

// unmount takes off what the engine leaves mounted in its folder.
func (e *ContainerEngine) unmount() {
	mounts, err := os.ReadFile("/proc/self/mounts")
	if err != nil {
		return
	}
	lines := strings.Split(string(mounts), "\n")
	slices.Reverse(lines) // the inner ones first
	for _, line := range lines {
		if fields := strings.Fields(line); len(fields) > 1 && strings.HasPrefix(fields[1], e.Folder+"/") {
			unix.Unmount(fields[1], unix.MNT_DETACH)
		}
	}
}

func (e *ContainerEngine) docker(args ...string) (string, error) {
	cmd := exec.Command("docker", append([]string{"-H", e.Endpoint()}, args...)...)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	if err := cmd.Run(); err != nil {
		return stdout.String(), fmt.Errorf("docker %s: %w\n%s", strings.Join(args, " "), err, stderr.String())
	}
	return stdout.String(), nil
}

// Docker runs the engine's own client.
func (e *ContainerEngine) Docker(t testing.TB, args ...string) string {
	t.Helper()
	out, err := e.docker(args...)
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(out)
}

// Paste runs the lines of a finding that are the engine's own client's, as a person would.
func (e *ContainerEngine) Paste(t testing.TB, lines string) {
	t.Helper()
	for line := range strings.Lines(lines) {
		if !strings.HasPrefix(line, "docker ") {
			continue
		}
		cmd := exec.Command("sh", "-c", line)
		cmd.Env = append(os.Environ(), "DOCKER_HOST="+e.Endpoint())
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("the line %s: %v\n%s", line, err, out)
		}
	}
}

// Serve runs a container of the image and removes it at the test's end. options are
// those of docker run; words are what runs in it: postgresql, mariadb, or sh and more.
func (e *ContainerEngine) Serve(t testing.TB, name string, options []string, words ...string) {
	t.Helper()
	t.Cleanup(func() { e.docker("rm", "-f", "-v", name) })
	e.Docker(t, serveWords(name, options, words...)...)
}

// serveWords are the words of docker that Serve runs.
func serveWords(name string, options []string, words ...string) []string {
	all := append([]string{"run", "-d", "--name", name, "-v", "/usr:/usr:ro", "-v", "/etc:/etc:ro"}, options...)
	return append(append(all, ServerImage), words...)
}

// entry is what the image starts: it prepares a server's data at the first start, as
// the official images do, and becomes the server.
const entry = `#!/bin/bash
set -e
trap 'exit 143' TERM
value() { # VARIABLE: its value, or that of the file which VARIABLE_FILE names
  local file="${1}_FILE"
  if [ -n "${!file:-}" ]; then cat "${!file}"; else printf '%s' "${!1:-}"; fi
}
quoted() { printf "%s" "$1" | sed "s/'/''/g"; }
if [ $# = 0 ]; then # by what the environment declares, as an image of its own would
  if [ -n "$POSTGRES_USER" ]; then set -- postgresql; else set -- mariadb; fi
fi
case "$1" in
postgresql)
  data="${PGDATA:-/var/lib/postgresql/data}" user="${POSTGRES_USER:-postgres}"
  bin=$(ls -d /usr/lib/postgresql/*/bin | tail -1)
  echo "The files belonging to this database system will be owned by user \"postgres\"."
  sleep "${SLEEP:-0}"
  mkdir -p "$data" /run/postgresql; chown -R postgres "$data" /run/postgresql; chmod 700 "$data"
  as="setpriv --reuid=postgres --regid=postgres --clear-groups"
  if [ ! -s "$data/PG_VERSION" ]; then
    password=$(value POSTGRES_PASSWORD)
    if [ -z "$password" ] && [ "$POSTGRES_HOST_AUTH_METHOD" != trust ]; then
      echo "Error: Database is uninitialized and superuser password is not specified."; exit 1
    fi
    (umask 077; printf '%s\n' "$password" >/tmp/pw; chown postgres /tmp/pw)
    $as $bin/initdb -D "$data" -U "$user" --pwfile=/tmp/pw --no-sync --no-instructions -A scram-sha-256 >/dev/null
    rm /tmp/pw
    echo "host all all all ${POSTGRES_HOST_AUTH_METHOD:-scram-sha-256}" >>"$data/pg_hba.conf"
    [ "${POSTGRES_DB:-$user}" = postgres ] ||
      echo "CREATE DATABASE \"${POSTGRES_DB:-$user}\"" | $as $bin/postgres --single -D "$data" postgres >/dev/null
    echo 'PostgreSQL init process complete; ready for start up.'
  fi
  exec $as $bin/postgres -D "$data" -c listen_addresses='*' -c port="${PORT:-5432}" -c fsync=off
  ;;
mariadb)
  data=/var/lib/mysql
  mkdir -p $data /run/mysqld; chown -R mysql $data /run/mysqld
  if [ ! -d $data/mysql ]; then
    echo '[Note] [Entrypoint]: Initializing database files'
    sleep "${SLEEP:-0}"
    mariadb-install-db --no-defaults --user=mysql --datadir=$data \
      --auth-root-authentication-method=normal --skip-test-db --innodb-log-file-size=8M >/dev/null
    root=$(value MARIADB_ROOT_PASSWORD) password=$(value MARIADB_PASSWORD)
    if [ -n "$MARIADB_RANDOM_ROOT_PASSWORD" ]; then
      root=$(head -c 18 /dev/urandom | base64)
      echo "[Note] [Entrypoint]: GENERATED ROOT PASSWORD: $root"
    fi
    from="${FROM_HOST:-%}"
    { echo "FLUSH PRIVILEGES;"
      if [ -n "$MARIADB_DATABASE" ]; then echo "CREATE DATABASE IF NOT EXISTS $MARIADB_DATABASE;"; fi
      if [ -n "$MARIADB_USER" ]; then
        echo "CREATE USER '$MARIADB_USER'@'$from' IDENTIFIED BY '$(quoted "$password")';"
        echo "GRANT ALL ON ${MARIADB_DATABASE:-*}.* TO '$MARIADB_USER'@'$from';"
      fi
      if [ -n "$root" ]; then
        echo "CREATE USER IF NOT EXISTS root@'%' IDENTIFIED BY '$(quoted "$root")';"
        echo "GRANT ALL ON *.* TO root@'%' WITH GRANT OPTION;"
      fi
    } >/tmp/first.sql
    mariadbd --no-defaults --user=mysql --datadir=$data --bootstrap </tmp/first.sql
    rm /tmp/first.sql
    echo '[Note] [Entrypoint]: MySQL init process done. Ready for start up.'
  fi
  exec mariadbd --no-defaults --user=mysql --datadir=$data --socket=/run/mysqld/mysqld.sock \
    --bind-address=0.0.0.0 --port="${PORT:-3306}" --skip-name-resolve \
    --innodb-buffer-pool-size=16M --innodb-log-file-size=8M
  ;;
redis-server)
  cd /data; chown -R redis /data
  set -- setpriv --reuid=redis --regid=redis --clear-groups "$@"
  ;;
esac
exec "$@"
`

// importImage makes the image of a small root folder.
func (e *ContainerEngine) importImage() error {
	var archive bytes.Buffer
	w := tar.NewWriter(&archive)
	add := func(h tar.Header, text string) {
		h.Size, h.ModTime = int64(len(text)), time.Now()
		w.WriteHeader(&h)
		w.Write([]byte(text))
	}
	for _, folder := range []string{"usr/", "etc/", "proc/", "sys/", "dev/", "run/", "var/", "var/lib/", "var/tmp/",
		"data/", "entries/"} {
		add(tar.Header{Typeflag: tar.TypeDir, Name: folder, Mode: 0o755}, "")
	}
	add(tar.Header{Typeflag: tar.TypeDir, Name: "tmp/", Mode: 0o1777}, "")
	for _, link := range []string{"bin", "sbin", "lib", "lib64"} {
		if _, err := os.Stat("/usr/" + link); err == nil {
			add(tar.Header{Typeflag: tar.TypeSymlink, Name: link, Linkname: "usr/" + link, Mode: 0o777}, "")
		}
	}
	add(tar.Header{Typeflag: tar.TypeSymlink, Name: "var/run", Linkname: "/run", Mode: 0o777}, "")
	add(tar.Header{Typeflag: tar.TypeReg, Name: "entries/docker-entrypoint.sh", Mode: 0o755}, entry)
	if err := w.Close(); err != nil {
		return err
	}
	cmd := exec.Command("docker", "-H", e.Endpoint(), "import", "-c", `ENTRYPOINT ["/entries/docker-entrypoint.sh"]`,
		"-c", "ENV PATH=/entries:/usr/sbin:/usr/bin", "-", ServerImage)
	cmd.Stdin = &archive
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("docker import: %w\n%s", err, out)
	}
	return nil
}
