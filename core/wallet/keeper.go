package wallet

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/finding"
	"gentleharbor/core/owner"
)

// Keys are what a keeper holds: enough to read the wallet as it is now, not to
// write it, and not to read it once its content key was made new.
type Keys struct {
	Wallet     string    `json:"wallet"` // its id
	Path       string    `json:"path"`
	SigningKey []byte    `json:"signing_key"`
	ContentKey []byte    `json:"content_key"`
	Until      time.Time `json:"until"`
}

// Keys gives the keys of a wallet that its passphrase opened.
func (w *Wallet) Keys(until time.Time) Keys {
	return Keys{Wallet: w.File.header.ID, Path: w.File.Path, SigningKey: w.File.header.SigningKey, ContentKey: w.owner.contentKey, Until: until}
}

// KeeperSocket is where the keeper of a wallet listens: in the user's runtime
// folder (XDG Base Directory Specification), else in a folder of the user's own
// below the system's temporary one.
func KeeperSocket(lookup func(string) (string, bool), id string) string {
	folder, ok := lookup("XDG_RUNTIME_DIR")
	if info, err := os.Stat(folder); !ok || err != nil || !ours(info) {
		folder = os.TempDir()
	}
	return filepath.Join(folder, fmt.Sprintf("gentle-harbor-%d", os.Getuid()), "wallet-"+id[:16]+".sock")
}

// ours reports whether a folder is this user's and closed to others.
func ours(info fs.FileInfo) bool {
	uid, ok := owner.Of(info)
	return ok && info.IsDir() && uid == os.Getuid() && info.Mode().Perm()&0o077 == 0
}

// Listen makes the keeper's socket, in a folder that is this user's alone.
func Listen(socket string) (net.Listener, error) {
	folder := filepath.Dir(socket)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	if info, err := os.Lstat(folder); err != nil || !ours(info) {
		return nil, fmt.Errorf("%s is not a folder of yours alone, so nothing secret is kept behind it", folder)
	}
	if conn, err := net.Dial("unix", socket); err == nil {
		conn.Close()
		return nil, errors.New("the wallet is unlocked already; gharbor wallet lock ends that")
	}
	os.Remove(socket) // of a keeper that ended without being asked
	listener, err := net.Listen("unix", socket)
	if err == nil {
		err = os.Chmod(socket, 0o600)
	}
	return listener, err
}

// errLocked ends a keeper.
var errLocked = errors.New("locked")

// Keep answers on the socket until the keys' time is over, the context ends, or
// somebody of this user's asks for the lock.
func Keep(ctx context.Context, listener net.Listener, keys Keys) {
	ctx, lock := context.WithDeadlineCause(ctx, keys.Until, errLocked)
	defer lock()
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
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
			conn.SetDeadline(time.Now().Add(5 * time.Second)) // a whole wallet is sent in milliseconds
			if answer(conn, keys) {
				lock()
			}
		}()
	}
}

// reply is a keeper's answer, one JSON value.
type reply struct {
	Error   string    `json:"error,omitempty"`
	Until   time.Time `json:"until"`
	Content []byte    `json:"content,omitempty"`
}

// answer serves one request: "lock", "status", or "open N" followed by the N
// bytes of a wallet file, and reports whether the keeper is to end.
func answer(conn net.Conn, keys Keys) (lock bool) {
	in := bufio.NewReader(io.LimitReader(conn, maxContent+4*maxHeader))
	line, err := in.ReadString('\n')
	if err != nil {
		return false
	}
	r := reply{Until: keys.Until}
	word, size, _ := strings.Cut(strings.TrimSpace(line), " ")
	switch word {
	case "lock":
		lock = true
	case "open":
		r.Content, err = keys.content(in, size)
		if err != nil {
			r.Error = err.Error()
		}
	}
	conn.Write(mustJSON(r))
	return lock
}

func (k Keys) content(in io.Reader, size string) ([]byte, error) {
	n, err := strconv.Atoi(size)
	if err != nil || n < 0 || n > maxContent+4*maxHeader {
		return nil, errors.New("no size")
	}
	data := make([]byte, n)
	if _, err := io.ReadFull(in, data); err != nil {
		return nil, err
	}
	f, err := Parse(k.Path, data)
	if err != nil {
		return nil, err
	}
	if f.header.ID != k.Wallet || !bytes.Equal(f.header.SigningKey, k.SigningKey) {
		return nil, errors.New("another wallet")
	}
	return unseal(k.ContentKey, f.content, label("content", f.headerBytes))
}

// Unlocked opens the wallet through its keeper.
type Unlocked struct{ Socket string }

// ask sends a request to the keeper. A keeper of another user's is none.
func (u Unlocked) ask(request []byte) (reply, error) {
	conn, err := net.DialTimeout("unix", u.Socket, time.Second)
	if err != nil {
		return reply{}, err
	}
	defer conn.Close()
	if uid, ok := owner.OfPeer(conn.(*net.UnixConn)); !ok || uid != os.Getuid() {
		return reply{}, errors.New("the process behind the socket is another user's")
	}
	conn.SetDeadline(time.Now().Add(5 * time.Second))
	if _, err := conn.Write(request); err != nil {
		return reply{}, err
	}
	var r reply
	err = json.NewDecoder(io.LimitReader(conn, 2*maxContent)).Decode(&r)
	return r, err
}

// Status says until when the wallet is open.
func (u Unlocked) Status() (until time.Time, ok bool) {
	r, err := u.ask([]byte("status\n"))
	return r.Until, err == nil
}

// Lock ends the keeper. It is an error where there is none.
func (u Unlocked) Lock() error {
	_, err := u.ask([]byte("lock\n"))
	return err
}

func (u Unlocked) open(f *File) (*Wallet, error) {
	r, err := u.ask(append([]byte(fmt.Sprintf("open %d\n", len(f.data))), f.data...))
	if err != nil || r.Error != "" {
		return nil, refuse(finding.New("wallet.locked", "the wallet %s was unlocked before its keys were made new", f.Path).
			Suggest("gharbor wallet lock && gharbor wallet unlock -lifetime 15m"))
	}
	return f.decode(r.Content, "an unlock until "+r.Until.Local().Format("15:04"))
}
