package tunnel

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"net"
	"path/filepath"
	"slices"
	"time"

	"gentleharbor/core/defect"
	"gentleharbor/core/privatesocket"
)

// Registry finds running tunnels: each has a socket that only this user can reach.
type Registry struct {
	Lookup func(string) (string, bool) // environment variables
	Home   string                      // the folder of the tool's own files: tunnels of another one are not ours
}

// Socket is the one of a profile's tunnel.
func (r Registry) Socket(profile string) string {
	sum := sha256.Sum256([]byte(r.Home + "\x00" + profile))
	// a socket's path is short
	return filepath.Join(privatesocket.Folder(r.Lookup), "tunnel-"+hex.EncodeToString(sum[:8])+".sock")
}

// maxStatus bounds a status, in bytes.
const maxStatus = 64 << 10

// Find asks a profile's tunnel for its status. The error is privatesocket.ErrNone where none runs, and a
// *privatesocket.SilentError where one runs and does not answer.
func (r Registry) Find(ctx context.Context, profile string) (s Status, err error) {
	err = privatesocket.Ask(ctx, r.Socket(profile), []byte("status\n"), maxStatus, &s)
	return s, err
}

// List asks all running tunnels at the same time, and returns them sorted by profile. silent counts those that do not
// answer, whose profile is not known.
func (r Registry) List(ctx context.Context) (all []Status, silent []*privatesocket.SilentError) {
	sockets, _ := filepath.Glob(filepath.Join(privatesocket.Folder(r.Lookup), "tunnel-*.sock"))
	all = []Status{}
	answers := make([]Status, len(sockets))
	errs := make([]error, len(sockets))
	var group defect.Group
	for i, socket := range sockets {
		group.Go(func() { errs[i] = privatesocket.Ask(ctx, socket, []byte("status\n"), maxStatus, &answers[i]) })
	}
	group.Wait()
	for i, err := range errs {
		var one *privatesocket.SilentError
		switch {
		case err == nil && answers[i].Home == r.Home:
			all = append(all, answers[i])
		case errors.As(err, &one):
			silent = append(silent, one)
		}
	}
	slices.SortFunc(all, func(a, b Status) int { return cmp.Compare(a.Profile, b.Profile) })
	return all, silent
}

// Close ends a profile's tunnel, and waits until its address is free. The errors are those of Find.
func (r Registry) Close(ctx context.Context, profile string) (s Status, err error) {
	socket := r.Socket(profile)
	if err := privatesocket.Ask(ctx, socket, []byte("close\n"), maxStatus, &s); err != nil {
		return s, err
	}
	for range 100 {
		conn, err := net.DialTimeout("unix", socket, time.Second)
		if err != nil || ctx.Err() != nil {
			break
		}
		conn.Close()
		time.Sleep(20 * time.Millisecond)
	}
	return s, nil
}

// Listen makes the socket of a profile's tunnel; privatesocket.ErrTaken where one runs.
func (r Registry) Listen(profile string) (net.Listener, error) {
	return privatesocket.Listen(r.Socket(profile))
}

// Answer serves a tunnel's socket until ctx ends, or the socket is gone: "status", and "close",
// which calls end.
func Answer(ctx context.Context, listener net.Listener, status func() Status, end func()) {
	privatesocket.Serve(ctx, listener, func(line string, _ io.Reader) (any, func()) {
		if line == "close" {
			return status(), end
		}
		return status(), nil
	})
}
