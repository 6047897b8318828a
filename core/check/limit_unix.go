//go:build unix

package check

import (
	"os"

	"golang.org/x/sys/unix"
)

// freeDescriptors is how many more files and connections this process may open
// (getrlimit(2), RLIMIT_NOFILE); ok is false where that is not known, or has no bound.
func freeDescriptors() (n int, ok bool) {
	var limit unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) != nil || uint64(limit.Cur) > 1<<20 {
		return 0, false
	}
	open := 8 // streams, and what the runtime keeps
	if entries, err := os.ReadDir("/dev/fd"); err == nil {
		open = len(entries)
	}
	return int(limit.Cur) - open, true
}
