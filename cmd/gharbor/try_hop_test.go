//go:build linux

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	cryptossh "golang.org/x/crypto/ssh"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/ssh"
)

// throughHop writes the profile x for the real PostgreSQL server behind a real jump
// host, with keys changed and lines in the hop's own configuration.
func throughHop(lines []string, pairs ...string) func(*tryWorld) {
	return func(w *tryWorld) {
		w.hop(testkit.SSHServer(w.t, lines...))
		w.set(pairs)
	}
}

// hop is the world of a profile behind one hop.
func (w *tryWorld) hop(gate *testkit.SSHD, more ...string) {
	w.t.Helper()
	w.Knows(gate.KnownLine(w.t))
	w.Profiles(fmt.Sprintf("[profile.x]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"env:KNOT\"\n", w.pg.Port) +
		gate.Hop("x", append([]string{quoted("key", "login")}, more...)...))
	for _, name := range []string{"login", "login.pub"} { // beside the profiles, by a name that every world has
		data, err := os.ReadFile(gate.Path(name))
		if err == nil {
			err = os.WriteFile(filepath.Join(w.Home, name), data, 0o600)
		}
		if err != nil {
			w.t.Fatal(err)
		}
	}
	w.Setenv("GATE_PORT", strconv.Itoa(gate.Port))
	w.Setenv("LOGIN", filepath.Join(w.Home, "login"))
	w.Setenv("USERNAME_THERE", gate.User)
}

// keyFile puts a private key file beside the profiles and names it.
func (w *tryWorld) keyFile(passphrase string, mode os.FileMode) {
	w.t.Helper()
	path := filepath.Join(w.Home, "own")
	if err := testkit.Keygen("-t", "ed25519", "-N", passphrase, "-f", path); err != nil {
		w.t.Fatal(err)
	}
	os.Chmod(path, mode)
	w.OK("set", "x", "hop.1.key="+path)
}

// simulatedHop is the world of a profile behind a simulated jump host.
func simulatedHop(config ssh.Config, pairs ...string) func(*tryWorld) {
	return func(w *tryWorld) {
		w.t.Helper()
		config := config
		key, err := ssh.NewKey(filepath.Join(w.dir, "k"))
		if err != nil {
			w.t.Fatal(err)
		}
		account := config.Accounts["keeper"]
		if account.Password == "" {
			account.Keys = []cryptossh.PublicKey{key}
		}
		at := fmt.Sprintf("127.0.0.1:%d", w.pg.Port)
		config.Accounts, config.Hosts = map[string]ssh.Account{"keeper": account}, map[string]string{at: at}
		server, err := ssh.Start(config)
		if err != nil {
			w.t.Fatal(err)
		}
		w.t.Cleanup(server.Close)
		w.Knows(server.KnownLine())
		w.Profiles(fmt.Sprintf("[profile.x]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"env:KNOT\"\n\n[[profile.x.hop]]\nhost = \"127.0.0.1\"\nport = %d\nuser = \"keeper\"\nkey = %q\n", w.pg.Port, server.Port(), filepath.Join(w.dir, "k")))
		w.Setenv("GATE_PORT", strconv.Itoa(server.Port()))
		w.set(pairs)
	}
}

// sshConfig writes the SSH client configuration of a world whose hop it names.
func sshConfig(text string) func(*tryWorld) {
	return func(w *tryWorld) {
		gate := testkit.SSHServer(w.t)
		w.hop(gate)
		w.OK("hop", "remove", "x", "1", "-yes")
		w.OK("hop", "add", "x", "ssh=gate", "key="+filepath.Join(w.Home, "login"), "port="+strconv.Itoa(gate.Port), "user="+gate.User)
		w.Write(filepath.Join(filepath.Dir(w.Home), ".ssh", "config"), "Host gate\n  HostName 127.0.0.1\n"+text)
	}
}

func hopCases() []tryCase {
	same := func(more ...string) map[string]string {
		after := map[string]string{"gharbor show": "same", "head ": "same", "ls ": "same"}
		for i := 0; i+1 < len(more); i += 2 {
			after[more[i]] = more[i+1]
		}
		return after
	}
	fix := map[string]string{"PORT": "$GATE_PORT", "PATH": "$LOGIN", "HOST": "127.0.0.1"}
	return []tryCase{
		{name: "a hop's port", code: "hop.refused", setUp: throughHop(nil, "hop.1.port=1"), fill: fix, after: same()},
		{name: "a hop's name", code: "hop.name-unknown", setUp: throughHop(nil, "hop.1.host=no-such-gate.saltmarsh.example"), fill: fix, after: same()},
		{name: "not a hop", code: "hop.not-ssh", setUp: func(w *tryWorld) {
			throughHop(nil)(w)
			w.OK("set", "x", "hop.1.port="+says(w.t, "220 mail.saltmarsh.example\r\n"))
		}, fill: fix, after: same()},
		{name: "a closing hop", code: "hop.closed", setUp: simulatedHop(ssh.Config{Fault: ssh.Close}), after: same("gharbor wait", "same")},
		{name: "a slow hop", code: "hop.silent", setUp: simulatedHop(ssh.Config{Fault: ssh.Silent}), fill: map[string]string{"hop.1.port=PORT": "hop.1.port=$GATE_PORT"}, after: same("gharbor set", "same")},
		{name: "a hop behind a firewall", code: "hop.timeout", setUp: func(w *tryWorld) { throughHop(nil)(w); w.OK("set", "x", "hop.1.port="+full(w.t)) }, fill: fix, after: same()},
		{name: "a hop by its other name", code: "hop.refused", setUp: func(w *tryWorld) { sshConfig("")(w); w.OK("set", "x", "hop.1.port=1") }, after: same()},
		{name: "no way from there", code: "reach.unreachable", setUp: simulatedHop(ssh.Config{Refusals: map[string]string{"192.0.2.9:5432": "No route to host"}}, "host=192.0.2.9", "port=5432"), after: same()},
		{name: "no key there", code: "hop.key-missing", setUp: throughHop(nil, "hop.1.key=/nowhere/gate"), fill: fix, after: same()},
		{name: "a loose key", code: "hop.key-permissions", setUp: func(w *tryWorld) { throughHop(nil)(w); w.keyFile("", 0o644) }, after: map[string]string{"chmod": "hop.key-refused"}},
		{name: "a folder as key", code: "hop.key-unreadable", setUp: throughHop(nil, "hop.1.key=/usr"), after: same()},
		{name: "no private key", code: "hop.key-not-private", setUp: func(w *tryWorld) {
			throughHop(nil)(w)
			w.Write(filepath.Join(w.Home, "text"), "dunlin\n")
			w.OK("set", "x", "hop.1.key="+filepath.Join(w.Home, "text"))
		}, fill: fix, after: same()},
		{name: "a key's passphrase", code: "hop.key-passphrase", setUp: func(w *tryWorld) {
			gate := testkit.SSHServer(w.t)
			w.hop(gate)
			w.keyFile("knot and dunlin", 0o600)
			gate.Authorize(w.t, testkit.Public(w.t, filepath.Join(w.Home, "own")))
			w.OK("set", "x", "hop.1.key-secret=env:WRONG")
		}, typed: "knot and dunlin"},
		{name: "another key", code: "hop.key-refused", setUp: func(w *tryWorld) { throughHop(nil)(w); w.keyFile("", 0o600) }, fill: map[string]string{"PATH": "$LOGIN", "NAME": "$USERNAME_THERE"}, after: map[string]string{"gharbor set x hop.1.user": "same"}},
		{name: "a hop's password", code: "hop.password-refused", setUp: simulatedHop(ssh.Config{Accounts: map[string]ssh.Account{"keeper": {Password: "avocet"}}}, "hop.1.key=", "hop.1.agent=false", "hop.1.secret=env:WRONG"),
			fill: map[string]string{"NAME": "keeper"}, typed: "avocet", after: map[string]string{"gharbor set x hop.1.user": "same"}},
		{name: "questions", code: "hop.questions", setUp: simulatedHop(ssh.Config{Accounts: map[string]ssh.Account{"keeper": {Questions: []string{"Verification code: "}, Answers: []string{"42"}}}}, "hop.1.key=", "hop.1.agent=false"),
			after: map[string]string{"gharbor test": "same"}},
		{name: "nothing to log in with", code: "hop.login", setUp: throughHop(nil, "hop.1.key=", "hop.1.agent=false"), fill: fix, after: same()},
		{name: "too many keys", code: "hop.too-many-failures", setUp: func(w *tryWorld) {
			throughHop([]string{"MaxAuthTries 1"})(w)
			w.OK("set", "x", "hop.1.key=")
			w.Setenv("SSH_AUTH_SOCK", testkit.Agent(w.t, testkit.NewKey(w.t, "ecdsa", ""), testkit.NewKey(w.t, "ed25519", "")))
		}, fill: fix},
		{name: "a new hop", code: "hop.host-key-unknown", setUp: func(w *tryWorld) { throughHop(nil)(w); w.Knows("# empty") }},
		{name: "a changed hop", code: "hop.host-key-changed", setUp: func(w *tryWorld) {
			gate := testkit.SSHServer(w.t)
			w.hop(gate)
			gate.Fresh(w.t)
		}, after: map[string]string{"ssh-keygen -R": "hop.host-key-unknown", "gharbor hop pin": "hop.host-key-changed"}},
		{name: "a changed pin", code: "hop.host-key-changed", setUp: throughHop(nil, "hop.1.host-key=SHA256:"+strings.Repeat("A", 43))},
		{name: "an old hop", code: "hop.algorithms", setUp: throughHop([]string{"KexAlgorithms diffie-hellman-group14-sha1"}), after: map[string]string{"gharbor set": "hop.old-algorithms"}},
		{name: "an old hop, allowed", code: "hop.old-algorithms", setUp: throughHop([]string{"KexAlgorithms diffie-hellman-group14-sha1"}, "hop.1.algorithms=diffie-hellman-group14-sha1"),
			after: map[string]string{"gharbor set": "hop.algorithms"}},
		{name: "a line of no sense", code: "hop.known-hosts", setUp: func(w *tryWorld) {
			gate := testkit.SSHServer(w.t)
			w.hop(gate)
			w.Knows(gate.KnownLine(w.t), "dunlin knot")
		}, after: map[string]string{"${EDITOR": "same"}},
		{name: "no way on", code: "hop.forward-refused", setUp: throughHop([]string{"AllowTcpForwarding no"})},
		{name: "dropped", code: "hop.dropped", setUp: simulatedHop(ssh.Config{Fault: ssh.Drop}), after: map[string]string{"gharbor test": "same"}},
		{name: "a name unknown there", code: "name.unknown-there", setUp: simulatedHop(ssh.Config{}, "host=tide-db.internal.example"), fill: map[string]string{"NAME-OR-ADDRESS": "127.0.0.1"}},
		{name: "a server that the hop can't reach", code: "reach.refused", setUp: throughHop(nil, "port=1"), after: same()},
		{name: "a program in between", code: "hop.config", setUp: sshConfig("  ProxyCommand nc %h %p\n"), fill: fix, after: same("${EDITOR", "same")},
		{name: "checking off", code: "hop.config-ignored", setUp: sshConfig("  StrictHostKeyChecking no\n"), after: same()},
		{name: "no proxy", code: "hop.not-proxy", setUp: func(w *tryWorld) {
			throughHop(nil)(w)
			w.OK("hop", "remove", "x", "1", "-yes")
			w.OK("hop", "add", "x", "proxy=socks5://127.0.0.1:"+says(w.t, "220 mail.saltmarsh.example\r\n"))
		}, fill: map[string]string{"HOST:PORT": "127.0.0.1:$GATE_PORT"}, after: map[string]string{"gharbor set": "same"}},
		{name: "a proxy far away", code: "hop.proxy-clear", setUp: func(w *tryWorld) {
			throughHop(nil)(w)
			w.OK("hop", "remove", "x", "1", "-yes")
			w.OK("hop", "add", "x", "proxy=socks5://localhost.:"+w.Getenv("GATE_PORT"), "user=keeper", "secret=env:KNOT")
			w.OK("set", "x", "hop.1.proxy=socks5://"+outerAddress(w.t)+":1")
		}, after: map[string]string{"gharbor set": "hop.refused"}},
	}
}
