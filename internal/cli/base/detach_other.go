//go:build !unix

package base

import "os/exec"

// detach has nothing to do where there are no sessions of terminals.
func detach(*exec.Cmd) {}
