//go:build unix

package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"gentleharbor/internal/testkit"
)

// benchPath is one way from a program to a server's rows.
type benchPath struct {
	profile string // whose local address it is; "" for none
	login   bool   // the address logs in
	flags   []string
	tls     bool   // the program speaks TLS to the server
	peer    int    // with which passage it is compared, -1 for none
	least   string // of the peer's throughput

	port    string
	process *exec.Cmd
	took    []time.Duration
	said    strings.Builder // by the address
}

// addresses compares a local address that logs in with a plain tunnel to the same server, and with a connection without
// anything between: bulk, the time to a first row, and memory.
func (b *bench) addresses() error {
	_, server, err := b.behindGate()
	if err != nil {
		return err
	}
	a := &addressBench{bench: b, ways: []*benchPath{
		{peer: -1},
		{peer: -1, tls: true},
		{profile: "plain", peer: -1},
		{profile: "plain-tls", peer: -1, tls: true},
		{profile: "near", login: true, peer: 0, least: "0.5"},
		{profile: "near-tls", login: true, peer: 1, least: "0.5"},
		{profile: "far", login: true, peer: 2, least: "0.9"},
		{profile: "far-tls", login: true, peer: 3, least: "0.9"},
	}}
	defer a.stop()
	if err := a.trust(server); err != nil {
		return err
	}
	for _, w := range a.ways {
		if w.port = strconv.Itoa(server.Port); w.profile != "" {
			if err := a.open(w); err != nil {
				return err
			}
		}
	}
	if err := a.bulk(); err != nil {
		return err
	}
	if err := a.firstRow(); err != nil {
		return err
	}
	return a.memory(a.ways[7])
}

// behindGate starts a server and a jump host, and writes the profiles of the passages.
func (b *bench) behindGate() (*testkit.SSHD, *testkit.PostgreSQL, error) {
	server, err := testkit.StartPostgreSQL()
	if err != nil {
		return nil, nil, err
	}
	gate, err := b.gate()
	if err != nil {
		return nil, nil, err
	}
	return gate, server, b.profiles(addressProfiles(server, gate))
}

// addressProfiles are the profiles of the passages: with TLS and without, behind a hop and not.
func addressProfiles(server *testkit.PostgreSQL, gate *testkit.SSHD) string {
	var text strings.Builder
	for _, name := range []string{"near", "near-tls", "far", "far-tls", "plain", "plain-tls"} {
		fmt.Fprintf(&text, "\n[profile.%s]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\n"+
			"database = \"sightings\"\nsecret = \"env:WARDEN\"\n", name, server.Port)
		if strings.HasSuffix(name, "tls") {
			fmt.Fprintf(&text, "tls = \"verified\"\ntls-ca = %q\ntls-name = \"localhost\"\n", server.Authority)
		} else {
			text.WriteString("tls = \"off\"\n")
		}
		if !strings.HasPrefix(name, "near") {
			text.WriteString(gate.Hop(name, fmt.Sprintf("key = %q", gate.Key)))
		}
	}
	return text.String()
}

// addressBench runs the passages.
type addressBench struct {
	*bench
	verified *tls.Config
	ways     []*benchPath
}

// trust makes programs that speak TLS to the server trust its authority.
func (a *addressBench) trust(server *testkit.PostgreSQL) error {
	authority, err := os.ReadFile(server.Authority)
	if err != nil {
		return err
	}
	a.verified = &tls.Config{RootCAs: x509.NewCertPool(), ServerName: "localhost"}
	a.verified.RootCAs.AppendCertsFromPEM(authority)
	return nil
}

// open opens the local address of a passage.
func (a *addressBench) open(w *benchPath) error {
	w.port = freePort()
	words := []string{"tunnel", "open", w.profile, "-local", w.port}
	if w.login {
		words = append(words, "-login")
	}
	words = append(words, w.flags...)
	cmd := exec.Command(filepath.Join(a.folder, "gharbor"), words...)
	cmd.Env = append(slices.Clone(a.env), "GODEBUG=madvdontneed=0", "XDG_RUNTIME_DIR="+a.folder, "TMPDIR="+a.folder)
	cmd.Stderr = &w.said
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	w.process = cmd
	if _, err = io.ReadAtLeast(out, make([]byte, 4096), 5); err != nil { // it says that it is open
		cmd.Wait()
		return fmt.Errorf("tunnel open %s: %s", w.profile, w.said.String())
	}
	return nil
}

func (a *addressBench) stop() {
	for _, w := range a.ways {
		if w.process != nil {
			w.process.Process.Kill()
			w.process.Wait()
		}
	}
}

func (a *addressBench) connect(w *benchPath) (*pgconn.PgConn, error) {
	config, err := pgconn.ParseConfig("host=127.0.0.1 user=warden dbname=sightings sslmode=disable port=" + w.port)
	if err != nil {
		return nil, err
	}
	if !w.login {
		config.Password = testkit.WardenPassword
	}
	if w.tls {
		config.TLSConfig = a.verified
	}
	conn, err := pgconn.ConnectConfig(context.Background(), config)
	if err != nil {
		return nil, fmt.Errorf("by %q: %w", w.profile, err)
	}
	return conn, nil
}

// name is a passage's, with that of its peer.
func (a *addressBench) name(w *benchPath, what string) string {
	name, peer := "address", "direct"
	if strings.HasPrefix(w.profile, "far") {
		name, peer = "address by a hop", "tunnel"
	}
	if strings.HasSuffix(w.profile, "tls") {
		peer += ", TLS"
	}
	return fmt.Sprintf("%s, %s (%s)", name, what, peer)
}

// bulk reads 256 MB by each passage, in turn.
func (a *addressBench) bulk() error {
	const rounds, rows = 7, 1 << 15
	statement := fmt.Sprintf("COPY (SELECT repeat('x', 8191) FROM generate_series(1, %d)) TO STDOUT", rows)
	for range rounds {
		for _, w := range a.ways {
			conn, err := a.connect(w)
			if err != nil {
				return err
			}
			start := time.Now()
			tag, err := conn.CopyTo(context.Background(), io.Discard, statement)
			w.took = append(w.took, time.Since(start))
			conn.Close(context.Background())
			if err != nil || tag.RowsAffected() != rows {
				return fmt.Errorf("by %q: %d rows: %w", w.profile, tag.RowsAffected(), err)
			}
		}
	}
	rate := func(w *benchPath) float64 { return rows * 8192 / 1e9 / median(w.took).Seconds() }
	for _, w := range a.ways {
		if w.peer >= 0 {
			ours, peer := rate(w), rate(a.ways[w.peer])
			fmt.Printf("%-40s %8.2f GB/s  peer %6.2f GB/s  ratio %.2f (aim at least %s)\n", a.name(w, "256 MB"), ours, peer,
				ours/peer, w.least)
		}
	}
	return nil
}

// firstRow is the time of a connection and its first row.
func (a *addressBench) firstRow() error {
	const rounds = 40
	for _, w := range a.ways {
		w.took = nil
	}
	for range rounds {
		for _, w := range a.ways {
			start := time.Now()
			conn, err := a.connect(w)
			if err != nil {
				return err
			}
			_, err = conn.Exec(context.Background(), "SELECT 1").ReadAll()
			w.took = append(w.took, time.Since(start))
			conn.Close(context.Background())
			if err != nil {
				return err
			}
		}
	}
	for _, w := range a.ways {
		if w.peer >= 0 {
			ours, peer := median(w.took), median(a.ways[w.peer].took)
			fmt.Printf("%-40s %8.2f ms  peer %8.2f ms  ratio %.2f\n", a.name(w, "first row"), ms(ours), ms(peer),
				float64(ours)/float64(peer))
		}
	}
	return nil
}

// memory is that of an address that many sessions use, each of which has read rows.
func (a *addressBench) memory(w *benchPath) error {
	const many = 50
	before := peakMemory(w.process.Process.Pid)
	for range many {
		conn, err := a.connect(w)
		if err != nil {
			return err
		}
		defer conn.Close(context.Background())
		if _, err := conn.Exec(context.Background(), "SELECT repeat('x', 3000000)").ReadAll(); err != nil {
			return err
		}
	}
	each := (peakMemory(w.process.Process.Pid) - before) / many
	fmt.Printf("%-40s %8.1f MB    and %.2f MB for each of %d sessions (aim under 30 MB, and 1 MB a session)\n",
		"address, memory", before, each, many)
	return nil
}
