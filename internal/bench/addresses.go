//go:build unix

package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"gentleharbor/internal/testkit"
)

// addresses compares a local address that logs in with a plain tunnel to the same server, and with a connection without
// anything between: bulk, the time to a first row, and memory.
func (b *bench) addresses() error {
	server, err := testkit.StartPostgreSQL()
	if err != nil {
		return err
	}
	gate, err := testkit.StartSSHServer()
	if err != nil {
		return err
	}
	known, err := gate.Known()
	if err != nil {
		return err
	}
	authority, err := os.ReadFile(server.Authority)
	if err != nil {
		return err
	}
	err = errors.Join(os.MkdirAll(filepath.Join(b.folder, ".ssh"), 0o700),
		os.WriteFile(filepath.Join(b.folder, ".ssh", "known_hosts"), []byte(known+"\n"), 0o600),
		b.profiles(fmt.Sprintf("[profile.near]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\n"+
			"database = \"sightings\"\nsecret = \"env:WARDEN\"\ntls = \"verified\"\ntls-ca = %q\ntls-name = \"localhost\"\n"+
			"\n[profile.clear]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\ndatabase = \"sightings\"\nsecret = \"env:WARDEN\"\ntls = \"off\"\n"+
			"\n[profile.far]\nlike = \"near\"\n", server.Port, server.Authority, server.Port)+gate.Hop("far", fmt.Sprintf("key = %q", gate.Key))+
			"\n[profile.plain]\nlike = \"near\"\n"+gate.Hop("plain", fmt.Sprintf("key = %q", gate.Key))))
	if err != nil {
		return err
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(authority)
	verified := &tls.Config{RootCAs: roots, ServerName: "localhost"}
	a := &addressBench{bench: b}
	defer a.stop()
	var local [4]string // of the addresses: near, clear and far, and of the plain tunnel
	for i, words := range [][]string{{"near", "-login"}, {"clear", "-login"}, {"far", "-login"}, {"plain"}} {
		if local[i], err = a.open(words...); err != nil {
			return err
		}
	}
	direct := fmt.Sprint(server.Port)
	ways := []*bulkWay{{"direct, TLS", direct, verified, testkit.WardenPassword, nil}, {"direct", direct, nil, testkit.WardenPassword, nil},
		{"address, TLS behind it", local[0], nil, "", nil}, {"address", local[1], nil, "", nil},
		{"address, through a hop", local[2], nil, "", nil}, {"tunnel, TLS through it", local[3], verified, testkit.WardenPassword, nil}}
	if err := a.bulk(ways); err != nil {
		return err
	}
	if err := a.firstRow(ways); err != nil {
		return err
	}
	return a.memory(ways[4])
}

// bulkWay is one way to the server's rows.
type bulkWay struct {
	name, port string
	tls        *tls.Config
	password   string
	took       []time.Duration
}

func (w *bulkWay) connect(ctx context.Context) (*pgconn.PgConn, error) {
	config, err := pgconn.ParseConfig("host=127.0.0.1 user=warden dbname=sightings sslmode=disable port=" + w.port)
	if err != nil {
		return nil, err
	}
	config.Password, config.TLSConfig = w.password, w.tls
	return pgconn.ConnectConfig(ctx, config)
}

// addressBench runs the addresses.
type addressBench struct {
	*bench
	running []*exec.Cmd
}

// open opens a tunnel on a free port.
func (a *addressBench) open(words ...string) (port string, err error) {
	port = freePort()
	cmd := exec.Command(filepath.Join(a.folder, "gharbor"), append([]string{"tunnel", "open", "-local", port}, words...)...)
	cmd.Env = append(slices.Clone(a.env), "GODEBUG=madvdontneed=0", "XDG_RUNTIME_DIR="+a.folder, "GHARBOR_HOME="+filepath.Join(a.folder, "home"))
	cmd.Env = append(cmd.Env, "TMPDIR="+a.folder)
	var said strings.Builder
	cmd.Stderr = &said
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", err
	}
	if err := cmd.Start(); err != nil {
		return "", err
	}
	a.running = append(a.running, cmd)
	if _, err = io.ReadAtLeast(out, make([]byte, 4096), 5); err != nil { // it says that it is open
		cmd.Wait()
		return "", fmt.Errorf("tunnel open %s: %s", strings.Join(words, " "), said.String())
	}
	return port, nil
}

func (a *addressBench) stop() {
	for _, cmd := range a.running {
		cmd.Process.Kill()
		cmd.Wait()
	}
}

// bulk reads half a gigabyte by each way, in turn.
func (a *addressBench) bulk(ways []*bulkWay) error {
	const rounds, megabytes = 5, 512
	for range rounds {
		for _, w := range ways {
			conn, err := w.connect(context.Background())
			if err != nil {
				return fmt.Errorf("%s: %w", w.name, err)
			}
			start := time.Now()
			tag, err := conn.CopyTo(context.Background(), io.Discard, fmt.Sprintf("COPY (SELECT repeat('x', 8191) FROM generate_series(1, %d)) TO STDOUT", megabytes*128))
			w.took = append(w.took, time.Since(start))
			conn.Close(context.Background())
			if err != nil || tag.RowsAffected() != megabytes*128 {
				return fmt.Errorf("%s: %d rows: %w", w.name, tag.RowsAffected(), err)
			}
		}
	}
	rate := func(i int) float64 { return megabytes * 1.048576 / 1000 / median(ways[i].took).Seconds() }
	say := func(what string, ours, peer int, aim string) {
		fmt.Printf("%-34s %8.2f GB/s  peer %6.2f GB/s  ratio %.2f (aim at least %s)\n", what, rate(ours), rate(peer), rate(ours)/rate(peer), aim)
	}
	say("address, 512 MB (direct)", 3, 1, "0.5")
	say("address, TLS (direct, TLS)", 2, 0, "0.5")
	say("address, hop, TLS (tunnel, TLS)", 4, 5, "0.9")
	return nil
}

// firstRow is the time of a connection and its first row.
func (a *addressBench) firstRow(ways []*bulkWay) error {
	const rounds = 40
	for _, w := range ways {
		w.took = nil
	}
	for range rounds {
		for _, w := range ways {
			start := time.Now()
			conn, err := w.connect(context.Background())
			if err == nil {
				_, err = conn.Exec(context.Background(), "SELECT 1").ReadAll()
			}
			if err != nil {
				return fmt.Errorf("%s: %w", w.name, err)
			}
			w.took = append(w.took, time.Since(start))
			conn.Close(context.Background())
		}
	}
	say := func(what string, ours, peer int) {
		o, p := median(ways[ours].took), median(ways[peer].took)
		fmt.Printf("%-34s %8.2f ms  peer %8.2f ms  ratio %.2f\n", what, ms(o), ms(p), float64(o)/float64(p))
	}
	say("address, first row (direct)", 3, 1)
	say("address, TLS (direct, TLS)", 2, 0)
	say("address, hop, TLS (tunnel, TLS)", 4, 5)
	return nil
}

// memory is that of an address with many sessions, each of which has read rows.
func (a *addressBench) memory(w *bulkWay) error {
	const many = 50
	pid := a.running[2].Process.Pid
	before := highest(pid)
	for range many {
		conn, err := w.connect(context.Background())
		if err != nil {
			return err
		}
		defer conn.Close(context.Background())
		if _, err := conn.Exec(context.Background(), "SELECT repeat('x', 3000000)").ReadAll(); err != nil {
			return err
		}
	}
	after := highest(pid)
	fmt.Printf("%-34s %8.1f MB, and %.2f MB a session of %d (aim under 30 MB, and 1 MB a session)\n", "address, memory", before,
		(after-before)/many, many)
	return nil
}
