package testkit

import (
	"os"
	"runtime"
	"syscall"
	"testing"
)

// Nobody is a user of this machine that owns nothing.
const Nobody = 65534

// AsUser runs f as another user of this machine, on a thread of its own: what it opens, listens
// on and connects to is that user's. It needs root, and skips the test elsewhere. Nothing that f
// starts on other goroutines is that user's.
func AsUser(t *testing.T, uid int, f func()) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("only root can be another user")
	}
	done := make(chan any)
	go func() { // the thread ends with the goroutine, as it is never unlocked
		runtime.LockOSThread()
		defer func() { done <- recover() }()
		// The system call itself changes one thread; the library's would change all of them.
		if _, _, errno := syscall.RawSyscall(syscall.SYS_SETRESUID, ^uintptr(0), uintptr(uid), ^uintptr(0)); errno != 0 {
			panic(errno)
		}
		f()
	}()
	if failed := <-done; failed != nil {
		t.Fatal(failed)
	}
}
