//go:build !unix

package render

import (
	"os"
	"time"
)

// pressed can't wait for a key here without taking it from who reads next: Ctrl-C ends what waits.
func pressed(_ *os.File, most time.Duration) bool {
	time.Sleep(most)
	return false
}
