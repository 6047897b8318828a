//go:build !windows

package render

import "os"

// understandsEscapes is true: on these systems each terminal takes escape sequences.
func understandsEscapes(*os.File) bool { return true }
