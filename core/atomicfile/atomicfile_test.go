package atomicfile

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"gentleharbor/internal/testkit/nolocks"
)

// TestMain lets this test program be a writer that kills itself at a step.
func TestMain(m *testing.M) {
	nolocks.Launch()
	if path := os.Getenv("GHARBOR_TEST_WRITE"); path != "" {
		w := Writer{Step: func(name string) {
			if name == os.Getenv("GHARBOR_TEST_STEP") {
				self, _ := os.FindProcess(os.Getpid())
				self.Kill()
				select {}
			}
		}}
		if err := w.Write(path, []byte("the new text, whole")); err != nil {
			os.Exit(3)
		}
		if os.Getenv("GHARBOR_TEST_LOCK") == "none" {
			if _, err := Lock(context.Background(), path); !errors.Is(err, ErrNoLocks) {
				os.Exit(4)
			}
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// TestKilledAtEachStep: the old file or the new one, never neither.
func TestKilledAtEachStep(t *testing.T) {
	for _, c := range []struct {
		step string
		want string
	}{{"create", "old"}, {"write", "old"}, {"sync", "old"}, {"rename", "old"}, {"sync folder", "the new text, whole"}, {"done", "the new text, whole"}, {"", "the new text, whole"}} {
		path := filepath.Join(t.TempDir(), "file")
		os.WriteFile(path, []byte("old"), 0o600)
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), "GHARBOR_TEST_WRITE="+path, "GHARBOR_TEST_STEP="+c.step)
		if err := cmd.Run(); (err == nil) != (c.step == "") {
			t.Errorf("at %q the writer ended with %v", c.step, err)
		}
		if data, err := os.ReadFile(path); err != nil || string(data) != c.want {
			t.Errorf("killed at %q: %q, %v", c.step, data, err)
		}
		unlock, err := Lock(context.Background(), path)
		if err != nil {
			t.Fatal(err)
		}
		unlock()
	}
}

// TestShared: what the owner lets others read stays so, what they could write
// does not.
func TestShared(t *testing.T) {
	path := filepath.Join(t.TempDir(), "file")
	mode := func() os.FileMode {
		info, err := os.Stat(path)
		if err != nil {
			t.Fatal(err)
		}
		return info.Mode().Perm()
	}
	for _, c := range []struct{ old, want os.FileMode }{{0o600, 0o600}, {0o640, 0o640}, {0o666, 0o644}, {0o400, 0o600}} {
		os.WriteFile(path, nil, 0o600)
		os.Chmod(path, c.old)
		if err := (Writer{}).WriteShared(path, []byte("x")); err != nil || mode() != c.want {
			t.Errorf("%o became %o (%v)", c.old, mode(), err)
		}
	}
	os.Chmod(path, 0o644)
	if err := (Writer{}).Write(path, []byte("x")); err != nil || mode() != 0o600 {
		t.Errorf("%o, %v", mode(), err)
	}
	left, _ := filepath.Glob(filepath.Join(filepath.Dir(path), ".*"))
	if len(left) > 0 {
		t.Errorf("left behind: %s", strings.Join(left, " "))
	}
}

// TestSweep: the next writer removes what a killed one left, and nothing else.
func TestSweep(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, ".pgpass")
	os.WriteFile(path, []byte("old"), 0o600)
	for _, step := range []string{"write", "sync", "rename"} {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), "GHARBOR_TEST_WRITE="+path, "GHARBOR_TEST_STEP="+step)
		cmd.Run()
	}
	temps := func() []string {
		all, _ := filepath.Glob(filepath.Join(dir, "..pgpass.*.tmp"))
		return all
	}
	if len(temps()) == 0 {
		t.Fatal("a killed writer left nothing to be swept")
	}
	living, err := createTemp(dir, ".pgpass")
	if err != nil {
		t.Fatal(err)
	}
	defer living.Close()
	for _, name := range []string{"..pgpass.mine.tmp", "..pgpass.1.tmp.bak", ".other.1.tmp"} {
		os.WriteFile(filepath.Join(dir, name), []byte("x"), 0o600)
	}
	victim := filepath.Join(t.TempDir(), "victim")
	os.WriteFile(victim, []byte("x"), 0o600)
	os.Symlink(victim, filepath.Join(dir, "..pgpass.7.tmp"))
	os.Mkdir(filepath.Join(dir, "..pgpass.8.tmp"), 0o700)
	if err := (Writer{}).Write(path, []byte("new")); err != nil {
		t.Fatal(err)
	}
	have := strings.Join(temps(), " ")
	for _, kept := range []string{filepath.Base(living.Name()), "..pgpass.mine.tmp", "..pgpass.7.tmp", "..pgpass.8.tmp"} {
		if !strings.Contains(have, kept) {
			t.Errorf("%s was swept", kept)
		}
	}
	if len(temps()) != 4 {
		t.Errorf("left: %s", have)
	}
	if _, err := os.Stat(victim); err != nil {
		t.Error("what a link leads to was removed")
	}
	if os.Getuid() == 0 {
		theirs := filepath.Join(dir, "..pgpass.9.tmp")
		os.WriteFile(theirs, []byte("x"), 0o600)
		os.Chown(theirs, 12345, 12345)
		(Writer{}).Write(path, []byte("newer"))
		if _, err := os.Stat(theirs); err != nil {
			t.Error("another user's file was swept")
		}
	}
}

// TestLockFollowsNoLink: a link in the lock's place makes no file elsewhere.
func TestLockFollowsNoLink(t *testing.T) {
	dir, victim := t.TempDir(), filepath.Join(t.TempDir(), "victim")
	os.Symlink(victim, filepath.Join(dir, "w.ghw.lock"))
	if unlock, err := Lock(context.Background(), filepath.Join(dir, "w.ghw")); err == nil {
		unlock()
		t.Error("a lock went through a link")
	}
	if _, err := os.Lstat(victim); err == nil {
		t.Error("a file was made at the link's end")
	}
}

// TestPlain: what a rename fails with is said without its paths.
func TestPlain(t *testing.T) {
	err := Plain(&os.LinkError{Op: "rename", Old: "/a", New: "/b", Err: syscall.EROFS})
	if strings.Contains(err.Error(), "/a") || !errors.Is(err, syscall.EROFS) {
		t.Error(err)
	}
	if err := Plain(&os.LinkError{Op: "rename", Old: "/a", New: "/b", Err: syscall.EBUSY}); strings.Contains(err.Error(), "/a") || !strings.Contains(err.Error(), "mount its folder") {
		t.Error(err)
	}
}

func TestInside(t *testing.T) {
	for _, c := range []struct {
		path, from string
		ok         bool
	}{
		{"/clone", ".", true},
		{"/clone/a/b", filepath.Join("a", "b"), true},
		{"/clone/..b", "..b", true},
		{"/clone2", filepath.Join("..", "clone2"), false},
		{"/clone/../x", filepath.Join("..", "x"), false},
		{"/", "..", false},
		{"a", "", false},
	} {
		if from, ok := Inside("/clone", c.path); from != c.from || ok != c.ok {
			t.Errorf("%s: %q %v", c.path, from, ok)
		}
	}
}
