package nearby

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/standin/oracle"
)

// places is a machine made of files: nothing of it answers.
func places(t *testing.T, files map[string]string) Places {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return Places{Root: root, Engines: keys.Engines(), Dial: func(context.Context, string, string) (net.Conn, error) { return nil, errors.New("refused") }}
}

func TestStopped(t *testing.T) {
	conf := "# port = 1\nport = 5433\t\t# changed\nlisten_addresses = 'localhost'\n"
	for _, c := range []struct {
		name  string
		files map[string]string
		want  []string
	}{
		{"a cluster, systemd", map[string]string{"/etc/postgresql/15/main/postgresql.conf": conf, "/run/systemd/system/x": "", "/lib/systemd/system/postgresql.service": ""},
			[]string{"15/main 5433 sudo systemctl start postgresql@15-main"}},
		{"a cluster, no systemd", map[string]string{"/etc/postgresql/15/main/postgresql.conf": ""}, []string{"15/main 5432 sudo pg_ctlcluster 15 main start"}},
		{"a service", map[string]string{"/usr/lib/systemd/system/postgresql.service": "", "/run/systemd/system/x": ""}, []string{"postgresql 5432 sudo systemctl start postgresql"}},
		{"Homebrew", map[string]string{"/opt/homebrew/var/postgresql@16/postgresql.conf": "port='5434'\n"}, []string{"postgresql@16 5434 brew services start postgresql@16"}},
		{"others", map[string]string{"/lib/systemd/system/mariadb.service": "", "/etc/init.d/redis-server": ""}, []string{"mariadb 0 sudo service mariadb start", "redis-server 0 sudo service redis-server start"}},
		{"a name to be quoted", map[string]string{"/etc/postgresql/15/my $(x)/postgresql.conf": ""}, []string{"15/my $(x) 5432 sudo pg_ctlcluster 15 'my $(x)' start"}},
		{"no cluster yet", map[string]string{"/usr/bin/pg_createcluster": "", "/usr/lib/postgresql/15/bin/postgres": "", "/lib/systemd/system/postgresql.service": ""},
			[]string{"postgresql 15 5432 sudo pg_createcluster 15 main --start"}},
		{"nothing", nil, nil},
	} {
		var got []string
		for _, s := range places(t, c.files).Survey(context.Background(), "").Servers {
			got = append(got, strings.Join([]string{s.Name, strconv.Itoa(s.Port), s.Start}, " "))
		}
		if strings.Join(got, "|") != strings.Join(c.want, "|") {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestListening(t *testing.T) {
	p := places(t, map[string]string{
		"/proc/net/tcp": "  sl  local_address rem_address   st\n" +
			"   0: 0100007F:1538 00000000:0000 0A 0\n" + // 127.0.0.1:5432
			"   1: 00000000:0CEA 00000000:0000 0A 0\n" + // 0.0.0.0:3306
			"   2: 0100007F:0016 00000000:0000 0A 0\n" + // 127.0.0.1:22
			"   3: 0200000A:1539 00000000:0000 0A 0\n" + // 10.0.0.2:5433
			"   4: 0100007F:9C40 0100007F:1538 01 0\n" + // a connection
			"   5: broken\n   6: ZZ:1 0 0A\n",
		"/proc/net/tcp6": "x\n   0: 00000000000000000000000001000000:1538 0:0 0A\n" + // [::1]:5432
			"   1: 00000000000000000000000001000000:18EB 0:0 0A\n" + // [::1]:6379
			"   2: 00000000000000000000000000000000:2710 0:0 0A\n", // [::]:10000
	})
	var got []string
	for _, a := range p.listening() {
		got = append(got, a.String())
	}
	if text := strings.Join(got, " "); text != "127.0.0.1:3306 127.0.0.1:5432 [::1]:6379 127.0.0.1:10000" {
		t.Error(text)
	}
}

// TestOnlyIPv6: a port that takes IPv6 alone is asked there.
func TestOnlyIPv6(t *testing.T) {
	p := places(t, map[string]string{"/proc/net/tcp6": "x\n   0: 00000000000000000000000000000000:1538 0:0 0A\n"})
	p.Dial = func(_ context.Context, _, address string) (net.Conn, error) {
		if address != "[::1]:5432" {
			return nil, errors.New("refused")
		}
		near, far := net.Pipe()
		go func() {
			buffer := make([]byte, 64)
			far.Read(buffer)
			far.Write([]byte("E\x00\x00\x00\x4dSFATAL\x00C0A000\x00Munsupported frontend protocol 0.0: server supports 3.0 to 3.0\x00\x00"))
			far.Close()
		}()
		return near, nil
	}
	s := p.Survey(t.Context(), "")
	for _, one := range s.Servers {
		if one.Address == "[::1]:5432" && one.Engine == "postgresql" {
			return
		}
	}
	t.Errorf("%+v", s)
}

// TestFullQueue: a port that never takes a connection holds up nothing: each dial has a limit of its own.
func TestFullQueue(t *testing.T) {
	p := places(t, map[string]string{"/proc/net/tcp": "x\n   0: 0100007F:1538 0:0 0A\n"})
	var left atomic.Int64
	p.Dial = func(ctx context.Context, _, address string) (net.Conn, error) {
		if address == "127.0.0.1:5432" {
			until, _ := ctx.Deadline()
			left.Store(int64(time.Until(until)))
		}
		return nil, errors.New("refused")
	}
	p.Survey(t.Context(), "")
	if got := time.Duration(left.Load()); got <= 0 || got > reach {
		t.Errorf("a dial has %s", got)
	}
}

func TestProfilesOfServer(t *testing.T) {
	f, err := profile.Parse(keys, "x", []byte(`
profile.tcp = { engine = "postgresql", host = "localhost" }
profile.many = { engine = "postgresql", hosts = ["10.0.0.1", "127.0.0.1:5433"] }
profile.remote = { engine = "postgresql", host = "10.0.0.1" }
profile.sock = { engine = "postgresql", socket = "/tmp/.s.PGSQL.5432" }
profile.folder = { engine = "postgresql", socket = "/tmp" }
profile.other = { engine = "postgresql", socket = "/tmp", port = 5433 }
`))
	if err != nil {
		t.Fatal(err)
	}
	var all []*resolve.Profile
	for _, p := range f.Profiles {
		all = append(all, resolve.Resolve(f, p, nil, resolve.Environment{}))
	}
	for want, s := range map[string]Server{
		"tcp": {Address: "127.0.0.1:5432", Port: 5432}, "many": {Address: "127.0.0.1:5433", Port: 5433},
		"sock folder": {Socket: "/tmp/.s.PGSQL.5432", Port: 5432}, "": {Address: "127.0.0.1:9", Port: 9},
	} {
		if got := strings.Join(s.Profiles(all), " "); got != want {
			t.Errorf("%+v: %q, want %q", s, got, want)
		}
	}
}

// TestListener: oracle's listener says nothing by itself, and is asked its own question
// where its port is the usual one.
func TestListener(t *testing.T) {
	server, err := oracle.Start(oracle.Config{})
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close()
	var d net.Dialer
	address := net.JoinHostPort("127.0.0.1", strconv.Itoa(server.Port()))
	found, n, ok := Places{Dial: d.DialContext, Engines: keys.Engines()}.identify(context.Background(), "tcp", address, "oracle")
	if !ok || found.Engine != "oracle" || n != 1 {
		t.Errorf("%+v after %d connections, %v", found, n, ok)
	}
}
