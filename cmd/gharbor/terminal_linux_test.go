package main

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/postgresql"
)

func TestAskWithoutEcho(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	s := p.OnTerminal("test", "sightings", "-override", "secret=ask").Expect(
		"password of warden for sightings (not shown): ")
	if s.Echoes() {
		t.Error("the terminal echoes while the password is typed")
	}
	text := s.Type("dunlin\n").Ends(0)
	if strings.Contains(text, "dunlin") || !strings.Contains(text, "ready: ") && !strings.Contains(text, "ready\x1b[0m: ") {
		t.Errorf("the terminal shows\n%s", text)
	}
	if strings.Index(text, "speak") > strings.Index(text, "password of") {
		t.Error("the password was asked for before the server spoke")
	}
	// Time spent at the question does not count.
	s = p.OnTerminal("test", "sightings", "-override", "secret=ask", "-timeout", "5s").Expect("(not shown)")
	time.Sleep(6 * time.Second)
	s.Type("dunlin\n").Ends(0)
	// Without a password in sight, the default order asks.
	p.OnTerminal("test", "sightings", "-override", "secret=").Expect("(not shown)").Type("wrong\n").Expect("login.password").Expect("gharbor test sightings").Expect("type the password again").Expect("secret=none").Ends(1)
}

func TestCtrlCAtTheQuestion(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	s := p.OnTerminal("test", "sightings", "-override", "secret=ask").Expect("(not shown)")
	start := time.Now()
	text := s.Type("dun\x03").Ends(130)
	if time.Since(start) > 2*time.Second || !s.Echoes() || strings.Contains(text, "dun\n") || !strings.Contains(text, "stopped") {
		t.Errorf("after %s, echo %v:\n%s", time.Since(start), s.Echoes(), text)
	}
}

func TestCtrlCAtASilentServer(t *testing.T) {
	t.Parallel()
	config := birds()
	config.Fault = postgresql.Silent
	p, _ := standin(t, config)
	s := p.OnTerminal("test", "sightings").Expect("accepts")
	time.Sleep(100 * time.Millisecond)
	start := time.Now()
	text := s.Type("\x03").Ends(130)
	if time.Since(start) > 2*time.Second || !strings.Contains(text, "stopped") || strings.Contains(text, "ready") || strings.Contains(text, "Ctrl-C") {
		t.Errorf("after %s:\n%s", time.Since(start), text)
	}
}

func TestAddQuestionByQuestion(t *testing.T) {
	t.Parallel()
	server, err := postgresql.Start(birds())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Close)
	p := testkit.NewProgram(t)
	const where = "the path of a socket"
	s := p.OnTerminal("add", "sightings").Expect(where).Type("-\n").Expect("this is the first question")
	s.Type("postgresql://u:curlew@h/x\n").Expect("has a password in it").Type(fmt.Sprintf("127.0.0.1:%d\n", server.Port()))
	s.Expect("Which kind of server").Expect("postgresql").Expect("first letters").Type("nosuch\n").Expect("expected one of").Type("post\n")
	s.Expect("user [warden]: ").Type("\n").Expect("database [warden]: ").Type("-\n").Expect("user [warden]: ").Type("\n").Expect("database [warden]: ").Type("sighting\n")
	s.Expect("4  none").Expect("[1]: ").Type("curlew\n").Expect(
		"was not shown and is not saved").Expect("[1]: ").Type("\n").Expect("1  ask for it each time")
	s.Expect("test it now? [Y/n]: ").Type("perhaps\n").Expect("please answer y or n").Type("\n")
	s.Expect("(not shown)").Type("dunlin\n").Expect("database.missing").Expect("database [sightings]: ").Type("\n")
	s.Expect("(not shown)").Type("dunlin\n").Expect("gharbor secret keep sightings")
	if text := s.Ends(0); strings.Count(text, "curlew") > 1 { // as the URL was echoed, and not at the question of the password
		t.Errorf("what was typed in place of a choice is shown:\n%s", text)
	}
	want := fmt.Sprintf("format = 1\n\n[profile.sightings]\nengine   = \"postgresql\"\nhost     = "+
		"\"127.0.0.1\"\nport     = %d\ndatabase = \"sightings\"\nuser     = \"warden\"\nsecret   = \"ask\"\n",
		server.Port())
	if got := p.ReadProfiles(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	p.OnTerminal("add", "sightings").Expect("exists already").Ends(2)
	p.OnTerminal("add", "other").Expect(where).Type("\x03").Ends(130)
	s = p.OnTerminal("add", "other").Expect(where).Type("/tmp\n").Expect("first letters").Type("postgresql\n").Expect("user").Type("\n").Expect("database").Type("\n")
	s.Expect("[1]: ").Type("3\n").Expect("where: ").Type("env:KNOT\n").Expect("test it").Type("n\n").Ends(0)
	p.OK("show", "other").Has("/tmp", "env:KNOT")
	// Away from this machine TLS matters; a wallet is made where there is none.
	s = p.OnTerminal("add", "far").Expect(where).Type("gull.example:3306\n").Expect("[").Type("mariadb\n").Expect("user").Type("ringer\n").Expect("database, or Enter for none").Type("\n")
	s.Expect("[1]: ").Type("2\n").Expect("leaves this machine").Type("2\n").Expect("make one now? [Y/n]").Type("\n").Expect("a new passphrase").Type(passphrase + "\n").Expect("again").Type(passphrase + "\n")
	s.Expect("passphrase of the wallet").Type(passphrase + "x\n").Expect(
		"this is not the wallet's passphrase").Type(passphrase + "\n")
	s.Expect("the password of ringer for far").Type("knot\n").Expect("again").Type("knot\n").Expect("saved: entry far").Expect("test it").Type("n\n").Ends(0)
	p.OK("show", "far").Has("wallet", "required")
	// A URL says all but the password.
	p.OnTerminal("add", "url").Expect(where).Type("postgresql://u@gull.example/x?sslmode=require\n").Expect("user [u]").Type("\n").Expect("[1]: ").Type("4\n").Expect("test it").Type("n\n").Ends(0)
	p.OK("show", "url").Has("required", "none", "x")
}

// TestAnAddress: a server is tested without a profile, by its URL or its host and port, and the line that keeps it as one
// follows. Its password is asked for, and the wallet is not asked.
func TestAnAddress(t *testing.T) {
	t.Parallel()
	p, server := standin(t, birds())
	wallet := withWallet(t, p)
	wallet.quickPut("sightings", "dunlin", "sightings")
	wallet.ok("unlock", "-lifetime", "1m")
	at := fmt.Sprint("127.0.0.1:", server.Port())
	url := "postgresql://warden@" + at + "/sightings"
	p.OnTerminal("test", url).Expect("(not shown)").Type("dunlin\n").Expect("ready").Expect("keep it: ").Expect("gharbor add sightings-2").Expect(url).Ends(0)
	p.Run("test", url).Want(1).Has("secret.missing", "keep it: gharbor add sightings-2 "+url)
	p.Run("test", url, "-quiet").Want(1).HasNot("keep it")
	r := p.Run("test", "warden@"+at+"/sighting", "-engine", "postgresql", "-override", "secret=env:DUNLIN", "-timeout", "5s").Want(1)
	r.Has("database.missing", "gharbor test postgresql://warden@"+at+"/sighting -override secret=env:DUNLIN -override database=sightings -timeout 5s",
		"keep it: gharbor add sighting -engine postgresql", "-secret env:DUNLIN")
	p.OK("test", url, "-override", "secret=env:DUNLIN", "-format", "json").Has(`"outcome": "ok"`)
	p.Run("test", at).Want(2).Has("which kind of server", "gharbor test "+at+" -engine postgresql")
	p.Run("test", url, "-engine", "mysql").Want(2).Has("different engines")
	p.Run("test", "postgresql://["+"::1]:1/x", "-override", "secret=none", "-override", "user=u").Want(1).Has("reach.refused", "keep it: gharbor add x ").HasNot("gharbor show", "gharbor set", "address ")
	p.OK("alias", "add", "counts", "engine=postgresql", "addresses="+at)
	p.OK("test", "alias:counts", "-override", "user=warden", "-override", "database=sightings", "-override", "secret=env:DUNLIN").Has("ready",
		"keep it: gharbor add sightings-2 -alias counts")
	p.OK("add", "kept", url, "-secret", "env:DUNLIN")
	p.OK("test", "kept")
}

func TestRemoveAsks(t *testing.T) {
	t.Parallel()
	p := at(t, 1)
	p.OnTerminal("remove", "sightings").Expect("remove profile sightings? [y/N]: ").Type("\n").Expect("nothing was changed").Ends(0)
	p.OK("show", "sightings")
	p.OnTerminal("remove", "sightings").Expect("[y/N]").Type("y\n").Expect("removed").Ends(0)
	p.Run("show", "sightings").Want(2)
}

func TestColour(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	if text := p.OnTerminal("test", "sightings").Ends(0); !strings.Contains(text, "\x1b[") {
		t.Error("no colour on a terminal")
	}
	p.Setenv("NO_COLOR", "1")
	if text := p.OnTerminal("test", "sightings").Ends(0); strings.Contains(text, "\x1b[") {
		t.Error("colour in spite of NO_COLOR")
	}
	p.OK("test", "sightings").HasNot("\x1b")
}

func TestCertificateAsks(t *testing.T) {
	t.Parallel()
	authority, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	config := birds()
	if config.TLS, err = authority.TLS([]string{"127.0.0.1"}, 1000*time.Hour); err != nil {
		t.Fatal(err)
	}
	p, _ := standin(t, config)
	p.OK("set", "sightings", "tls=verified")
	p.OnTerminal("certificate", "sightings", "-save").Expect("is it the same? [y/N]: ").Type("\n").Expect("nothing was saved").Ends(0)
	p.Test("sightings").Ends(t, "tls", "fail", "tls.untrusted")
	p.OnTerminal("certificate", "sightings", "-save").Expect("Compare the fingerprint").Expect("[y/N]").Type("y\n").Expect("saved as tls-ca").Ends(0)
	p.Test("sightings").Ends(t, "tls", "ok", "")
}

// TestManyOnATerminal: passwords are asked for before the first connection, a
// bar shows what is in flight, and the table comes last, in colour.
func TestManyOnATerminal(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p, server := standin(t, birds())
	config := birds()
	config.Fault = postgresql.Silent
	_, silent := standin(t, config)
	p.Profiles(p.ReadProfiles() + fmt.Sprintf("\n[profile.asked]\nlike = \"sightings\"\nsecret = "+
		"\"ask\"\n\n[profile.silent]\nlike = \"sightings\"\nport = %d\n", silent.Port()))
	s := p.OnTerminal("test", "-all", "-timeout", "3s").Expect("password of warden for asked (not shown): ")
	if n := server.Connections(); n != 0 {
		t.Errorf("%d connections before the last question", n)
	}
	s.Type("dunlin\n").Expect("(2/3)").Expect("silent")
	text := s.Expect("not ready").Ends(1)
	table := text[strings.LastIndex(text, "first finding"):]
	if !strings.Contains(table, "\x1b[32mready") || !strings.Contains(table, "\x1b[31;1mnot ready") || !strings.Contains(table,
		"3 profiles: 2 ready, 1 not ready") || strings.Contains(text, "dunlin") {
		t.Errorf("%s", text)
	}
	for _, args := range [][]string{{"test", "-all"}, {"wait", "asked"}, {"compare", "asked", "sightings"}} {
		if text := p.OnTerminal(args...).Expect("(not shown)").Type("\x03").Ends(130); !strings.Contains(text, "stopped") {
			t.Errorf("%s", text)
		}
	}
	p.OnTerminal("wait", "asked").Expect("(not shown)").Type("dunlin\n").Expect("ready").Ends(0)
	p.OnTerminal("compare", "asked", "sightings").Expect("(not shown)").Type("dunlin\n").Expect("same-instance").Ends(0)
}

// TestCtrlCInManyAndWait: what is known is printed.
func TestCtrlCInManyAndWait(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	config := birds()
	config.Fault = postgresql.Silent
	_, silent := standin(t, config)
	text := p.ReadProfiles()
	for _, name := range []string{"hung", "behind", "last"} {
		text += fmt.Sprintf("\n[profile.%s]\nlike = \"sightings\"\nport = %d\n", name, silent.Port())
	}
	p.Profiles(text)
	s := p.OnTerminal("test", "-all", "-parallel", "1").Expect("(1/4)")
	start := time.Now()
	screen := s.Type("\x03").Ends(130)
	if time.Since(start) > 3*time.Second || !strings.Contains(screen,
		"4 profiles: 1 ready, 3 not tested") || !strings.Contains(screen, "not tested") {
		t.Errorf("after %s:\n%s", time.Since(start), screen)
	}
	s = p.OnTerminal("wait", "hung", "sightings", "-timeout", "1s").Expect("speak.silent")
	start = time.Now()
	screen = s.Type("\x03").Ends(130)
	if time.Since(start) > 3*time.Second || !strings.Contains(screen, "stopped") || !strings.Contains(screen, "sightings") {
		t.Errorf("after %s:\n%s", time.Since(start), screen)
	}
}

// TestAddMySQLQuestionByQuestion: a server without a default database, on its
// socket, and a password that is typed at the test.
func TestAddMySQLQuestionByQuestion(t *testing.T) {
	t.Parallel()
	config := rings()
	config.Socket = filepath.Join(t.TempDir(), "mysqld.sock")
	p, server := onRings(t, config)
	s := p.OnTerminal("add", "ringing")
	s.Expect("the path of a socket").Type(server.Socket + "\n").Expect("first letters").Type("mysql\n")
	s.Expect("user [warden]: ").Type("bander\n")
	s.Expect("database, or Enter for none: ").Type("\n")
	s.Expect("4  none").Type("1\n")
	s.Expect("test it now?").Type("\n").Expect("password of bander for ringing").Type("knot\n").Expect("ready").Ends(0)
	if text := p.ReadProfiles(); !strings.Contains(text, "[profile.ringing]") || strings.Contains(text[strings.Index(text, "[profile.ringing]"):], "database") {
		t.Errorf("%s", text)
	}
}
