//go:build !unix

package tunnelcmd

import "strings"

// umask is for systems whose files have permissions of that kind.
func umask(mask int) int { return mask }

func addressInUse(err error) bool { return strings.Contains(err.Error(), "Only one usage") }
