//go:build !unix

package atomicfile

import (
	"os"
	"time"
)

const (
	noFollow  = 0
	noWaiting = 0
)

// hold does nothing here: abandoned judges a file by its age.
func hold(*os.File) error { return nil }

// abandoned reports whether a temporary file is older than any write takes.
func abandoned(path string) bool {
	info, err := os.Lstat(path)
	return err == nil && info.Mode().IsRegular() && time.Since(info.ModTime()) > time.Hour
}
