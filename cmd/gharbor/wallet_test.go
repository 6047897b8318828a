//go:build unix

package main

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/binding"
	"gentleharbor/core/engines"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/testkit"
	"gentleharbor/standin/postgresql"
)

const passphrase = "seven brown curlews"

// testWallet is a program with a wallet, and the flag that opens it.
type testWallet struct {
	*testkit.Program
	t    *testing.T
	open []string // -passphrase-file PATH
	path string
}

// TestWallet has the tests that make many keys of passphrases, each of which takes
// a whole core for a quarter of a second: they run beside one another and before
// all tests that go by the clock.
func TestWallet(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	for name, test := range map[string]func(*testing.T){
		"commands": testWalletCommands, "secret": testWalletSecret, "reader": testWalletReader, "files": testWalletFiles, "writers": testWalletWriters, "put": testSecretPut,
		"pasted": testAddPastedURL, "import": testImport, "audit": testAudit, "hostile": testHostileProject, "alias": testAliasWallet,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			test(t)
		})
	}
}

// template is a wallet at the lowest cost that there is, made once, and its
// passphrase, whose key is then known.
var template = sync.OnceValues(func() (made struct {
	pass *wallet.Passphrase
	data []byte
}, err error) {
	folder, err := os.MkdirTemp("", "gharbor-wallet-")
	if err != nil {
		return made, err
	}
	defer os.RemoveAll(folder)
	s := wallet.Store{Path: filepath.Join(folder, "wallet.ghw"), Seen: filepath.Join(folder, "seen.json")}
	made.pass = &wallet.Passphrase{Value: secret.NewValue(passphrase)}
	if _, err := s.Create(context.Background(), made.pass, wallet.CostFor(time.Millisecond)); err != nil {
		return made, err
	}
	made.data, err = os.ReadFile(s.Path)
	return made, err
})

// withWallet gives a program a wallet.
func withWallet(t *testing.T, p *testkit.Program) *testWallet {
	t.Helper()
	file := filepath.Join(t.TempDir(), "passphrase")
	p.Write(file, passphrase+"\n")
	runtime, err := os.MkdirTemp("", "gh") // the path of a socket is short
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(runtime) })
	p.Setenv("XDG_RUNTIME_DIR", runtime)
	w := &testWallet{Program: p, t: t, open: []string{"-passphrase-file", file}, path: filepath.Join(p.Home, "wallet.ghw")}
	made, err := template()
	if err != nil {
		t.Fatal(err)
	}
	p.Write(w.path, string(made.data))
	t.Cleanup(func() { p.Run("wallet", "lock") }) // no process stays behind
	return w
}

// quick changes the wallet without the program, and without making a key of the
// passphrase again: for what a test only starts from.
func (w *testWallet) quick(change func(*wallet.Wallet) error) {
	w.t.Helper()
	made, err := template()
	if err != nil {
		w.t.Fatal(err)
	}
	s := wallet.Store{Path: w.path, Seen: filepath.Join(w.Home, "wallets-seen.json")}
	if _, err := s.Update(context.Background(), made.pass, change); err != nil {
		w.t.Fatal(err)
	}
}

// quickPut keeps a secret, bound to where a profile leads; "" for nowhere.
func (w *testWallet) quickPut(name, text, bound string) {
	w.t.Helper()
	e := wallet.Entry{Name: name, Secret: secret.NewValue(text), Created: time.Now().UTC(), Changed: time.Now().UTC()}
	if bound != "" {
		file, err := (profile.Home{Dir: w.Home, Schema: schema.New(engines.All())}).Load()
		if err != nil {
			w.t.Fatal(err)
		}
		b, err := binding.New(context.Background(), address.Sources{}, resolve.Resolve(file, file.Lookup(bound), nil, resolve.Environment{Lookup: func(string) (string, bool) { return "", false }}))
		if err != nil {
			w.t.Fatal(err)
		}
		e.Bindings = []binding.Binding{b}
	}
	w.quick(func(o *wallet.Wallet) error { o.Put(e); return nil })
}

// quickReader lets a reader in.
func (w *testWallet) quickReader(name, path string) {
	w.t.Helper()
	w.quick(func(o *wallet.Wallet) error {
		pin, err := o.AddReader(name, time.Now())
		if err != nil {
			return err
		}
		return pin.WriteNew(path)
	})
}

// do runs a verb of wallet with the passphrase.
func (w *testWallet) do(args ...string) *testkit.Result {
	w.t.Helper()
	return w.Run(append(append([]string{"wallet"}, args...), w.open...)...)
}

func (w *testWallet) ok(args ...string) *testkit.Result {
	w.t.Helper()
	return w.do(args...).Want(0)
}

// put keeps a secret.
func (w *testWallet) put(name, text string, args ...string) *testkit.Result {
	w.t.Helper()
	return w.Feed(text, slices.Concat([]string{"wallet", "keep", name, "-secret-stdin"}, args, w.open)...)
}

func (w *testWallet) bytes() []byte {
	w.t.Helper()
	data, err := os.ReadFile(w.path)
	if err != nil {
		w.t.Fatal(err)
	}
	return data
}

// testWalletCommands goes through the verbs.
func testWalletCommands(t *testing.T) {
	p, _ := standin(t, birds())
	w := withWallet(t, p)
	w.ok("list").Has("has no entries yet")
	w.put("sightings", "dunlin\n").Want(0).Has("saved: entry sightings, for postgresql at 127.0.0.1:")
	w.put("loose", "knot").Want(0).Has("tied to no server", "gharbor wallet bind loose PROFILE")
	w.put("far", "avocet", "-user", "warden", "-note", "by hand", "-bind",
		"postgresql://DB.saltmarsh.example/x", "-bind", "alias:archive").Want(0).
		Has("postgresql at db.saltmarsh.example:5432, tls verified", "alias:archive")
	w.put("far", "avocet").Want(2).Has("-replace")
	w.put("far", "redshank", "-replace").Want(0).Has("changed: entry far")
	w.ok("list").Has("far", "warden", "alias:archive", "tied to no server").HasNot("redshank", "dunlin")
	w.ok("list", "-format", "json").Has(`"user": "warden"`, `"alias": "archive"`, `"note": "by hand"`).HasNot("redshank")
	w.ok("bind", "loose", "sightings").Has("for postgresql at 127.0.0.1")
	w.ok("unbind", "loose", "sightings").Has("tied to no server")
	w.do("unbind", "loose", "sightings").Want(2).Has("is not tied to that server")
	w.ok("unbind", "far", "alias:archive", "db.saltmarsh.example:5432").Has("tied to no server")
	w.ok("rename", "loose", "kept").Has("entry kept")
	w.do("rename", "kept", "far").Want(2).Has("has an entry far already")
	w.do("bind", "farr", "sightings").Want(2).Has(`did you mean "far"?`)
	w.do("bind", "far", "nosuch").Want(2).Has("no profile of that name")
	w.do("bind", "far", "db:5432").Want(2).Has("an address with its engine")
	w.do("bind", "far", "postgresql://u:secretword@h/d").Want(2).HasNot("secretword")
	w.do("disclose", "far").Want(2).Has("no terminal", "-stdout")
	if r := w.ok("disclose", "far", "-stdout"); r.Stdout != "redshank\n" {
		t.Errorf("%q", r.Stdout)
	}
	w.do("remove", "kept").Want(2).Has("-yes")
	w.ok("remove", "kept", "-yes").Has("removed: kept")
	if r := w.ok("keep", "made", "-generate", "40"); strings.Contains(r.Stdout+r.Stderr, "secret is") {
		t.Error(r.Stdout)
	}
	if r := w.ok("disclose", "made", "-stdout"); len(strings.TrimSpace(r.Stdout)) != 40 {
		t.Errorf("%q", r.Stdout)
	}
	w.do("keep", "x", "-generate", "4").Want(2).Has("from 16 to 128")
	w.do("keep", "X!").Want(2).Has("not an entry name")
	w.do("keep", "x").Want(4).Has("no terminal", "-secret-stdin or -generate 32")
	w.Feed("x\n", append([]string{"wallet", "keep", "x", "-secret-stdin", "-generate", "20"}, w.open...)...).Want(2).Has("not both")
	w.Feed("", append([]string{"wallet", "keep", "x", "-secret-stdin"}, w.open...)...).Want(2).Has("standard input is empty")
	w.Run("wallet", "list").Want(4).Has("no terminal to ask for the wallet's passphrase", "-passphrase-file FILE")
	w.Run("wallet", "create", "-passphrase-file", w.open[1]).Want(2).Has("exists already")
	w.ok("verify").Has("signature    right", "content      right: 3 entries, 2 of them tied to no server")
	p.Run("wallet", "verify").Want(0).Has("readers      none", "the content was not checked")
	p.Run("wallet").Want(2).Has("needs a verb: create, keep")
	p.Run("wallet", "lst").Want(2).Has(`did you mean "list"?`)
	p.OK("help", "wallet", "reader", "add").Has("-for")
	if info, _ := os.Stat(w.path); info.Mode().Perm() != 0o600 {
		t.Errorf("%o", info.Mode())
	}
}

// testWalletSecret: the profile's password out of the wallet, each way to open
// it, and the bindings.
func testWalletSecret(t *testing.T) {
	p, server := standin(t, birds())
	w := withWallet(t, p)
	p.Setenv("KNOT", "knot")
	w.put("sightings", "dunlin").Want(0)
	p.OK("set", "sightings", "secret=wallet")
	p.Test("sightings").Ends(t, "secret", "fail", "wallet.locked")

	w.ok("unlock", "-lifetime", "1m").Has("unlocked: ")
	s := p.Test("sightings").Ends(t, "login", "ok", "")
	p.OK("test", "sightings").Has("entry sightings, opened by an unlock until")
	_ = s
	elsewhere := func(want string, pairs ...string) {
		t.Helper()
		s := p.Test("sightings", override(pairs...)...).Ends(t, "secret", "fail", "secret.bound-elsewhere")
		if !strings.Contains(s.Finding.Cause, want) {
			t.Errorf("%q is not in %q", want, s.Finding.Cause)
		}
	}
	connections := server.Connections()
	elsewhere("it is for 127.0.0.1:", "port=5")
	elsewhere("this is evil.example", "host=evil.example")
	elsewhere("this is localhost:", "host=localhost")
	elsewhere("has less: \"off\"", "tls=off")
	elsewhere("for the engine postgresql", "engine=mysql", "socket=", "secret=wallet:sightings")
	elsewhere("this is /tmp", "host=", "socket=/tmp")
	elsewhere("this is 127.0.0.1:6", "secret=wallet:sightings", "port=6")
	if server.Connections() != connections {
		t.Error("something was dialled")
	}
	s = p.Test("sightings", override("secret=wallet:sightigns")...).Ends(t, "secret", "fail", "secret.missing")
	if !strings.Contains(s.SeenText(), "the nearest name is sightings") {
		t.Error(s.SeenText())
	}
	p.Test("sightings", override("secret=wallet:sightings", "tls=required")...).Ends(t, "secret", "ok", "") // more is asked than was bound
	p.OK("copy", "sightings", "other")
	p.Test("other").Ends(t, "login", "ok", "") // by its address
	w.put("visitor", "stint", "-user", "visitor", "-bind", "other").Want(0)
	p.Test("other").Ends(t, "login", "ok", "") // another user's is not meant
	w.put("second", "dunlin", "-bind", "postgresql://127.0.0.1:"+port(server)+"?sslmode=prefer").Want(0)
	w.put("third", "dunlin", "-bind", "postgresql://127.0.0.1:"+port(server)+"?sslmode=prefer").Want(0)
	p.OK("copy", "sightings", "third-profile")
	p.Test("third-profile").Ends(t, "secret", "fail", "secret.ambiguous")
	p.Test("other", override("user=visitor")...).Ends(t, "secret", "ok", "")
	p.OK("set", "sightings", "secret=")
	p.OK("test", "sightings").Has("wallet "+w.path, "entry sightings") // in the default order
	p.OK("wallet", "lock").Has("locked: ")
	p.OK("wallet", "lock").Has("was not unlocked")
	p.Test("sightings").Ends(t, "secret", "ok", "") // and without the wallet none is found, which the server may not want
	p.Test("sightings", override("secret=wallet")...).Ends(t, "secret", "fail", "wallet.locked")
	p.Test("sightings", override("port=9", "secret=wallet")...).Ends(t, "secret", "fail", "wallet.locked")
	w.ok("unlock", "-lifetime", "1m")
	w.ok("reader", "add", "x", "-out", filepath.Join(t.TempDir(), "x.pin"))
	w.ok("reader", "remove", "x")
	p.Test("sightings", override("secret=wallet")...).Ends(t, "secret", "fail", "wallet.locked") // the keys are other ones now
	p.OK("wallet", "lock")
	p.Run("wallet", "unlock", "-lifetime", "48h").Want(2).Has("from 1s to 24h")
	w.ok("unlock", "-lifetime", "1s")
	time.Sleep(1500 * time.Millisecond)
	p.Test("sightings", override("secret=wallet")...).Ends(t, "secret", "fail", "wallet.locked")
}

// testWalletReader: a job under a home of its own reads the wallet and can't
// change it.
func testWalletReader(t *testing.T) {
	p, server := standin(t, birds())
	w := withWallet(t, p)
	w.put("sightings", "dunlin").Want(0)
	jobHome := filepath.Join(t.TempDir(), "job")
	pin := filepath.Join(jobHome, "nightly.pin")
	os.MkdirAll(jobHome, 0o700)
	w.ok("reader", "add", "nightly", "-out", pin).Has("made: reader nightly", "it can read the 1 entry")
	w.do("reader", "add", "nightly", "-out", pin+"2").Want(2).Has("the reader nightly exists already")
	w.do("reader", "add", "other", "-out", pin).Want(3).Has("file exists")
	w.do("reader", "add", "other").Want(2).Has("-out is missing")
	w.do("reader", "add", "other", "-out", pin+"2", "-for", "no-such-account").Want(2).Has("no account of that name")
	p.OK("wallet", "reader", "list").Has("nightly").HasNot("other")
	p.OK("wallet", "reader", "list", "-format", "json").Has(`"name": "nightly"`)

	job := testkit.NewProgram(t)
	job.Write(filepath.Join(job.Home, "profiles.toml"), "[settings]\nwallet = \""+w.path+"\"\nreader = \""+pin+"\"\n\n[profile.sightings]\nengine "+
		"= \"postgresql\"\nhost = \"127.0.0.1\"\nport = "+port(server)+
		"\nuser = \"warden\"\ndatabase = \"sightings\"\nsecret = \"wallet:sightings\"\n")
	job.OK("test", "sightings").Has("entry sightings, opened by the reader nightly", "ready: ")
	job.OK("wallet", "list").Has("sightings")
	job.Run("wallet", "keep", "x", "-generate", "20").Want(4).Has("no terminal to ask for the wallet's passphrase")
	job.OK("wallet", "verify").Has("opened by the reader nightly")
	out := job.OK("with", "sightings", "--", "sh", "-c", `cut -d: -f5 "$PGPASSFILE"`)
	if out.Stdout != "dunlin\n" {
		t.Errorf("%q", out.Stdout)
	}

	before := w.bytes()
	w.put("later", "knot").Want(0)
	job.OK("wallet", "list").Has("later")
	rewrite(t, w.path, before)
	job.Test("sightings").Ends(t, "secret", "fail", "wallet.rolled-back")
	w.do("list").Want(4).Has("wallet.rolled-back")
	w.do("keep", "x", "-generate", "20").Want(4).Has("wallet.rolled-back")
	w.ok("restore", w.path).Has("restored: ", "with the 1 entry of generation")
	job.OK("test", "sightings")
	w.ok("reader", "remove", "nightly").Has("it could read these; change them on their servers: sightings")
	job.Test("sightings").Ends(t, "secret", "fail", "wallet.reader-removed")
	w.do("reader", "remove", "nightly").Want(2).Has("no reader of that name")
	w.ok("rotate").Has("rotated: ")
	job.Test("sightings").Ends(t, "secret", "fail", "wallet.forged")
	second := testkit.NewProgram(t)
	second.OK("wallet", "create", "-opening", "1ms", "-passphrase-file", w.open[1])
	data, err := os.ReadFile(filepath.Join(second.Home, "wallet.ghw"))
	if err != nil {
		t.Fatal(err)
	}
	rewrite(t, w.path, data)
	job.Test("sightings").Ends(t, "secret", "fail", "wallet.other")
	os.WriteFile(pin, []byte("{}"), 0o600)
	job.Test("sightings").Ends(t, "secret", "fail", "wallet.pin")
	os.Chmod(pin, 0o644)
	job.Test("sightings").Ends(t, "secret", "fail", "secret.permissions")
}

func rewrite(t *testing.T, path string, data []byte) {
	t.Helper()
	if err := os.WriteFile(path, data, 0o600); err != nil {
		t.Fatal(err)
	}
}

// testWalletFiles: what can be wrong with the file, backups, and another machine.
func testWalletFiles(t *testing.T) {
	p, _ := standin(t, birds())
	w := withWallet(t, p)
	w.put("sightings", "dunlin").Want(0)
	p.OK("set", "sightings", "secret=wallet")
	whole := w.bytes()
	copied := filepath.Join(t.TempDir(), "copy.ghw")
	w.Run("wallet", "backup", copied).Want(0).Has("saved: generation 2")
	w.Run("wallet", "backup", copied).Want(1).Has("never overwrites")
	for code, break_ := range map[string]func(){
		"wallet.damaged":    func() { rewrite(t, w.path, whole[:len(whole)/2]) },
		"wallet.format":     func() { rewrite(t, w.path, []byte("gentle-harbor wallet 7\n")) },
		"wallet.forged":     func() { rewrite(t, w.path, append(bytes.Clone(whole[:len(whole)-1]), whole[len(whole)-1]^1)) },
		"wallet.missing":    func() { os.Remove(w.path) },
		"wallet.unreadable": func() { os.Remove(w.path); os.Mkdir(w.path, 0o700) },
		"wallet.permissions": func() {
			rewrite(t, w.path, whole)
			os.Chmod(w.path, 0o666)
		},
	} {
		break_()
		p.Test("sightings").Ends(t, "secret", "fail", code)
		w.do("list").Want(4).Has(code)
		w.do("verify").Want(4).Has(code)
		os.RemoveAll(w.path)
	}
	w.ok("restore", copied).Has("restored: ")
	w.ok("list").Has("sightings")
	wrong := filepath.Join(t.TempDir(), "wrong")
	p.Write(wrong, "another one\n")
	p.Run("wallet", "list", "-passphrase-file", wrong).Want(4).Has("wallet.passphrase", "is not damaged")
	os.Chmod(wrong, 0o644)
	p.Run("wallet", "list", "-passphrase-file", wrong).Want(4).Has("secret.permissions")
	short := filepath.Join(t.TempDir(), "short")
	p.Write(short, "knot\n")
	p.Run("wallet", "create", "-wallet", copied+"2", "-passphrase-file", short).Want(2).Has("at least 8 characters")

	// Two machines, each with a change of its own.
	start := w.bytes()
	there := testkit.NewProgram(t)
	w.put("here", "a").Want(0)
	ours := w.bytes()
	second := filepath.Join(t.TempDir(), "there.ghw")
	rewrite(t, second, start)
	there.Feed("b", "wallet", "keep", "there", "-secret-stdin", "-wallet", second, "-passphrase-file", w.open[1]).Want(0)
	there.Feed("knot", "wallet", "keep", "sightings", "-replace", "-secret-stdin", "-wallet", second, "-passphrase-file", w.open[1]).Want(0)
	w.ok("merge", second).Has("merged: 1 added, 0 the same, 1 different",
		"different: sightings (secret); the other copy's is kept as sightings.2")
	w.ok("list").Has("here", "there", "sightings.2")
	rewrite(t, w.path, ours)
	w.do("list").Want(4).Has("wallet.rolled-back")
	rewrite(t, second, start)
	fork := testkit.NewProgram(t)
	fork.Feed("c", "wallet", "keep", "fork", "-secret-stdin", "-wallet", second, "-passphrase-file", w.open[1]).Want(0)
	forked, err := os.ReadFile(second)
	if err != nil {
		t.Fatal(err)
	}
	one := testkit.NewProgram(t)
	mine := filepath.Join(t.TempDir(), "mine.ghw")
	rewrite(t, mine, ours)
	one.OK("wallet", "list", "-wallet", mine, "-passphrase-file", w.open[1])
	rewrite(t, mine, forked)
	one.Run("wallet", "list", "-wallet", mine, "-passphrase-file", w.open[1]).Want(4).Has("wallet.forked")
	kept := filepath.Join(t.TempDir(), "conflict.ghw")
	rewrite(t, kept, ours)
	one.OK("wallet", "merge", kept, "-wallet", mine, "-passphrase-file", w.open[1]).Has("1 added", "added: here")
	one.OK("wallet", "list", "-wallet", mine, "-passphrase-file", w.open[1]).Has("fork", "here", "sightings")

	os.WriteFile(filepath.Join(one.Home, "wallets-seen.json"), []byte("{"), 0o600)
	one.Run("wallet", "list", "-wallet", mine, "-passphrase-file", w.open[1]).Want(4).Has("wallet.memory")
	one.OK("wallet", "verify", "-forget", "-wallet", mine, "-passphrase-file", w.open[1]).Has("forgotten")
	one.OK("wallet", "passphrase", "-opening", "1ms", "-new-passphrase-file", renewed(t, one), "-wallet", mine, "-passphrase-file", w.open[1]).Has("changed: the passphrase")
	one.Run("wallet", "list", "-wallet", mine, "-passphrase-file", w.open[1]).Want(4).Has("wallet.passphrase")
}

func renewed(t *testing.T, p *testkit.Program) string {
	path := filepath.Join(t.TempDir(), "new")
	p.Write(path, "two avocets and a knot\n")
	return path
}

// testWalletWriters: writers that come at once, and writers that are killed, lose
// nothing.
func testWalletWriters(t *testing.T) {
	p := testkit.NewProgram(t)
	w := withWallet(t, p)
	done := make(chan *testkit.Result)
	for _, name := range []string{"a", "b", "c", "d"} {
		go func() { done <- w.put(name, name+"-secret") }()
	}
	for range 4 {
		(<-done).Want(0)
	}
	w.ok("list").Has("\na ", "\nb ", "\nc ", "\nd ")
	for i := range 5 {
		cmd := exec.Command(p.Path, append([]string{"wallet", "keep", "a", "-generate", "20", "-replace"}, w.open...)...)
		cmd.Env = p.Env
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(90*i) * time.Millisecond)
		cmd.Process.Kill()
		cmd.Wait()
		w.ok("list").Has("a ", "b ", "c ", "d ")
	}
}

// testSecretPut: the password goes to where the profile takes it from, and the
// rest of that file stays.
func testSecretPut(t *testing.T) {
	p, server := standin(t, birds())
	w := withWallet(t, p)
	home := filepath.Dir(p.Home)
	put := func(text string, args ...string) *testkit.Result {
		t.Helper()
		return p.Feed(text, slices.Concat([]string{"secret", "keep", "sightings", "-secret-stdin"}, args)...)
	}
	read := func(path string) string {
		t.Helper()
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %o", path, info.Mode())
		}
		return string(data)
	}
	passfile := p.Passfile("# mine", "other:5432:*:warden:stays", "*:*:*:visitor:stays too")
	p.OK("set", "sightings", "secret=passfile")
	put("dunlin").Want(0).Has("saved: the password of sightings in the password file " + passfile + ", line 4")
	p.OK("test", "sightings").Has("line 4")
	put("knot").Want(0)
	if text := read(passfile); text != "# mine\nother:5432:*:warden:stays\n*:*:*:visitor:stays too\n127.0.0.1:"+port(server)+":*:warden:knot\n" {
		t.Errorf("%s", text)
	}
	options := filepath.Join(home, "my.cnf")
	p.Write(options, "# mine\n[client]\nuser=warden # me\n[mysqld]\nport=1\n")
	p.OK("set", "sightings", "secret=optionfile:"+options)
	put(`dun#lin"\`).Want(0).Has("option file "+options, "line 4")
	if text := read(options); text != "# mine\n[client]\nuser=warden # me\npassword = "+
		"\"dun#lin\\\"\\\\\"\n[mysqld]\nport=1\n" {
		t.Errorf("%s", text)
	}
	p.OK("set", "sightings", "secret=optionfile:"+options+"#sightings")
	put("dunlin").Want(0)
	p.OK("test", "sightings").Has("[sightings]", "ready: ")
	p.Write(options, "[client]\nuser=somebody\n")
	p.OK("set", "sightings", "secret=optionfile:"+options)
	put("dunlin").Want(2).Has("[client] is for another connection", `names the user "somebody"`)
	if read(options) != "[client]\nuser=somebody\n" {
		t.Error("it was changed")
	}
	os.Chmod(options, 0o644)
	p.OK("set", "sightings", "secret=optionfile:"+options+"#x")
	put("dunlin").Want(4).Has("secret.permissions", "chmod 600")
	file := filepath.Join(home, "secret")
	p.OK("set", "sightings", "secret=file:"+file)
	put("dunlin").Want(0)
	p.OK("test", "sightings").Has("ready: ")
	p.OK("set", "sightings", "secret=wallet")
	put("dunlin", w.open...).Want(0).Has("saved: entry sightings, for postgresql at 127.0.0.1")
	w.ok("unlock", "-lifetime", "1m")
	p.OK("test", "sightings").Has("entry sightings", "ready: ")
	p.OK("wallet", "lock")
	for source, why := range map[string]string{"env:KNOT": "ends with its shell", "command:echo x": "takes it from a command"} {
		p.OK("set", "sightings", "secret="+source)
		put("dunlin").Want(2).Has(why)
	}
	p.OK("set", "sightings", "secret=none")
	put("dunlin", w.open...).Want(0).Has("entry sightings", `secret = "wallet"`)
	p.OK("set", "sightings", "secret=")
	put("dunlin").Want(0).Has("password file")
	os.Remove(passfile)
	put("dunlin", w.open...).Want(0).Has("entry sightings")
	put("dunlin", "-generate", "20").Want(2).Has("not both")
	p.Run("secret", "keep", "sightings").Want(4).Has("no terminal")
}

func port(s *postgresql.Server) string { return strconv.Itoa(s.Port()) }
