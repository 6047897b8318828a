//go:build unix

// Package owner tells whose a file is, on systems where files have owners.
package owner

import (
	"io/fs"
	"syscall"
)

// Of is the user id of a file's owner. ok is false where the system has none.
func Of(info fs.FileInfo) (uid int, ok bool) {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(stat.Uid), true
	}
	return 0, false
}

// GroupOf is the id of a file's group. ok is false where the system has none.
func GroupOf(info fs.FileInfo) (gid int, ok bool) {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(stat.Gid), true
	}
	return 0, false
}
