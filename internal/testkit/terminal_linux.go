package testkit

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// Session is the program on a terminal of its own.
type Session struct {
	t      testing.TB
	master *os.File
	cmd    *exec.Cmd
	mu     sync.Mutex
	text   strings.Builder
	done   chan struct{}
}

// OpenTerminal is a pseudo-terminal (pty(7)) of so many columns: the program's side is the slave.
func OpenTerminal(columns int) (master, slave *os.File, err error) {
	if master, err = os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0); err != nil {
		return nil, nil, err
	}
	number, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0)
	}
	if err == nil {
		slave, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", number), os.O_RDWR|unix.O_NOCTTY, 0)
	}
	if err != nil {
		master.Close()
		return nil, nil, err
	}
	unix.IoctlSetWinsize(int(master.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 50, Col: uint16(columns)})
	return master, slave, nil
}

// OnTerminal runs the program on a pseudo-terminal (pty(7)).
func (p *Program) OnTerminal(args ...string) *Session { return p.OnColumns(100, args...) }

// OnColumns is OnTerminal with a terminal of so many columns.
func (p *Program) OnColumns(columns int, args ...string) *Session {
	p.t.Helper()
	return p.terminal(columns, p.Path, args...)
}

// ShellOnTerminal runs another program, such as a shell, where OnTerminal runs this one.
func (p *Program) ShellOnTerminal(name string, args ...string) *Session {
	p.t.Helper()
	return p.terminal(100, name, args...)
}

func (p *Program) terminal(columns int, name string, args ...string) *Session {
	p.t.Helper()
	master, slave, err := OpenTerminal(columns)
	if err != nil {
		p.t.Skipf("no pseudo-terminals here: %v", err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	p.t.Cleanup(cancel)
	s := &Session{t: p.t, master: master, cmd: exec.CommandContext(ctx, name, args...), done: make(chan struct{})}
	s.cmd.Env, s.cmd.Dir = append([]string{"TERM=xterm"}, p.Env...), p.Dir // an own TERM comes later
	s.cmd.Stdin, s.cmd.Stdout, s.cmd.Stderr = slave, slave, slave
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := s.cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	slave.Close()
	go func() {
		defer close(s.done)
		buffer := make([]byte, 4096)
		for {
			n, err := master.Read(buffer)
			s.mu.Lock()
			s.text.Write(buffer[:n])
			s.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	p.t.Cleanup(func() { master.Close() })
	return s
}

// Text is all that stood on the screen so far.
func (s *Session) Text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

// Expect waits until the text has stood on the screen. Where a line was wrapped matters not.
func (s *Session) Expect(text string) *Session {
	s.t.Helper()
	for range 2400 { // a minute: a passphrase takes its time on a busy machine
		screen := strings.ReplaceAll(s.Text(), "\r", "")
		if strings.Contains(screen, text) || strings.Contains(wrapped.ReplaceAllString(screen, " "), text) {
			return s
		}
		time.Sleep(25 * time.Millisecond)
	}
	s.t.Fatalf("no %q on the terminal:\n%s", text, s.Text())
	return s
}

// Type types keys; "\x03" is Ctrl-C.
func (s *Session) Type(keys string) *Session {
	s.t.Helper()
	if _, err := s.master.WriteString(keys); err != nil {
		s.t.Fatal(err)
	}
	return s
}

// Signal sends the program a signal.
func (s *Session) Signal(signal os.Signal) *Session {
	s.t.Helper()
	if err := s.cmd.Process.Signal(signal); err != nil {
		s.t.Fatal(err)
	}
	return s
}

// Echoes reports whether the terminal shows what is typed.
func (s *Session) Echoes() bool {
	state, err := unix.IoctlGetTermios(int(s.master.Fd()), unix.TCGETS)
	return err == nil && state.Lflag&unix.ECHO != 0
}

// Ends waits for the program and checks its exit code.
func (s *Session) Ends(code int) string {
	s.t.Helper()
	err := s.cmd.Wait()
	select {
	case <-s.done:
	case <-time.After(2 * time.Second):
	}
	var exit *exec.ExitError
	got := 0
	if errors.As(err, &exit) {
		got = exit.ExitCode()
	}
	if got != code {
		s.t.Fatalf("exit code %d, want %d:\n%s", got, code, s.Text())
	}
	return s.Text()
}

// findQuestion returns where a question stands that waits for an answer; -1 for nowhere. A line that only has its
// words asks nothing.
func findQuestion(screen, question string) int {
	from := 0
	for {
		at := strings.Index(screen[from:], question)
		if at < 0 {
			return -1
		}
		line, _, _ := strings.Cut(screen[from+at:], "\n")
		if strings.Contains(line, "): ") || strings.Contains(line, "]: ") || strings.HasSuffix(line, ": ") ||
			strings.Contains(line, ": \x1b") {
			return from + at
		}
		from += at + len(question)
	}
}

// Dialogue answers questions as they come, until the program ends: answers has
// what is typed, without its Enter, by a text that stands in the question. It
// returns all that stood on the screen, and the exit code.
func (s *Session) Dialogue(answers map[string]string) (text string, code int) {
	s.t.Helper()
	read := 0
	for {
		screen := s.Text()
		next, answer := -1, ""
		for question, a := range answers {
			at := findQuestion(screen[read:], question)
			if at >= 0 && (next < 0 || at+len(question) < next) {
				next, answer = at+len(question), a
			}
		}
		if next >= 0 {
			read += next
			for range 40 { // until the echo is off, where it goes off
				if !s.Echoes() || !strings.Contains(screen[read:], "not shown") {
					break
				}
				time.Sleep(5 * time.Millisecond)
			}
			s.Type(answer + "\n")
			continue
		}
		select {
		case <-s.done:
			s.cmd.Wait()
			return s.Text(), s.cmd.ProcessState.ExitCode()
		case <-time.After(10 * time.Millisecond):
		}
	}
}
