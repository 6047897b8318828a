package main

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/dns"
	"gentleharbor/standin/postgresql"
	"gentleharbor/standin/ssh"
)

// hang is something outside that does not answer, and the commands that wait for it.
type hang struct {
	name     string
	setUp    func(t *testing.T) *testkit.Program
	commands []string // with TIME for the time that they are given; those without it have one of their own
}

// What a command may take beyond the time that it was given: limits of its own for what the time does not count, such as
// a look-up's. And what it may take to end once it is told to.
const (
	hangSlack = 25 * time.Second
	hangEnd   = 8 * time.Second // before the program ends what does not end
)

// hangs are all things that the program waits for. TestEveryWait finds those that are missing here.
func hangs() []hang {
	const here = "[profile.x]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %s\nuser = \"warden\"\ndatabase = \"sightings\"\nsecret = \"env:DUNLIN\"\ntls = \"off\"\n"
	profile := func(t *testing.T, format string, values ...any) *testkit.Program {
		p := testkit.NewProgram(t)
		p.Setenv("DUNLIN", "dunlin")
		p.Profiles(fmt.Sprintf(format, values...))
		return p
	}
	atServer := func(after int) func(t *testing.T) *testkit.Program {
		return func(t *testing.T) *testkit.Program {
			server, err := postgresql.Start(birds())
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(server.Close)
			return profile(t, here, stalling(t, fmt.Sprintf("127.0.0.1:%d", server.Port()), after))
		}
	}
	atGate := func(c ssh.Config, after int) func(t *testing.T) *testkit.Program {
		return func(t *testing.T) *testkit.Program {
			p, gate := simulatedTides(t, c)
			if after < 0 {
				return p
			}
			at := stalling(t, fmt.Sprintf("127.0.0.1:%d", gate.Port()), after)
			p.Knows(strings.Replace(gate.KnownLine(), fmt.Sprint(gate.Port()), at, 1))
			p.OK("set", "tides", "hop.1.port="+at)
			return p
		}
	}
	byProxy := func(scheme string) func(t *testing.T) *testkit.Program {
		return func(t *testing.T) *testkit.Program {
			return profile(t, "[profile.x]\nengine = \"postgresql\"\nhost = \"db.internal.example\"\nuser = \"warden\"\nsecret = \"env:DUNLIN\"\ntls = \"off\"\n[[profile.x.hop]]\nproxy = \"%s://127.0.0.1:%s\"\n",
				scheme, stalling(t, "", 0))
		}
	}
	secret := func(words string) func(t *testing.T) *testkit.Program {
		return func(t *testing.T) *testkit.Program {
			server, err := postgresql.Start(birds())
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(server.Close)
			return profile(t, strings.Replace(here, `"env:DUNLIN"`, words, 1), fmt.Sprint(server.Port()))
		}
	}
	names := func(t *testing.T) *testkit.Program {
		p := profile(t, "[profile.x]\nengine = \"postgresql\"\nhost = \"db.saltmarsh.example\"\nuser = \"warden\"\nsecret = \"env:DUNLIN\"\n"+
			"[profile.s]\nengine = \"postgresql\"\nalias = \"counts\"\nuser = \"warden\"\nsecret = \"env:DUNLIN\"\n")
		p.Aliases("[alias.counts]\nsrv = \"_postgresql._tcp.saltmarsh.example\"\nengine = \"postgresql\"\n")
		p.NameServer(t, &dns.Server{Silent: true})
		return p
	}
	engine := func(t *testing.T) *testkit.Program {
		p := profile(t, "[profile.x]\nengine = \"mariadb\"\ncontainer = \"ringing\"\nuser = \"ringer\"\nsecret = \"env:DUNLIN\"\n")
		p.Setenv("GHARBOR_ENGINES", silentSocket(t))
		return p
	}
	cloud := func(t *testing.T) *testkit.Program {
		at := "https://127.0.0.1:" + stalling(t, "", 0)
		p := profile(t, "[cloud.station]\nissuer = %q\nservice = %q\nclient = \"gharbor\"\n[profile.x]\nengine = \"mysql\"\ncloud = \"station/members\"\nuser = \"u\"\nsecret = \"cloud\"\n", at, at+"/v1")
		p.Write(filepath.Join(filepath.Dir(p.Home), "token"), "token-of-the-station\n")
		p.OK("cloud", "set", "station", "issuer=", "client=", "token-file="+filepath.Join(filepath.Dir(p.Home), "token"))
		return p
	}
	way := []string{"test x -timeout TIME"}
	gate := []string{"test tides -timeout TIME", "tunnel open tides -timeout TIME", "tunnel open tides -background -timeout TIME",
		"with tides -- true"}
	return []hang{
		{"a server that says nothing", atServer(0), []string{"test x -timeout TIME", "query x -timeout TIME 'SELECT 1'", "wait x -within TIME", "compare x x -timeout TIME", "nearby"}},
		{"a server that stops in the login", atServer(20), []string{"test x -timeout TIME", "query x -timeout TIME 'SELECT 1'"}},
		{"a server that stops behind the login", atServer(330), []string{"test x -timeout TIME", "query x -timeout TIME 'SELECT 1'"}},
		{"a redis server that says nothing", func(t *testing.T) *testkit.Program {
			return profile(t, "[profile.x]\nengine = \"redis\"\nhost = \"127.0.0.1\"\nport = %s\nsecret = \"none\"\n", stalling(t, "", 0))
		}, way},
		{"a sentinel that says nothing", func(t *testing.T) *testkit.Program {
			return profile(t, "[profile.x]\nengine = \"redis\"\nsentinel = \"counts@127.0.0.1:%s\"\nsecret = \"none\"\n", stalling(t, "", 0))
		}, way},
		{"a mongodb server that says nothing", func(t *testing.T) *testkit.Program {
			return profile(t, "[profile.x]\nengine = \"mongodb\"\nhost = \"127.0.0.1\"\nport = %s\nsecret = \"none\"\n", stalling(t, "", 0))
		}, way},
		{"a mysql server that says nothing", func(t *testing.T) *testkit.Program {
			return profile(t, "[profile.x]\nengine = \"mysql\"\nhost = \"127.0.0.1\"\nport = %s\nuser = \"u\"\nsecret = \"none\"\n", stalling(t, "", 0))
		}, way},
		{"a listener that says nothing", func(t *testing.T) *testkit.Program {
			p := profile(t, "[profile.x]\nengine = \"oracle\"\nhost = \"127.0.0.1\"\nport = %s\nservice = \"s\"\nuser = \"u\"\nsecret = \"env:DUNLIN\"\n", stalling(t, "", 0))
			p.Aliases(fmt.Sprintf("[alias.skein]\naddresses = [\"127.0.0.1:%s\"]\nengine = \"oracle\"\nservice = \"s\"\n", stalling(t, "", 0)))
			return p
		}, []string{"test x -timeout TIME", "alias knock skein -timeout TIME"}},
		{"a hop that says nothing", atGate(ssh.Config{}, 0), append(gate, "hop pin tides -timeout TIME")},
		{"a hop that stops in the key exchange", atGate(ssh.Config{}, 60), gate[:1]},
		{"a hop that stops behind the key exchange", atGate(ssh.Config{}, 1500), gate[:1]},
		{"a hop that does not connect", atGate(ssh.Config{Fault: ssh.HangOpen}, -1), gate[:1]},
		{"a hop that goes silent", atGate(ssh.Config{Fault: ssh.Mute}, -1), gate[:1]},
		{"a SOCKS proxy that says nothing", byProxy("socks5"), way},
		{"an HTTP proxy that says nothing", byProxy("http"), way},
		{"an agent that does not list", func(t *testing.T) *testkit.Program {
			p, _ := simulatedTides(t, ssh.Config{})
			p.Setenv("SSH_AUTH_SOCK", silentSocket(t))
			return p
		}, gate[:1]},
		{"an agent that does not sign", func(t *testing.T) *testkit.Program {
			p, gate, _ := tides(t)
			withAgent(t, p, gate).Store(true)
			return p
		}, gate},
		{"a name server that does not answer", names, []string{"test x -timeout TIME", "test s -timeout TIME", "alias resolve counts -timeout TIME",
			"export x -as env", "wait x -within TIME"}},
		{"the system's names", func(t *testing.T) *testkit.Program {
			p := profile(t, "[profile.x]\nengine = \"postgresql\"\nhost = \"no-such-host.invalid\"\nuser = \"warden\"\nsecret = \"env:DUNLIN\"\n")
			inPath(t, p, "getent", "sleep 300 & sleep 300")
			return p
		}, way},
		{"a container engine that does not answer", engine, []string{"test x -timeout TIME", "container scan", "nearby", "container start ringing"}},
		{"a cloud service that does not answer", cloud, []string{"test x -timeout TIME", "cloud instances station"}},
		{"a program for a password", secret("\"command\"\ncommand = [\"sh\", \"-c\", \"trap '' TERM; sleep 300 & sleep 300\"]"), []string{"test x -timeout TIME SIGNAL"}},
		{"a keyring", func(t *testing.T) *testkit.Program {
			p := secret(`"keyring"`)(t)
			p.Setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path="+silentSocket(t))
			return p
		}, []string{"test x -timeout TIME SIGNAL"}},
		{"a program that tells its version", func(t *testing.T) *testkit.Program {
			p := secret(`"env:DUNLIN"`)(t)
			p.OK("test", "x")
			inPath(t, p, "pg_dump", `case "$1" in --version) sleep 300 & sleep 300;; esac`)
			return p
		}, []string{"with x -- pg_dump"}},
		{"a lock that another process holds", func(t *testing.T) *testkit.Program {
			p := profile(t, here, "5432")
			held, err := os.OpenFile(filepath.Join(p.Home, "profiles.toml.lock"), os.O_CREATE|os.O_RDWR, 0o600)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { held.Close() })
			if err := syscall.Flock(int(held.Fd()), syscall.LOCK_EX); err != nil {
				t.Fatal(err)
			}
			return p
		}, []string{"set x note=a"}},
		{"a wallet's keeper that stands still", func(t *testing.T) *testkit.Program {
			p := secret(`"wallet"`)(t)
			runtime, err := os.MkdirTemp("", "gh-run-") // a socket's path is short
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { os.RemoveAll(runtime) })
			p.Setenv("XDG_RUNTIME_DIR", runtime)
			w := withWallet(t, p)
			w.quickPut("x", "dunlin", "x")
			w.ok("unlock", "-lifetime", "2m")
			standStill(t, keeperOf(t, p))
			return p
		}, []string{"test x -timeout TIME", "wallet list", "wallet lock"}},
		{"a tunnel that stands still", func(t *testing.T) *testkit.Program {
			p, _ := simulatedTides(t, ssh.Config{})
			runtime, err := os.MkdirTemp("", "gh-run-") // a socket's path is short
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { os.RemoveAll(runtime) })
			p.Setenv("XDG_RUNTIME_DIR", runtime)
			p.OK("tunnel", "open", "tides", "-background")
			standStill(t, status(t, p).PID)
			return p
		}, []string{"tunnel list", "tunnel close tides", "tunnel open tides -background"}},
		{"a socket whose queue is full", func(t *testing.T) *testkit.Program {
			p, _ := simulatedTides(t, ssh.Config{})
			os.Rename(fullSocket(t), filepath.Join(filepath.Dir(p.Home), "s"))
			return p
		}, []string{"tunnel open tides -socket s -background -timeout TIME"}},
	}
}

// TestFullQueueIsTaken: a socket whose queue is full is another process's, and stays its.
func TestFullQueueIsTaken(t *testing.T) {
	t.Parallel()
	p, _ := simulatedTides(t, ssh.Config{})
	socket := fullSocket(t)
	before, _ := os.Lstat(socket)
	p.Run("tunnel", "open", "tides", "-socket", socket, "-background", "-timeout", "5s").Want(5).Has("another process listens on the socket")
	if after, err := os.Lstat(socket); err != nil || !os.SameFile(before, after) {
		t.Errorf("the socket was taken over: %v", err)
	}
}

// TestNothingHangs: whatever the program waits for does not answer. Each command ends with the time that it was given, or
// with a limit of its own, and with Ctrl-C.
func TestNothingHangs(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	for _, h := range hangs() {
		t.Run(h.name, func(t *testing.T) {
			t.Parallel()
			p := h.setUp(t)
			for _, command := range h.commands {
				line, signalOnly := strings.CutSuffix(command, " SIGNAL") // its own limit is longer than a test lasts
				if !signalOnly {
					run := startHanging(t, p, strings.Replace(line, "TIME", "2s", 1))
					run.ends(t, "by itself", hangSlack)
				}
				run := startHanging(t, p, strings.Replace(line, "TIME", "60s", 1))
				select {
				case <-run.done: // it has a short limit of its own, or does not wait for this
				case <-time.After(700 * time.Millisecond):
					run.cmd.Process.Signal(os.Interrupt)
				}
				run.ends(t, "after Ctrl-C", hangEnd)
			}
		})
	}
}

// hanging is a run of the program.
type hanging struct {
	line  string
	cmd   *exec.Cmd
	said  *bytes.Buffer
	done  chan struct{}
	began time.Time
}

func startHanging(t *testing.T, p *testkit.Program, line string) *hanging {
	t.Helper()
	words := append(slices.Clone(p.Prefix), "sh", "-c", `exec "$0" `+line, p.Path)
	h := &hanging{line: line, cmd: exec.Command(words[0], words[1:]...), said: new(bytes.Buffer), done: make(chan struct{}), began: time.Now()}
	h.cmd.Env, h.cmd.Dir = p.Env, filepath.Dir(p.Home)
	h.cmd.Stdout, h.cmd.Stderr = h.said, h.said
	h.cmd.WaitDelay = time.Second // for what it left behind with its output open
	if err := h.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() {
		h.cmd.Wait()
		close(h.done)
	}()
	t.Cleanup(func() {
		h.cmd.Process.Kill()
		<-h.done
	})
	return h
}

// ends wants the run to end within a time from now.
func (h *hanging) ends(t *testing.T, how string, within time.Duration) {
	t.Helper()
	select {
	case <-h.done:
		t.Logf("%s: %s after %s: %.200q", h.line, how, time.Since(h.began).Round(100*time.Millisecond), h.said.String())
	case <-time.After(within):
		h.cmd.Process.Signal(syscall.SIGQUIT) // says where it waits
		select {
		case <-h.done:
		case <-time.After(2 * time.Second):
			h.cmd.Process.Kill()
			<-h.done
		}
		t.Errorf("%s does not end %s within %s:\n%.6000s", h.line, how, within, h.said.String())
	}
}

// stalling is a port that leads to a server and passes that many bytes of what it says, then nothing more; without a
// server it says nothing at all.
func stalling(t *testing.T, server string, after int) (port string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	testkit.Serve(t, l, func(conn net.Conn) {
		if server == "" || after == 0 {
			io.Copy(io.Discard, conn)
			return
		}
		to, err := net.Dial("tcp", server)
		if err != nil {
			return
		}
		defer to.Close()
		go io.CopyN(conn, to, int64(after))
		io.Copy(to, conn)
	})
	_, port, _ = net.SplitHostPort(l.Addr().String())
	return port
}

// silentSocket is a Unix socket behind which nobody answers.
func silentSocket(t *testing.T) string {
	t.Helper()
	path := socketPath(t)
	l, err := net.Listen("unix", path)
	if err != nil {
		t.Fatal(err)
	}
	testkit.Serve(t, l, func(conn net.Conn) { io.Copy(io.Discard, conn) })
	return path
}

// fullSocket is a Unix socket whose queue of connections is full.
func fullSocket(t *testing.T) string {
	t.Helper()
	path := socketPath(t)
	fd, err := syscall.Socket(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { syscall.Close(fd) })
	if err := syscall.Bind(fd, &syscall.SockaddrUnix{Name: path}); err != nil {
		t.Fatal(err)
	}
	syscall.Listen(fd, 0)
	for range 3 {
		if conn, err := net.DialTimeout("unix", path, 100*time.Millisecond); err == nil {
			t.Cleanup(func() { conn.Close() })
		}
	}
	return path
}

// inPath puts a script before the programs of the system.
func inPath(t *testing.T, p *testkit.Program, name, script string) {
	t.Helper()
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, name), []byte("#!/bin/sh\n"+script+"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	p.Setenv("PATH", folder+":"+os.Getenv("PATH"))
}

// standStill stops a process, until the test's end.
func standStill(t *testing.T, pid int) {
	t.Helper()
	syscall.Kill(pid, syscall.SIGSTOP)
	t.Cleanup(func() { syscall.Kill(pid, syscall.SIGKILL) })
	waitFor(t, "the process to be stopped", func() bool {
		threads, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", pid))
		for _, path := range threads {
			if stat, err := os.ReadFile(path); err == nil && !bytes.Contains(stat, []byte(") T ")) {
				return false
			}
		}
		return len(threads) > 0
	})
}

// TestPipesInPlaceOfFiles: a pipe to which nobody writes, where a file is to be read, is refused, and nobody waits.
func TestPipesInPlaceOfFiles(t *testing.T) {
	t.Parallel()
	server, err := postgresql.Start(birds())
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close()
	for name, line := range map[string]string{
		".pgpass":                "test x -override secret=passfile -timeout 5s",
		"secret":                 "test x -override secret=file:secret -timeout 5s",
		"ca.pem":                 "test x -override tls=verified -override tls-ca=ca.pem -timeout 5s",
		"crl.pem":                "test x -override tls=verified -override tls-crl=crl.pem -timeout 5s",
		"key.pem":                "test x -override tls=required -override tls-cert=key.pem -override tls-key=key.pem -timeout 5s",
		".ssh/config":            "test h -timeout 5s",
		".ssh/known_hosts":       "test k -timeout 5s",
		".ssh/id_ed25519":        "test k -timeout 5s",
		"gharbor/profiles.toml":  "list",
		"gharbor/aliases.toml":   "alias list",
		"gharbor/known_hosts":    "test k -timeout 5s",
		"gharbor/vouched.toml":   "vouch -list",
		"gharbor/last-seen.json": "audit",
		"gharbor/wallet.ghw":     "wallet list",
		"gharbor/reader.pin":     "wallet list",
		"gharbor.toml":           "list",
		".env":                   "import dotenv",
		"compose.yaml":           "import compose",
		"my.cnf":                 "import optionfile my.cnf",
		".pg_service.conf":       "import service",
		".bash_history":          "audit",
		"connection.json":        "import json",
		"token":                  "cloud instances station",
		".docker/config.json":    "container scan",
		"server.pem":             "test m -timeout 5s",
		"passphrase":             "wallet list -passphrase-file passphrase",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := testkit.NewProgram(t)
			p.Setenv("DUNLIN", "dunlin")
			p.Unsetenv("GHARBOR_ENGINES")
			p.Profiles(fmt.Sprintf("[profile.x]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\ndatabase = \"sightings\"\nsecret = \"env:DUNLIN\"\n"+
				"[profile.h]\nlike = \"x\"\n[[profile.h.hop]]\nssh = \"gate\"\n[profile.k]\nlike = \"x\"\n[[profile.k.hop]]\nhost = \"127.0.0.1\"\nport = 1\n"+
				"[profile.m]\nlike = \"x\"\nengine = \"mysql\"\nserver-key = \"server.pem\"\n"+
				"[cloud.station]\nservice = \"https://127.0.0.1:1/v1\"\ntoken-file = \"token\"\n", server.Port()))
			path := filepath.Join(filepath.Dir(p.Home), name)
			os.MkdirAll(filepath.Dir(path), 0o700)
			os.Remove(path)
			if err := syscall.Mkfifo(path, 0o600); err != nil {
				t.Fatal(err)
			}
			startHanging(t, p, line).ends(t, "at once", 15*time.Second)
		})
	}
}

// outside are the calls that may wait for something outside of the program.
var outside = regexp.MustCompile(`exec\.Command|\.DialContext\(|net\.Dial\w*\(|Lookup(NetIP|SRV|Host|Addr|TXT)\(|flock\.New|http\.Client|library\.Get|os\.Open\(|os\.ReadFile\(`)

// waits are the files of the product that call such a thing, with the hangs that make it wait, or why it does not.
var waits = map[string]string{
	"core/atomicfile/atomicfile.go":             "a lock that another process holds",
	"core/cloud/https/https.go":                 "a cloud service that does not answer",
	"core/container/api/client.go":              "a container engine that does not answer",
	"core/handover/programs.go":                 "a program that tells its version",
	"core/privatesocket/privatesocket.go":       "a wallet's keeper that stands still",
	"core/program/program.go":                   "a program for a password",
	"core/route/hop/forward.go":                 "a hop that does not connect",
	"core/route/hop/keys.go":                    "an agent that does not sign",
	"core/route/route.go":                       "a name server that does not answer",
	"core/secret/keyring/keyring.go":            "a keyring",
	"core/tunnel/registry.go":                   "a tunnel that stands still",
	"internal/cli/base/background.go":           "a tunnel that stands still",
	"core/handover/alive_unix.go":               noWait + "a file of the system's own",
	"core/handover/folder.go":                   noWait + "a file of a folder that the program made for itself",
	"core/nearby/places.go":                     noWait + "a file of the system's own",
	"core/nearby/processes.go":                  noWait + "a file of the system's own",
	"core/tunnel/holder.go":                     noWait + "a file of the system's own",
	"core/script/file.go":                       noWait + "it looks at the kind of file before",
	"internal/cli/testcmd/certificate.go":       noWait + "a file of a folder of the program's own",
	"internal/cli/cloudcmd/signin.go":           noWait + "a browser is started, and not waited for",
	"internal/cli/containercmd/nearby_start.go": noWait + "a command that a person says yes to has the terminal, and its own Ctrl-C",
	"internal/cli/transfercmd/with.go":          noWait + "the program that a person asks to run has the terminal, and its own Ctrl-C",
	"internal/cli/querycmd/load_documents.go":   noWait + "what is loaded may come out of a pipe, which Ctrl-C ends",
	"internal/cli/querycmd/load_rows.go":        noWait + "what is loaded may come out of a pipe, which Ctrl-C ends",
	"internal/cli/querycmd/statements.go":       noWait + "statements may come out of a pipe, which Ctrl-C ends",
	"internal/cli/querycmd/session_places.go":   noWait + "statements may come out of a pipe, which Ctrl-C ends",
}

// noWait stands before the reason why a place is no wait.
const noWait = "it does not: "

// TestEveryWait: each place of the product that may wait for something outside has a hang that makes it wait, or stands
// here with the reason why it does not.
func TestEveryWait(t *testing.T) {
	t.Parallel()
	known := make(map[string]bool)
	for _, h := range hangs() {
		known[h.name] = true
	}
	seen := make(map[string]bool)
	for _, root := range []string{"../../core", "../../internal/cli", "../../internal/render"} {
		filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			data, err := os.ReadFile(path)
			if err != nil {
				t.Error(err)
			}
			found := outside.FindAllString(string(data), -1)
			name := strings.TrimPrefix(filepath.ToSlash(path), "../../")
			if len(found) == 0 {
				return nil
			}
			seen[name] = true
			switch why := waits[name]; {
			case why == "":
				t.Errorf("%s: %q may wait, and no case of TestNothingHangs is named for it", name, found)
			case !known[why] && !strings.HasPrefix(why, noWait):
				t.Errorf("%s: there is no hang %q", name, why)
			}
			if !strings.HasPrefix(waits[name], noWait) && strings.Contains(string(data), "exec.CommandContext") && !strings.Contains(string(data), "WaitDelay") {
				t.Errorf("%s: a program may leave another with its output open (WaitDelay)", name)
			}
			return nil
		})
	}
	for name := range waits {
		if !seen[name] {
			t.Errorf("%s does not wait for anything", name)
		}
	}
}
