//go:build unix

package hop

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"gentleharbor/core/finding"
	"gentleharbor/core/secret"
	"gentleharbor/internal/testkit"
)

// TestTheirKeys opens each private key of OpenSSH's own unit tests: its public part is the one that the system's
// ssh-keygen writes. Those of a security key are for an agent; DSA is refused by its name.
func TestTheirKeys(t *testing.T) {
	t.Parallel()
	folder := testkit.Source(t, "openssh/regress/unittests/sshkey/testdata")
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		t.Skip("the system's ssh-keygen judges here: ", err)
	}
	passphrase, err := os.ReadFile(filepath.Join(folder, "pw"))
	if err != nil {
		t.Fatal(err)
	}
	passphrase = bytes.TrimSpace(passphrase)
	r := &keyRing{d: &Dialer{Finder: &secret.Finder{}}, h: &Hop{Of: someHop(t)}}
	entries, err := os.ReadDir(folder)
	if err != nil {
		t.Fatal(err)
	}
	opened, bound, dsa := 0, 0, 0
	for _, e := range entries {
		data, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(string(data), " PRIVATE KEY-----") {
			continue
		}
		path := filepath.Join(t.TempDir(), "key")
		os.WriteFile(path, data, 0o600)
		out, keygen := exec.Command("ssh-keygen", "-y", "-P", string(passphrase), "-f", path).Output()
		theirs, _, _, _, parse := ssh.ParseAuthorizedKey(out)
		public, signer, found := r.open(t.Context(), keyFile{path: path, named: true})
		switch {
		case strings.Contains(e.Name(), "_sk"):
			if found != nil || signer != nil || !ofSecurityKey(public) {
				t.Errorf("%s: %v, %v, %v", e.Name(), public, signer, found)
			}
			bound++
			continue
		case strings.HasPrefix(e.Name(), "dsa_") && !strings.HasSuffix(e.Name(), "_pw"):
			// In PEM it can be read, and the hop is told of by its kind where it refuses it.
			if signer != nil && signer.PublicKey().Type() == "ssh-dss" {
				break
			}
			if found == nil || found.Code != finding.HopKeyNotPrivate || !strings.Contains(strings.Join(found.Seen, " "), "it is a DSA key") {
				t.Errorf("%s: %v", e.Name(), found)
			}
			dsa++
			continue
		case keygen != nil || parse != nil:
			t.Errorf("%s: ssh-keygen: %v %v", e.Name(), keygen, parse)
			continue
		}
		if strings.HasSuffix(e.Name(), "_pw") {
			if signer, err = openedWith(data, passphrase); err != nil {
				if !strings.HasPrefix(e.Name(), "dsa_") {
					t.Errorf("%s: %v", e.Name(), err)
				}
				continue
			}
			if _, err := openedWith(data, []byte("flow")); err == nil {
				t.Errorf("%s is opened by another passphrase", e.Name())
			}
			var locked *ssh.PassphraseMissingError
			if _, err := parseKey(data); !errors.As(err, &locked) {
				t.Errorf("%s: %v without a passphrase", e.Name(), err)
			}
		}
		if signer == nil || !bytes.Equal(signer.PublicKey().Marshal(), theirs.Marshal()) {
			t.Errorf("%s: ours %v, ssh-keygen's %v", e.Name(), public, theirs)
			continue
		}
		opened++
	}
	if opened < 14 || bound < 6 || dsa < 1 {
		t.Errorf("%d opened, %d of security keys, %d of DSA: too few", opened, bound, dsa)
	}
}
