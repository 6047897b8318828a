//go:build linux

package check

import (
	"testing"

	"golang.org/x/sys/unix"
)

// TestAffordable: no more tests run at a time than there are descriptors for.
func TestAffordable(t *testing.T) {
	var was unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &was); err != nil {
		t.Fatal(err)
	}
	defer unix.Setrlimit(unix.RLIMIT_NOFILE, &was)
	for limit, most := range map[uint64]int{64: 10, 256: 50, 20: 1} {
		if err := unix.Setrlimit(unix.RLIMIT_NOFILE, &unix.Rlimit{Cur: limit, Max: was.Max}); err != nil {
			t.Fatal(err)
		}
		free, ok := freeDescriptors()
		if n := affordable(64); !ok || n < 1 || n > most || n*perTest > max(free, perTest) {
			t.Errorf("with %d descriptors, %d of them free: %d tests at a time", limit, free, n)
		}
		if n := affordable(0); n != 1 {
			t.Errorf("%d tests at a time", n)
		}
	}
}
