//go:build !unix

package transfercmd

import (
	"os"
	"os/exec"
)

// passedOn are the signals that a program started by with is sent too.
var passedOn = []os.Signal{os.Interrupt}

// fromTerminal reports whether a terminal sends a signal to all programs in its
// foreground.
func fromTerminal(s os.Signal) bool { return s == os.Interrupt }

// endCode is the exit code of a program's end.
func endCode(err *exec.ExitError) int { return err.ExitCode() }
