//go:build !unix

package render

import (
	"os"
	"time"
)

// pressed is false: these systems have no way to wait for a key without taking it from the next reader. Ctrl-C ends
// the wait.
func pressed(_ *os.File, most time.Duration) bool {
	time.Sleep(most)
	return false
}
