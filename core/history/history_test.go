package history

import (
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"
)

// TestKept: what was added is there, in its order, in a file that nobody else can read; half a line is passed over.
func TestKept(t *testing.T) {
	f := ForProfile(t.TempDir(), "sightings", false)
	if all, err := f.Entries(); err != nil || all != nil {
		t.Fatal(all, err)
	}
	for _, text := range []string{"SELECT 1", "SELECT 'two\nlines'", strings.Repeat("x", maxText+1)} {
		if err := f.Add(t.Context(), Entry{At: time.Unix(1, 0).UTC(), MS: 1.5, Text: text}); err != nil {
			t.Fatal(err)
		}
	}
	file, _ := os.OpenFile(f.Path(), os.O_APPEND|os.O_WRONLY, 0)
	file.WriteString(`{"at":"2026-11-26T10:00:00Z","te`)
	file.Close()
	all, err := f.Entries()
	if err != nil || len(all) != 2 || all[1].Text != "SELECT 'two\nlines'" || all[0].MS != 1.5 {
		t.Errorf("%+v %v", all, err)
	}
	info, _ := os.Stat(f.Path())
	folder, _ := os.Stat(Folder(strings.TrimSuffix(f.Path(), "/history/sightings.statements")))
	if info.Mode().Perm() != 0o600 || folder.Mode().Perm() != 0o700 {
		t.Error(info.Mode(), folder.Mode())
	}
}

// TestTogether: sessions that add at the same time lose nothing, also while one makes the file shorter.
func TestTogether(t *testing.T) {
	f := ForProfile(t.TempDir(), "sightings", false)
	var many strings.Builder
	for i := range Most + Most/10 {
		fmt.Fprintf(&many, `{"at":"2026-11-26T10:00:00Z","text":"SELECT %d, 'a longer statement'"}`+"\n", i)
	}
	os.MkdirAll(Folder(strings.TrimSuffix(f.Path(), "/history/sightings.statements")), 0o700)
	if err := os.WriteFile(f.Path(), []byte(many.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	var done sync.WaitGroup
	for s := range 4 {
		done.Go(func() {
			for i := range 25 {
				if err := f.Add(t.Context(), Entry{Text: fmt.Sprintf("SELECT 'session %d', %d", s, i)}); err != nil {
					t.Error(err)
				}
				time.Sleep(5 * time.Millisecond) // a person pauses; without, one session could keep the lock from others
			}
		})
	}
	done.Wait()
	all, err := f.Entries()
	if err != nil || len(all) > Most {
		t.Fatal(len(all), err)
	}
	found := 0
	for _, e := range all {
		if strings.HasPrefix(e.Text, "SELECT 'session") {
			found++
		}
	}
	data, _ := os.ReadFile(f.Path())
	if lines := strings.Count(string(data), "\n"); found != 100 || lines != Most+99 {
		t.Errorf("%d of 100 statements are there, in %d lines", found, lines)
	}
}

// TestMoved: a history goes along with its profile's name, and goes with the profile.
func TestMoved(t *testing.T) {
	home := t.TempDir()
	a, b := ForProfile(home, "a", false), ForProfile(home, "b", true)
	if moved, err := a.Move(b); moved || err != nil {
		t.Error(moved, err)
	}
	a.Add(t.Context(), Entry{Text: "SELECT 1"})
	if moved, err := a.Move(b); !moved || err != nil {
		t.Error(moved, err)
	}
	if all, err := b.Entries(); len(all) != 1 || err != nil {
		t.Error(all, err)
	}
	if removed, err := b.Remove(); !removed || err != nil {
		t.Error(removed, err)
	}
	if removed, err := b.Remove(); removed || err != nil {
		t.Error(removed, err)
	}
}
