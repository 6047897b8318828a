package handover

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/owner"
)

// folderPrefix starts the name of every private folder; the process that it was
// made for follows.
const folderPrefix = "gentle-harbor-with-"

// Folder is a private folder for the files of one program.
type Folder struct{ Path string }

// NewFolder makes one, 0700, in the user's runtime folder where there is one
// (which is in memory on most systems), else in the temporary one.
func NewFolder(lookup func(string) (string, bool)) (Folder, error) {
	base := os.TempDir()
	if runtime, ok := lookup("XDG_RUNTIME_DIR"); ok {
		if info, err := os.Stat(runtime); err == nil && info.IsDir() && mine(info) {
			base = runtime
		}
	}
	sweep(base)
	path, err := os.MkdirTemp(base, fmt.Sprintf("%s%d-", folderPrefix, os.Getpid()))
	return Folder{path}, err
}

func mine(info fs.FileInfo) bool {
	uid, ok := owner.UserID(info)
	return ok && uid == os.Getuid()
}

// For notes the program that uses the folder, which may outlive this process
// where that is killed.
func (f Folder) For(pid int) error {
	return os.WriteFile(filepath.Join(f.Path, "process"), []byte(strconv.Itoa(pid)), 0o600)
}

// Remove takes the folder away.
func (f Folder) Remove() { os.RemoveAll(f.Path) }

// sweep takes away folders of processes that are gone: of a gharbor that was
// killed before it could clean up.
func sweep(base string) {
	entries, err := os.ReadDir(base)
	if err != nil {
		return
	}
	for _, e := range entries {
		rest, ok := strings.CutPrefix(e.Name(), folderPrefix)
		if !ok || !e.IsDir() {
			continue
		}
		path := filepath.Join(base, e.Name())
		info, err := os.Lstat(path)
		if err != nil || !mine(info) {
			continue
		}
		number, _, _ := strings.Cut(rest, "-")
		pid, err := strconv.Atoi(number)
		if err != nil || alive(pid) {
			continue
		}
		data, _ := os.ReadFile(filepath.Join(path, "process"))
		pid, err = strconv.Atoi(string(data))
		if err != nil && time.Since(info.ModTime()) < time.Minute {
			continue // its program may have been started and not noted yet, or not noted to the end
		}
		if err == nil && alive(pid) {
			continue
		}
		os.RemoveAll(path)
	}
}
