//go:build unix

package atomicfile

import (
	"os"
	"syscall"

	"gentleharbor/core/owner"
)

// noFollow refuses to open a symbolic link (open(2)).
const noFollow = syscall.O_NOFOLLOW

// noWaiting opens a pipe without waiting for a writer (open(2)).
const noWaiting = syscall.O_NONBLOCK

// hold locks an open file until it is closed (flock(2)).
func hold(file *os.File) error { return syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) }

// abandoned reports whether a temporary file is the user's own and unlocked.
func abandoned(path string) bool {
	file, err := os.OpenFile(path, os.O_RDONLY|noFollow|noWaiting, 0)
	if err != nil {
		return false
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return false
	}
	if uid, ok := owner.UserID(info); !ok || uid != os.Getuid() {
		return false
	}
	return hold(file) == nil
}
