package testkit

import "syscall"

// dieWithParent ends a server when the test run dies without clearing up.
func dieWithParent(attr *syscall.SysProcAttr) { attr.Pdeathsig = syscall.SIGQUIT }
