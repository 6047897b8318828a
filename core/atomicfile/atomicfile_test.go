package atomicfile

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestMain lets this test program be a writer that kills itself at a step.
func TestMain(m *testing.M) {
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
