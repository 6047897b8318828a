package wallet

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/deadline"
	"gentleharbor/core/finding"
	"gentleharbor/core/privatesocket"
)

// Keys are what a keeper holds: enough to read the wallet until its content key changes, and not enough to write it.
type Keys struct {
	Wallet     string    `json:"wallet"` // its id
	Path       string    `json:"path"`
	SigningKey []byte    `json:"signing_key"`
	ContentKey []byte    `json:"content_key"`
	Until      time.Time `json:"until"`
}

// Keys returns the keys of a wallet that its passphrase opened.
func (w *Wallet) Keys(until time.Time) Keys {
	return Keys{
		Wallet:     w.File.header.ID,
		Path:       w.File.Path,
		SigningKey: w.File.header.SigningKey,
		ContentKey: w.owner.contentKey,
		Until:      until,
	}
}

// KeeperSocket is where the keeper of a wallet listens.
func KeeperSocket(lookup func(string) (string, bool), id string) string {
	return filepath.Join(privatesocket.Folder(lookup), "wallet-"+id[:16]+".sock")
}

// Listen makes the keeper's socket, in a folder that only this user can enter.
func Listen(socket string) (net.Listener, error) {
	listener, err := privatesocket.Listen(socket)
	if errors.Is(err, privatesocket.ErrTaken) {
		return nil, errors.New("the wallet is unlocked already; to end that: gharbor wallet lock")
	}
	return listener, err
}

// errLocked ends a keeper.
var errLocked = errors.New("locked")

// Keep answers on the socket until the keys' time is over, the context ends, or a process of this user asks for the
// lock.
func Keep(ctx context.Context, listener net.Listener, keys Keys) { keep(ctx, listener, keys, time.Now) }

func keep(ctx context.Context, listener net.Listener, keys Keys, now func() time.Time) {
	ctx, lock := deadline.WithTime(ctx, keys.Until, errLocked)
	defer lock()
	kept := &keeperNotes{all: make(map[string][]byte)}
	privatesocket.Serve(ctx, listener, func(line string, in io.Reader) (any, func()) {
		if deadline.Over(keys.Until, now()) { // the machine has just woken
			return reply{Until: keys.Until, Error: errLocked.Error()}, lock
		}
		if r, ok := kept.answer(line, in); ok {
			return r, nil
		}
		r, end := keys.answer(line, in)
		if end {
			return r, lock
		}
		return r, nil
	})
}

// reply is a keeper's answer, one JSON value.
type reply struct {
	Error   string    `json:"error,omitempty"`
	Until   time.Time `json:"until"`
	Content []byte    `json:"content,omitempty"`
}

// answer serves one request: "lock", "status", or "open N" followed by the N
// bytes of a wallet file, and reports whether the keeper is to end.
func (k Keys) answer(line string, in io.Reader) (r reply, lock bool) {
	r.Until = k.Until
	word, size, _ := strings.Cut(line, " ")
	if word == "open" {
		var err error
		if r.Content, err = k.content(in, size); err != nil {
			r.Error = err.Error()
		}
	}
	return r, word == "lock"
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
	f, err := parseFile(k.Path, data)
	if err != nil {
		return nil, err
	}
	if f.header.ID != k.Wallet || !bytes.Equal(f.header.SigningKey, k.SigningKey) {
		return nil, errors.New("another wallet")
	}
	return unseal(k.ContentKey, f.content, label("content", f.headerBytes))
}

// UnlockedSource opens the wallet through its keeper.
type UnlockedSource struct{ Socket string }

// ask sends a request to the keeper: privatesocket.ErrNone where there is none, a *privatesocket.SilentError
// where one is and does not answer.
func (u UnlockedSource) ask(ctx context.Context, request []byte) (reply, error) {
	var r reply
	err := privatesocket.Ask(ctx, u.Socket, request, 2*maxContent, &r)
	if err == nil && r.Error == errLocked.Error() { // and ends
		err = privatesocket.ErrNone
	}
	return r, err
}

// Status says until when the wallet is open.
func (u UnlockedSource) Status(ctx context.Context) (until time.Time, err error) {
	r, err := u.ask(ctx, []byte("status\n"))
	return r.Until, err
}

// Lock ends the keeper. It is privatesocket.ErrNone where there is none.
func (u UnlockedSource) Lock(ctx context.Context) error {
	_, err := u.ask(ctx, []byte("lock\n"))
	return err
}

func (u UnlockedSource) open(ctx context.Context, f *File) (*Wallet, error) {
	r, err := u.ask(ctx, append([]byte(fmt.Sprintf("open %d\n", len(f.data))), f.data...))
	var silent *privatesocket.SilentError
	if errors.As(err, &silent) {
		return nil, refuse(noAnswer(f.Path, silent))
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if errors.Is(err, privatesocket.ErrNone) {
		return nil, refuse(finding.New(finding.WalletLocked,
			"the wallet %s is locked: it was unlocked for a time that is over", f.Path).
			Suggest("gharbor wallet unlock -lifetime 15m   # on a terminal, for this user"))
	}
	if err != nil || r.Error != "" {
		return nil, refuse(finding.New(finding.WalletLocked, "the wallet %s was unlocked before it got new keys",
			f.Path).
			Suggest("gharbor wallet lock && gharbor wallet unlock -lifetime 15m"))
	}
	return f.decode(r.Content, "an unlock until "+r.Until.Local().Format("15:04"))
}
