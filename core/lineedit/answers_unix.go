//go:build unix

package lineedit

import (
	"os"
	"regexp"
	"sync"
	"time"

	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// place is a terminal's answer to the question for the cursor's place (ECMA-48, 8.3.14: CPR).
var place = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\x1b\[[0-9]+;[0-9]+R`) })

// patience is how long a terminal may take to answer.
const patience = 400 * time.Millisecond

// answers asks a terminal where its cursor is, and gives what was typed meanwhile.
func answers(in, out *os.File) (ok bool, typed []byte) {
	state, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return false, nil
	}
	defer term.Restore(int(in.Fd()), state)
	if _, err := out.WriteString("\x1b[6n"); err != nil {
		return false, nil
	}
	buffer := make([]byte, 4096)
	for until := time.Now().Add(patience); ; {
		left := time.Until(until)
		poll := []unix.PollFd{{Fd: int32(in.Fd()), Events: unix.POLLIN}}
		if n, err := unix.Poll(poll, max(0, int(left.Milliseconds()))); n == 0 || err != nil && left <= 0 {
			return false, typed
		}
		n, err := in.Read(buffer)
		if err != nil {
			return false, typed
		}
		typed = append(typed, buffer[:n]...)
		if at := place().FindIndex(typed); at != nil {
			return true, append(typed[:at[0]:at[0]], typed[at[1]:]...)
		}
	}
}
