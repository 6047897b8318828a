package main

import "golang.org/x/sys/unix"

// noCoreDumps keeps the memory of a crash, which may hold a password, off the disk.
func noCoreDumps() { unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}) }
