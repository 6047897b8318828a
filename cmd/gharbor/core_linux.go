package main

import "golang.org/x/sys/unix"

// noCoreDumps keeps the memory of a crash, which may hold a password, off the
// disk: no core file, and no reading by a crash handler or another process of
// the same user.
func noCoreDumps() {
	unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{})
	unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0)
}
