package cli

import (
	"io"
	"os"
	"os/exec"
)

// background is this program, started again as a process that outlives the terminal.
// What it is told, and what it says, goes through pipes: never through an argument.
type background struct {
	cmd *exec.Cmd
	in  io.WriteCloser
	out io.Reader
}

// startBackground starts a hidden command in dir, "" for the folder that one is in.
// env is its environment, nil for this process's own.
func startBackground(dir string, env []string, words ...string) (*background, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	b := &background{cmd: exec.Command(self, words...)}
	b.cmd.Dir, b.cmd.Env = dir, env
	detach(b.cmd)
	if b.in, err = b.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	if b.out, err = b.cmd.StdoutPipe(); err != nil {
		return nil, err
	}
	return b, b.cmd.Start()
}
