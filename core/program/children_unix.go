//go:build unix

package program

import (
	"os/exec"
	"syscall"
)

// endWithChildren makes the end of a command also end the processes that it started.
func endWithChildren(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
