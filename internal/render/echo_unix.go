//go:build linux || darwin

package render

import "golang.org/x/sys/unix"

// echoOff switches a terminal's echo off. It is called before the question, so that text typed ahead is not shown
// either (termios(3), ECHO).
func echoOff(fd int) error {
	state, err := unix.IoctlGetTermios(fd, getTermios)
	if err != nil {
		return err
	}
	quiet := *state
	quiet.Lflag &^= unix.ECHO
	return unix.IoctlSetTermios(fd, setTermios, &quiet)
}
