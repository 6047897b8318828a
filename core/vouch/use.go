package vouch

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
)

// Use is one thing that a profile, an alias or a compose file would use. All of it except Note and Means is part of
// the hash.
type Use struct {
	Key   string   // of the file, with what it belongs to before it: "host", "hop 1 key", "alias db srv"
	Words []string // the value as written: one word, the items of a list, or the words of a command
	File  File     // the file that the value names; the zero File where it names none
	Note  string   // for people only: what is not hashed
	Means string   // for people only: what holds where nothing is set
}

// File is a file that a use names, by its real path.
type File struct {
	State FileState // "" where the use names no file
	Path  string    // inside: from the repository's root, "./ca.pem"; outside: the real path, "" where no link leads there
	Sum   string    // SHA-256 of its bytes, hexadecimal; "" unless State is Hashed
	Real  string    // the whole real path of one outside, for people only: it is another on each machine
}

// FileState says what is known of a file that a use names.
type FileState string

// The states of a file.
const (
	Hashed    FileState = "hashed"    // it is the repository's, and its bytes are a part of the hash
	Outside   FileState = "outside"   // it is not the repository's: neither read nor hashed
	Missing   FileState = "not there" // nothing is there yet
	Unsettled FileState = "unsettled" // its path holds a variable, so where it is can't be known here
)

// The longest text that a person is asked about. A longer one could hide its end from the reader, and is refused.
// Honest commands are far shorter.
const (
	maxShown = 4 << 10  // of one use, in bytes as shown
	maxAll   = 24 << 10 // of one profile: some 300 lines of a terminal
	maxUses  = 300      // of one profile
)

// Display is the use for a person: all words, each quoted for a shell, and the file by its real path. Two uses that
// differ never look the same.
func (u Use) Display() string {
	if u.Means != "" {
		return u.Means
	}
	text := clean.Words(u.Words)
	path := clean.Word(cmp.Or(u.File.Real, u.File.Path))
	switch u.File.State {
	case Hashed:
		return fmt.Sprintf("sha256:%s %s%s", u.File.Sum, path, u.writtenAs(text))
	case Outside:
		return fmt.Sprintf("outside of the repository, not hashed: %s%s", path, u.writtenAs(text))
	case Missing:
		return fmt.Sprintf("%s (not there)%s", path, u.writtenAs(text))
	case Unsettled:
		return text + " (named by a variable, not hashed)"
	}
	return text
}

// writtenAs says how the profile writes the file, where that differs from its path.
func (u Use) writtenAs(text string) string {
	if len(u.Words) == 1 && slices.Contains([]string{u.File.Path, u.File.Real}, u.Words[0]) || text == "" {
		return ""
	}
	if len(u.Words) == 1 && "./"+u.Words[0] == u.File.Path {
		return ""
	}
	return ", written " + text
}

// Line is the use in one line, with its key.
func (u Use) Line() string { return u.Key + ": " + u.Display() }

// encode writes uses so that no two different lists have the same bytes: the length of each part is before it. The
// hash is made of this, never of the shown text.
func encode(uses []Use) []byte {
	b := []byte("gharbor uses 2\n")
	part := func(s string) {
		b = strconv.AppendInt(b, int64(len(s)), 10)
		b = append(append(append(b, ':'), s...), ',')
	}
	for _, u := range uses {
		part(u.Key)
		part(string(u.File.State))
		part(u.File.Path)
		part(u.File.Sum)
		part(strconv.Itoa(len(u.Words)))
		for _, word := range u.Words {
			part(word)
		}
	}
	return b
}

// New makes the uses of something, by its name, with their hash. It refuses a use that can't be shown whole.
func New(name string, list []Use) Uses {
	u := Uses{Profile: name, List: list, Hash: sum(encode(list))}
	if len(list) > maxUses {
		u.Trouble = fmt.Sprintf("it uses %d things; at most %d can be approved", len(list), maxUses)
	}
	all := 0
	for _, one := range list {
		n := len(one.Display())
		if all += n; all > maxAll {
			u.Trouble = fmt.Sprintf("what it uses is too long to show (at most %d bytes)", maxAll)
		}
		if n > maxShown {
			u.Trouble = fmt.Sprintf("%s is too long to show (%d bytes; at most %d)", clean.Word(one.Key), n,
				maxShown)
			break
		}
	}
	return u
}

// UsesOutside reports whether a use is, or may be, a file outside of the repository.
func (u Uses) UsesOutside() bool {
	return slices.ContainsFunc(u.List,
		func(one Use) bool { return one.File.State == Outside || one.File.State == Unsettled })
}

// Lines are the uses for people, one each.
func (u Uses) Lines() []string {
	lines := make([]string, len(u.List))
	for i, one := range u.List {
		lines[i] = one.Line()
	}
	return lines
}

func sum(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// CombinedHash is the hash of several profiles' names and hashes, for CI.
func CombinedHash(all []Uses) string {
	uses := make([]Use, len(all))
	for i, u := range all {
		uses[i] = Use{Key: u.Profile, Words: []string{u.Hash}}
	}
	slices.SortFunc(uses, func(a, b Use) int { return strings.Compare(a.Key, b.Key) })
	return sum(encode(uses))
}
