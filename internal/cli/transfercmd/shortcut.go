package transfercmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/tunnelcmd"
	"gentleharbor/internal/cli/wording"
)

func Shortcut() *base.Command {
	var into string
	var login tunnelcmd.LoginOptions
	return &base.Command{
		Name:    "shortcut",
		Args:    "PROFILE NAME [flags] -- PROGRAM [ARGS…]",
		Summary: "make a command that runs a program with a profile",
		Long: `The command is a small shell script that calls gharbor with; it has no password in it.
Words that you give it are added after ARGS. It is written into a folder on your PATH and
never replaces a command.`,
		Examples: []string{"gharbor shortcut sightings whose-birds -into ~/.local/bin -- printenv GHARBOR_USER",
			"gharbor shortcut moult moult-user -- grep user {optionfile}"},
		MinArgs: 1,
		MaxArgs: -1,
		Flags: func(fs *base.FlagSet) {
			fs.StringVar(&into, "into", "", "the folder to write it into")
			login.Flags(fs, "log in for the program: it gets a local address, and no password at all")
		},
		Run: run(func(ctx context.Context, c *Call) error {
			if c.After != 2 || len(c.Args) < 3 {
				return base.Failure(base.ExitUsage,
					errors.New("shortcut needs a profile, a name, two dashes and a program: gharbor shortcut "+
						"PROFILE NAME -- PROGRAM ARGS"),
					"gharbor help shortcut")
			}
			if runtime.GOOS == "windows" {
				return base.Usage("a shortcut is a shell script, which this system does not run")
			}
			if err := login.Check(false); err != nil {
				return err
			}
			return c.shortcut(ctx, c.Args[1], into, &login, c.Args[2:])
		}),
	}
}

func (c *Call) shortcut(ctx context.Context, name, into string, login *tunnelcmd.LoginOptions, words []string) error {
	if !commandName(name) {
		return base.Usage("not a command's name: letters and digits, and . _ - after the first")
	}
	p, err := c.Resolve(c.Args[0], nil)
	if err != nil {
		return err
	}
	if p.Profile.InProject() {
		return base.Usage("the profile %s is the project's and works only in its folder; to make your own: gharbor "+
			"copy %s NEW-NAME", p.Called, p.Called)
	}
	folder, err := c.shortcutFolder(ctx, into)
	if err != nil {
		return err
	}
	path := filepath.Join(folder, name)
	if _, err := os.Lstat(path); err == nil {
		return base.Usage("%s exists already; remove it first, or take another name", path)
	}
	if other, err := exec.LookPath(name); err == nil {
		return base.Usage(
			"there is a command %s already (%s); take another name",
			name, other)
	}
	if builtin(name) {
		return base.Usage("%s is a word of the shell; take another name", name)
	}
	text, err := c.shortcutText(p, login, words)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o700)
	if err != nil {
		return &profile.FileError{Path: path, What: "cannot be written: " + wording.PlainReason(err)}
	}
	_, err = file.WriteString(text)
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		os.Remove(path)
		return &profile.FileError{Path: path, What: "cannot be written: " + wording.PlainReason(err)}
	}
	c.Say("made: %s, which runs %s with %s", path, clean.Line(strings.Join(words, " "), 200), p.Called)
	if !slices.Contains(c.path(), folder) {
		c.Notice("%s is not on your PATH", folder)
		c.Say("  try: export PATH=%s:$PATH", clean.Shell(folder))
	}
	return nil
}

// shortcutText is the script. It names gharbor by its path, as a scheduled job has a short PATH.
func (c *Call) shortcutText(p *resolve.Profile, login *tunnelcmd.LoginOptions, words []string) (string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "#!/bin/sh\n# Made by gharbor shortcut: runs a program with the profile %s. It holds no secret.\n",
		p.Called)
	if home, ok := c.Lookup("GHARBOR_HOME"); ok && home != "" {
		whole, err := filepath.Abs(home)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "GHARBOR_HOME=%s; export GHARBOR_HOME\n", clean.Shell(whole))
	}
	quoted := make([]string, len(words))
	for i, word := range words {
		if i == 0 && strings.Contains(word, "/") {
			if word, err = filepath.Abs(word); err != nil {
				return "", err
			}
		}
		quoted[i] = shellWord(word)
	}
	with := append([]string{"with", p.Called}, login.Words()...)
	fmt.Fprintf(&b, "exec %s %s -- %s \"$@\"\n", shellWord(self), strings.Join(with, " "), strings.Join(quoted, " "))
	return b.String(), nil
}

// shellWord quotes any word for the shell.
func shellWord(word string) string {
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

func commandName(name string) bool {
	for i, r := range name {
		plain := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9'
		if !plain && (i == 0 || !strings.ContainsRune("._-", r)) {
			return false
		}
	}
	return name != "" && len(name) <= 100
}

// builtin reports whether a name is a word of the POSIX shell ("Shell Command
// Language", reserved words and built-in utilities).
func builtin(name string) bool {
	return slices.Contains(strings.Fields("alias bg break case cd command continue do done elif else esac eval exec "+
		"exit export false fc fg fi for getopts hash if in jobs kill newgrp pwd read readonly return set shift "+
		"source test "+
		"then time times trap true type ulimit umask unalias unset until wait while"), name)
}

func (c *Call) path() []string {
	path, _ := c.Lookup("PATH")
	return filepath.SplitList(path)
}

// shortcutFolder is the given folder, or the one that the user chooses.
func (c *Call) shortcutFolder(ctx context.Context, into string) (string, error) {
	if into == "" {
		byDefault := c.likelyFolder()
		if !c.Interactive() {
			failure := &base.ExitError{
				Code: base.ExitUsage,
				Err:  errors.New("give -into FOLDER (there is no terminal to ask on)"),
			}
			if byDefault != "" {
				failure.Try = []string{c.CommandWith("into", byDefault)}
			}
			return "", failure
		}
		answer, err := c.Question(ctx, "into which folder", byDefault)
		if err != nil {
			return "", err
		}
		into = answer
	}
	if rest, ok := strings.CutPrefix(into, "~/"); ok {
		into = filepath.Join(c.Environment().Home, rest)
	}
	whole, err := filepath.Abs(into)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(whole, 0o755); err != nil {
		return "", base.Usage("-into: %s is no folder, and cannot be made one: %s", whole, atomicfile.Plain(err))
	}
	return whole, nil
}

// likelyFolder is a folder of the user's own on the path, "" where there is none.
func (c *Call) likelyFolder() string {
	home := c.Environment().Home
	for _, folder := range []string{filepath.Join(home, ".local", "bin"), filepath.Join(home, "bin")} {
		if slices.Contains(c.path(), folder) {
			return folder
		}
	}
	for _, folder := range c.path() {
		if rel, err := filepath.Rel(home, folder); err == nil && !strings.HasPrefix(rel, "..") {
			return folder
		}
	}
	return ""
}
