//go:build linux || darwin

package render

import "golang.org/x/sys/unix"

// echoOff lets a terminal show no more of what is typed. It comes before the
// question: who types ahead of it is not shown either (termios(3), ECHO).
func echoOff(fd int) error {
	state, err := unix.IoctlGetTermios(fd, getTermios)
	if err != nil {
		return err
	}
	quiet := *state
	quiet.Lflag &^= unix.ECHO
	return unix.IoctlSetTermios(fd, setTermios, &quiet)
}
