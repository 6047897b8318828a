// Package control is how the program talks to a process of its own that stays in the
// background: a socket in a folder that only this user can enter, with the process
// at the other end checked on both sides. One request and one answer, each a line or
// a JSON value. It stands beside the wallet and the tunnels, which keep such
// processes.
package control

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
	"time"

	"gentleharbor/core/owner"
)

// moment bounds one request and its answer: they take milliseconds.
const moment = 5 * time.Second

// Folder is where the sockets are: in the user's runtime folder (XDG Base Directory
// Specification), else in a folder of the user's own below the system's temporary
// one.
func Folder(lookup func(string) (string, bool)) string {
	folder, ok := lookup("XDG_RUNTIME_DIR")
	if info, err := os.Stat(folder); !ok || err != nil || !ours(info) {
		folder = os.TempDir()
	}
	return filepath.Join(folder, fmt.Sprintf("gentle-harbor-%d", os.Getuid()))
}

// ours reports whether a folder is this user's and closed to others.
func ours(info fs.FileInfo) bool {
	uid, ok := owner.Of(info)
	return ok && info.IsDir() && uid == os.Getuid() && info.Mode().Perm()&0o077 == 0
}

// ErrTaken is a socket behind which a process listens already.
var ErrTaken = errors.New("another process listens there already")

// Listen makes a socket, in a folder that is this user's alone.
func Listen(socket string) (net.Listener, error) {
	folder := filepath.Dir(socket)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	if info, err := os.Lstat(folder); err != nil || !ours(info) {
		return nil, fmt.Errorf("%s is not a folder of yours alone, so nothing is kept behind it", folder)
	}
	if conn, err := net.Dial("unix", socket); err == nil {
		conn.Close()
		return nil, ErrTaken
	}
	os.Remove(socket) // of a process that ended without clearing up
	listener, err := net.Listen("unix", socket)
	if err == nil {
		err = os.Chmod(socket, 0o600)
	}
	return listener, err
}

// Serve answers requests of this user's until the context ends, which closes the
// listener. answer gets the connection's first line, and a reader of what follows;
// then, if not nil, is called once the reply is out.
func Serve(ctx context.Context, listener net.Listener, answer func(line string, in io.Reader) (reply any, then func())) {
	defer context.AfterFunc(ctx, func() { listener.Close() })()
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			if uid, ok := owner.OfPeer(conn.(*net.UnixConn)); !ok || uid != os.Getuid() {
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
		}()
	}
}

// Ask sends a request, a line and what may follow it, and reads the answer into
// reply, of so many bytes at the most. A process of another user's is none.
func Ask(socket string, request []byte, most int64, reply any) error {
	conn, err := net.DialTimeout("unix", socket, time.Second)
	if err != nil {
		return err
	}
	defer conn.Close()
	if uid, ok := owner.OfPeer(conn.(*net.UnixConn)); !ok || uid != os.Getuid() {
		return errors.New("the process behind the socket is another user's")
	}
	conn.SetDeadline(time.Now().Add(moment))
	if _, err := conn.Write(request); err != nil {
		return err
	}
	return json.NewDecoder(io.LimitReader(conn, most)).Decode(reply)
}
