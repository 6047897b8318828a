//go:build !unix

package secret

import "os/exec"

// endWithChildren does nothing here: only the command itself is ended.
func endWithChildren(*exec.Cmd) {}
