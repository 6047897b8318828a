package base

import (
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"

	"gentleharbor/core/profile/resolve"
)

// background is this program, started again as a process that outlives the terminal.
// Its input and output go through pipes: never through an argument.
type background struct {
	Cmd *exec.Cmd
	In  io.WriteCloser
	Out io.Reader
}

// StartBackground starts a hidden command in dir, "" for the folder that one is in.
// env is all that it has of an environment: a process that stays for hours has no use for the
// tokens of the shell that it was started from, and others of this user could read them there.
func StartBackground(dir string, env []string, words ...string) (*background, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	b := &background{Cmd: exec.Command(self, words...)}
	b.Cmd.Dir, b.Cmd.Env = dir, append([]string{}, env...) // nil would be the whole of this process
	detach(b.Cmd)
	if b.In, err = b.Cmd.StdinPipe(); err != nil {
		return nil, err
	}
	if b.Out, err = b.Cmd.StdoutPipe(); err != nil {
		return nil, err
	}
	return b, b.Cmd.Start()
}

// needed are the variables that the program itself reads, or a library for it: where files,
// agents and container engines are, and which authorities count. One that ends with a star
// stands for all that begin so.
var needed = []string{
	"PATH", "HOME", "USER", "LOGNAME", "USERNAME", "LANG", "LC_*", "TZ", "TMPDIR", "TMP", "TEMP", "XDG_*", "GHARBOR_*",
	"GODEBUG", "NO_COLOR",
	"SSH_AUTH_SOCK", "DBUS_SESSION_BUS_ADDRESS", "DOCKER_*", "SSL_CERT_FILE", "SSL_CERT_DIR",
	"APPDATA", "LOCALAPPDATA", "USERPROFILE", "SYSTEMROOT",
}

// EnvironmentOf is the part of the environment that a background process for a profile needs:
// what the program reads, and the variables that the profile names. Where the profile runs a
// command for a secret, what that needs can't be known, and all is handed on.
func (c *Call) EnvironmentOf(p *resolve.Profile) []string {
	named, all := p.NamedVariables()
	if all {
		return c.Environ()
	}
	for _, spec := range c.Engines.All() {
		named = append(named, spec.Client.Reads...)
	}
	return slices.DeleteFunc(c.Environ(), func(pair string) bool {
		name, _, _ := strings.Cut(pair, "=")
		return !slices.Contains(named, name) && !slices.ContainsFunc(needed, func(one string) bool {
			start, many := strings.CutSuffix(one, "*")
			return one == name || many && strings.HasPrefix(name, start)
		})
	})
}
