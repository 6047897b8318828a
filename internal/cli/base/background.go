package base

import (
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"

	"gentleharbor/core/profile/resolve"
)

// background is this program, started again as a process that outlives the terminal. Secrets go through its pipes,
// never through an argument.
type background struct {
	Cmd *exec.Cmd
	In  io.WriteCloser
	Out io.Reader
}

// StartBackground starts a hidden command in dir, "" for the working folder. env is its whole environment: it must
// not have the shell's tokens for hours, where this user's other processes could read them.
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

// needed are the variables that the program or its libraries read: for files, agents, container engines and
// certificate authorities. A * at the end stands for any ending.
var needed = []string{
	"PATH", "HOME", "USER", "LOGNAME", "USERNAME", "LANG", "LC_*", "TZ", "TMPDIR", "TMP", "TEMP", "XDG_*", "GHARBOR_*",
	"GODEBUG", "NO_COLOR",
	"SSH_AUTH_SOCK", "DBUS_SESSION_BUS_ADDRESS", "DOCKER_*", "SSL_CERT_FILE", "SSL_CERT_DIR",
	"APPDATA", "LOCALAPPDATA", "USERPROFILE", "SYSTEMROOT",
}

// EnvironmentOf is the part of the environment that a background process for a profile needs: the variables that the
// program reads, and those that the profile names. Where the profile runs a command for a secret, it is all of it, as
// nobody knows what the command needs.
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
