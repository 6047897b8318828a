package engine

import (
	"os"
	"path/filepath"
)

// LocalInstall says how an engine's servers are installed on a machine.
type LocalInstall struct {
	Programs []string                    // names of the server's processes
	Units    []string                    // names of the services of usual packages
	Stopped  func(h Host) []LocalService // installed servers that packages arrange in another way; nil for none
}

// LocalService is an installed server that may or may not run.
type LocalService struct {
	What  string // "an installed cluster that does not answer"
	Name  string
	Port  int
	Start []string // the words of the command that starts it
}

// Host is the machine's files. Root is put before every path, for tests; "" otherwise.
type Host struct{ Root string }

// Path is where a file of the machine is.
func (h Host) Path(path string) string { return filepath.Join(h.Root, path) }

// Exists reports whether there is such a file.
func (h Host) Exists(path string) bool {
	_, err := os.Stat(h.Path(path))
	return err == nil
}

// Installed reports whether a service of that name is.
func (h Host) Installed(unit string) bool {
	for _, folder := range []string{"/lib/systemd/system/", "/usr/lib/systemd/system/", "/etc/systemd/system/"} {
		// A link to another unit is that unit's other name.
		if info, err := os.Lstat(h.Path(folder + unit + ".service")); err == nil && info.Mode()&os.ModeSymlink == 0 {
			return true
		}
	}
	return h.Exists("/etc/init.d/" + unit)
}

// StartCommand is how this system starts a service, in words.
func (h Host) StartCommand(unit string) []string {
	if h.Exists("/run/systemd/system") {
		return []string{"sudo", "systemctl", "start", unit}
	}
	return []string{"sudo", "service", unit, "start"}
}
