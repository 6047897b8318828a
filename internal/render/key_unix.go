//go:build unix

package render

import (
	"errors"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// pressed waits for a byte of input and takes what is there.
func pressed(file *os.File, most time.Duration) bool {
	until := time.Now().Add(most)
	for {
		left := time.Until(until)
		if left <= 0 {
			return false
		}
		poll := []unix.PollFd{{Fd: int32(file.Fd()), Events: unix.POLLIN}}
		n, err := unix.Poll(poll, int(left.Milliseconds())+1)
		switch {
		case errors.Is(err, unix.EINTR):
		case err != nil:
			return true
		case n > 0:
			file.Read(make([]byte, 64))
			return true
		}
	}
}
