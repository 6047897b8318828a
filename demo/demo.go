// Package demo is the guided example: simulated servers on free loopback ports with the data of a small bird
// observatory, and commands as a person would type them. It needs nothing installed and no network, and removes what
// it made. core never imports it.
package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/cloud"
	"gentleharbor/standin/engineapi"
	"gentleharbor/standin/mongodb"
	"gentleharbor/standin/mysql"
	"gentleharbor/standin/oracle"
	"gentleharbor/standin/postgresql"
	"gentleharbor/standin/redis"
	"gentleharbor/standin/serve"
	"gentleharbor/standin/ssh"
	"gentleharbor/standin/store"
)

// Part is one walk.
type Part struct {
	Name    string
	Summary string
	walk    func(*stage)
}

// Parts lists the parts of the demo; the first is the default.
func Parts() []Part {
	return []Part{
		{"first", "define, test, fail, fix, ready: the main job", first},
		{"certificate", "a server with its own authority: untrusted, compared, verified", certificate},
		{"counts", "after the green test: load a sample database, look around, query, and load a file of rows", counts},
		{"refusals", "logins that fail, and an administrator's profile that says why", refusals},
		{"provision", "an account and a database made, a new password, and all of it removed", showProvision},
		{"ringing", "a server in a container: found, adopted, followed when it moves, stopped, started", ringing},
		{"moult", "a MySQL server: the socket against TCP, locked and expired accounts", showSocketMove},
		{"fieldnotes", "a document database: where an account was made, commands, loading documents", fieldnotes},
		{"cache", "a key-value store: commands, keys, a guard", showCache},
		{"fleet", "many profiles at once, waiting, and two profiles side by side", fleet},
		{"wallet", "a password in a wallet, bound to its address; a scheduled job that reads it", wallet},
		{"tides", "a server behind jump hosts: a host key to compare, a way through, a tunnel", tides},
		{"address", "a local address that logs in: a program without a password, in a database behind a hop", address},
		{"members", "a rented server: a sign-in, a branch, an open door for a time, a login that expires by itself", members},
		{"archive", "one name for a service: an alias, a knock, a batch job, a name that nobody knows", archive},
		{"project", "a repository with profiles in it: nothing happens before you vouch for them", project},
		{"faults", "servers that are starting, full, silent, or something else", faults},
	}
}

// Options say how a demo runs.
type Options struct {
	Out     io.Writer
	Part    string // "" for the first
	Command func(Step) int
	Bold    func(string) string // for the headings and the prompt
}

// Step is a command to run.
type Step struct {
	Home  string // GHARBOR_HOME, and for the sockets of background processes XDG_RUNTIME_DIR
	Dir   string // the working folder
	Input string // standard input
	Args  []string

	Engines string // the sockets of container engines, for GHARBOR_ENGINES
	Quiet   bool   // what it prints is not shown
}

// stage is a demo under way.
type stage struct {
	Options
	home      string
	servers   map[string]*postgresql.Server
	moult     *mysql.Server // MySQL, with an account for the socket alone
	ringing   *mysql.Server // MariaDB, in a container
	oldRings  *mysql.Server // in another one, with an account for this machine's loopback alone
	engine    *engineapi.Server
	gate      *ssh.Server // a jump host at the edge of the network
	sluice    *ssh.Server // one more, which only the gate reaches
	archive   *oracle.Server
	notes     *mongodb.Server
	cache     *redis.Server
	provider  *cloud.Provider
	samples   *store.Store // the tables of sightings
	authority *authority.Authority
	closed    int    // a port that nothing listens on
	release   func() // it, at the end; nil before it was found
	failed    error
}

// The passwords of the demo's made-up accounts; nothing else has them.
const (
	wardenPassword  = "dunlin-at-ebb"
	visitorPassword = "curlew-calling"
	keeperPassword  = "avocet-egg-4"
	banderPassword  = "redshank-ring-9"
)

var tables = []string{"species", "observer", "sighting", "ring"}

// ErrNoPart is Run's error for an unknown part.
var ErrNoPart = errors.New("the demo has no part of that name; gharbor demo -list shows them")

// Run runs a part. Its error is that of the set-up, or of a command with an unexpected exit code.
func Run(ctx context.Context, o Options) error {
	part, ok := find(o.Part)
	if !ok {
		return ErrNoPart
	}
	s, err := setUp(o)
	if err != nil {
		return err
	}
	defer s.tearDown()
	s.say("Saltmarsh Bird Observatory keeps its counts in PostgreSQL and its moult records in MySQL.")
	s.say("The servers here are simulated, on free ports of this machine; the profiles are in %s.", s.home)
	done := make(chan struct{})
	defect.Go(func() { defer close(done); part.walk(s) })
	select {
	case <-done:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	if s.failed != nil {
		return s.failed
	}
	fmt.Fprintf(s.Out, "\n%s", s.Bold("The demo is over and everything that it made is gone."))
	fmt.Fprintf(s.Out, " Next: gharbor nearby, then gharbor add NAME.\n")
	fmt.Fprintf(s.Out, "More parts: gharbor demo -list. To try the commands yourself: gharbor demo -keep.\n")
	return nil
}

func find(name string) (Part, bool) {
	for i, p := range Parts() {
		if p.Name == name || name == "" && i == 0 {
			return p, true
		}
	}
	return Part{}, false
}

// Keep starts the servers with profiles for all of them, prints how to use them, and stays until ctx ends.
func Keep(ctx context.Context, o Options) error {
	s, err := setUp(o)
	if err != nil {
		return err
	}
	defer s.tearDown()
	if err := s.profiles(); err != nil {
		return err
	}
	if err := errors.Join(s.fill(), s.field()); err != nil {
		return err
	}
	fmt.Fprintf(s.Out, "%s In another terminal:\n\n", s.Bold("The simulated servers are up until Ctrl-C."))
	for _, line := range []string{
		"export GHARBOR_HOME=" + clean.Shell(s.home) + " GHARBOR_ENGINES=" + clean.Shell(s.socketOf("engine")),
		"cd " + clean.Shell(filepath.Join(s.home, "samples")) + "   # files to load and import",
		"gharbor list", "gharbor test sightings", "gharbor show sightings-ro",
		"gharbor test tides", "gharbor certificate tides", "gharbor alias resolve archive", "gharbor alias knock archive",
		"gharbor browse sightings", "gharbor query sightings 'select place, count(*) from sighting group by 1'",
		"gharbor query fieldnotes '{\"find\":\"note\"}'", "gharbor query cache 'GET station'",
		"gharbor test archive", "gharbor container scan", "gharbor test ringing",
		"gharbor cloud instances station", "gharbor test renewals",
		"gharbor test sightings -override user=Warden -as sightings-admin",
		"gharbor test moult-tcp -as moult-admin", "gharbor test -all -timeout 3s", "gharbor compare sightings tides",
	} {
		fmt.Fprintf(s.Out, "  %s\n", line)
	}
	fmt.Fprintf(s.Out, "\nThe passphrase of the wallet is: %s\n", passphrase)
	s.confirmAll(ctx)
	<-ctx.Done()
	fmt.Fprintf(s.Out, "\nThe servers are stopped and %s is removed.\n", s.home)
	return nil
}

// setUp makes the temporary home and starts the servers.
func setUp(o Options) (*stage, error) {
	if o.Bold == nil {
		o.Bold = func(s string) string { return s }
	}
	home, err := os.MkdirTemp(shortTemp(), "gharbor-demo-")
	if err != nil {
		return nil, err
	}
	s := &stage{Options: o, home: home, servers: make(map[string]*postgresql.Server)}
	if err := s.start(); err != nil {
		s.tearDown()
		return nil, err
	}
	return s, nil
}

// shortTemp is a folder for temporary files whose path is short enough for sockets some folders below it: on macOS
// that of os.TempDir is not.
func shortTemp() string {
	if folder := os.TempDir(); len(folder) <= 40 {
		return folder
	}
	if info, err := os.Stat("/tmp"); err == nil && info.IsDir() {
		return "/tmp"
	}
	return os.TempDir()
}

func (s *stage) tearDown() {
	for _, server := range s.servers {
		server.Close()
	}
	if s.engine != nil {
		s.engine.Change(func(*[]*engineapi.Container) { s.ringing.Close() })
		s.engine.Close()
		s.ringing = nil
	}
	for _, server := range []*mysql.Server{s.moult, s.ringing, s.oldRings} {
		if server != nil {
			server.Close()
		}
	}
	for _, server := range []*ssh.Server{s.gate, s.sluice} {
		if server != nil {
			server.Close()
		}
	}
	if s.archive != nil {
		s.archive.Close()
	}
	if s.release != nil {
		s.release()
	}
	if s.notes != nil {
		s.notes.Close()
	}
	if s.cache != nil {
		s.cache.Close()
	}
	if s.provider != nil {
		s.provider.Close()
	}
	os.RemoveAll(s.home)
}

func (s *stage) start() (err error) {
	if s.authority, err = authority.New(); err != nil {
		return err
	}
	secure, err := s.authority.TLS([]string{tideHost}, 300*24*time.Hour)
	if err != nil {
		return err
	}
	birds := postgresql.Config{
		Databases: []string{"postgres", "sightings", "ringing"},
		Tables:    tables,
		Roles: map[string]postgresql.Role{
			"warden": {Password: wardenPassword}, "visitor": {Password: visitorPassword},
			"registrar": {Password: keeperPassword, Superuser: true}, "summer-help": {Password: visitorPassword, Expired: true},
		},
	}
	tides := postgresql.Config{
		Databases: []string{"postgres", "tides"},
		Tables:    []string{"tide_reading"},
		TLS:       secure,
		Lineage:   "7300000000000000002",
		Roles:     map[string]postgresql.Role{"tidekeeper": {Password: keeperPassword}},
	}
	s.samples = &store.Store{}
	full := birds
	full.Answer = postgresql.Statements(s.samples, &full)
	configs := map[string]postgresql.Config{"sightings": full, "tides": tides}
	for _, fault := range []postgresql.Fault{postgresql.Starting, postgresql.Full, postgresql.Silent, postgresql.Garbage} {
		broken := birds
		broken.Fault = fault
		configs[string(fault)] = broken
	}
	for name, config := range configs {
		if s.servers[name], err = postgresql.Start(config); err != nil {
			delete(s.servers, name)
			return err
		}
	}
	if err := s.startRings(); err != nil {
		return err
	}
	if err := s.startHops(); err != nil {
		return err
	}
	if err := s.startArchive(); err != nil {
		return err
	}
	if err := s.startStores(); err != nil {
		return err
	}
	if err := s.startCloud(); err != nil {
		return err
	}
	if s.closed, s.release, err = serve.ClosedPort(); err != nil {
		return err
	}
	var lines strings.Builder
	for _, account := range [][2]string{{"warden", wardenPassword}, {"visitor", visitorPassword},
		{"registrar", keeperPassword}, {"tidekeeper", keeperPassword}, {"summer-help", visitorPassword},
		{"Warden", wardenPassword}} {
		fmt.Fprintf(&lines, "127.0.0.1:*:*:%s:%s\n", account[0], account[1])
	}
	fmt.Fprintf(&lines, "%s:5432:tides:tidekeeper:%s\n", tideHost, keeperPassword)
	return os.WriteFile(s.passwords(), []byte(lines.String()), 0o600)
}

// startRings starts the simulated MySQL server, and the MariaDB ones in containers. The account bander can use only
// the socket: its server looks up no names, so over TCP it sees an address.
func (s *stage) startRings() (err error) {
	native := func(a mysql.Account) mysql.Account {
		a.Password, a.Method = banderPassword, "mysql_native_password"
		return a
	}
	s.moult, err = mysql.Start(mysql.Config{
		UUID:      "5a175a17-0000-4000-8000-00000000c0de",
		NoNames:   true,
		Method:    "mysql_native_password",
		Socket:    s.socket(),
		Databases: []string{"moult"},
		Tables:    []string{"ring", "species", "observer"},
		Accounts: []mysql.Account{
			native(mysql.Account{User: "bander", Host: "localhost", Databases: []string{"moult"}}),
			native(mysql.Account{User: "summer-help", Host: "%", Expired: true, Databases: []string{"moult"}}),
			native(mysql.Account{User: "old-ringer", Host: "%", Locked: true, Databases: []string{"moult"}}),
			native(mysql.Account{User: "registrar", Host: "%", Admin: true}),
		},
	})
	if err != nil {
		return err
	}
	if err := s.startContainers(); err != nil {
		return err
	}
	return os.WriteFile(s.banderFile(), []byte(banderPassword+"\n"), 0o600)
}

func (s *stage) socket() string { return s.socketOf("mysqld") }

// socketOf is the path of a server's socket.
func (s *stage) socketOf(name string) string { return filepath.Join(s.home, name+".sock") }

func (s *stage) banderFile() string { return filepath.Join(s.home, "bander") }

func (s *stage) passwords() string { return filepath.Join(s.home, "passwords") }

// say explains a step in a line.
func (s *stage) say(format string, args ...any) {
	fmt.Fprintf(s.Out, format+"\n", args...)
}

// step explains, shows the command as typed, and runs it. want is its exit code.
func (s *stage) step(why string, want int, args ...string) {
	s.stepIn(Step{Home: s.home, Dir: s.home, Args: args}, "", why, want)
}

// stepIn is step in another home or folder, or with an input; around is the rest of the shell line, with a % in place
// of the command.
func (s *stage) stepIn(step Step, around, why string, want int) {
	if s.failed != nil {
		return
	}
	words := make([]string, len(step.Args))
	for i, arg := range step.Args {
		words[i] = clean.Shell(arg)
	}
	step.Engines = s.socketOf("engine")
	line := "gharbor " + strings.Join(words, " ")
	if around != "" {
		line = strings.Replace(around, "%", line, 1)
	}
	fmt.Fprintf(s.Out, "\n%s\n%s\n", s.Bold("# "+why), s.Bold("$ "+line))
	if got := s.Command(step); got != want && s.failed == nil {
		s.failed = fmt.Errorf("the demo's command ended with %d where %d was expected", got, want)
	}
}

// profiles defines a profile for each server, and prints nothing.
func (s *stage) profiles() error {
	var b strings.Builder
	b.WriteString("format = 1\n")
	one := func(name, server, database, user, more string) {
		fmt.Fprintf(&b, "\n[profile.%s]\nengine   = \"postgresql\"\nhost     = \"127.0.0.1\"\nport     = %d\ndatabase = "+
			"%q\nuser     = %q\nsecret   = \"passfile:passwords\"\n%s",
			name, s.servers[server].Port(), database, user, more)
	}
	one("sightings", "sightings", "sightings", "warden",
		"tags     = [\"local\", \"field\"]\nnote     = \"the bird counts, on this "+
			"laptop\"\n\n[profile.sightings.expect]\nversion  = \">= 14\"\ntables   = [\"sighting\", \"observer\"]\n")
	b.WriteString("\n[profile.sightings-ro]\nlike     = \"sightings\"\nuser     = \"visitor\"\n")
	one("sightings-admin", "sightings", "postgres", "registrar", "tags     = [\"local\", \"admin\"]\n")
	b.WriteString(s.tideProfiles())
	b.WriteString(s.ringProfiles())
	b.WriteString(archiveProfile)
	b.WriteString(s.storeProfiles())
	rented, err := s.cloudProfiles()
	b.WriteString(rented)
	for _, fault := range []string{"starting", "full", "silent", "garbage"} {
		one(fault, fault, "sightings", "warden", "tags     = [\"broken\"]\n")
	}
	return errors.Join(err, os.WriteFile(filepath.Join(s.home, "authority.pem"), s.authority.PEM, 0o600),
		os.WriteFile(filepath.Join(s.home, "known_hosts"), []byte(s.gate.KnownLine()+"\n"+s.sluice.KnownLine()+"\n"), 0o600),
		os.WriteFile(filepath.Join(s.home, "aliases.toml"), []byte(s.archiveAliases()+s.cloudHosts()), 0o600),
		os.WriteFile(filepath.Join(s.home, "profiles.toml"), []byte(b.String()), 0o600))
}

// ringProfiles are the profiles on the MySQL and MariaDB servers.
func (s *stage) ringProfiles() string {
	return fmt.Sprintf(`
[profile.moult]
engine   = "mysql"
socket   = "mysqld.sock"
database = "moult"
user     = "bander"
secret   = "file:bander"
tags     = ["local", "field"]

[profile.moult.expect]
tables   = ["ring"]
sql-mode = ["STRICT_TRANS_TABLES"]

[profile.moult-tcp]
like     = "moult"
host     = "127.0.0.1"
port     = %[1]d
tags     = ["broken"]

[profile.moult-admin]
engine   = "mysql"
host     = "127.0.0.1"
port     = %[1]d
user     = "registrar"
secret   = "file:bander"
tags     = ["local", "admin"]

[profile.ringing]
engine    = "mariadb"
container = "saltmarsh-ringing"
database  = "ringing"
user      = "ringer"
secret    = "container:MARIADB_PASSWORD"
tags      = ["local", "container"]

[profile.ringing-admin]
like     = "ringing"
user     = "registrar"
secret   = "file:bander"
tags     = ["local", "admin"]
`, s.moult.Port())
}
