package compose

import (
	"context"
	"crypto/sha256"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"gentleharbor/core/clean"
	"gentleharbor/core/vouch"
)

// Word is what a compose file is called among what was vouched for.
const Word = "compose"

// Uses are what compose files of the repository at root would use, all their profiles
// taken together: the files, the variables of this machine, and where the profiles of ours
// would lead. No such variable has a value here, so it is the same in every clone.
func Uses(ctx context.Context, files []string, root string) vouch.Uses {
	project, l, err := load(ctx, Request{Files: files, Active: []string{"*"}})
	if err != nil {
		return vouch.Uses{Profile: Word, Trouble: err.Error()}
	}
	var lines []string
	line := func(what, format string, args ...any) {
		lines = append(lines, what+": "+clean.Line(fmt.Sprintf(format, args...), 300))
	}
	l.Root = root
	for _, path := range append(slices.Sorted(maps.Keys(l.read)), l.named...) {
		inside, err := filepath.Rel(root, path)
		if err != nil || l.within(path) != nil { // by whatever links
			line("file outside of the repository", "%s", path)
			continue
		}
		data, known := l.read[path]
		if !known {
			if data, err = os.ReadFile(path); err != nil { // the library said so, if it needed it
				line("file", "%s, which can't be read", inside)
				continue
			}
		}
		line("file", "%s, SHA-256 %x", inside, sha256.Sum256(data))
	}
	for _, name := range slices.Sorted(maps.Keys(l.missed)) {
		line("variable of this machine", "%s", name)
	}
	for _, name := range project.ServiceNames() {
		if s, ok := l.server(project, project.Services[name]); ok {
			for _, set := range s.Found("").Sets {
				line("service "+name, "%s %s", set.Field.Name, set.Value.Text())
			}
		}
	}
	uses := vouch.Listed(Word, lines)
	uses.Files = l.read
	return uses
}
