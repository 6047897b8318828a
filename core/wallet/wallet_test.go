package wallet

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/binding"
	"gentleharbor/core/privatesocket"
	"gentleharbor/core/secret"
)

var update = flag.Bool("update", false, "write the test vector of docs/wallet-format.md again")

const canary = "dunlin-4711-übers-Watt"

// world is a wallet with two entries and a reader, in a folder of its own.
type world struct {
	*testing.T
	Store
	pass *Passphrase
	pin  *Pin
}

// known is the key of the tests' passphrase for one salt, made once: the tests
// are of all else that a wallet does.
var known = sync.OnceValue(func() *Passphrase {
	p := &Passphrase{Value: secret.NewValue("seven brown curlews")}
	p.key(context.Background(), &header{Cost: floor, Salt: make([]byte, saltSize)})
	return p
})

func newWorld(t *testing.T) *world {
	t.Helper()
	dir := t.TempDir()
	w := &world{T: t, Store: Store{Path: filepath.Join(dir, "wallet.ghw"), Seen: filepath.Join(dir, "state", "seen.json")},
		pass: &Passphrase{Value: known().Value, derived: maps.Clone(known().derived)}}
	h := header{ID: hex.EncodeToString(random(16)), Cost: floor, Salt: make([]byte, saltSize), Readers: []ReaderInfo{}}
	key, _ := w.pass.key(t.Context(), &h)
	owner := &ownerKeys{passphraseKey: key, contentKey: random(keySize), signing: ed25519.NewKeyFromSeed(random(ed25519.SeedSize))}
	h.SigningKey = owner.signing.Public().(ed25519.PublicKey)
	if _, err := w.Store.write(context.Background(), &Wallet{File: &File{Path: w.Path, header: h}, owner: owner}); err != nil {
		t.Fatal(err)
	}
	w.put("sightings", canary)
	w.put("tides", "knot-0815")
	w.pin = w.reader("nightly")
	return w
}

func (w *world) change(f func(*Wallet) error) *Wallet {
	w.Helper()
	opened, err := w.Update(context.Background(), w.pass, f)
	if err != nil {
		w.Fatal(err)
	}
	return opened
}

func (w *world) put(name, text string) {
	w.Helper()
	w.change(func(o *Wallet) error {
		o.Put(Entry{Name: name, Secret: secret.NewValue(text), Created: w.now(), Changed: w.now()})
		return nil
	})
}

func (w *world) reader(name string) *Pin {
	w.Helper()
	var pin *Pin
	w.change(func(o *Wallet) (err error) {
		pin, err = o.AddReader(name, w.now())
		return err
	})
	return pin
}

func (w *world) bytes() []byte {
	w.Helper()
	data, err := os.ReadFile(w.Path)
	if err != nil {
		w.Fatal(err)
	}
	return data
}

func (w *world) write(data []byte) {
	w.Helper()
	if err := os.WriteFile(w.Path, data, 0o600); err != nil {
		w.Fatal(err)
	}
}

// fails opens the wallet and wants a finding of one of the codes.
func (w *world) fails(what string, opener Opener, codes ...string) {
	w.Helper()
	opened, err := w.Open(context.Background(), opener)
	if opened != nil {
		w.Fatalf("%s: it opened", what)
	}
	var failure *secret.Failure
	if !errors.As(err, &failure) || !slices.Contains(codes, string(failure.Found.Code)) {
		w.Fatalf("%s: %v, and one of %v was expected", what, err, codes)
	}
	if text := fmt.Sprint(failure.Found); strings.Contains(text, canary) {
		w.Fatalf("%s: the finding has the secret in it", what)
	}
}

func (w *world) has(opener Opener, names ...string) {
	w.Helper()
	opened, err := w.Open(context.Background(), opener)
	if err != nil {
		w.Fatal(err)
	}
	if !slices.Equal(opened.Names(), names) {
		w.Fatalf("%v", opened.Names())
	}
}

func TestOpening(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.has(w.pass, "sightings", "tides")
	w.has(w.pin, "sightings", "tides")
	opened, _ := w.Open(context.Background(), w.pin)
	if opened.Entry("sightings").Secret.Disclose() != canary || opened.Entry("knot") != nil || opened.owner != nil {
		t.Error("a reader reads, and no more")
	}
	if bytes.Contains(w.bytes(), []byte(canary)) || bytes.Contains(w.bytes(), []byte("sightings")) {
		t.Error("a name or a secret is readable in the file")
	}
	w.fails("another passphrase", &Passphrase{Value: secret.NewValue("seven brown curlew")}, "wallet.passphrase")
	other := newWorld(t)
	w.fails("another wallet's reader", other.pin, "wallet.other")
	if _, err := w.Create(context.Background(), w.pass, floor); err == nil {
		t.Error("a wallet was made over another")
	}
}

func TestRemovedReader(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	weekly := w.reader("weekly")
	old := w.bytes()
	oldKey, _ := w.Open(context.Background(), w.pass)
	var saw []string
	w.change(func(o *Wallet) (err error) {
		saw, err = o.RemoveReader("nightly")
		return err
	})
	if !slices.Equal(saw, []string{"sightings", "tides"}) {
		t.Errorf("%v", saw)
	}
	w.fails("a removed reader", w.pin, "wallet.reader-removed")
	w.has(weekly, "sightings", "tides")
	w.put("later", "written after")
	w.fails("a removed reader, later", w.pin, "wallet.reader-removed")
	f, _ := parseFile(w.Path, w.bytes())
	if _, err := f.read(oldKey.owner.contentKey, ""); err == nil {
		t.Error("the old content key opens what was written later")
	}
	w.write(old)
	w.fails("the file from before", w.pin, "wallet.rolled-back")
	if _, err := w.Update(context.Background(), w.pass, func(o *Wallet) error { return nil }); err == nil {
		t.Error("an older file was written on")
	}
	if r, gone, err := w.Restore(context.Background(), mustParse(t, old), w.pass, w.pass, false); err != nil || !slices.Contains(gone, "nightly") || len(r.File.Readers()) != 1 || r.File.Readers()[0].Name != "weekly" {
		t.Errorf("an older file in place brought a removed reader back: %v, %v", gone, err)
	}
}

func mustParse(t *testing.T, data []byte) *File {
	t.Helper()
	f, err := parseFile("a copy", data)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func TestPassphraseAndRotation(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	old, oldPass := w.bytes(), w.pass
	opened, _ := w.Open(context.Background(), w.pass)
	next := &Passphrase{Value: secret.NewValue("two avocets and a knot")}
	w.change(func(o *Wallet) error {
		ended, err := o.ChangePassphrase(t.Context(), next, floor)
		if len(ended) != 1 || ended[0].Name != "nightly" {
			t.Errorf("%v", ended)
		}
		return err
	})
	w.fails("the old passphrase", oldPass, "wallet.passphrase")
	w.fails("a reader from before", w.pin, "wallet.forged")
	w.pass = next
	w.pin = w.reader("weekly")
	w.has(w.pin, "sightings", "tides")
	w.forgeWith(opened, oldPass)
	w.restoreOld(old, oldPass)
	w.pin = w.reader("nightly")
	w.put("later", "written after")
	if _, err := mustParse(t, w.bytes()).read(opened.owner.contentKey, ""); err == nil {
		t.Error("an old copy's key opens what was written later")
	}
	w.change(func(o *Wallet) error {
		ended, err := o.Rotate(t.Context(), w.pass)
		if len(ended) != 2 || ended[1].Name != "nightly" {
			t.Errorf("%v", ended)
		}
		return err
	})
	w.has(w.pass, "later", "sightings", "tides")
	w.fails("a reader from before the rotation", w.pin, "wallet.forged")
	w.write(old)
	w.fails("the file from before", oldPass, "wallet.rolled-back", "wallet.forged")
}

// forgeWith makes a newer generation with all that the old passphrase gives, sealed to the
// readers of today: nobody believes it.
func (w *world) forgeWith(old *Wallet, oldPass *Passphrase) {
	w.Helper()
	now := w.bytes()
	forged := *w
	forged.Seen = filepath.Join(w.TempDir(), "seen.json")
	h := mustParse(w.T, now).header
	h.SigningKey, h.Salt, h.Cost = old.File.header.SigningKey, old.File.header.Salt, old.File.header.Cost
	h.Generation += 10
	one := &Wallet{File: &File{Path: w.Path, header: h}, owner: old.owner, Entries: []Entry{{Name: "sightings", Secret: secret.NewValue("FORGED")}}}
	if _, err := forged.Store.write(context.Background(), one); err != nil {
		w.Fatal(err)
	}
	w.fails("forged with the old passphrase", w.pin, "wallet.forged")
	w.fails("forged with the old passphrase", w.pass, "wallet.passphrase", "wallet.forged")
	w.write(now)
	w.has(w.pin, "sightings", "tides") // and the memory was not spoilt
}

// restoreOld restores a file from before the passphrase was changed: the present passphrase
// stays, and the old one comes back only where that is asked for.
func (w *world) restoreOld(old []byte, oldPass *Passphrase) {
	w.Helper()
	from := mustParse(w.T, old)
	if _, _, err := w.Restore(context.Background(), from, oldPass, oldPass, false); !IsWrongPassphrase(err) {
		w.Errorf("the old passphrase restored: %v", err)
	}
	if _, _, err := w.Restore(context.Background(), from, w.pass, oldPass, false); err != nil {
		w.Error(err)
	}
	w.fails("the old passphrase, after a restore", oldPass, "wallet.passphrase")
	w.has(w.pin, "sightings", "tides")
	now := w.bytes()
	os.Remove(w.Path)
	if _, _, err := w.Restore(context.Background(), from, oldPass, oldPass, false); !errors.Is(err, ErrOldPassphrase) {
		w.Errorf("without a present file: %v", err)
	}
	other := *w
	other.Seen, other.Path = filepath.Join(w.TempDir(), "seen.json"), filepath.Join(w.TempDir(), "w.ghw")
	os.WriteFile(other.Path, now, 0o600)
	if _, _, err := other.Restore(context.Background(), from, oldPass, oldPass, true); err != nil {
		w.Error(err)
	}
	other.has(oldPass, "sightings", "tides")
	other.fails("a reader, after the old passphrase came back", w.pin, "wallet.forged")
	w.write(now)
}

func TestRollbackForkAndRestore(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	old := w.bytes()
	w.put("sightings", "two")
	ours := w.bytes()
	w.write(old)
	w.fails("an older file", w.pass, "wallet.rolled-back")
	w.fails("an older file", w.pin, "wallet.rolled-back")

	// The other machine changes the same generation in its own way.
	there := *w
	there.Seen = filepath.Join(t.TempDir(), "seen.json")
	there.put("tides", "theirs")
	there.put("tides", "theirs too")
	there.write(old)
	there.Seen = filepath.Join(t.TempDir(), "seen.json")
	there.put("ringing", "new over there")
	theirs := w.bytes()
	w.fails("a fork", w.pass, "wallet.forked")
	w.fails("a fork", w.pin, "wallet.forked")
	copied := filepath.Join(t.TempDir(), "copy")
	os.WriteFile(copied, ours, 0o600)
	other, err := Load(copied)
	if err != nil {
		t.Fatal(err)
	}
	m, err := w.Merge(context.Background(), other, w.pass, w.pass)
	if err != nil {
		t.Fatal(err)
	}
	if len(m.Conflicts) != 1 || m.Conflicts[0].Name != "sightings" || m.Conflicts[0].Other != "sightings.2" || len(m.Same) != 1 || len(m.Added) != 0 {
		t.Errorf("%+v", m)
	}
	w.has(w.pin, "ringing", "sightings", "sightings.2", "tides")
	opened, _ := w.Open(context.Background(), w.pin)
	if opened.Entry("sightings").Secret.Disclose() != canary || opened.Entry("sightings.2").Secret.Disclose() != "two" {
		t.Error("an entry was lost")
	}
	w.write(theirs)
	w.fails("the fork, after the merge", w.pass, "wallet.rolled-back")

	restored, gone, err := w.Restore(context.Background(), mustParse(t, old), w.pass, w.pass, false)
	if err != nil || len(gone) > 0 || restored.Entry("sightings").Secret.Disclose() != canary {
		t.Fatalf("%v %v", gone, err)
	}
	w.has(w.pin, "sightings", "tides") // it was a reader when the wallet was last seen
	w.put("tides", "after")
	restored, gone, err = w.Restore(context.Background(), mustParse(t, old), w.pass, w.pass, false)
	if err != nil || restored.Entry("tides").Secret.Disclose() != "knot-0815" || len(restored.File.Readers()) != 1 {
		t.Fatalf("%v %v", gone, err)
	}
	w.has(w.pin, "sightings", "tides") // a reader of the present wallet stays
	if _, err := w.Merge(context.Background(), other, w.pass, &Passphrase{Value: secret.NewValue("no such one")}); err == nil {
		t.Error("a merge without the other's passphrase")
	}
}

// TestTwoWriters: nothing is lost, whoever comes first.
func TestTwoWriters(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var group sync.WaitGroup
	for i := range 8 {
		group.Go(func() {
			_, err := w.Update(context.Background(), &Passphrase{Value: w.pass.Value, derived: maps.Clone(w.pass.derived)}, func(o *Wallet) error {
				o.Put(Entry{Name: fmt.Sprintf("entry-%d", i), Secret: secret.NewValue("x")})
				return nil
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	opened, err := w.Open(context.Background(), w.pin)
	if err != nil || len(opened.Entries) != 10 {
		t.Fatalf("%v, %v", opened, err)
	}
}

// TestKilledWriter: a writer is ended at each step of the write of the wallet and
// of the memory, and the wallet opens, as it was or as it was to be.
func TestKilledWriter(t *testing.T) {
	t.Parallel()
	for step := range 12 {
		w := newWorld(t)
		count := 0
		killed := *w
		killed.Writer = atomicfile.Writer{Step: func(string) {
			if count == step {
				panic("killed") // nothing behind this step is done; a lock ends with its holder
			}
			count++
		}}
		func() {
			defer func() { recover() }()
			killed.put("sightings", "newer")
		}()
		fresh := *w
		opened, err := fresh.Open(context.Background(), w.pin)
		if err != nil || len(opened.Entries) != 2 {
			t.Fatalf("killed at step %d: %v", step, err)
		}
		if text := opened.Entry("sightings").Secret.Disclose(); text != canary && text != "newer" {
			t.Errorf("killed at step %d: %q", step, text)
		}
		fresh.put("sightings", "after")
	}
}

// keeperSocket is a socket for a keeper, in a folder of its own.
func keeperSocket(t *testing.T) (listener net.Listener, socket string) {
	t.Helper()
	short, err := os.MkdirTemp("", "gh") // a socket's path is short
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(short) })
	socket = filepath.Join(short, "k", "w.sock")
	if listener, err = Listen(socket); err != nil {
		t.Fatal(err)
	}
	return listener, socket
}

func TestKeeper(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	opened, err := w.Open(context.Background(), w.pass)
	if err != nil {
		t.Fatal(err)
	}
	listener, socket := keeperSocket(t)
	ended := make(chan bool)
	go func() {
		Keep(context.Background(), listener, opened.Keys(time.Now().Add(time.Minute)))
		close(ended)
	}()
	u := UnlockedSource{socket}
	w.has(u, "sightings", "tides")
	if until, err := u.Status(t.Context()); err != nil || time.Until(until) <= 0 {
		t.Error("no status")
	}
	if _, err := Listen(socket); err == nil {
		t.Error("two keepers on one socket")
	}
	other := newWorld(t)
	other.fails("another wallet's keeper", u, "wallet.locked")
	w.change(func(o *Wallet) error { _, err := o.RemoveReader("nightly"); return err })
	w.fails("after the keys were made new", u, "wallet.locked")
	for _, request := range []string{"open x\n", "open 99999999999\n", "open 10\nshort", "nonsense\n", ""} {
		u.ask(t.Context(), []byte(request))
	}
	if err := u.Lock(t.Context()); err != nil {
		t.Error(err)
	}
	<-ended
	if err := u.Lock(t.Context()); !errors.Is(err, privatesocket.ErrNone) {
		t.Error("a lock that nobody took")
	}
	os.Chmod(filepath.Dir(socket), 0o755)
	if _, err := Listen(socket); err == nil {
		t.Error("a keeper in a folder that others see")
	}
}

// TestSleptKeeper: a keeper whose time went by while the machine slept opens nothing, though its timers stood still.
func TestSleptKeeper(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	opened, err := w.Open(t.Context(), w.pass)
	if err != nil {
		t.Fatal(err)
	}
	listener, socket := keeperSocket(t)
	asleep := time.Now().Add(time.Minute) // what its timers go by
	ended := make(chan bool)
	go func() {
		keep(context.Background(), listener, opened.Keys(asleep), func() time.Time { return asleep.Add(time.Second) })
		close(ended)
	}()
	w.fails("after its time", UnlockedSource{socket}, "wallet.locked")
	<-ended
}

// TestSilentKeeper: a keeper that does not answer is not taken for none, and its number is told.
func TestSilentKeeper(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	socket := filepath.Join(t.TempDir(), "s")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			conn.Close() // as one that is ended in the middle of an answer
		}
	}()
	u := UnlockedSource{socket}
	w.fails("a silent keeper", u, "wallet.no-answer")
	var silent *privatesocket.SilentError
	if err := u.Lock(t.Context()); !errors.As(err, &silent) || runtime.GOOS == "linux" && silent.PID != os.Getpid() {
		t.Errorf("%v", err)
	}
	listener.Close()
	if err := u.Lock(t.Context()); !errors.Is(err, privatesocket.ErrNone) {
		t.Errorf("none is there, and %v", err)
	}
}

// TestCost: what a header may ask for is bounded in each number and in their product, and
// working on it ends with the context.
func TestCost(t *testing.T) {
	t.Parallel()
	for c, ok := range map[Cost]bool{
		floor: true, {MemoryKiB: 1 << 20, Passes: 4, Threads: 1}: true, {MemoryKiB: 64 << 10, Passes: 64, Threads: 16}: true,
		{MemoryKiB: 1 << 20, Passes: 5, Threads: 1}: false, {MemoryKiB: 1 << 20, Passes: 64, Threads: 1}: false, {MemoryKiB: 128 << 10, Passes: 33, Threads: 4}: false,
	} {
		if why := c.problem(); (why == "") != ok {
			t.Errorf("%+v: %s", c, why)
		}
	}
	if c := CostFor(10 * time.Minute); c.problem() != "" {
		t.Errorf("%+v: %s", c, c.problem())
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	dear := Cost{MemoryKiB: 256 << 10, Passes: 16, Threads: 1}
	if _, err := (&Passphrase{Value: secret.NewValue("x")}).key(ctx, &header{Cost: dear, Salt: make([]byte, saltSize)}); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	one := floor.derive(secret.NewValue("d\u00fcnn"), make([]byte, saltSize))
	if two := floor.derive(secret.NewValue("du\u0308nn"), make([]byte, saltSize)); !bytes.Equal(one, two) {
		t.Error("one text in two forms gives two keys")
	}
}

// TestPinFloor: a reader that never opened the wallet before believes none that is older than its
// pin file.
func TestPinFloor(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	old := w.bytes()
	pin := w.reader("weekly")
	w.has(pin, "sightings", "tides")
	w.write(old)
	w.Seen = filepath.Join(t.TempDir(), "seen.json")
	w.fails("an older file, at the first use", pin, "wallet.rolled-back")
}

// TestVector: the file that docs/wallet-format.md describes, byte for byte.
func TestVector(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := Store{Path: "../../docs/wallet-format.ghw", Seen: filepath.Join(dir, "seen.json")}
	pass := &Passphrase{Value: secret.NewValue("curlew, knot and dunlin")}
	if *update {
		os.Remove(s.Path)
		os.Remove("../../docs/wallet-format.pin")
		s.Now = func() time.Time { return time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC) }
		if _, err := s.Create(context.Background(), pass, floor); err != nil {
			t.Fatal(err)
		}
		_, err := s.Update(context.Background(), pass, func(w *Wallet) error {
			w.Put(Entry{Name: "sightings", User: "visitor", Secret: secret.NewValue("a made-up password"), Created: s.now(), Changed: s.now(),
				Bindings: []binding.Binding{{Profile: "sightings", Engine: "postgresql", Addresses: []string{"127.0.0.1:5432"}, TLS: "offered"}}})
			pin, err := w.AddReader("nightly", s.now())
			if err != nil {
				return err
			}
			return pin.WriteNew("../../docs/wallet-format.pin")
		})
		if err != nil {
			t.Fatal(err)
		}
		os.Remove(s.Path + ".lock")
		s.Seen = filepath.Join(t.TempDir(), "seen.json")
	}
	data, err := os.ReadFile("../../docs/wallet-format.pin")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "pin")
	os.WriteFile(path, data, 0o600) // a checkout has made it readable for all
	pin, err := LoadPin(path)
	if err != nil {
		t.Fatal(err)
	}
	for _, opener := range []Opener{pass, pin} {
		file, _ := os.ReadFile(s.Path)
		f, err := parseFile(s.Path, file)
		if err != nil {
			t.Fatal(err)
		}
		w, err := opener.open(t.Context(), f)
		if err != nil {
			t.Fatal(err)
		}
		if e := w.Entry("sightings"); f.Generation() != 2 || e == nil || e.Secret.Disclose() != "a made-up password" || e.User != "visitor" {
			t.Errorf("%+v", w)
		}
	}
}

func TestPinFile(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	path := filepath.Join(t.TempDir(), "pin")
	if err := w.pin.WriteNew(path); err != nil {
		t.Fatal(err)
	}
	if w.pin.WriteNew(path) == nil {
		t.Error("a pin file was written over another")
	}
	if _, err := LoadPin(path); err != nil {
		t.Error(err)
	}
	if text := fmt.Sprintf("%v %+v %#v %s", w.pin, w.pin, *w.pin, *w.pin); strings.Contains(text, fmt.Sprint(w.pin.PrivateKey)) {
		t.Errorf("a pin prints its key: %s", text)
	}
	code := func() string {
		_, err := LoadPin(path)
		var failure *secret.Failure
		if !errors.As(err, &failure) {
			return fmt.Sprint(err)
		}
		return string(failure.Found.Code)
	}
	os.Chmod(path, 0o644)
	if code() != "secret.permissions" {
		t.Error(code())
	}
	for _, text := range []string{"", "{}", `{"format":1,"wallet":"x"}`, strings.Repeat("x", maxPin+2)} {
		os.WriteFile(path, []byte(text), 0o600)
		os.Chmod(path, 0o600)
		if code() != "wallet.pin" {
			t.Errorf("%.20q: %s", text, code())
		}
	}
}

func BenchmarkReader1000(b *testing.B) {
	dir := b.TempDir()
	s := Store{Path: filepath.Join(dir, "w.ghw"), Seen: filepath.Join(dir, "seen.json")}
	pass := &Passphrase{Value: secret.NewValue("seven brown curlews")}
	if _, err := s.Create(context.Background(), pass, floor); err != nil {
		b.Fatal(err)
	}
	var pin *Pin
	_, err := s.Update(context.Background(), pass, func(w *Wallet) (err error) {
		for i := range 1000 {
			w.Put(Entry{Name: fmt.Sprintf("entry-%04d", i), User: "warden", Secret: secret.NewValue(canary), Bindings: []binding.Binding{{Profile: fmt.Sprintf("p%d", i),
				Engine: "postgresql", Addresses: []string{fmt.Sprintf("db%d.saltmarsh.example:5432", i)}, TLS: "verified"}}})
		}
		pin, err = w.AddReader("nightly", time.Now())
		return err
	})
	if err != nil {
		b.Fatal(err)
	}
	pinned := filepath.Join(dir, "pin")
	if err := pin.WriteNew(pinned); err != nil {
		b.Fatal(err)
	}
	for _, source := range []secret.Source{{Kind: "wallet"}, {Kind: "wallet", Arg: "entry-0700"}} {
		b.Run(source.String(), func(b *testing.B) {
			for b.Loop() {
				v := Supplier{Store: s, Pin: pinned, Unlocked: func(context.Context, string) (Opener, error) { return nil, nil }}
				located, found := v.Find(b.Context(), secret.Query{Profile: "other", Source: source, Engine: "postgresql", Address: "db700.saltmarsh.example:5432", TLS: "verified", User: "warden"}, false)
				if found != nil || located.Asks {
					b.Fatal(found)
				}
			}
		})
	}
}

// TestReadersBesideWriter: whoever reads while another process writes gets the wallet
// as it was or as it is, and no false alarm.
func TestReadersBesideWriter(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	done := make(chan bool)
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for {
				select {
				case <-done:
					return
				default:
				}
				if _, err := w.Open(context.Background(), w.pin); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	for i := range 40 {
		_, err := w.Update(context.Background(), &Passphrase{Value: w.pass.Value, derived: maps.Clone(w.pass.derived)}, func(o *Wallet) error {
			o.Put(Entry{Name: fmt.Sprintf("entry-%d", i), Secret: secret.NewValue("x")})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	close(done)
	group.Wait()
}
