//go:build unix

// Command bench measures the program beside its peers in one run and prints
// ratios: whole processes, in pairs one after the other, medians. The peers
// are an empty Go program for the start, the servers' own clients and the drivers' bare logins, in programs of
// their own, for whole tests, and loops of such logins for a thousand profiles. scripts/bench runs it.
package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentleharbor/internal/testkit"
)

// pairs is how many times each of two programs is run. The machines are noisy;
// the median of this many pairs moves by a few hundredths.
const pairs = 41

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

type bench struct {
	folder string
	env    []string
}

func run() error {
	folder, err := os.MkdirTemp("", "gharbor-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	defer testkit.StopAll()
	b := &bench{folder: folder}
	for name, path := range map[string]string{
		"gharbor":    "gentleharbor/cmd/gharbor",
		"empty":      "gentleharbor/internal/bench/empty",
		"login":      "gentleharbor/internal/bench/login",
		"mysqllogin": "gentleharbor/internal/bench/mysqllogin",
		"loop":       "gentleharbor/internal/bench/loop",
		"traffic":    "gentleharbor/internal/bench/traffic",
		"mysqlloop":  "gentleharbor/internal/bench/mysqlloop",
		"asker":      "gentleharbor/internal/bench/asker",
	} {
		cmd := exec.Command("go", "build", "-o", filepath.Join(folder, name), path)
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		cmd.Stderr = os.Stderr
		if err := cmd.Run(); err != nil {
			return err
		}
	}
	b.env = []string{"HOME=" + folder, "PATH=" + os.Getenv("PATH"), "GHARBOR_HOME=" + filepath.Join(folder, "home"),
		"WARDEN=" + testkit.WardenPassword}
	if len(os.Args) > 1 && os.Args[1] == "tunnels" {
		return b.tunnels()
	}
	if len(os.Args) > 1 && os.Args[1] == "addresses" {
		return b.addresses()
	}
	if len(os.Args) > 2 && os.Args[1] == "soak" {
		length, err := time.ParseDuration(os.Args[2])
		if err != nil {
			return err
		}
		return b.soak(length)
	}
	if len(os.Args) > 1 && os.Args[1] == "containers" {
		return b.containers()
	}
	if len(os.Args) > 1 && os.Args[1] == "mariadb" {
		return b.mariadb()
	}
	if len(os.Args) > 1 && os.Args[1] == "redis" {
		return b.redis()
	}
	if len(os.Args) > 1 && os.Args[1] == "statements" {
		return b.statements()
	}
	if err := b.start(); err != nil {
		return err
	}
	if err := b.logins(); err != nil {
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "short" {
		return b.aliases()
	}
	if err := b.aliases(); err != nil {
		return err
	}
	for _, part := range []func() error{b.tunnels, b.addresses,
		b.mariadb, b.redis, b.many, b.list, b.containers, b.statements} {
		if err := part(); err != nil {
			return err
		}
	}
	if err := b.passfile(); err != nil {
		return err
	}
	return b.wallet()
}

// time runs a program once.
func (b *bench) time(name string, args ...string) (time.Duration, error) {
	if !filepath.IsAbs(name) {
		name = filepath.Join(b.folder, name)
	}
	cmd := exec.Command(name, args...)
	cmd.Env = b.env
	var stderr strings.Builder
	cmd.Stderr = &stderr
	start := time.Now()
	err := cmd.Run()
	took := time.Since(start)
	if err != nil {
		return 0, fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, stderr.String())
	}
	return took, nil
}

// compare runs two programs in turn and prints the medians and their ratio.
func (b *bench) compare(what string, aim float64, ours, peer []string) error {
	return b.compareTimes(pairs, what, aim, ours, peer)
}

func (b *bench) compareTimes(times int, what string, aim float64, ours, peer []string) error {
	return b.compareInTurn(times, what, aim, func() error { return nil }, ours, peer)
}

// compareInTurn runs two programs in turn, each after a preparation that is not measured, and prints both medians and
// their ratio.
func (b *bench) compareInTurn(times int, what string, aim float64, prepare func() error, ours, peer []string) error {
	var took [2][]time.Duration
	for range times {
		for i, words := range [][]string{ours, peer} {
			if err := prepare(); err != nil {
				return err
			}
			t, err := b.time(words[0], words[1:]...)
			if err != nil {
				return err
			}
			took[i] = append(took[i], t)
		}
	}
	a, p := median(took[0]), median(took[1])
	fmt.Printf("%-34s %8.2f ms  peer %8.2f ms  ratio %.2f (aim %.2f)\n", what, ms(a), ms(p), float64(a)/float64(p), aim)
	return nil
}

func median(times []time.Duration) time.Duration {
	slices.Sort(times)
	return times[len(times)/2]
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

func (b *bench) start() error {
	return b.compare("start (gharbor version / empty)", 2.2, []string{"gharbor", "version"}, []string{"empty"})
}

// logins compares a whole test with the bare login, TLS off and verified.
func (b *bench) logins() error {
	server, err := testkit.StartPostgreSQL()
	if err != nil {
		return err
	}
	if _, err := b.time("gharbor", "add", "sightings", "-engine", "postgresql", "-host", "127.0.0.1", "-port",
		fmt.Sprint(server.Port), "-database", "sightings",
		"-user", "warden", "-secret", "env:WARDEN", "-tls-ca", server.Authority, "-tls-name", "localhost"); err != nil {
		return err
	}
	base := fmt.Sprintf("host=127.0.0.1 port=%d dbname=sightings user=warden password='%s'", server.Port,
		strings.ReplaceAll(testkit.WardenPassword, `\`, `\\`))
	b.env = append(b.env, "PGPASSWORD="+testkit.WardenPassword)
	ours := []string{"gharbor", "test", "sightings", "-override", "tls=off"}
	if err := b.compare("test / client, PostgreSQL", 0.60, ours,
		[]string{server.Client(), "-X", "-q", "-A", "-t", "-c", "SELECT 1",
			fmt.Sprintf("host=127.0.0.1 port=%d dbname=sightings user=warden sslmode=disable", server.Port)}); err != nil {
		return err
	}
	if err := b.compare("test, SCRAM, TLS off", 1.5, []string{"gharbor", "test", "sightings", "-override", "tls=off"},
		[]string{"login", base + " sslmode=disable"}); err != nil {
		return err
	}
	return b.compare("test, SCRAM, TLS verified", 1.5,
		[]string{"gharbor", "test", "sightings", "-override", "tls=verified"},
		[]string{"login", strings.Replace(base, "host=127.0.0.1", "host=localhost", 1) +
			" sslmode=verify-full sslrootcert=" + server.Authority})
}

// list reads and prints 10,000 profiles.
func (b *bench) list() error {
	var text strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&text, "\n[profile.station-%d]\nengine   = \"postgresql\"\nhost     = \"10.0.0.1\"\nport     = "+
			"5432\ndatabase = \"sightings\"\nuser     = \"warden\"\ntags     = [\"field\"]\n", i)
	}
	if err := os.WriteFile(filepath.Join(b.folder, "home", "profiles.toml"), []byte(text.String()), 0o600); err != nil {
		return err
	}
	return b.alone("list, 10,000 profiles", 100, "list")
}

// passfile looks through 100,000 lines for the last one. The port is closed,
// so the rest of the test is a refusal.
func (b *bench) passfile() error {
	var text strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&text, "db-%d.saltmarsh.example:5432:sightings:warden:password-%d\n", i, i)
	}
	text.WriteString("127.0.0.1:1:*:warden:knot\n")
	if err := os.WriteFile(filepath.Join(b.folder, ".pgpass"), []byte(text.String()), 0o600); err != nil {
		return err
	}
	profile := "[profile.sightings]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = 1\nuser = \"warden\"\nsecret " +
		"= \"passfile\"\n"
	if err := os.WriteFile(filepath.Join(b.folder, "home", "profiles.toml"), []byte(profile), 0o600); err != nil {
		return err
	}
	return b.stage("password file of 100,000 lines", 50)
}

// alone runs a command by itself.
func (b *bench) alone(what string, aim float64, args ...string) error {
	var times []time.Duration
	for range pairs {
		t, err := b.time("gharbor", args...)
		if err != nil {
			return err
		}
		times = append(times, t)
	}
	fmt.Printf("%-34s %8.2f ms  (aim %.0f ms)\n", what, ms(median(times)), aim)
	return nil
}

// stage takes the secret stage's own time from the report.
func (b *bench) stage(what string, aim float64) error {
	var times []time.Duration
	for range pairs {
		cmd := exec.Command(filepath.Join(b.folder, "gharbor"), "test", "sightings", "-format", "json")
		cmd.Env = b.env
		out, _ := cmd.Output() // the test fails by design, at reach
		took, err := testkit.StageTime(out, "secret")
		if err != nil {
			return err
		}
		times = append(times, took)
	}
	fmt.Printf("%-34s %8.2f ms  (aim %.0f ms)\n", what, ms(median(times)), aim)
	return nil
}
