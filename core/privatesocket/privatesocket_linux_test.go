package privatesocket

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// answered is what the tests' process says.
type answered struct{ Line, Rest string }

func echo(line string, in io.Reader) (any, func()) {
	rest := make([]byte, 4)
	n := 0
	if line == "more" {
		n, _ = io.ReadFull(in, rest)
	}
	return answered{line, string(rest[:n])}, nil
}

// folder is one of the user's own, with a short path.
func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "gh")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// serving listens and serves until the test ends; ended is closed once it does not any more.
func serving(t *testing.T, socket string) (ended chan struct{}) {
	t.Helper()
	listener, err := Listen(socket)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	ended = make(chan struct{})
	go func() {
		Serve(ctx, listener, echo)
		close(ended)
	}()
	t.Cleanup(func() {
		stop()
		<-ended
	})
	return ended
}

func TestAsk(t *testing.T) {
	t.Parallel()
	socket := filepath.Join(folder(t), "c", "s")
	if err := Ask(t.Context(), socket, []byte("x\n"), 100, new(answered)); !errors.Is(err, ErrNone) {
		t.Errorf("no socket: %v", err)
	}
	serving(t, socket)
	var a answered
	if err := Ask(t.Context(), socket, []byte("more\nmuch"), 1000, &a); err != nil || a.Line != "more" || a.Rest != "much" {
		t.Errorf("%+v %v", a, err)
	}
	if _, err := Listen(socket); !errors.Is(err, ErrTaken) {
		t.Errorf("a second listener: %v", err)
	}
	if info, _ := os.Stat(socket); info.Mode().Perm() != 0o600 {
		t.Errorf("the socket's permissions are %v", info.Mode())
	}
	left := filepath.Join(filepath.Dir(socket), "left")
	dead, _ := net.Listen("unix", left)
	dead.(*net.UnixListener).SetUnlinkOnClose(false)
	dead.Close()
	if err := Ask(t.Context(), left, []byte("x\n"), 100, &a); !errors.Is(err, ErrNone) {
		t.Errorf("a socket that was left behind: %v", err)
	}
	serving(t, left)
}

// TestSilent: a process that is there and does not answer is not taken for none; the wait for it
// ends with the context.
func TestSilent(t *testing.T) {
	t.Parallel()
	socket := filepath.Join(folder(t), "s")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	start := time.Now()
	if err := Ask(ctx, socket, []byte("x\n"), 100, new(answered)); !errors.Is(err, context.DeadlineExceeded) || time.Since(start) > moment/2 {
		t.Errorf("%v after %s", err, time.Since(start))
	}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			conn.Write([]byte("no answer"))
			conn.Close()
		}
	}()
	var silent *SilentError
	if err := Ask(t.Context(), socket, []byte("x\n"), 100, new(answered)); !errors.As(err, &silent) || silent.PID != os.Getpid() || !strings.HasPrefix(silent.EndLine(), "kill -KILL ") {
		t.Errorf("%v %+v", err, silent)
	}
}

// TestEndsWhileAsked: a process that ends before it answers is none, not a silent one.
func TestEndsWhileAsked(t *testing.T) {
	t.Parallel()
	socket := filepath.Join(folder(t), "s")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		conn, err := listener.Accept()
		listener.Close()
		if err == nil {
			conn.Close()
		}
	}()
	if err := Ask(t.Context(), socket, []byte("x\n"), 100, new(answered)); !errors.Is(err, ErrNone) {
		t.Error(err)
	}
}

// failing is a listener whose first connections can't be taken.
type failing struct {
	net.Listener
	left int
}

func (f *failing) Accept() (net.Conn, error) {
	if f.left--; f.left >= 0 {
		return nil, &net.OpError{Op: "accept", Err: syscall.EMFILE}
	}
	return f.Listener.Accept()
}

// TestAcceptFails: a process that has no descriptor left for a moment is still there afterwards.
func TestAcceptFails(t *testing.T) {
	t.Parallel()
	socket := filepath.Join(folder(t), "c", "s")
	listener, err := Listen(socket)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	go Serve(ctx, &failing{listener, 2}, echo)
	if err := Ask(t.Context(), socket, []byte("x\n"), 1000, new(answered)); err != nil {
		t.Error(err)
	}
}

// TestGone: a process whose socket is removed, or is another's, ends, and leaves what is there
// now alone.
func TestGone(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(socket string){
		"socket removed": func(socket string) { os.Remove(socket) },
		"folder removed": func(socket string) { os.RemoveAll(filepath.Dir(socket)) },
		"another's": func(socket string) {
			os.Remove(socket)
			os.WriteFile(socket, nil, 0o600)
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			socket := filepath.Join(folder(t), "c", "s")
			ended := serving(t, socket)
			if err := Ask(t.Context(), socket, []byte("x\n"), 1000, new(answered)); err != nil {
				t.Fatal(err)
			}
			change(socket)
			select {
			case <-ended:
			case <-time.After(30 * time.Second):
				t.Fatal("it goes on, and nobody can find it")
			}
			if name == "another's" {
				if _, err := os.Stat(socket); err != nil {
					t.Error("what took the socket's place was removed")
				}
			}
		})
	}
}

// TestOtherUsers: a client of another user's gets no byte, a process of another user's is none,
// and nothing is kept in a folder that is not the user's alone.
func TestOtherUsers(t *testing.T) {
	t.Parallel()
	own := filepath.Join(folder(t), "c")
	socket := filepath.Join(own, "s")
	serving(t, socket)
	for path, mode := range map[string]os.FileMode{filepath.Dir(own): 0o755, own: 0o755, socket: 0o777} {
		os.Chmod(path, mode) // as if somebody had opened them by hand
	}
	testkit.AsUser(t, testkit.Nobody, func() {
		conn, err := net.Dial("unix", socket)
		if err != nil {
			t.Error(err)
			return
		}
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(10 * time.Second))
		conn.Write([]byte("more\nmuch"))
		if data, _ := io.ReadAll(conn); len(data) > 0 {
			t.Errorf("another user got %q", data)
		}
	})
	open := folder(t)
	os.Chmod(open, 0o777)
	theirs := filepath.Join(open, "theirs")
	testkit.AsUser(t, testkit.Nobody, func() {
		listener, err := net.Listen("unix", theirs)
		if err != nil {
			t.Error(err)
			return
		}
		t.Cleanup(func() { listener.Close() })
		os.Mkdir(filepath.Join(open, "squatted"), 0o700)
	})
	var silent *SilentError
	if err := Ask(t.Context(), theirs, []byte("x\n"), 100, new(answered)); !errors.Is(err, ErrNone) || errors.As(err, &silent) {
		t.Errorf("another user's process: %v", err)
	}
	for name, dir := range map[string]string{"another user's folder": filepath.Join(open, "squatted"), "a folder that all may write": open} {
		if _, err := Listen(filepath.Join(dir, "s")); err == nil {
			t.Errorf("%s was used", name)
		}
	}
	runtime := map[string]string{"XDG_RUNTIME_DIR": filepath.Join(open, "squatted")}
	if got := Folder(func(name string) (string, bool) { v, ok := runtime[name]; return v, ok }); strings.HasPrefix(got, open) {
		t.Errorf("another user's folder is taken: %s", got)
	}
}

// TestMake: a folder is made in one that is this user's alone, and in no other.
func TestMake(t *testing.T) {
	run := t.TempDir()
	os.Chmod(run, 0o700)
	lookup := func(name string) (string, bool) { return run, name == "XDG_RUNTIME_DIR" }
	made, err := Make(lookup, "login", "tides")
	if info, statErr := os.Stat(made); err != nil || statErr != nil || info.Mode().Perm() != 0o700 || filepath.Dir(filepath.Dir(made)) != Folder(lookup) {
		t.Errorf("%s: %v %v", made, err, statErr)
	}
	os.Chmod(Folder(lookup), 0o777)
	if made, err := Make(lookup, "login", "tides"); err == nil {
		t.Errorf("%s was made where others may put things", made)
	}
}

// TestListening: a socket is somebody's while its queue is full, too.
func TestListening(t *testing.T) {
	folder, err := os.MkdirTemp("", "gh-listening-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(folder)
	path := filepath.Join(folder, "s")
	if Listening(path) {
		t.Error("nothing is there")
	}
	fd, err := syscall.Socket(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Bind(fd, &syscall.SockaddrUnix{Name: path}); err != nil {
		t.Fatal(err)
	}
	syscall.Listen(fd, 0)
	for range 3 { // more than the queue takes
		if !Listening(path) {
			t.Error("a process listens")
		}
		if conn, err := net.DialTimeout("unix", path, 50*time.Millisecond); err == nil {
			defer conn.Close()
		}
	}
	syscall.Close(fd)
	if Listening(path) {
		t.Error("nobody listens any more")
	}
}

// TestTooLong: a path that is too long is nobody's, and said.
func TestTooLong(t *testing.T) {
	folder := filepath.Join(t.TempDir(), strings.Repeat("deep", 25))
	os.MkdirAll(folder, 0o700)
	path := filepath.Join(folder, "s")
	if Listening(path) {
		t.Error("somebody listens")
	}
	if _, err := Listen(path); !errors.Is(err, ErrTooLong) {
		t.Errorf("%v", err)
	}
	if err := Ask(t.Context(), path, []byte("x\n"), 10, new(int)); !errors.Is(err, ErrNone) {
		t.Errorf("%v", err)
	}
}
