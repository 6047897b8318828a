//go:build unix && !linux

package testkit

import "syscall"

// dieWithParent has no counterpart here.
func dieWithParent(*syscall.SysProcAttr) {}
