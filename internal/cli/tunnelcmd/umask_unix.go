//go:build unix

package tunnelcmd

import (
	"errors"
	"syscall"
)

// umask sets which permissions new files do not get, and returns the old mask.
func umask(mask int) int { return syscall.Umask(mask) }

func addressInUse(err error) bool { return errors.Is(err, syscall.EADDRINUSE) }
