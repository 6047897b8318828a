package atomicfile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestRead: a regular file of a size that is borne, and nothing else.
func TestRead(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "f")
	os.WriteFile(path, []byte("12345"), 0o600)
	if data, err := Read(path, 5); err != nil || string(data) != "12345" {
		t.Errorf("%q %v", data, err)
	}
	if _, err := Read(path, 4); err == nil || !strings.Contains(err.Error(), "larger") {
		t.Errorf("%v", err)
	}
	for _, bad := range []string{folder, filepath.Join(folder, "none"), os.DevNull} {
		if _, err := Read(bad, 5); err == nil {
			t.Errorf("%s was read", bad)
		}
	}
}

// TestResolve: a link is followed to the file that is to be replaced, which need not be there.
func TestResolve(t *testing.T) {
	folder, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	os.Symlink("real", filepath.Join(folder, "link"))
	os.Symlink(filepath.Join(folder, "link"), filepath.Join(folder, "whole"))
	os.Symlink("circle", filepath.Join(folder, "circle"))
	for _, name := range []string{"real", "link", "whole"} {
		if got, err := Resolve(filepath.Join(folder, name)); err != nil || got != filepath.Join(folder, "real") {
			t.Errorf("%s: %s %v", name, got, err)
		}
	}
	for _, name := range []string{"circle", "none/f"} {
		if got, err := Resolve(filepath.Join(folder, name)); err == nil {
			t.Errorf("%s: %s", name, got)
		}
	}
}

// TestLockIn: the lock of a file is in the folder for locks, and one holds it at a time.
func TestLockIn(t *testing.T) {
	locks, path := filepath.Join(t.TempDir(), "locks"), filepath.Join(t.TempDir(), "f")
	unlock, err := LockIn(t.Context(), locks, path)
	if err != nil {
		t.Fatal(err)
	}
	got := make(chan struct{})
	go func() {
		again, err := LockIn(t.Context(), locks, path)
		if err != nil {
			t.Error(err)
		} else {
			again()
		}
		close(got)
	}()
	select {
	case <-got:
		t.Error("two hold one lock")
	case <-time.After(50 * time.Millisecond):
	}
	unlock()
	<-got
	if left, _ := os.ReadDir(filepath.Dir(path)); len(left) != 0 {
		t.Errorf("%d files are left beside it", len(left))
	}
}
