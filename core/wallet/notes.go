package wallet

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"sync"

	"gentleharbor/core/privatesocket"
)

// The bounds of a keeper's notes.
const (
	maxNote  = 64 << 10
	maxNotes = 100
)

// keeperNotes are what a keeper remembers for other commands until it ends: tokens that are forgotten with it.
type keeperNotes struct {
	mu  sync.Mutex
	all map[string][]byte
}

// answer serves "note N NAME" followed by N bytes, "noted NAME" and "drop NAME". ok is false for another request.
func (n *keeperNotes) answer(line string, in io.Reader) (r reply, ok bool) {
	word, rest, _ := strings.Cut(line, " ")
	n.mu.Lock()
	defer n.mu.Unlock()
	switch word {
	case "note":
		size, name, _ := strings.Cut(rest, " ")
		bytes, err := strconv.Atoi(size)
		_, known := n.all[name]
		if err != nil || bytes < 0 || bytes > maxNote || !known && len(n.all) >= maxNotes {
			return reply{Error: "too much to note"}, true
		}
		data := make([]byte, bytes)
		if _, err := io.ReadFull(in, data); err != nil {
			return reply{Error: "a note that is not whole"}, true
		}
		n.all[name] = data
		return reply{}, true
	case "noted":
		return reply{Content: n.all[rest]}, true
	case "drop":
		delete(n.all, rest)
		return reply{}, true
	}
	return reply{}, false
}

// Put makes the keeper remember something under a name, until it ends.
func (u UnlockedSource) Put(ctx context.Context, name string, data []byte) error {
	_, err := u.note(ctx, append(fmt.Appendf(nil, "note %d %s\n", len(data), name), data...))
	return err
}

// Get returns what the keeper remembers under a name, fs.ErrNotExist where that is nothing.
func (u UnlockedSource) Get(ctx context.Context, name string) ([]byte, error) {
	r, err := u.note(ctx, []byte("noted "+name+"\n"))
	if err == nil && len(r.Content) == 0 {
		err = fs.ErrNotExist
	}
	return r.Content, err
}

// Drop makes the keeper forget what it remembers under a name.
func (u UnlockedSource) Drop(ctx context.Context, name string) error {
	_, err := u.note(ctx, []byte("drop "+name+"\n"))
	return err
}

func (u UnlockedSource) note(ctx context.Context, request []byte) (reply, error) {
	r, err := u.ask(ctx, request)
	switch {
	case errors.Is(err, privatesocket.ErrNone):
		return r, fs.ErrNotExist
	case err != nil:
		return r, err
	case r.Error != "":
		return r, errors.New(r.Error)
	}
	return r, nil
}
