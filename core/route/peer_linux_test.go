package route

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"gentleharbor/internal/testkit"
)

// TestPeerOfAnotherUser: whose process is behind a socket counts, and else whose folder it is in, if
// nobody else could have put it there.
func TestPeerOfAnotherUser(t *testing.T) {
	const other = 12345
	for _, c := range []struct {
		what        string
		listens     int // the user that listens
		folderOf    int
		folder      os.FileMode
		want        bool
		plainFolder bool // the folder that is asked about is a file
	}{
		{"root's, anywhere", 0, 0, 0o777, true, false},
		{"the folder's owner", testkit.Nobody, testkit.Nobody, 0o755, true, false},
		{"the folder's owner, where all may write", testkit.Nobody, testkit.Nobody, 0o777, false, false},
		{"the folder's owner, where all may write and none remove", testkit.Nobody, testkit.Nobody, 0o777 | os.ModeSticky, false, false},
		{"another user than the folder's owner", testkit.Nobody, other, 0o755, false, false},
		{"a user in root's folder", testkit.Nobody, 0, 0o755, false, false},
		{"no folder", testkit.Nobody, testkit.Nobody, 0o755, false, true},
	} {
		folder, err := os.MkdirTemp("", "gh")
		if err != nil {
			t.Fatal(err)
		}
		defer os.RemoveAll(folder)
		os.Chmod(folder, 0o777)
		var listener net.Listener
		testkit.AsUser(t, c.listens, func() {
			if listener, err = net.Listen("unix", filepath.Join(folder, "s")); err != nil {
				t.Error(err)
			}
		})
		if listener == nil {
			continue
		}
		defer listener.Close()
		os.Chown(folder, c.folderOf, -1)
		os.Chmod(folder, c.folder)
		conn, err := net.Dial("unix", listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		asked := folder
		if c.plainFolder {
			asked = filepath.Join(folder, "file")
			os.WriteFile(asked, nil, 0o644)
			os.Chown(asked, c.folderOf, -1)
		}
		if got := PeerChecked(conn, asked); got != c.want {
			t.Errorf("%s: %v", c.what, got)
		}
		conn.Close()
	}
	ours, theirs := net.Pipe()
	defer theirs.Close()
	if PeerChecked(ours, "/") {
		t.Error("what is no socket was checked")
	}
}
