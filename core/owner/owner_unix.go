//go:build unix

// Package owner finds a file's owner, on systems where files have owners.
package owner

import (
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// UserID is the user id of a file's owner. ok is false where the system has none.
func UserID(info fs.FileInfo) (uid int, ok bool) {
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

// Unsafe says why another user than root may change a file or folder, "" where none may: it belongs to another user,
// or anybody may write to it. A folder with the sticky bit is safe, as nobody can replace another user's file in it.
func Unsafe(info fs.FileInfo) string {
	if uid, ok := UserID(info); ok && uid != os.Getuid() && uid != 0 {
		return fmt.Sprintf("it belongs to another user (%d)", uid)
	}
	if info.Mode().Perm()&0o002 != 0 && !(info.IsDir() && info.Mode()&fs.ModeSticky != 0) {
		return fmt.Sprintf("anybody may write to it (its permissions are %04o)", info.Mode().Perm())
	}
	return ""
}
