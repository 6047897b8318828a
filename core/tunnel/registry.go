package tunnel

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net"
	"path/filepath"
	"slices"
	"time"

	"gentleharbor/core/control"
)

// Registry is where tunnels that run are found: each has a socket that only this
// user can reach.
type Registry struct {
	Lookup func(string) (string, bool) // environment variables
	Home   string                      // the folder of the tool's own files: tunnels of another one are not ours
}

// Socket is the one of a profile's tunnel.
func (r Registry) Socket(profile string) string {
	sum := sha256.Sum256([]byte(r.Home + "\x00" + profile))
	return filepath.Join(control.Folder(r.Lookup), "tunnel-"+hex.EncodeToString(sum[:8])+".sock") // a socket's path is short
}

// maxStatus bounds a status, in bytes.
const maxStatus = 64 << 10

// Find asks a profile's tunnel for its status; ok is false where none runs.
func (r Registry) Find(profile string) (s Status, ok bool) {
	err := control.Ask(r.Socket(profile), []byte("status\n"), maxStatus, &s)
	return s, err == nil
}

// List asks all tunnels that run, sorted by profile.
func (r Registry) List() []Status {
	sockets, _ := filepath.Glob(filepath.Join(control.Folder(r.Lookup), "tunnel-*.sock"))
	all := []Status{}
	for _, socket := range sockets {
		var s Status
		if control.Ask(socket, []byte("status\n"), maxStatus, &s) == nil && s.Home == r.Home {
			all = append(all, s)
		}
	}
	slices.SortFunc(all, func(a, b Status) int { return cmp.Compare(a.Profile, b.Profile) })
	return all
}

// Close ends a profile's tunnel, and waits until it has let go of its address. ok is
// false where none runs.
func (r Registry) Close(profile string) (s Status, ok bool) {
	socket := r.Socket(profile)
	if control.Ask(socket, []byte("close\n"), maxStatus, &s) != nil {
		return s, false
	}
	for range 100 {
		conn, err := net.DialTimeout("unix", socket, time.Second)
		if err != nil {
			break
		}
		conn.Close()
		time.Sleep(20 * time.Millisecond)
	}
	return s, true
}

// Listen makes the socket of a profile's tunnel; control.ErrTaken where one runs.
func (r Registry) Listen(profile string) (net.Listener, error) {
	return control.Listen(r.Socket(profile))
}

// Answer serves a tunnel's socket until ctx ends: "status", and "close", which calls
// end.
func Answer(ctx context.Context, listener net.Listener, status func() Status, end func()) {
	control.Serve(ctx, listener, func(line string, _ io.Reader) (any, func()) {
		if line == "close" {
			return status(), end
		}
		return status(), nil
	})
}
