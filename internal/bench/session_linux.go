package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"gentleharbor/internal/testkit"
)

// terminalProgram is a program on a terminal.
type terminalProgram struct {
	master *os.File
	cmd    *exec.Cmd
	read   []byte
}

// onTerminal starts a program on a terminal, and waits for its prompt.
func (b *bench) onTerminal(prompt string, words ...string) (*terminalProgram, time.Duration, error) {
	master, slave, err := testkit.OpenTerminal(100)
	if err != nil {
		return nil, 0, err
	}
	defer slave.Close()
	path := words[0]
	if path == "gharbor" {
		path = filepath.Join(b.folder, path)
	}
	t := &terminalProgram{master: master, cmd: exec.Command(path, words[1:]...)}
	t.cmd.Env = append(b.env, "TERM=xterm", "PSQL_PAGER=cat")
	t.cmd.Stdin, t.cmd.Stdout, t.cmd.Stderr = slave, slave, slave
	t.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	start := time.Now()
	if err := t.cmd.Start(); err != nil {
		return nil, 0, err
	}
	err = t.until(prompt)
	return t, time.Since(start), err
}

// until reads up to a text.
func (t *terminalProgram) until(text string) error {
	buffer := make([]byte, 64<<10)
	for !bytes.Contains(t.read, []byte(text)) {
		n, err := t.master.Read(buffer)
		if err != nil {
			return fmt.Errorf("no %q: %w: %s", text, err, t.read)
		}
		t.read = append(t.read, buffer[:n]...)
	}
	t.read = nil
	return nil
}

func (t *terminalProgram) end() {
	t.cmd.Process.Kill()
	t.cmd.Wait()
	t.master.Close()
}

// session compares the start of a session with the server's own client up to its prompt, and measures when the first
// row of a large result is there, and the memory.
func (b *bench) session(peer []string) error {
	const prompt = "at stored"
	var ours, theirs []time.Duration
	for range pairs {
		for _, one := range []struct {
			into   *[]time.Duration
			prompt string
			words  []string
		}{{&ours, prompt, []string{"gharbor", "session", "stored"}}, {&theirs, "stored=", peer}} {
			t, took, err := b.onTerminal(one.prompt, one.words...)
			if err != nil {
				return err
			}
			t.end()
			*one.into = append(*one.into, took)
		}
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	fmt.Printf("%-40s %.2f (aim: at most 1.00)\n", "session, start to prompt",
		float64(ours[pairs/2])/float64(theirs[pairs/2]))
	t, _, err := b.onTerminal(prompt, "gharbor", "session", "stored")
	if err != nil {
		return err
	}
	defer t.end()
	start := time.Now()
	if _, err := t.master.WriteString("select generate_series(1, 10000000) as n, 'the' || ' row' as x;\r"); err != nil {
		return err
	}
	if err := t.until("the row"); err != nil {
		return err
	}
	fmt.Printf("%-40s %s (aim: at most 50 ms)\n", "session, first row of 10,000,000",
		time.Since(start).Round(time.Millisecond))
	if err := t.until("rows shown"); err != nil {
		return err
	}
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", t.cmd.Process.Pid))
	for line := range strings.Lines(string(status)) {
		if size, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			fmt.Printf("%-40s %s (aim: at most 32 MB)\n", "session, memory then", strings.TrimSpace(size))
		}
	}
	return err
}
