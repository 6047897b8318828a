package vouch

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/schema"
)

// FileWord stands in a record for a file that an environment variable names.
const FileWord = "file"

// RepositoryOf is the root of the repository of a path, with links followed; "" for none. A repository that is the
// home folder itself, or has the tool's own files in it, is the user's and does not count.
func RepositoryOf(path, home, own string) string {
	real, err := realPath(path)
	if err != nil {
		real = path
	}
	for at := filepath.Dir(real); ; at = filepath.Dir(at) {
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			for _, users := range []string{home, own} {
				if users, err := realPath(users); err == nil && below(at, users) {
					return ""
				}
			}
			return at
		}
		if filepath.Dir(at) == at {
			return ""
		}
	}
}

func below(root, path string) bool {
	_, ok := atomicfile.Inside(root, path)
	return ok
}

// fileUses finds what a repository's file of aliases, of services or of passwords uses: its bytes, and where its
// aliases lead. Of other files the user must read the lines.
func fileUses(keys *schema.Schema, path, root, home string) Uses {
	repo := NewRepository(root)
	file, data, trouble := repo.Look(path)
	if file.State == Missing {
		trouble = fmt.Sprintf("there is no file %s", clean.Word(path))
	}
	list := []Use{{Key: "file", File: file}}
	if f, err := profile.ParseAliases(keys, path, root, data); err == nil && trouble == "" {
		c := newCollector(nil, f, home)
		for _, a := range f.Aliases {
			c.aliases(a.Name)
		}
		for _, h := range f.Hosts {
			c.add("hosts "+h.Name, h.List())
		}
		list = append(list, c.list...)
		if trouble == "" {
			trouble = c.trouble
		}
	}
	u := New(FileWord, list)
	if trouble != "" {
		u.Trouble = trouble
	}
	return u
}

// FileItem makes an item of a repository's file.
func FileItem(keys *schema.Schema, path, root, home string) Item {
	return Item{Name: FileWord, Path: path, Uses: func() Uses { return fileUses(keys, path, root, home) }}
}

// JudgeFile returns nil where a file that an environment variable names is in no repository, or was vouched for. A
// variable that names a file of a clone is no reason to trust the file.
func (b Book) JudgeFile(keys *schema.Schema, path, home string) *finding.Finding {
	if whole, err := filepath.Abs(path); err == nil {
		path = whole
	}
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		return nil // whoever reads it says so
	}
	root := RepositoryOf(path, home, filepath.Dir(b.Path))
	if root == "" {
		return nil
	}
	state, _, err := b.StateOf(FileItem(keys, path, root, home))
	if err == nil && state == Vouched {
		return nil
	}
	return finding.New(finding.ProfileFileNotVouched,
		"a variable of the environment names %s, which is in a repository and not approved",
		clean.Word(path)).
		Suggest("gharbor vouch %s   # shows what it uses, and asks", clean.Shell(path))
}
