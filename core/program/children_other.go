//go:build !unix

package program

import "os/exec"

// endWithChildren does nothing here: only the command itself is ended.
func endWithChildren(*exec.Cmd) {}
