//go:build !unix

package handover

import "os"

// alive reports whether a process of that number runs.
func alive(pid int) bool {
	p, err := os.FindProcess(pid) // opens it, on Windows
	if err != nil {
		return false
	}
	p.Release()
	return true
}
