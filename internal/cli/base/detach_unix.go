//go:build unix

package base

import (
	"os/exec"
	"syscall"
)

// detach lets a process outlive the terminal that it is started from.
func detach(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }
