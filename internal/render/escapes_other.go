//go:build !windows

package render

import "os"

// understandsEscapes reports whether a terminal takes escape sequences: on these systems each does.
func understandsEscapes(*os.File) bool { return true }
