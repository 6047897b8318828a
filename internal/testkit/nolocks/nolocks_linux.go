// Package nolocks runs a program as on a file system without file locks. Words makes the command's first words; the
// TestMain of the test's program calls Launch first.
package nolocks

import (
	"fmt"
	"os"
	"runtime"
	"strconv"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

const word = "without-locks"

// Words are the first words of a command whose every flock(2) fails with that error.
func Words(as syscall.Errno) ([]string, error) {
	self, err := os.Executable()
	return []string{self, word, strconv.Itoa(int(as))}, err
}

// Launch becomes the program that Words stand before, where they do.
func Launch() {
	if len(os.Args) < 4 || os.Args[1] != word {
		return
	}
	runtime.LockOSThread()
	number, _ := strconv.Atoi(os.Args[2])
	filter := []unix.SockFilter{ // seccomp(2)
		{Code: unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, K: 0}, // the system call's number
		{Code: unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K, K: unix.SYS_FLOCK, Jf: 1},
		{Code: unix.BPF_RET | unix.BPF_K, K: unix.SECCOMP_RET_ERRNO | uint32(number)},
		{Code: unix.BPF_RET | unix.BPF_K, K: unix.SECCOMP_RET_ALLOW},
	}
	program := &unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}
	err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
	if err == nil {
		err = unix.Prctl(unix.PR_SET_SECCOMP, unix.SECCOMP_MODE_FILTER, uintptr(unsafe.Pointer(program)), 0, 0)
	}
	if err == nil {
		err = unix.Exec(os.Args[3], os.Args[3:], os.Environ())
	}
	fmt.Fprintln(os.Stderr, "without locks:", err)
	os.Exit(1)
}
