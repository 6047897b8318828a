//go:build unix

package transfercmd

import (
	"os"
	"os/exec"
	"syscall"
)

// passedOn are the signals that a program started by with is sent too.
var passedOn = []os.Signal{syscall.SIGTERM, syscall.SIGHUP, syscall.SIGINT, syscall.SIGQUIT, syscall.SIGUSR1,
	syscall.SIGUSR2}

// fromTerminal reports whether a terminal sends a signal to all programs in its
// foreground.
func fromTerminal(s os.Signal) bool { return s == syscall.SIGINT || s == syscall.SIGQUIT }

// endCode is the exit code of a program's end.
func endCode(err *exec.ExitError) int {
	if status, ok := err.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		return 128 + int(status.Signal())
	}
	return err.ExitCode()
}
