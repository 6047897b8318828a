package atomicfile

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"gentleharbor/internal/testkit/nolocks"
)

// TestNoLocks: on a file system without locks a file can be replaced, and no lock is given.
func TestNoLocks(t *testing.T) {
	for _, as := range []syscall.Errno{syscall.ENOLCK, syscall.ENOSYS, syscall.EOPNOTSUPP} {
		words, err := nolocks.Words(as)
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(t.TempDir(), "file")
		cmd := exec.Command(words[0], append(words[1:], words[0])...)
		cmd.Env = append(os.Environ(), "GHARBOR_TEST_WRITE="+path, "GHARBOR_TEST_LOCK=none")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%s: %v %s", as, err, out)
		}
		if data, err := os.ReadFile(path); err != nil || string(data) != "the new text, whole" {
			t.Errorf("%s: %q, %v", as, data, err)
		}
		if entries, _ := os.ReadDir(filepath.Dir(path)); len(entries) != 2 { // the file and its lock
			t.Errorf("%s: %d files", as, len(entries))
		}
	}
	if noLocks(syscall.EINTR) || noLocks(errors.New("another")) || noLocks(nil) {
		t.Error("another error is taken for a file system without locks")
	}
}
