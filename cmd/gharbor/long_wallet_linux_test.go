package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"gentleharbor/core/wallet"
	"gentleharbor/internal/testkit"
)

// TestLongWallet has 50 writers change a wallet at once for as long as GHARBOR_LONG_WALLET says, and kills them at
// random, oftenest while a new file is being written (scripts/long wallet). The wallet opens at each moment. An entry
// holds what its writer was told is saved, or what a killed writer was about to save.
func TestLongWallet(t *testing.T) {
	length, _ := time.ParseDuration(os.Getenv("GHARBOR_LONG_WALLET"))
	if length == 0 {
		t.Skip("it takes long: scripts/long wallet")
	}
	const writers = 50
	p := testkit.NewProgram(t)
	w := &walletCrowd{testWallet: withWallet(t, p), running: make(map[*exec.Cmd]bool), may: make([][]string, writers)}
	for i := range w.may {
		w.may[i] = []string{""}
	}
	end := time.Now().Add(length)
	var group, killer sync.WaitGroup
	stop := make(chan struct{})
	for i := range writers {
		group.Go(func() {
			for time.Now().Before(end) {
				w.change(i)
			}
		})
	}
	killer.Go(func() { w.kill(stop) })
	for time.Now().Before(end) {
		time.Sleep(2 * time.Second)
		w.look()
	}
	group.Wait()
	close(stop)
	killer.Wait()
	w.look()
	w.put("last", "dunlin").Want(0) // a write removes what killed ones left
	t.Logf("%s: %d changes saved, %d writers killed, the wallet read %d times", length, w.saved, w.killed, w.looks)
	for _, entry := range w.left() {
		t.Errorf("%s is left behind", entry)
	}
}

type walletCrowd struct {
	*testWallet
	mu      sync.Mutex
	running map[*exec.Cmd]bool
	may     [][]string // what the entry of each writer may hold: what was saved, then what killed writers were about to; "" for no entry

	saved, killed, looks int
}

// change has a writer keep a new password, or remove its entry.
func (w *walletCrowd) change(i int) {
	name, text := fmt.Sprintf("e%d", i), fmt.Sprintf("%d-%d", i, rand.Int64())
	args := []string{"wallet", "keep", name, "-secret-stdin", "-replace"}
	w.mu.Lock()
	if w.may[i][0] != "" && rand.IntN(5) == 0 {
		text, args = "", []string{"wallet", "remove", name, "-yes"}
	}
	cmd := exec.Command(w.Path, append(args, w.open...)...)
	cmd.Env, cmd.Stdin = w.Env, strings.NewReader(text+"\n")
	var said strings.Builder
	cmd.Stderr = &said
	w.may[i] = append(w.may[i], text)
	err := cmd.Start()
	w.running[cmd] = err == nil
	w.mu.Unlock()
	if err == nil {
		err = cmd.Wait()
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.running, cmd)
	switch {
	case err == nil:
		w.saved++
		w.may[i] = []string{text}
	case cmd.ProcessState.ExitCode() == -1:
		w.killed++
	case text == "" && strings.Contains(said.String(), "no entry"): // a killed one had removed it
	default:
		w.t.Errorf("writer %d: %v: %s", i, err, said.String())
	}
}

// kill ends some writers at random moments, and whenever a new file is there that is not in its place yet.
func (w *walletCrowd) kill(stop <-chan struct{}) {
	seen := make(map[string]bool)
	for turn := 0; ; turn++ {
		select {
		case <-stop:
			return
		case <-time.After(200 * time.Microsecond):
		}
		began := false // a write
		for _, path := range w.left() {
			began = began || !seen[path]
			seen[path] = true
		}
		if turn%2000 != 0 && (!began || rand.IntN(3) > 0) {
			continue
		}
		time.Sleep(time.Duration(rand.IntN(2000)) * time.Microsecond)
		w.mu.Lock()
		several := 3
		for cmd := range w.running { // in any order
			if cmd.Process.Kill(); several == 0 {
				break
			}
			several--
		}
		w.mu.Unlock()
	}
}

// left are the files of writes that are not in their place.
func (w *walletCrowd) left() []string {
	files, _ := filepath.Glob(filepath.Join(w.Home, ".*.tmp"))
	return files
}

// look reads the wallet, and compares each entry with what it may hold.
func (w *walletCrowd) look() {
	w.t.Helper()
	made, err := template()
	if err != nil {
		w.t.Fatal(err)
	}
	w.mu.Lock() // no writer begins or is counted meanwhile; those that run may still save
	defer w.mu.Unlock()
	w.looks++
	s := wallet.Store{Path: w.path, Seen: filepath.Join(w.Home, "wallets-seen.json")}
	open, err := s.Open(w.t.Context(), made.pass)
	if err != nil {
		w.t.Fatalf("the wallet does not open: %v", err)
	}
	for i, may := range w.may {
		has := ""
		if e := open.Entry(fmt.Sprintf("e%d", i)); e != nil {
			has = e.Secret.Disclose()
		}
		if !slices.Contains(may, has) {
			w.t.Errorf("entry e%d holds %q, and may hold %q", i, has, may)
		}
	}
}
