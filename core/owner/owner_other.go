//go:build !unix

// Package owner finds a file's owner, on systems where files have owners.
package owner

import "io/fs"

// UserID is not known: these systems have access lists, which we don't read.
func UserID(fs.FileInfo) (uid int, ok bool) { return 0, false }

// GroupOf is not known here either.
func GroupOf(fs.FileInfo) (gid int, ok bool) { return 0, false }

// Unsafe is not known either.
func Unsafe(fs.FileInfo) string { return "" }
