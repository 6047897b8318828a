package base

import (
	"runtime/debug"
	"time"
)

// Version is the program's version; a release sets it with -ldflags.
var Version = "0.1.0-dev"

// Build is the commit that the program was built from, with a + where files were changed since, and the commit's time;
// "" and the zero time where the build does not know.
func Build() (commit string, at time.Time) {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "", at
	}
	changed := false
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			commit = s.Value[:min(len(s.Value), 12)]
		case "vcs.time":
			at, _ = time.Parse(time.RFC3339, s.Value)
		case "vcs.modified":
			changed = s.Value == "true"
		}
	}
	if changed && commit != "" {
		commit += "+"
	}
	return commit, at
}
