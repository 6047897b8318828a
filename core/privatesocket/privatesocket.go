// Package privatesocket connects the program to its own background processes: a socket in a folder that only this
// user can enter, where each side checks the process at the other end. A connection has one request and one answer,
// each a line or a JSON value. It stands beside the wallet and the tunnels, which have such processes. Start with
// Serve and Ask.
//
// Such a process has a secret, so it can always be found and ended: it ends by itself when its socket is removed or
// replaced (Serve), and Ask has different errors for a process that does not answer and for none.
package privatesocket

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"gentleharbor/core/defect"
	"gentleharbor/core/owner"
)

// moment bounds one request and its answer: they take milliseconds.
const moment = 5 * time.Second

// Folder is the folder of the sockets: in the user's runtime folder (XDG Base Directory Specification), else the
// user's own below the system's temporary one.
func Folder(lookup func(string) (string, bool)) string {
	folder, ok := lookup("XDG_RUNTIME_DIR")
	if info, err := os.Stat(folder); !ok || err != nil || !filepath.IsAbs(folder) || !ours(info) {
		folder = os.TempDir()
	}
	return filepath.Join(folder, fmt.Sprintf("gentle-harbor-%d", os.Getuid()))
}

// ours reports whether a folder is this user's and closed to others.
func ours(info fs.FileInfo) bool {
	uid, ok := owner.UserID(info)
	return ok && info.IsDir() && uid == os.Getuid() && info.Mode().Perm()&0o077 == 0
}

// Make makes a folder below Folder, with the given names. Nobody else can write there.
func Make(lookup func(string) (string, bool), names ...string) (string, error) {
	above := Folder(lookup)
	if err := private(above); err != nil {
		return "", err
	}
	folder := filepath.Join(append([]string{above}, names...)...)
	return folder, os.MkdirAll(folder, 0o700)
}

// private makes a folder that only this user can enter. An existing one must be such a folder.
func private(folder string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	if info, err := os.Lstat(folder); err != nil || !ours(info) {
		return fmt.Errorf("%s is not a private folder of yours, so it is not used", folder)
	}
	return nil
}

// ErrTaken says that a process listens at the socket already.
var ErrTaken = errors.New("another process listens there already")

// ErrNone says that no process of this user listens at the socket.
var ErrNone = errors.New("no process listens there")

// SilentError says that a process listens and does not answer: it hangs, or was stopped.
type SilentError struct {
	PID int   // its process number, 0 where the system does not tell
	Err error // what came instead of an answer
}

func (e *SilentError) Error() string {
	if e.PID == 0 {
		return fmt.Sprintf("it does not answer (%v)", e.Err)
	}
	return fmt.Sprintf("process %d does not answer (%v)", e.PID, e.Err)
}

func (e *SilentError) Unwrap() error { return e.Err }

// EndLine is the command that ends the process, also one that does not answer.
func (e *SilentError) EndLine() string {
	if e.PID == 0 {
		return "pkill -KILL -u $(id -u) -x gharbor"
	}
	return fmt.Sprintf("kill -KILL %d", e.PID)
}

// Listen makes a socket, in a folder that only this user can enter.
func Listen(socket string) (net.Listener, error) {
	if err := private(filepath.Dir(socket)); err != nil {
		return nil, err
	}
	if Listening(socket) {
		return nil, ErrTaken
	}
	os.Remove(socket) // of a process that ended without clearing up
	listener, err := net.Listen("unix", socket)
	if errors.Is(err, syscall.EINVAL) {
		return nil, ErrTooLong
	}
	if err == nil {
		err = os.Chmod(socket, 0o600)
	}
	return listener, err
}

// ErrTooLong says that a path is too long for a socket: the limit is some 100 bytes.
var ErrTooLong = errors.New("the path of its socket is too long for the system: set XDG_RUNTIME_DIR to a private " +
	"folder with a short path")

// Listening reports whether a process listens at a Unix socket, also where its queue is full.
func Listening(socket string) bool {
	conn, err := net.DialTimeout("unix", socket, time.Second)
	if err != nil {
		return !isNoListener(err)
	}
	conn.Close()
	return true
}

// isNoListener reports whether an error of dialling a socket says that no process listens there, as is also the case
// for a path that is too long for the system.
func isNoListener(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.ENOTDIR) ||
		errors.Is(err, syscall.EINVAL)
}

// watchEvery is how often a process checks that its socket is still there.
const watchEvery = 2 * time.Second

// acceptPause is the wait after a connection was not accepted because no descriptor was left.
const acceptPause = 100 * time.Millisecond

// Serve answers this user's requests until the context ends, or the socket was removed or replaced, as nobody could
// find the process then. It closes the listener. answer gets the connection's first line, and a reader of the rest;
// its then, if not nil, is called after the reply was sent.
func Serve(ctx context.Context, listener net.Listener,
	answer func(line string, in io.Reader) (reply any, then func())) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	socket := listener.Addr().String()
	own, err := os.Lstat(socket)
	if l, ok := listener.(*net.UnixListener); ok {
		l.SetUnlinkOnClose(false) // what is there by then may be another's
	}
	end := func() {
		if err == nil && isOwnSocket(socket, own) {
			os.Remove(socket)
		}
		listener.Close()
	}
	defer context.AfterFunc(ctx, end)()
	defect.Go(func() {
		if err != nil || socketGone(ctx, socket, own) {
			stop()
		}
	})
	for {
		conn, err := listener.Accept()
		switch {
		case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE), errors.Is(err, syscall.ECONNABORTED):
			time.Sleep(acceptPause) // it passes, and the process is still there to be found
			continue
		case err != nil:
			end()
			return
		}
		defect.Go(func() { serve(conn, os.Getuid(), answer) })
	}
}

// socketGone waits until the process's own socket was removed or replaced. It is false where the context ended first.
func socketGone(ctx context.Context, socket string, own fs.FileInfo) bool {
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for isOwnSocket(socket, own) {
		select {
		case <-ctx.Done():
			return false
		case <-tick.C:
		}
	}
	return true
}

// isOwnSocket reports whether a socket is still this process's. The system gives a removed file's number to a new
// one, so it compares the time too.
func isOwnSocket(socket string, own fs.FileInfo) bool {
	now, err := os.Lstat(socket)
	return err == nil && os.SameFile(own, now) && now.ModTime().Equal(own.ModTime()) &&
		now.Mode().Type() == own.Mode().Type()
}

// serve answers one request, if the process at the other end is the user's own.
func serve(conn net.Conn, user int, answer func(line string, in io.Reader) (reply any, then func())) {
	defer conn.Close()
	if uid, ok := owner.OfPeer(conn.(*net.UnixConn)); !ok || uid != user {
		return
	}
	conn.SetDeadline(time.Now().Add(moment))
	in := bufio.NewReader(conn)
	line, err := in.ReadString('\n')
	if err != nil {
		return
	}
	reply, then := answer(strings.TrimSpace(line), in)
	json.NewEncoder(conn).Encode(reply)
	if then != nil {
		then()
	}
}

// Ask sends a request, a line and what may follow it, and reads the answer, of at most so many bytes, into reply. The
// error is ErrNone where no process of this user listens, and a *SilentError where one does not answer. It ends with
// its context.
func Ask(ctx context.Context, socket string, request []byte, most int64, reply any) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	bound, cancel := context.WithTimeout(ctx, moment)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(bound, "unix", socket)
	switch {
	case err != nil && isNoListener(err):
		return ErrNone
	case err != nil:
		return silentError(ctx, nil, err)
	}
	defer conn.Close()
	defer context.AfterFunc(bound, func() { conn.SetDeadline(time.Unix(1, 0)) })()
	if uid, ok := owner.OfPeer(conn.(*net.UnixConn)); !ok || uid != os.Getuid() {
		return fmt.Errorf("%w: the one behind the socket is another user's", ErrNone)
	}
	if _, err = conn.Write(request); err == nil {
		err = json.NewDecoder(io.LimitReader(conn, most)).Decode(reply)
	}
	switch {
	case err == nil:
		return nil
	case !errors.Is(err, os.ErrDeadlineExceeded) && hasEnded(bound, socket):
		return ErrNone
	}
	return silentError(ctx, conn, err)
}

// hasEnded reports whether no process listens at a socket any more: one that ends during a request closes the
// connection.
func hasEnded(ctx context.Context, socket string) bool {
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", socket)
	if err != nil {
		return isNoListener(err)
	}
	conn.Close()
	return false
}

// silentError is the error for a process that listens and did not answer.
func silentError(ctx context.Context, conn net.Conn, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = fmt.Errorf("nothing came within %s", moment)
	}
	s := &SilentError{Err: err}
	if unix, ok := conn.(*net.UnixConn); ok {
		s.PID, _ = owner.PeerProcess(unix)
	}
	return s
}
