package secret

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret/optionfile"
)

// clientGroups are the groups that the servers' own clients read, whatever
// program they are (MySQL documentation, "Using Option Files"; MariaDB
// documentation, "Option Groups").
var clientGroups = map[string][]string{
	"mysql":   {"client"},
	"mariadb": {"client", "client-server", "client-mariadb"},
}

// optionPaths are the usual option files, in the order in which they are read.
func (f *Finder) optionPaths() []string {
	paths := []string{"/etc/my.cnf", "/etc/mysql/my.cnf"}
	if home, ok := f.Lookup("MYSQL_HOME"); ok && home != "" {
		paths = append(paths, filepath.Join(home, "my.cnf"))
	}
	return append(paths, filepath.Join(f.Home, ".my.cnf"))
}

// section is what a group says: of each option the last line, which counts.
type section struct {
	group string
	last  map[string]optionfile.Option // by name
	read  int                          // when its password was read, counted over all files; 0 for never
}

// options reads the files of a source and returns what its groups say, the one
// whose password was read last first. A file of the usual ones that is not
// there is passed over.
func (f *Finder) options(q Query) (sections []section, read, ignored []string, found *finding.Finding) {
	path, group := optionPlace(q.Source.Arg)
	paths, groups := []string{path}, []string{group}
	if path == "" {
		paths = f.optionPaths()
		if home, ok := f.Lookup("MYSQL_HOME"); ok && home != "" && f.JudgeFile != nil {
			if found := f.JudgeFile(filepath.Join(home, "my.cnf")); found != nil {
				return nil, nil, nil, found
			}
		}
	}
	if group == "" {
		groups = clientGroups[q.Engine]
		if groups == nil {
			groups = []string{"client"}
		}
	}
	for _, name := range groups {
		sections = append(sections, section{group: name, last: make(map[string]optionfile.Option)})
	}
	count := 0
	for _, p := range paths {
		result, err := optionfile.ReadWith(p, func(path string) ([]byte, error) {
			file, err := q.open(path)
			if err != nil {
				return nil, err
			}
			defer file.Close()
			return io.ReadAll(file)
		})
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue
		case path == "" && errors.Is(err, fs.ErrPermission):
			ignored = append(ignored, p+" (not readable for this user)")
			continue
		case err != nil:
			return nil, nil, nil, unreadable(p, "the option file", err)
		}
		read = append(read, p)
		ignored = append(ignored, result.Ignored...)
		for _, o := range result.Options {
			count++
			for i := range sections {
				if sections[i].group != o.Group {
					continue
				}
				sections[i].last[o.Name] = o
				if o.Name == "password" {
					sections[i].read = count
				}
			}
		}
	}
	slices.SortStableFunc(sections, func(a, b section) int { return b.read - a.read })
	return sections, read, ignored, nil
}

// optionfile finds the password in MySQL's or MariaDB's option files: in the
// group that had one last and fits. Where the group also names a user, a host or
// a port, they must be this connection's: the password is theirs.
func (f *Finder) optionfile(q Query) (*Located, *finding.Finding) {
	sections, read, ignored, found := f.options(q)
	if found != nil {
		return nil, found
	}
	named, group := optionPlace(q.Source.Arg)
	if len(read) == 0 {
		return nil, f.noOptionFile(q, named)
	}
	miss := finding.New(finding.SecretNoMatch, "no group of the option files has a password for this connection")
	for _, s := range sections {
		password, ok := s.last["password"]
		if !ok || !password.Set {
			miss.Saw("[%s] has no password in %s", clean.Line(s.group, 60), strings.Join(read, ", "))
			continue
		}
		if why := s.other(q); why != "" {
			miss.Saw("[%s] has one in %s, line %d, and %s", clean.Line(s.group, 60), password.File, password.Line, why)
			continue
		}
		if found := judge(password.File, "the option file", q); found != nil {
			return nil, found
		}
		return f.inGroup(q, s, password)
	}
	for _, path := range ignored {
		miss.Saw("passed over: %s", path)
	}
	path := named
	if path == "" {
		path = filepath.Join(f.Home, ".my.cnf")
	}
	if group == "" {
		group = "client"
	}
	return nil, miss.Suggest("gharbor set %s secret=ask", q.Profile).
		Suggest("${EDITOR:-vi} %s   # and add to [%s] a line password = PASSWORD", clean.Shell(path), clean.Line(group, 60))
}

// inGroup is the password of a group that fits.
func (f *Finder) inGroup(q Query, s section, password optionfile.Option) (*Located, *finding.Finding) {
	place := fmt.Sprintf("option file %s, [%s], line %d%s", password.File, clean.Line(s.group, 60), password.Line,
		unchecked)
	if password.Value == "" {
		place += ", an empty password"
	}
	located := &Located{Place: place, Read: func(context.Context) (Value, error) {
		again, _, _, found := f.options(q)
		if found != nil {
			return Value{}, errors.New(found.Cause)
		}
		for _, now := range again {
			if o, ok := now.last["password"]; ok && now.group == s.group && o.File == password.File {
				return NewValue(o.Value), nil
			}
		}
		return Value{}, errors.New("the line that matched is gone")
	}}
	if _, named := s.last["host"]; !named && !q.Local {
		return located, finding.New(finding.SecretAnyHost,
			"the group that matches names no host, so any server that a profile names could be sent this password").
			Saw("[%s] in %s has no host; this profile's is %s", clean.Line(s.group, 60), password.File, clean.Quoted(q.Host)).
			Suggest("${EDITOR:-vi} %s   # and add to [%s] a line host = %s", clean.Shell(password.File),
				clean.Line(s.group, 60), clean.Shell(q.Host))
	}
	return located, nil
}

// other says by what a group is for another connection, "" where it fits.
func (s section) other(q Query) string {
	for _, c := range []struct{ name, want, word string }{
		{"user", q.User, "user"}, {"host", q.Host, "host"}, {"port", q.Port, "port"},
	} {
		o, ok := s.last[c.name]
		local := c.name != "user" && q.Socket != "" // a socket has neither
		if !ok || !o.Set || o.Value == "" || local || o.Value == c.want {
			continue
		}
		if c.name == "host" && o.Value == "localhost" && q.Local {
			continue
		}
		return fmt.Sprintf("names the %s %s (%s, line %d)", c.word, clean.Quoted(o.Value), o.File, o.Line)
	}
	return ""
}

// noOptionFile is for a source none of whose files is there.
func (f *Finder) noOptionFile(q Query, named string) *finding.Finding {
	cause, path := "there is no option file "+named, named
	if named == "" {
		cause, path = "there is no option file in the usual places: "+strings.Join(f.optionPaths(),
			", "), filepath.Join(f.Home, ".my.cnf")
	}
	_, group := optionPlace(q.Source.Arg)
	if group == "" {
		group = "client"
	}
	start := fmt.Sprintf("[%s]\\nuser = %s\\npassword = ", clean.Line(group, 60), clean.Line(q.User, 80))
	return finding.New(finding.SecretMissing, "%s", cause).
		Suggest("(umask 077 && printf %%b %s >> %s && cat >> %s)   # then type the password, Enter, Ctrl-D",
			clean.Shell(start), clean.Shell(path), clean.Shell(path)).
		Suggest("gharbor set %s secret=ask", q.Profile)
}
