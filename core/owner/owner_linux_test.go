package owner_test

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"gentleharbor/core/owner"
	"gentleharbor/internal/testkit"
)

// TestPeer: each side of a socket sees whose process is at the other, by user and number.
func TestPeer(t *testing.T) {
	folder := t.TempDir()
	os.Chmod(folder, 0o777)
	os.Chmod(filepath.Dir(folder), 0o755)
	var theirs net.Listener
	testkit.AsUser(t, testkit.Nobody, func() {
		var err error
		if theirs, err = net.Listen("unix", filepath.Join(folder, "theirs")); err != nil {
			t.Error(err)
		}
	})
	if theirs == nil {
		return
	}
	defer theirs.Close()
	conn, err := net.Dial("unix", theirs.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if uid, ok := owner.OfPeer(conn.(*net.UnixConn)); !ok || uid != testkit.Nobody {
		t.Errorf("the listener is user %d's, %v", uid, ok)
	}
	if pid, ok := owner.PeerProcess(conn.(*net.UnixConn)); !ok || pid != os.Getpid() {
		t.Errorf("the listener is process %d, %v", pid, ok)
	}
	ours, err := net.Listen("unix", filepath.Join(folder, "ours"))
	if err != nil {
		t.Fatal(err)
	}
	defer ours.Close()
	os.Chmod(ours.Addr().String(), 0o777)
	testkit.AsUser(t, testkit.Nobody, func() {
		if client, err := net.Dial("unix", ours.Addr().String()); err != nil {
			t.Error(err)
		} else {
			defer client.Close()
		}
	})
	accepted, err := ours.Accept()
	if err != nil {
		t.Fatal(err)
	}
	if uid, ok := owner.OfPeer(accepted.(*net.UnixConn)); !ok || uid != testkit.Nobody {
		t.Errorf("the client is user %d, %v", uid, ok)
	}
}

// TestUnsafe: what only the user and root may change is safe, all else is not.
func TestUnsafe(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "file")
	os.WriteFile(file, nil, 0o600)
	for _, c := range []struct {
		path string
		mode os.FileMode
		uid  int
		safe bool
	}{
		{file, 0o600, 0, true}, {file, 0o664, 0, true}, {file, 0o602, 0, false}, {file, 0o666, 0, false}, {file, 0o600, testkit.Nobody, false},
		{folder, 0o755, 0, true}, {folder, 0o777, 0, false}, {folder, 0o777 | os.ModeSticky, 0, true}, {file, 0o666 | os.ModeSticky, 0, false}, {folder, 0o755, testkit.Nobody, false},
	} {
		if c.uid != 0 && os.Getuid() != 0 {
			continue
		}
		os.Chmod(c.path, c.mode)
		if os.Getuid() == 0 {
			os.Chown(c.path, c.uid, -1)
		}
		info, err := os.Stat(c.path)
		if err != nil {
			t.Fatal(err)
		}
		if why := owner.Unsafe(info); (why == "") != c.safe {
			t.Errorf("%s with %v of user %d: %q", filepath.Base(c.path), c.mode, c.uid, why)
		}
		os.Chown(c.path, os.Getuid(), -1)
	}
}
