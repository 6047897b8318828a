//go:build unix

package handover

import (
	"errors"
	"syscall"
)

// alive reports whether a process of that number runs.
func alive(pid int) bool {
	err := syscall.Kill(pid, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
