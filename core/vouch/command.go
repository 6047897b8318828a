package vouch

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/secret"
)

// The notes beside a command. What a program does can't be known from its words, so each command has the first note;
// the second is for a word that is more than a name.
const (
	notSeen = "what the program itself reads or runs"
	inline  = "what the inline program in these words reads or runs"
)

// command notes the program of a command and the files of the repository that its words name.
func (c *collector) command(called string, words []string) {
	if len(words) == 0 {
		c.means(called, "the profile names no command")
		return
	}
	note := notSeen
	for _, word := range words[1:] {
		if strings.ContainsAny(word, " \t\n;|&()<>$`") {
			note = inline
		}
	}
	c.list[len(c.list)-1].Note = note
	c.program("program", words[0], 0)
	for _, word := range words[1:] {
		for i, name := range fileNames(word) {
			path := name
			if !filepath.IsAbs(path) {
				path = filepath.Join(c.folder(), path)
			}
			inside, ok := c.repo.Inside(path)
			info, err := os.Stat(path)
			switch {
			case !ok && err == nil && info.Mode().IsRegular() && below(c.file.Root, path):
				c.look("file of the command", []string{name}, path) // a link that leads out
			case !ok || err != nil:
			case info.IsDir() && i < 2 && c.trouble == "":
				c.trouble = fmt.Sprintf("the command gets a folder of the repository (%s); give it files, which "+
					"can be approved", clean.Word(inside))
			case info.Mode().IsRegular():
				c.look("file of the command", []string{name}, path)
			}
		}
	}
}

// program notes a program by its path, and the interpreter that its first line names. One outside of the repository
// is noted by its name, as its path differs between machines.
func (c *collector) program(key, name string, depth int) {
	path := name
	if !strings.Contains(name, "/") {
		found, err := exec.LookPath(name)
		if err != nil && !errors.Is(err, exec.ErrDot) {
			return // not found: there is nothing to be changed
		}
		if path, err = filepath.Abs(found); err != nil {
			return
		}
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(c.folder(), path)
	}
	inside, ok := c.repo.Inside(path)
	if !ok {
		c.list = append(c.list, Use{
			Key:   key,
			Words: []string{filepath.Base(name)},
			Note:  fmt.Sprintf("%s, which is outside of the repository", clean.Word(path)),
		})
		return
	}
	data := c.look(key, []string{inside}, path)
	const chain = 4 // the system's own limit for scripts that name scripts (execve(2), Linux)
	if words := interpreter(data); len(words) > 0 && depth < chain {
		c.add("first line of "+inside, words...)
		c.program("interpreter of "+inside, words[0], depth+1)
		if filepath.Base(words[0]) == "env" {
			for _, word := range words[1:] {
				if !strings.HasPrefix(word, "-") && !strings.Contains(word, "=") {
					c.program("interpreter of "+inside, word, depth+1)
					break
				}
			}
		}
	}
}

// interpreter are the words of a script's first line, "#!/usr/bin/env python3".
func interpreter(data []byte) []string {
	line, ok := bytes.CutPrefix(data, []byte("#!"))
	if !ok {
		return nil
	}
	line, _, _ = bytes.Cut(line, []byte("\n"))
	return strings.Fields(string(line))
}

// fileNames are the parts of a command's word that may name a file: the word, the text after its first equals sign,
// and each part between signs that end a name in a shell's or an interpreter's text, also after an option's letter
// ("-f./lib.sh").
func fileNames(word string) []string {
	const most = 500 // parts of one word: a longer one is a text that nobody reads
	_, value, _ := strings.Cut(word, "=")
	names := []string{word, value}
	parts := strings.FieldsFunc(word, func(r rune) bool { return strings.ContainsRune(" \t\n\r'\"`=;|&<>(){}[]$,:@", r) })
	for _, part := range parts[:min(len(parts), most)] {
		names = append(names, part)
		if strings.HasPrefix(part, "-") && len(part) > 2 {
			names = append(names, part[2:])
		}
	}
	var some []string
	for _, name := range names {
		if name != "" {
			some = append(some, name)
		} else {
			some = append(some, "\x00") // keeps the first two places; no file has that name
		}
	}
	return some
}

// credentialFile is the credential file that a source's word names, of any engine; nil for none.
func (c *collector) credentialFile(kind string) secret.CredentialFile {
	for _, file := range c.file.Schema().Engines().CredentialFiles() {
		if file.Source() == kind {
			return file
		}
	}
	return nil
}

// includesNone reports whether a source's word names a credential file that includes no others.
func (c *collector) includesNone(kind string) bool {
	file := c.credentialFile(kind)
	return file != nil && !file.Includes()
}

// credentialFiles notes a credential file and all files that it includes.
func (c *collector) credentialFiles(called string, file secret.CredentialFile, written string) {
	path := c.absolute(written)
	if _, ok := c.repo.Inside(path); !ok {
		c.look(called+" file", []string{written}, path)
		return
	}
	list := func(folder string) ([]fs.DirEntry, error) {
		if _, ok := c.repo.Inside(folder); ok {
			return os.ReadDir(folder)
		}
		c.look(called+" folder", []string{folder}, folder) // not looked into before the yes
		return nil, nil
	}
	err := file.Visit(path, func(path string) ([]byte, error) {
		data := c.look(called+" file", nil, path)
		if _, ok := c.files[path]; !ok {
			return nil, fs.ErrNotExist // outside, or not there: not read before the yes
		}
		return data, nil
	}, list)
	if err != nil && !errors.Is(err, fs.ErrNotExist) && c.trouble == "" {
		c.trouble = fmt.Sprintf("the file of secrets %s cannot be read: %s", clean.Word(written), atomicfile.Plain(err))
	}
}
