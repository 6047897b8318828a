//go:build !unix

package tunnelcmd

import "strings"

// umask does nothing: these systems have no such permissions.
func umask(mask int) int { return mask }

func addressInUse(err error) bool { return strings.Contains(err.Error(), "Only one usage") }
