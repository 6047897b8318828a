//go:build unix

package handover

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"syscall"
)

// alive reports whether a process of that number runs. One that has ended and
// that nobody has asked for its exit code does not (proc(5), the state Z).
func alive(pid int) bool {
	err := syscall.Kill(pid, 0)
	if err != nil {
		return errors.Is(err, syscall.EPERM)
	}
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return true // no such files on this system
	}
	_, state, _ := bytes.Cut(stat, []byte(") "))
	return !bytes.HasPrefix(state, []byte("Z"))
}
