package mysql

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine/mysql/optionfile"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret"
)

// optionFiles are the option files of the servers' own clients as a source of secrets. groups are those
// that such clients read, whatever program they are (MySQL documentation, "Using Option Files"; MariaDB
// documentation, "Option Groups").
type optionFiles struct{ groups []string }

// Source is the word of the source.
func (optionFiles) Source() string { return "optionfile" }

// ownFile is the user's own option file.
func ownFile(home string) string { return filepath.Join(home, ".my.cnf") }

// optionPlace splits the argument of the source: a path and a group, either of which may be missing.
func optionPlace(arg string) (path, group string) {
	path, group, _ = strings.Cut(arg, "#")
	return path, group
}

// usualPaths are the usual option files, in the order in which they are read (MySQL's manual, "Using Option Files").
func usualPaths(lookup func(string) (string, bool), home string) []string {
	paths := []string{"/etc/my.cnf", "/etc/mysql/my.cnf"}
	if runtime.GOOS == "windows" {
		folder, _ := lookup("WINDIR")
		paths = []string{filepath.Join(folder, "my.ini"), filepath.Join(folder, "my.cnf"), `C:\my.ini`, `C:\my.cnf`}
	}
	if folder, ok := lookup("MYSQL_HOME"); ok && folder != "" {
		paths = append(paths, filepath.Join(folder, "my.cnf"))
	}
	return append(paths, ownFile(home))
}

// section is a group: the last line of each option, which is the one that counts.
type section struct {
	group string
	last  map[string]optionfile.Option // by name
	read  int                          // when its password was read, counted over all files; 0 for never
}

// options reads the files of a source and returns their groups, that with the last password first. A usual file that
// does not exist is passed over.
func (c optionFiles) options(f *secret.Finder, q secret.Query) (sections []section, read, ignored []string,
	found *finding.Finding) {
	path, group := optionPlace(q.Source.Arg)
	paths, groups := []string{path}, []string{group}
	if path == "" {
		paths = usualPaths(f.Lookup, f.Home)
		if home, ok := f.Lookup("MYSQL_HOME"); ok && home != "" && f.JudgeFile != nil {
			if found := f.JudgeFile(filepath.Join(home, "my.cnf")); found != nil {
				return nil, nil, nil, found
			}
		}
	}
	if group == "" {
		groups = c.groups
	}
	for _, name := range groups {
		sections = append(sections, section{group: name, last: make(map[string]optionfile.Option)})
	}
	count := 0
	for _, p := range paths {
		result, err := optionfile.ReadWith(p, func(path string) ([]byte, error) {
			file, err := q.Open(path)
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
			return nil, nil, nil, secret.Unreadable(p, "the option file", err)
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

// Locate finds the password in the option files: in the last group with a password that fits. A user, a host and a
// port of that group must be this connection's: the password belongs to them.
func (c optionFiles) Locate(f *secret.Finder, q secret.Query) (*secret.Location, *finding.Finding) {
	sections, read, ignored, found := c.options(f, q)
	if found != nil {
		return nil, found
	}
	named, _ := optionPlace(q.Source.Arg)
	if len(read) == 0 {
		return nil, noOptionFile(f, q, named)
	}
	miss := finding.New(finding.SecretNoMatch, "no group of the option files has a password for this connection")
	for _, s := range sections {
		password, ok := s.last["password"]
		if !ok || !password.Set {
			miss.Saw("[%s] has no password in %s", clean.Line(s.group, 60), strings.Join(read, ", "))
			continue
		}
		if why := s.mismatch(q); why != "" {
			miss.Saw("[%s] has one in %s, line %d, and %s", clean.Line(s.group, 60), password.File, password.Line, why)
			continue
		}
		if found := q.Judge(password.File, "the option file"); found != nil {
			return nil, found
		}
		return c.passwordIn(f, q, s, password)
	}
	for _, path := range ignored {
		miss.Saw("ignored: %s", path)
	}
	return nil, q.KeepOrAsk(miss)
}

// passwordIn is the password of a group that fits.
func (c optionFiles) passwordIn(f *secret.Finder, q secret.Query, s section,
	password optionfile.Option) (*secret.Location, *finding.Finding) {
	place := fmt.Sprintf("option file %s, [%s], line %d%s", password.File, clean.Line(s.group, 60), password.Line,
		secret.Unchecked)
	if password.Value == "" {
		place += ", an empty password"
	}
	located := &secret.Location{Place: place, Read: func(context.Context) (secret.Value, error) {
		again, _, _, found := c.options(f, q)
		if found != nil {
			return secret.Value{}, errors.New(found.Cause)
		}
		for _, now := range again {
			if o, ok := now.last["password"]; ok && now.group == s.group && o.File == password.File {
				return secret.NewValue(o.Value), nil
			}
		}
		return secret.Value{}, errors.New("the line that matched is gone")
	}}
	if _, named := s.last["host"]; !named && !q.Local {
		return located, finding.New(finding.SecretAnyHost,
			"the matching group names no host, so the password could be sent to any server").
			Saw("[%s] in %s has no host; this profile's is %s",
				clean.Line(s.group, 60), password.File, clean.Quote(q.Host)).
			Suggest("${EDITOR:-vi} %s   # and add to [%s] a line host = %s", clean.Shell(password.File),
				clean.Line(s.group, 60), clean.Shell(q.Host))
	}
	return located, nil
}

// mismatch says what a group has of another connection, "" where it fits.
func (s section) mismatch(q secret.Query) string {
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
		return fmt.Sprintf("names the %s %s (%s, line %d)", c.word, clean.Quote(o.Value), o.File, o.Line)
	}
	return ""
}

// noOptionFile is for a source of which no file exists.
func noOptionFile(f *secret.Finder, q secret.Query, named string) *finding.Finding {
	cause := "there is no option file " + named
	if named == "" {
		cause = "there is no option file in the usual places: " + strings.Join(usualPaths(f.Lookup, f.Home), ", ")
	}
	return q.KeepOrAsk(finding.New(finding.SecretMissing, "%s", cause))
}

// target is the file and the group to write to: those with the password now, else those that the source names.
func (c optionFiles) target(f *secret.Finder, q secret.Query) (path, group string) {
	path, group = optionPlace(q.Source.Arg)
	if sections, _, _, found := c.options(f, q); found == nil {
		for _, s := range sections {
			if o, ok := s.last["password"]; ok && o.Set && s.mismatch(q) == "" {
				return o.File, s.group
			}
		}
	}
	if path == "" {
		path = ownFile(f.Home)
	}
	if group == "" {
		group = "client"
	}
	return path, group
}

// setGroup sets a group's password. A new group also gets the user and the host; a group that names others is
// refused.
func setGroup(data []byte, group string, q secret.Query, v secret.Value) ([]byte, int, error) {
	s := section{group: group, last: make(map[string]optionfile.Option)}
	options, err := optionfile.Parse(data)
	if err != nil {
		return nil, 0, err
	}
	known := false
	for _, o := range options {
		if o.Group == group {
			known = true
			s.last[o.Name] = o
		}
	}
	if why := s.mismatch(q); why != "" {
		return nil, 0, secret.NotKept("[%s] is for another connection: it %s. Name another group: "+
			"secret=optionfile#GROUP",
			clean.Line(group, 60), why)
	}
	if !known {
		for _, o := range []struct{ name, value string }{{"user", q.User}, {"host", q.Host}, {"port", q.Port}} {
			if o.value == "" || o.name == "port" && q.Host == "" {
				continue
			}
			if data, _, err = optionfile.Set(data, group, o.name, o.value); err != nil {
				return nil, 0, err
			}
		}
	}
	return optionfile.Set(data, group, "password", v.Disclose())
}

// Place is the file and the group that Put writes to.
func (c optionFiles) Place(f *secret.Finder, q secret.Query) string {
	path, group := c.target(f, q)
	return fmt.Sprintf("option file %s, group [%s]", clean.Line(path, 200), clean.Line(group, 60))
}

// Put writes the password to a group for the connection.
func (c optionFiles) Put(ctx context.Context, f *secret.Finder, q secret.Query, v secret.Value) (string, error) {
	path, group := c.target(f, q)
	place, err := f.Rewrite(ctx, path, func(data []byte) ([]byte, int, error) { return setGroup(data, group, q, v) })
	return "option file " + place, err
}

// Includes is true: an option file can include others.
func (optionFiles) Includes() bool { return true }

// Visit reads an option file and all that it includes.
func (optionFiles) Visit(path string, read func(string) ([]byte, error),
	list func(string) ([]fs.DirEntry, error)) error {
	path, _ = optionPlace(path)
	if path == "" {
		return nil
	}
	_, err := optionfile.ReadListed(path, read, list)
	return err
}

// Risks are the passwords in the file, which are in clear text there, and empty ones.
func (optionFiles) Risks(arg string, _ func(string) (string, bool), home string) (risks []secret.Risk) {
	path, _ := optionPlace(arg)
	if path == "" {
		path = ownFile(home)
	}
	result, err := optionfile.Read(path)
	if err != nil {
		return nil
	}
	for _, o := range result.Options {
		if o.Name != "password" {
			continue
		}
		risks = append(risks, secret.Risk{Kind: secret.RiskOthers, File: o.File, What: "an option file with a " +
			"password"})
		one := secret.Risk{File: o.File, Line: o.Line}
		switch {
		case o.Set && o.Value == "":
			one.Kind, one.What = secret.RiskEmpty, "["+clean.Line(o.Group, 60)+"] has an empty password"
		case o.Set:
			one.Kind, one.What = secret.RiskPlain, "["+clean.Line(o.Group, 60)+"] has a password in clear text"
		default:
			continue
		}
		risks = append(risks, one)
	}
	return risks
}
